"""What is mounted where. Source: proc(5), mountinfo; sysfs(5), /sys/dev/block.

Sent with the hand: the standard library only, in the language of Python 3.8.
"""

from __future__ import annotations

import errno
import os
import re
import stat
from typing import Iterator, List, Set, Tuple

from lumtak.computers.hands.sent.files.kernel import folder_at, only_roots

_MOST = 1 << 24


def mounts_in(data: bytes, source: bytes = b"") -> Set[str]:
    """Where something is mounted, from /proc/self/mountinfo; proc(5).

    Args:
        data: of that file.
        source: what begins the name of what is mounted; empty for anything.
    """
    return {place for place, _, _, named in _mounted(data) if named.startswith(source)}


def mount_table() -> bytes:
    """What is mounted where this process looks; proc(5), mountinfo."""
    with open("/proc/self/mountinfo", "rb") as file:
        return file.read(_MOST)


def _mounted(data: bytes) -> Iterator[Tuple[str, bytes, bytes, bytes]]:
    """(place, device as major:minor, kind of the file system, name of what is mounted) of each."""
    for line in data.split(b"\n"):
        parts = line.split(b" ")
        if len(parts) < 9:
            continue
        place = parts[4]
        for code, byte in ((b"\\040", b" "), (b"\\011", b"\t"), (b"\\012", b"\n")):
            place = place.replace(code, byte)
        yield os.fsdecode(place.replace(b"\\134", b"\\")), parts[2], parts[-3], parts[-2]


def mounts_below(data: bytes, place: str) -> List[str]:
    """Where something is mounted at a place or below it."""
    return sorted(p for p in mounts_in(data) if (p + "/").startswith(place.rstrip("/") + "/"))


def opened_disk(place: str, data: bytes) -> int:
    """A descriptor of the disk that an ext file system lies on, which is mounted at a place.

    The kernel says which device that is; what its name leads to has to be that device, and root's.

    Args:
        place: of the mount.
        data: of /proc/self/mountinfo.

    Raises:
        OSError: none is mounted there, or its disk cannot be opened.
    """
    found = [d for p, d, kind, _ in _mounted(data) if p == place and kind.startswith(b"ext")]
    said = re.fullmatch(rb"([0-9]{1,9}):([0-9]{1,9})", found[-1]) if found else None
    if said is None:
        raise OSError(errno.EINVAL, "%s is where no ext file system begins" % place)
    device = os.makedev(int(said[1]), int(said[2]))
    name = os.path.basename(os.readlink("/sys/dev/block/%s" % found[-1].decode()))
    folder = folder_at("/dev")
    try:
        if not only_roots(os.fstat(folder)):
            raise OSError(errno.EPERM, "others than root can write to /dev")
        flags = os.O_RDONLY | os.O_CLOEXEC | os.O_NONBLOCK | os.O_NOFOLLOW
        descriptor = os.open(name, flags, dir_fd=folder)
    finally:
        os.close(folder)
    about = os.fstat(descriptor)
    if not stat.S_ISBLK(about.st_mode) or about.st_rdev != device:
        os.close(descriptor)
        raise OSError(errno.ENODEV, "the disk of %s is not there by its name" % place)
    return descriptor
