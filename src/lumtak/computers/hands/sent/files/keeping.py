"""A file of a user's that is replaced is kept beside its place under a name of Lumtak's, and goes
back itself: with its access control list, attributes, times, holes and all its names.

Sent with the hand: the standard library only, in the language of Python 3.8.
"""

from __future__ import annotations

import contextlib
import os
import stat
from typing import Callable, Iterator

from lumtak.computers.hands.sent.files.atomic import forget, temporary_name
from lumtak.computers.hands.sent.files.places import read_most


def kept_name(name: str) -> str:
    """Under which a file is kept while another one has its place."""
    return temporary_name(name)[: -len("new")] + "was"


@contextlib.contextmanager
def kept_meanwhile(folder: int, name: str, keep: bool) -> Iterator[None]:
    """What stands there gets a second name before it is replaced, unless one is kept already; where
    the file system has none, or somebody else's file stands there, nothing is kept. Where replacing
    it fails, it has one name as before.
    """
    kept = kept_name(name)
    if keep:
        with contextlib.suppress(OSError):
            both = {"src_dir_fd": folder, "dst_dir_fd": folder}
            os.link(name, kept, follow_symlinks=False, **both)
    try:
        yield
    except BaseException:
        with contextlib.suppress(OSError):
            now, then = (os.stat(n, dir_fd=folder, follow_symlinks=False) for n in (name, kept))
            if os.path.samestat(now, then):
                forget(kept, folder)
        raise


def back(folder: int, name: str, is_it: Callable[[int, str], bool]) -> bool:
    """What is kept has its place again, where it is what is wanted there; whether that stands there
    now.

    Args:
        folder: a descriptor.
        name: of the place.
        is_it: whether what stands under a name in a folder is wanted.
    """
    kept = kept_name(name)
    if is_it(folder, kept):
        os.rename(kept, name, src_dir_fd=folder, dst_dir_fd=folder)
        forget(kept, folder)  # to another name of the same file a rename does nothing; rename(2)
    elif not is_it(folder, name):
        return False
    forget(temporary_name(name), folder)
    os.fsync(folder)
    return True


def holds(data: bytes, mode: int) -> Callable[[int, str], bool]:
    """Whether a file has these bytes and this mode."""

    def is_it(folder: int, name: str) -> bool:
        flags = os.O_RDONLY | os.O_NOFOLLOW | os.O_CLOEXEC | os.O_NONBLOCK
        try:
            descriptor = os.open(name, flags, dir_fd=folder)
        except OSError:
            return False
        try:
            about = os.fstat(descriptor)
            same = stat.S_ISREG(about.st_mode) and stat.S_IMODE(about.st_mode) == mode
            return same and read_most(descriptor, len(data) + 1) == data
        finally:
            os.close(descriptor)

    return is_it


def leads(target: str) -> Callable[[int, str], bool]:
    """Whether a link leads there."""

    def is_it(folder: int, name: str) -> bool:
        try:
            return os.readlink(name, dir_fd=folder) == target
        except OSError:
            return False

    return is_it
