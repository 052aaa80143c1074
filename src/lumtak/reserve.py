"""Room that is kept while there is some, so that a full disk can be put in order.

Lumtak's own records need a little room before anything is emptied or put back: the reserve is made
while there is plenty, given up when hardly any is left, and made anew after.
"""

import contextlib
import os
import shutil
from pathlib import Path

_FOLDER = "reserve"
_MOST_BYTES, _MOST_NAMES = 8 << 20, 24
"""That are kept: a few times what opening both databases, a record and the scripts take. Of a
volume that has little a part of that, so that it is made anew once something was emptied."""
_SHORT_BYTES, _SHORT_NAMES = 512 << 10, 6
_PLENTY_BYTES, _PLENTY_NAMES = 2 << 20, 20

IN_OTHER_HOME = (
    "The disk of Lumtak's own folder was full when this began: what is recorded stands in {}, and"
    " is found there from now on."
)


def see_to_reserve(home: Path) -> None:
    """The reserve of a data folder is there, or is given up where the disk is full.

    Nothing is done where nothing is recorded; what fails is tried again the next time.
    """
    with contextlib.suppress(OSError):
        about = os.statvfs(home)
        free, names = about.f_bavail * about.f_frsize, about.f_favail
        counts = about.f_files > 0
        if free < _SHORT_BYTES or (counts and names < _SHORT_NAMES):
            shutil.rmtree(home / _FOLDER, ignore_errors=True)
            return
        plenty = free >= _PLENTY_BYTES and (not counts or names >= _PLENTY_NAMES)
        if plenty and (home / "journal.db").exists():
            some = min(_MOST_NAMES, 2 * names // 3) if counts else _MOST_NAMES
            _make(home / _FOLDER, min(_MOST_BYTES, free // 2), some)


def _make(folder: Path, room: int, names: int) -> None:
    folder.mkdir(mode=0o700, exist_ok=True)
    there = sum(1 for _ in folder.iterdir())
    for number in (0, *range(max(1, there), names)):
        flags = os.O_WRONLY | os.O_CREAT | os.O_CLOEXEC | os.O_NOFOLLOW
        descriptor = os.open(folder / str(number), flags, 0o600)
        try:
            # What is there already is not made smaller by there being less room for more.
            if not number and os.fstat(descriptor).st_size < min(room, _PLENTY_BYTES):
                os.posix_fallocate(descriptor, 0, room)
        finally:
            os.close(descriptor)


def other_home(home: Path) -> Path | None:
    """Where records are kept while the disk of a data folder that is not there yet is full: on
    another volume of this computer that survives a restart.

    None where they are kept in the folder itself, and where no other volume has room.
    """
    other = Path(f"/var/tmp/lumtak-{os.getuid()}")  # noqa: S108 - one's own alone, looked at below
    try:
        if (home / "journal.db").exists():
            return None
        if _is_own(other) and (other / "journal.db").exists():
            return other
        above = next(place for place in (home, *home.parents) if place.is_dir())
        if _is_full(above) and above.stat().st_dev != other.parent.stat().st_dev:
            other.mkdir(mode=0o700, exist_ok=True)
            return other if _is_own(other) and not _is_full(other) else None
    except OSError:
        return None
    return None


def _is_full(place: Path) -> bool:
    about = os.statvfs(place)
    names = about.f_files > 0 and about.f_favail < _SHORT_NAMES
    return about.f_bavail * about.f_frsize < _SHORT_BYTES or names


def _is_own(place: Path) -> bool:
    """Whether a folder is one's own, and nobody else may enter it."""
    try:
        about = place.lstat()
    except OSError:
        return False
    return place.is_dir() and about.st_uid == os.getuid() and not about.st_mode & 0o077
