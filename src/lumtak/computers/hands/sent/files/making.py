"""What is made or written by its place: folders, a file without a name, what the kernel takes.

The only way in which anything of a hand changes what it names by a path; `make check` sees to that.
Sent with the hand: the standard library only, in the language of Python 3.8.
"""

from __future__ import annotations

import contextlib
import errno
import os


def make_folder(place: str, mode: int) -> None:
    """A folder is there with this mode, whatever the caller's mask is; parents too."""
    os.makedirs(place, mode=mode, exist_ok=True)
    made = os.open(place, os.O_RDONLY | os.O_DIRECTORY | os.O_NOFOLLOW | os.O_CLOEXEC)
    try:
        os.fchmod(made, mode)
    finally:
        os.close(made)


def tell_kernel(place: str, data: bytes, cut: bool) -> None:
    """A file that the kernel makes takes these bytes, at once.

    Args:
        place: of it.
        data: what it is told.
        cut: whether what it held goes first: of an ordinary file that stands in for it.
    """
    flags = os.O_WRONLY | os.O_CLOEXEC | os.O_NOFOLLOW | (os.O_TRUNC if cut else 0)
    descriptor = os.open(place, flags)
    try:
        os.write(descriptor, data)
    finally:
        os.close(descriptor)


def opened_to_lock(place: str) -> int:
    """A descriptor of a file that is there to be locked.

    Raises:
        OSError: it is not there, or a link.
    """
    return os.open(place, os.O_RDWR | os.O_NOFOLLOW | os.O_CLOEXEC)


def new_file(place: str, data: bytes) -> None:
    """A file that was not there holds these bytes; nobody else may read it."""
    flags = os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW | os.O_CLOEXEC
    descriptor = os.open(place, flags, 0o600)
    try:
        os.write(descriptor, data)
    finally:
        os.close(descriptor)


def nameless(folder: str, name: str) -> int:
    """A descriptor of a file of this user's alone; gone when it is closed, and when its holder is
    killed.

    Args:
        folder: on the disk.
        name: for the moment in which it has one, where the file system has none without.
    """
    flags = os.O_RDWR | os.O_CLOEXEC
    try:
        return os.open(folder, flags | os.O_TMPFILE, 0o600)
    except OSError as error:
        if error.errno not in {errno.EOPNOTSUPP, errno.EISDIR, errno.EINVAL, errno.ENOENT}:
            raise
    # One fixed name: what a kill between these two lines leaves is gone with the next.
    path = "%s/%s" % (folder, name)
    with contextlib.suppress(FileNotFoundError):
        os.unlink(path)
    descriptor = os.open(path, flags | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW, 0o600)
    os.unlink(path)
    return descriptor
