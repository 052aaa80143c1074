"""Down into folders and up again by descriptors, and a rename that replaces nothing.

No link is followed and nothing below the first folder is opened by a path, so that whoever owns
what is on the way cannot lead elsewhere. Sent with the hand: the standard library only, in the
language of Python 3.8. Sources: openat(2), renameat2(2).
"""

from __future__ import annotations

import contextlib
import ctypes
import errno
import os
import stat
from typing import Any, List, Optional, Tuple

FOLDER = os.O_RDONLY | os.O_DIRECTORY | os.O_NOFOLLOW | os.O_CLOEXEC | os.O_NONBLOCK
_HELD_OPEN = 48
"""Folders on the way that are held open, the deepest; far fewer than a process may."""
_NO_REPLACE = 1


class LostError(OSError):
    """What was above a folder is not above it any more."""


class Level:
    """A folder on the way down."""

    __slots__ = ("about", "data", "descriptor", "key", "name")

    def __init__(self, name: str, descriptor: int, about: os.stat_result, data: Any) -> None:
        self.name, self.descriptor, self.about, self.data = name, descriptor, about, data
        self.key = (about.st_dev, about.st_ino)


class Dive:
    """A way down from a folder, however deep: of many folders only the deepest are held open.

    Args:
        descriptor: of the folder; it is closed with the dive.
        data: whatever goes with that folder.
    """

    def __init__(self, descriptor: int, data: Any = None) -> None:
        self.way: List[Level] = [Level("", descriptor, os.fstat(descriptor), data)]

    @property
    def here(self) -> Level:
        """The folder that was gone down to last."""
        return self.way[-1]

    def down(self, name: str, data: Any = None, device: Optional[int] = None) -> Optional[Level]:
        """The folder of this name, which is `here` now; None where it is on another device.

        Raises:
            OSError: it is gone, a link by now, or may not be read.
        """
        descriptor = os.open(name, FOLDER, dir_fd=self.here.descriptor)
        about = os.fstat(descriptor)
        if device is not None and about.st_dev != device:
            os.close(descriptor)
            return None
        self.way.append(Level(name, descriptor, about, data))
        if len(self.way) > _HELD_OPEN + 1:
            above = self.way[-1 - _HELD_OPEN]
            if above.descriptor >= 0:
                os.close(above.descriptor)
                above.descriptor = -1
        return self.here

    def up(self) -> Level:
        """Leave `here` for what is above it; gives what was left.

        Raises:
            LostError: that was moved meanwhile; `here` is the nearest folder that is still held.
        """
        left = self.way.pop()
        try:
            if self.way and self.here.descriptor < 0:
                self._again(left)
        finally:
            os.close(left.descriptor)
        return left

    def _again(self, below: Level) -> None:
        with contextlib.suppress(OSError):
            descriptor = os.open("..", FOLDER, dir_fd=below.descriptor)
            about = os.fstat(descriptor)
            if (about.st_dev, about.st_ino) == self.here.key:
                self.here.descriptor = descriptor
                return
            os.close(descriptor)
        while self.here.descriptor < 0:
            self.way.pop()
        raise LostError(errno.ESTALE, "a folder was moved while it was gone through")

    def close(self) -> None:
        """Let go of all that is held."""
        for level in self.way:
            if level.descriptor >= 0:
                os.close(level.descriptor)
        del self.way[:]

    def __enter__(self) -> Dive:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()


def folder_at(place: str) -> int:
    """A descriptor of a folder by its whole path, no link followed on any of it.

    Raises:
        OSError: it is not there, or there is a link on the way.
    """
    descriptor = os.open("/", FOLDER)
    for name in place.split("/"):
        if not name:
            continue
        above = descriptor
        try:
            descriptor = os.open(name, FOLDER, dir_fd=above)
        finally:
            os.close(above)
    return descriptor


def only_roots(about: os.stat_result) -> bool:
    """Whether nobody but root can exchange what root has in a folder."""
    return about.st_uid == 0 and (not about.st_mode & 0o022 or bool(about.st_mode & stat.S_ISVTX))


def move_new(here: int, name: str, there: int, new: str) -> None:
    """Rename from one open folder to another; what stands there already is never replaced.

    Raises:
        OSError: EEXIST where something stands there; ENOSYS where the system cannot do that.
    """
    call = getattr(_libc(), "renameat2", None)
    if call is None:
        raise OSError(errno.ENOSYS, "this system cannot move without replacing")
    names = os.fsencode(name), os.fsencode(new)
    if call(here, names[0], there, names[1], _NO_REPLACE) != 0:
        number = ctypes.get_errno()
        raise OSError(number, os.strerror(number))


_LIBC: List[Any] = []


def _libc() -> Any:
    if not _LIBC:
        _LIBC.append(ctypes.CDLL(None, use_errno=True))
    return _LIBC[0]


def keep_times(descriptor: int, times: Tuple[int, int]) -> None:
    """A folder has these times of access and change (ns), as far as this user may set them."""
    with contextlib.suppress(OSError):
        os.utime(descriptor, ns=times)
