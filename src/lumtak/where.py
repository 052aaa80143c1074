"""Where Lumtak's data stand; apart from everything else, since `--version` says it."""

from pathlib import Path


def default_home() -> Path:
    """Where data are kept unless --home says otherwise (XDG Base Directory Specification)."""
    import platformdirs

    return Path(platformdirs.user_data_dir("lumtak", appauthor=False))
