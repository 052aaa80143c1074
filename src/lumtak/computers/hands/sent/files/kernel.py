"""Calls of the kernel that Python has no name for: openat2(2), renameat2(2), the number of a mount.

Sent with the hand: the standard library only, in the language of Python 3.8. Sources: openat2(2),
renameat2(2), proc(5) (fdinfo).
"""

from __future__ import annotations

import ctypes
import errno
import os
import re
import stat
import struct
from typing import Any, List

FOLDER = os.O_RDONLY | os.O_DIRECTORY | os.O_NOFOLLOW | os.O_CLOEXEC | os.O_NONBLOCK
_OPENAT2 = 437
_HOW = struct.Struct("=QQQ")
_NO_MOUNT, _NO_MAGIC, _NO_LINK, _BENEATH = 0x1, 0x2, 0x4, 0x8
_NO_REPLACE = 1
_NOT_HERE = {errno.ENOSYS, errno.EPERM, errno.EINVAL, errno.E2BIG}
"""What an older kernel, or a filter of calls, answers to openat2."""
_LIBC: List[Any] = []
_IS_HERE = [True]


def _libc() -> Any:
    if not _LIBC:
        _LIBC.append(ctypes.CDLL(None, use_errno=True))
    return _LIBC[0]


def _openat2(folder: int, path: bytes, flags: int, resolve: int) -> int:
    how = _HOW.pack(flags, 0, resolve)
    found = int(_libc().syscall(_OPENAT2, folder, path, how, len(how)))
    if found < 0:
        number = ctypes.get_errno()
        raise OSError(number, os.strerror(number))
    return found


def open_inside(folder: int, name: str, flags: int) -> int:
    """A descriptor of what stands in an open folder under this name, on the same mount.

    Raises:
        OSError: it is not there; ELOOP where it is a link, EXDEV where a mount begins.
    """
    if _IS_HERE[0]:
        try:
            resolve = _NO_MOUNT | _NO_MAGIC | _NO_LINK | _BENEATH
            return _openat2(folder, os.fsencode(name), flags, resolve)
        except OSError as error:
            if error.errno not in _NOT_HERE:
                raise
            _IS_HERE[0] = error.errno == errno.EINVAL
    if "/" in name or name == "..":
        raise OSError(errno.EXDEV, "this is no name in a folder")
    descriptor = os.open(name, flags | os.O_NOFOLLOW, dir_fd=folder)
    try:
        same = mount_of(descriptor) == mount_of(folder)
    except OSError:
        os.close(descriptor)
        raise
    if not same:
        os.close(descriptor)
        raise OSError(errno.EXDEV, "a mount begins there")
    return descriptor


def folder_at(place: str) -> int:
    """A descriptor of a folder by its whole path, no link followed on any of it.

    Raises:
        OSError: it is not there, or there is a link on the way.
    """
    if _IS_HERE[0] and len(place) < 1000:
        try:
            return _openat2(-100, os.fsencode(place or "/"), FOLDER, _NO_MAGIC | _NO_LINK)
        except OSError as error:
            if error.errno not in _NOT_HERE:
                raise
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


def mount_of(descriptor: int) -> int:
    """The number of the mount on which something open stands; two views of one device differ.

    Raises:
        OSError: the kernel does not tell.
    """
    with open("/proc/self/fdinfo/%d" % descriptor, "rb") as file:
        said = re.search(rb"(?m)^mnt_id:\s*([0-9]+)$", file.read(4096))
    if said is None:
        raise OSError(errno.ENOTSUP, "the kernel does not tell mounts apart")
    return int(said[1])


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


def may_enter(folder: int, name: str) -> None:
    """A folder of one's own can be looked into: its rights are set by a descriptor of it alone, so
    that no link is followed.

    Raises:
        OSError: it is no folder, somebody else's, or on another mount.
    """
    held = open_inside(folder, name, os.O_PATH | os.O_DIRECTORY | os.O_NOFOLLOW | os.O_CLOEXEC)
    try:
        about = os.fstat(held)
        if about.st_uid == os.geteuid() and about.st_mode & 0o700 != 0o700:
            os.chmod("/proc/self/fd/%d" % held, 0o700)  # the descriptor's own, wherever it went
    finally:
        os.close(held)


def only_roots(about: os.stat_result) -> bool:
    """Whether nobody but root can exchange what root has in a folder."""
    return about.st_uid == 0 and (not about.st_mode & 0o022 or bool(about.st_mode & stat.S_ISVTX))


def keep_times(descriptor: int, times: Any) -> None:
    """A folder has these times of access and change (ns), as far as this user may set them."""
    try:
        os.utime(descriptor, ns=times)
    except OSError:
        return
