"""Upkeep of a computer: a check is run, and kept until the next one."""

import threading
from collections.abc import Callable
from pathlib import Path

from lumtak.computers.protocol import Computer
from lumtak.core.upkeep import Checked, Integrity
from lumtak.errors import BadFileError
from lumtak.formats.readings import decode_file
from lumtak.storage import read_handed_in
from lumtak.work.data_folder import DataFolder

_LARGEST = 1 << 26


def check_integrity(
    data_folder: DataFolder,
    computer: Computer,
    on_progress: Callable[[Checked], None],
    stop: threading.Event,
) -> Integrity:
    """The system's files held against what was recorded of them; kept as a file.

    Raises:
        StoppedError: it was told to stop; ComputerError: nothing is recorded, or it cannot be read.
    """
    found = computer.about.integrity(on_progress, stop)
    data_folder.keep_document(_place(data_folder, computer.identity), found)
    return found


def _place(data_folder: DataFolder, identity: str) -> Path:
    return data_folder.home / "upkeep" / identity / "integrity.json"


def last_integrity(data_folder: DataFolder, identity: str) -> Integrity | None:
    """What the last check found; None where there was none, or its file is none."""
    path = _place(data_folder, identity)
    if not path.exists():
        return None
    try:
        data = read_handed_in(path, _LARGEST, "check")
        return decode_file(data, path, Integrity, "check", 1, "Check again.")
    except BadFileError:
        return None
