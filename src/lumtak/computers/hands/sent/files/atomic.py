"""Writes in a folder that is held open: all at once, or not at all.

Sent with the hand: the standard library only, in the language of Python 3.8.
"""

from __future__ import annotations

import contextlib
import errno
import hashlib
import os
import posixpath
from typing import Iterable, Iterator

NO_ROOM = frozenset((errno.ENOSPC, errno.EDQUOT))


def temporary_name(name: str) -> str:
    """What is written before it takes a file's place.

    The same for the same name, so that what a killed write left goes with the next.
    """
    return ".lumtak-%s.new" % hashlib.sha256(os.fsencode(name)).hexdigest()[:12]


@contextlib.contextmanager
def times_kept(place: str) -> Iterator[None]:
    """What is made or taken away at a place leaves no trace in the times of the folder above, as
    far as this user may set them.
    """
    above = posixpath.dirname(place)
    while not os.path.isdir(above) and above not in {"", "/"}:
        above = posixpath.dirname(above)
    about = os.stat(above or ".")
    yield
    with contextlib.suppress(OSError):
        os.utime(above or ".", ns=(about.st_atime_ns, about.st_mtime_ns))


def shed(place: str) -> bool:
    """The folder is gone, unless somebody else uses it now; whether it is."""
    try:
        with times_kept(place):
            os.rmdir(place)
    except FileNotFoundError:
        pass
    except OSError as error:
        if error.errno in {errno.ENOTEMPTY, errno.EEXIST, errno.EBUSY, errno.ENOTDIR}:
            return False
        raise
    return True


@contextlib.contextmanager
def gone_if_it_fails(place: str) -> Iterator[None]:
    """Folders that are made on the way to this one, and it, go again where what is done with it
    fails.
    """
    made = []
    while not os.path.isdir(place) and place not in {"", "/"}:
        made.append(place)
        place = posixpath.dirname(place)
    try:
        yield
    except BaseException:
        for folder in made:
            with contextlib.suppress(OSError):
                os.rmdir(folder)
        raise


@contextlib.contextmanager
def _then_named(folder: int, temporary: str, name: str) -> Iterator[None]:
    """What was made takes its name once this is done; where it fails, what was made is gone."""
    try:
        yield
        os.rename(temporary, name, src_dir_fd=folder, dst_dir_fd=folder)
    except BaseException:
        with contextlib.suppress(OSError):
            forget(temporary, folder)
        raise
    # Without this a power cut may bring the old name back, though the data are on the disk.
    os.fsync(folder)


def put(folder: int, name: str, data: bytes, mode: int, like: str = "") -> None:
    """The file has these bytes and this mode; see `put_parts`."""
    put_parts(folder, name, (data,), mode, like)


def put_parts(folder: int, name: str, parts: Iterable[bytes], mode: int, like: str = "") -> None:
    """The file has the bytes of these parts, one after the other, and this mode.

    Args:
        folder: that it stands in; a descriptor.
        name: of it.
        parts: of what it holds.
        mode: of it.
        like: of which file beside it gets the access control list and other attributes, as far as
            this user may set them; empty for none.
    """
    temporary = temporary_name(name)
    forget(temporary, folder)
    # O_EXCL and O_NOFOLLOW: a file or link that somebody planted under that name is refused.
    flags = os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW | os.O_CLOEXEC
    descriptor = os.open(temporary, flags, 0o600, dir_fd=folder)
    with _then_named(folder, temporary, name):
        try:
            for part in parts:
                _write_all(descriptor, part)
            _same_attributes(folder, like, descriptor)
            os.fchmod(descriptor, mode)
            os.fsync(descriptor)
        finally:
            os.close(descriptor)


def _same_attributes(folder: int, like: str, descriptor: int) -> None:
    """An open file gets the extended attributes of another one; xattr(7), acl(5)."""
    if not like:
        return
    with contextlib.suppress(OSError):
        flags = os.O_RDONLY | os.O_NOFOLLOW | os.O_CLOEXEC | os.O_NONBLOCK
        other = os.open(like, flags, dir_fd=folder)
        try:
            for name in os.listxattr(other):
                with contextlib.suppress(OSError):
                    os.setxattr(descriptor, name, os.getxattr(other, name))
        finally:
            os.close(other)


def _write_all(descriptor: int, data: bytes) -> None:
    left = memoryview(data)
    while left:
        left = left[os.write(descriptor, left) :]


def put_or_rewrite(folder: int, name: str, data: bytes, mode: int) -> None:
    """The file has these bytes; where there is no room for another file, it is written over, as
    far as that takes no room, and keeps its mode.
    """
    try:
        put(folder, name, data, mode)
    except OSError as error:
        if error.errno not in NO_ROOM:
            raise
        flags = os.O_WRONLY | os.O_NOFOLLOW | os.O_CLOEXEC
        try:
            descriptor = os.open(name, flags, dir_fd=folder)
        except FileNotFoundError:
            raise error from None
        try:
            _write_all(descriptor, data.rstrip().ljust(os.fstat(descriptor).st_size))
            os.fsync(descriptor)
        finally:
            os.close(descriptor)


def put_link(folder: int, name: str, target: str) -> None:
    """The link leads there."""
    temporary = temporary_name(name)
    forget(temporary, folder)
    os.symlink(target, temporary, dir_fd=folder)
    with _then_named(folder, temporary, name):
        pass


def forget(name: str, folder: int) -> None:
    """It is gone, if it was there."""
    with contextlib.suppress(FileNotFoundError):
        os.unlink(name, dir_fd=folder)
