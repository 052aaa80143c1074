"""What is held against what was looked at, and why something is left.

Sent with the hand: the standard library only, in the language of Python 3.8.
"""

from __future__ import annotations

import contextlib
import errno
import os
import stat

from lumtak.computers.hands.sent.clutter.rules import Piece

CHANGED, TAKEN, GONE = "changed while it was looked at", "something stands there", "it is gone"
THEIRS, MOUNTED = "somebody else's", "something is mounted in it"
OTHER = "it is not what was set aside"
DECIDED_OTHER = "changed since you decided"
LONE = "no other copy of it stays"
LAST = "no other copy of it is there any more"
_WHY = {
    errno.EXDEV: "on another file system",
    errno.ENOSPC: "no space for it",
    errno.EDQUOT: "no space for it",
    errno.EROFS: "its disk can only be read",
    errno.EEXIST: TAKEN,
    errno.ENOENT: GONE,
}


def is_same(piece: Piece, about: os.stat_result) -> bool:
    """Whether this is what a list names: inode and kind; a list knows no devices."""
    kind = "d" if stat.S_ISDIR(about.st_mode) else "l" if stat.S_ISLNK(about.st_mode) else "f"
    return about.st_ino == piece.inode and kind == piece.kind


def is_it(piece: Piece, about: os.stat_result, device: int) -> bool:
    """Whether this still is what was looked at: inode, device and kind."""
    return is_same(piece, about) and about.st_dev == device


def as_before(folder: int, name: str, piece: Piece, about: os.stat_result) -> None:
    """A folder that was moved may have another time of change than before."""
    if about.st_mtime_ns != piece.changed_ns:
        with contextlib.suppress(OSError):
            times = (about.st_atime_ns, piece.changed_ns)
            os.utime(name, ns=times, dir_fd=folder, follow_symlinks=False)


def why_of(error: OSError) -> str:
    """Why something was left, in words."""
    return _WHY.get(error.errno or 0, "") or (error.strerror or str(error)).lower()
