"""Down into folders and up again by descriptors, never across a mount.

No link is followed and nothing below the first folder is opened by a path, so that whoever owns
what is on the way cannot lead elsewhere. Sent with the hand: the standard library only, in the
language of Python 3.8. Sources: openat(2), openat2(2).
"""

from __future__ import annotations

import contextlib
import errno
import os
from typing import Any, List, Optional

from lumtak.computers.hands.sent.files.kernel import FOLDER, open_inside

_HELD_OPEN = 48
"""Folders on the way that are held open, the deepest; far fewer than a process may."""


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

    def down(self, name: str, data: Any = None) -> Optional[Level]:
        """The folder of this name, which is `here` now; None where another mount or volume begins.

        Raises:
            OSError: it is gone, a link by now, or may not be read.
        """
        try:
            descriptor = open_inside(self.here.descriptor, name, FOLDER)
        except OSError as error:
            if error.errno == errno.EXDEV:
                return None
            raise
        about = os.fstat(descriptor)
        if about.st_dev != self.here.about.st_dev:
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
