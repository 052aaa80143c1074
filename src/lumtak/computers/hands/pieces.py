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
from typing import Any, Dict, Iterator, List

from lumtak.computers.hands.passing import READ, Pass

_FIEMAP, _HEAD, _EXTENT = 0xC020660B, struct.Struct("=QQLLLL"), struct.Struct("=QQQQQLLLL")
_AT_ONCE, _MOST_CALLS = 256, 4096
_LAST, _NOWHERE = 0x1, 0x2 | 0x4 | 0x200
"""Flags: the last piece of a file; one whose place is not known, not written yet, or that lies
beside the file's name."""
LEAST = 1 << 20
"""Smaller files are passed over: they hardly ever lie in pieces, and take no time."""
_TELL_S, _WORST = 0.25, 40
_FITRIM, _RANGE = 0xC0185879, struct.Struct("=QQQ")
_ANYWHERE = (1 << 64) - 1


def pieces(descriptor: int) -> int:
    """Runs of a file's bytes that do not follow each other on the disk.

    Raises:
        OSError: this file system does not tell.
    """
    start = count = 0
    follows = -1
    for _ in range(_MOST_CALLS):
        head = _HEAD.pack(start, _ANYWHERE - start, 0, 0, _AT_ONCE, 0)
        data = bytearray(head + bytes(_EXTENT.size * _AT_ONCE))
        fcntl.ioctl(descriptor, _FIEMAP, data)
        mapped = min(_HEAD.unpack_from(data)[3], _AT_ONCE)
        if not mapped:
            return count
        for number in range(mapped):
            place = _HEAD.size + number * _EXTENT.size
            logical, physical, length, _, _, flags, *_ = _EXTENT.unpack_from(data, place)
            if not flags & _NOWHERE:
                count += physical != follows
                follows = physical + length
            if flags & _LAST:
                return count
            start = logical + max(1, length)
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
