"""In how many pieces files lie on the disk, and telling a disk what is free.

Sources: kernel, filesystems/fiemap and ioctl_fitrim (fs.h). Sent with the hand: the standard
library only, in the language of Python 3.8.
"""

from __future__ import annotations

import errno
import fcntl
import os
import stat
import struct
import time
from typing import Any, Dict, Iterator, List, Tuple

from lumtak.computers.hands.sent.files.extents import mapped
from lumtak.computers.hands.sent.files.passing import READ, Pass

_NOWHERE = 0x2 | 0x4 | 0x200
"""Flags: of a piece whose place is not known, not written yet, or that lies beside the file's
name."""
LEAST = 1 << 20
"""Smaller files are passed over: they hardly ever lie in pieces, and take no time."""
_TELL_S, _WORST = 0.25, 40
_MOVE_EXT, _MOVE = 0xC028660F, struct.Struct("=LLQQQQ")
_FITRIM, _RANGE = 0xC0185879, struct.Struct("=QQQ")
_ANYWHERE = (1 << 64) - 1


def pieces(descriptor: int) -> int:
    """Runs of a file's bytes that do not follow each other on the disk.

    Raises:
        OSError: this file system does not tell.
    """
    count, follows = 0, -1
    for physical, length, flags in mapped(descriptor):
        if not flags & _NOWHERE:
            count += physical != follows
            follows = physical + length
    return count


def trim(place: str) -> int:
    """A volume's disk is told what is free on it; gives how many bytes.

    Raises:
        OSError: it cannot be told; EOPNOTSUPP where the disk takes no such word.
    """
    descriptor = os.open(place, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC)
    try:
        told = bytearray(_RANGE.pack(0, _ANYWHERE, 0))
        fcntl.ioctl(descriptor, _FITRIM, told)
        return int(_RANGE.unpack(told)[1])
    finally:
        os.close(descriptor)


def gather(folder: int, name: str) -> Tuple[int, int]:
    """The kernel moves the bytes of a file into a run of blocks that was set apart for it, as far
    as there is one: (pieces before, pieces now).

    The file can be open and read meanwhile; where the power is cut, each block is in the old place
    or in the new one (kernel, ext4: EXT4_IOC_MOVE_EXT). What is set apart has no name, so that
    nothing is left behind.

    Raises:
        OSError: this file system cannot do that, or there is no room.
    """
    own = os.open(name, os.O_RDWR | os.O_NOFOLLOW | os.O_CLOEXEC | os.O_NONBLOCK, dir_fd=folder)
    other = -1
    try:
        about = os.fstat(own)
        if not stat.S_ISREG(about.st_mode):
            raise OSError(errno.EINVAL, "this is no ordinary file")
        before = pieces(own)
        room = os.fstatvfs(own)
        if before <= 1:
            return before, before
        if 2 * about.st_size > room.f_bavail * room.f_frsize:
            raise OSError(errno.ENOSPC, "there is no room to put it together")
        other = os.open(".", os.O_TMPFILE | os.O_RDWR | os.O_CLOEXEC, 0o600, dir_fd=folder)
        blocks = -(-about.st_size // room.f_bsize)
        os.posix_fallocate(other, 0, blocks * room.f_bsize)
        os.fsync(other)
        if pieces(other) >= before:
            return before, before
        at = 0
        while at < blocks:
            told = bytearray(_MOVE.pack(0, other, at, at, blocks - at, 0))
            fcntl.ioctl(own, _MOVE_EXT, told)
            moved = _MOVE.unpack(told)[5]
            if not moved:
                raise OSError(errno.EIO, "it was moved in part only")
            at += moved
        os.fsync(own)
        return before, pieces(own)
    finally:
        os.close(own)
        if other >= 0:
            os.close(other)


class Fragments:
    """One way through the files below a folder."""

    def __init__(self, way: Pass) -> None:
        self._way = way
        self.files = self.bytes = 0
        self.counts = {"measured": 0, "pieces": 0, "many": 0, "unread": 0}
        self._worst: List[List[Any]] = []
        self._told = time.monotonic()

    def through(self) -> Iterator[Dict[str, Any]]:
        """How far it is, about four times a second; the last has "ended": the worst of them, with
        how many pieces and bytes.

        Raises:
            OSError: the file system does not tell where its files lie.
        """
        for path, folder, name, about in self._way.files():
            self.files += 1
            if about.st_size >= LEAST and about.st_blocks:
                self._measure(path, folder, name, about.st_size)
            if time.monotonic() - self._told > _TELL_S:
                self._told = time.monotonic()
                yield self._said(path)
        worst = sorted(self._worst, reverse=True)[:_WORST]
        yield dict(self._said(""), ended={"worst": worst, "folders": self._way.unread})

    def _measure(self, path: str, folder: int, name: str, size: int) -> None:
        try:
            descriptor = os.open(name, READ, dir_fd=folder)
        except OSError:
            self.counts["unread"] += 1
            return
        try:
            if not stat.S_ISREG(os.fstat(descriptor).st_mode):
                return
            number = pieces(descriptor)
        except OSError as error:
            if error.errno in (errno.EOPNOTSUPP, errno.ENOTTY, errno.EINVAL):
                raise OSError(
                    errno.EOPNOTSUPP, "its file system does not tell where files lie"
                ) from error
            self.counts["unread"] += 1
            return
        finally:
            os.close(descriptor)
        self.bytes += size
        self.counts["measured"] += 1
        self.counts["pieces"] += number
        self.counts["many"] += number > 1
        if number > 1:
            self._worst.append([number, size, path])
            if len(self._worst) > 50 * _WORST:
                self._worst = sorted(self._worst, reverse=True)[:_WORST]

    def _said(self, at: str) -> Dict[str, Any]:
        return {
            "after": at,
            "files": self.files,
            "bytes": self.bytes,
            "counts": dict(self.counts),
            "found": [],
        }
