"""What was set aside, deleted for good: as much of it as can be, and what cannot is named.

Sent with the hand: the language of Python 3.8. Sources: unlink(2); ioctl_iflags(2).
"""

from __future__ import annotations

import contextlib
import errno
import fcntl
import os
import stat
import struct
from typing import Callable, Container, Optional, Tuple

from lumtak.computers.hands.sent.files.diving import Dive, Level, LostError
from lumtak.computers.hands.sent.files.kernel import FOLDER, may_enter, open_inside
from lumtak.computers.hands.sent.files.walking import BLOCK

_GET_FLAGS, _IMMUTABLE, _APPEND = 0x80086601, 0x10, 0x20
IN_USE = "in use"
MOUNTED = "something is mounted in it"
FIXED = "marked as never to be changed: sudo chattr -i takes that off"
ONLY_GROWS = "marked as only to grow: sudo chattr -a takes that off"
RIGHTS = "this user may not delete it"
BUSY = "it is busy: what holds it has to end first"
READ_ONLY = "its disk can only be read"
MOVED = "it was moved while it was deleted"
_WHY = {
    errno.EACCES: RIGHTS,
    errno.EPERM: RIGHTS,
    errno.EBUSY: BUSY,
    errno.EROFS: READ_ONLY,
    errno.EXDEV: MOUNTED,
    errno.ESTALE: MOVED,
    errno.ELOOP: MOVED,
}


class Deleting:
    """Deletes, and keeps count.

    Args:
        used: (device, inode) of what is in use, which stays.
    """

    def __init__(self, used: Container[Tuple[int, int]]) -> None:
        self._used = used
        self.files = self.bytes = 0
        """Gone by now; bytes that became free."""

    def delete(
        self,
        folder: int,
        name: str,
        failed: Callable[[str, str], None],
        about: Optional[os.stat_result] = None,
    ) -> bool:
        """A file, a link, or a folder with all that is in it; whether nothing of it is left.

        Args:
            folder: a descriptor of what it stands in.
            name: of it there.
            failed: told of what stays: its place below this, and why.
            about: it, where that was looked at just before.
        """
        self._failed = failed
        try:
            about = about or os.stat(name, dir_fd=folder, follow_symlinks=False)
        except FileNotFoundError:
            return True
        if not stat.S_ISDIR(about.st_mode):
            return self._unlink(folder, name, about, "")
        try:
            may_enter(folder, name)
            dive = Dive(open_inside(folder, name, FOLDER))
        except OSError as error:
            self._failed("", _why(error, folder, name))
            return False
        size = dive.here.about.st_blocks * BLOCK
        with dive:
            whole = self._emptied(dive)
        return whole and self._rmdir(folder, name, "", size)

    def _emptied(self, dive: Dive) -> bool:
        """All that is in the folder is gone; whether it is."""
        self._unlinked(dive.here)
        while True:
            level = dive.here
            if level.data[0]:
                self._down(dive, level.data[0].pop())
            elif len(dive.way) == 1:
                return bool(level.data[1])
            else:
                below = _below(dive)
                try:
                    gone = dive.up()
                except LostError:
                    self._failed(below, MOVED)
                    dive.here.data[1] = False
                    continue
                size = gone.about.st_blocks * BLOCK
                whole = gone.data[1] and self._rmdir(dive.here.descriptor, gone.name, below, size)
                dive.here.data[1] = dive.here.data[1] and whole

    def _down(self, dive: Dive, name: str) -> None:
        here = dive.here
        below = "%s/%s" % (_below(dive), name)
        try:
            may_enter(here.descriptor, name)
            level = dive.down(name)
        except FileNotFoundError:
            return
        except OSError as error:
            here.data[1] = False
            self._failed(below, _why(error, here.descriptor, name))
            return
        if level is None:
            here.data[1] = False
            self._failed(below, MOUNTED)
        else:
            self._unlinked(level, below)

    def _unlinked(self, level: Level, below: str = "") -> None:
        """Every file of a folder is gone, as far as it can be; the folders in it stay for later."""
        inner, whole = [], True
        try:
            names = os.listdir(level.descriptor)
        except OSError as error:
            self._failed(below, _WHY.get(error.errno or 0, "") or _as_said(error))
            names, whole = [], False
        for name in names:
            with contextlib.suppress(FileNotFoundError):
                about = os.stat(name, dir_fd=level.descriptor, follow_symlinks=False)
                if stat.S_ISDIR(about.st_mode):
                    inner.append(name)
                else:
                    here = "%s/%s" % (below, name)
                    whole = self._unlink(level.descriptor, name, about, here) and whole
        level.data = [inner, whole]

    def _unlink(self, folder: int, name: str, about: os.stat_result, below: str) -> bool:
        if (about.st_dev, about.st_ino) in self._used:
            self._failed(below, IN_USE)
            return False
        size = about.st_blocks * BLOCK if about.st_nlink == 1 else 0
        return self._take(os.unlink, (folder, name), below, 1, size)

    def _rmdir(self, folder: int, name: str, below: str, size: int) -> bool:
        return self._take(os.rmdir, (folder, name), below, 0, size)

    def _take(
        self, act: Callable[..., None], at: Tuple[int, str], below: str, files: int, size: int
    ) -> bool:
        """It is taken away, and counted; whether it is gone."""
        folder, name = at
        try:
            act(name, dir_fd=folder)
        except FileNotFoundError:
            return True
        except OSError as error:
            self._failed(below, _why(error, folder, name))
            return False
        self.files += files
        self.bytes += size
        return True


def _below(dive: Dive) -> str:
    return "".join("/" + level.name for level in dive.way[1:])


def _why(error: OSError, folder: int, name: str) -> str:
    """Why something cannot be deleted, with what would help."""
    if error.errno in {errno.EPERM, errno.EACCES}:
        for flags in (_flags_of(folder, name), _flags_of(folder, ".")):
            if flags is not None and flags & (_IMMUTABLE | _APPEND):
                return FIXED if flags & _IMMUTABLE else ONLY_GROWS
    return _WHY.get(error.errno or 0, "") or _as_said(error)


def _as_said(error: OSError) -> str:
    return (error.strerror or str(error)).lower()


def _flags_of(folder: int, name: str) -> Optional[int]:
    """What a file is marked as; None where the file system does not tell."""
    flags = os.O_RDONLY | os.O_NOFOLLOW | os.O_CLOEXEC | os.O_NONBLOCK
    try:
        descriptor = os.open(name, flags, dir_fd=folder)
        try:
            told = bytearray(struct.pack("=Q", 0))
            fcntl.ioctl(descriptor, _GET_FLAGS, told)
            return int(struct.unpack_from("=I", told)[0])
        finally:
            os.close(descriptor)
    except OSError:
        return None
