"""Where results go unless the person says otherwise: their documents, else their home folder.

Never wherever Lumtak was started.
"""

from pathlib import Path


def results_folder(chosen: str = "") -> Path:
    """The folder that the settings name, else the person's folder for documents (XDG user
    directories) where there is one, else their home.
    """
    if chosen:
        return Path(chosen).expanduser()
    import platformdirs

    documents = Path(platformdirs.user_documents_dir())
    return documents if documents.is_dir() else Path.home()
