"""Where a file lies on the disk. Source: kernel, filesystems/fiemap.

Sent with the hand: the standard library only, in the language of Python 3.8.
"""

from __future__ import annotations

import fcntl
import os
import struct
from typing import Tuple

_FIEMAP, _EXTENTS = 0xC020660B, 64
_UNSURE = 0x2 | 0x4 | 0x200 | 0x400
"""Unknown, not yet allocated, inside the inode, in a tail that others share."""


def extents_of(path: str) -> Tuple[Tuple[int, int], ...]:
    """(place on the disk, length) of each part; empty where the file system does not tell."""
    said = bytearray(struct.pack("=QQIIII", 0, (1 << 64) - 1, 0, 0, _EXTENTS, 0))
    said += bytes(56 * _EXTENTS)
    try:
        descriptor = os.open(path, os.O_RDONLY | os.O_NOFOLLOW | os.O_CLOEXEC)
        try:
            fcntl.ioctl(descriptor, _FIEMAP, said, True)
        finally:
            os.close(descriptor)
    except OSError:
        return ()
    count = struct.unpack_from("=I", said, 20)[0]
    if not 0 < count < _EXTENTS:
        return ()
    found = []
    for number in range(count):
        _, physical, length = struct.unpack_from("=QQQ", said, 32 + 56 * number)
        flags = struct.unpack_from("=I", said, 32 + 56 * number + 40)[0]
        if physical == 0 or flags & _UNSURE:
            return ()
        found.append((physical, length))
    return tuple(found)
