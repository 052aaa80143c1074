"""One writer a computer."""

import contextlib
import fcntl
import os
from collections.abc import Iterator
from pathlib import Path

from lumtak.errors import StorageError
from lumtak.storage import lock_file


class BusyError(StorageError):
    """Another Lumtak is changing this computer."""


@contextlib.contextmanager
def locked(path: Path) -> Iterator[None]:
    """Nobody else holds this lock while it lasts; the kernel lets go when the process dies.

    Raises:
        BusyError: somebody else does, with their process id.
        StorageError: the lock cannot be had.
    """
    descriptor = lock_file(path)
    try:
        try:
            fcntl.flock(descriptor, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except BlockingIOError as error:
            holder = os.read(descriptor, 32).decode("ascii", "replace").strip() or "unknown"
            raise BusyError(
                f"Another Lumtak (process {holder}) is changing this computer now.",
                "Let it finish, then try again.",
            ) from error
        # The number is for the sentence above; the lock itself is what counts.
        os.ftruncate(descriptor, 0)
        os.pwrite(descriptor, str(os.getpid()).encode(), 0)
        yield
    finally:
        os.close(descriptor)
