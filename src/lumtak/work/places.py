"""Where results go unless the person says otherwise: their documents, else their home folder.

Never wherever Lumtak was started.
"""

from pathlib import Path


def results_folder() -> Path:
    """The person's folder for documents (XDG user directories), where there is one.

    Else their home.
    """
    import platformdirs

    documents = Path(platformdirs.user_documents_dir())
    return documents if documents.is_dir() else Path.home()
