"""Upkeep of a computer: a check is run, and kept until the next one."""

import threading
from collections.abc import Callable

from lumtak.computers.protocol import Computer
from lumtak.core.record import json_document
from lumtak.core.upkeep import Checked, Integrity
from lumtak.errors import BadFileError
from lumtak.formats.readings import decode_file
from lumtak.storage import make_folder, read_handed_in, write_whole
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
    data_folder.writable()
    folder = data_folder.home / "upkeep" / computer.identity
    for one in (folder.parent, folder):
        make_folder(one)
    write_whole(folder / "integrity.json", json_document(found), private=True)
    return found


def last_integrity(data_folder: DataFolder, identity: str) -> Integrity | None:
    """What the last check found; None where there was none, or its file is none."""
    path = data_folder.home / "upkeep" / identity / "integrity.json"
    if not path.exists():
        return None
    try:
        data = read_handed_in(path, _LARGEST, "check")
        return decode_file(data, path, Integrity, "check", 1, "Check again.")
    except BadFileError:
        return None
