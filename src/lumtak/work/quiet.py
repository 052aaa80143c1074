"""Readings, and what keeps out of their way: upkeep never runs while a reading is taken.

A reading holds a lock of its computer's as long as it lasts, whichever Lumtak takes it; upkeep
looks between two files whether somebody holds it. No reading ever waits for upkeep.
"""

import contextlib
import fcntl
import os
import threading
from collections.abc import Iterator
from pathlib import Path

from lumtak.errors import StorageError
from lumtak.storage import lock_file

_LOOK_S = 0.2
_homes: dict[str, Path] = {}
"""The data folder with which a computer was opened, by its identity."""


def known_at(identity: str, home: Path) -> None:
    """A computer was opened with this data folder."""
    _homes[identity] = home


def _place(identity: str) -> Path | None:
    home = _homes.get(identity)
    return None if home is None else home / "upkeep" / identity / "reading.lock"


@contextlib.contextmanager
def reading_of(identity: str) -> Iterator[None]:
    """While this lasts, a reading of this computer is taken."""
    place = _place(identity)
    descriptor = -1
    if place is not None:
        with contextlib.suppress(StorageError):  # where nothing can be kept, nothing runs beside
            descriptor = lock_file(place)
    try:
        if descriptor >= 0:
            fcntl.flock(descriptor, fcntl.LOCK_SH)
        yield
    finally:
        if descriptor >= 0:
            os.close(descriptor)


def is_read(identity: str) -> bool:
    """Whether a reading of this computer is taken now."""
    place = _place(identity)
    if place is None or not place.exists():
        return False
    descriptor = lock_file(place)
    try:
        fcntl.flock(descriptor, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except BlockingIOError:
        return True
    finally:
        os.close(descriptor)
    return False


def wait_until_not_read(identity: str, stop: threading.Event) -> None:
    """Returns when no reading of this computer is taken, or when it is told to stop."""
    while is_read(identity) and not stop.wait(_LOOK_S):
        pass
