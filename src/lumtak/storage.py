"""Files that are whole or not there: atomic replacement, folders, locks, what is handed in."""

import contextlib
import errno
import os
import re
import stat
from collections.abc import Iterator
from pathlib import Path
from typing import TYPE_CHECKING

from lumtak.errors import BadFileError, StorageError

if TYPE_CHECKING:
    from tempfile import TemporaryDirectory

_TEMPORARY = re.compile(r"\..+?\.([0-9]+)(?:\.[0-9a-f]{8})?\.new")


def in_short(path: Path) -> str:
    """A path as people write it, fit for `Path.expanduser`: ~ for their own folder."""
    home = Path.home()
    return f"~/{path.relative_to(home)}" if path.is_relative_to(home) else str(path)


def write_whole(path: Path, data: bytes, *, private: bool = False) -> None:
    """Replace a file by new content, or leave it as it was.

    Temporary file in the same folder, fsync, replace, fsync of the folder; the temporary file is
    removed on every failure.

    Args:
        path: of the file.
        data: its new content.
        private: whether it is Lumtak's own: then nobody else may read it, and its folder is made
            where it is not there, for nobody else.

    Raises:
        StorageError: the disk is full, the folder is read-only, ...
    """
    # Its name says which process made it, so that `sweep` leaves those of living ones.
    if not path.name:
        raise StorageError(f"“{path}” names no file.", "Name the file as well as its folder.")
    temporary = f".{path.name}.{os.getpid()}.{os.urandom(4).hex()}.new"
    try:
        if private:
            make_folder(path.parent)
        with _opened(path.parent) as folder:
            _replace(folder, temporary, path.name, data, 0o600 if private else 0o644)
    except OSError as error:
        raise cannot_write(path, error) from error


@contextlib.contextmanager
def _opened(folder: Path) -> Iterator[int]:
    """A descriptor of a folder that is written to; for root by no link that is somebody else's.

    Raises:
        StorageError: whoever owns a link on the way would decide where root writes.
    """
    flags = os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC
    if os.geteuid() == 0:
        whole = folder.absolute()
        for step in (whole, *whole.parents):
            about = step.lstat()
            if stat.S_ISLNK(about.st_mode) and about.st_uid != 0:
                raise StorageError(
                    f"Root writes nothing to {folder}, since the link {step} is somebody else's.",
                    "Name the folder itself that it leads to.",
                )
        # Step by step, so that no link that comes by now is followed either.
        descriptor = os.open("/", flags)
        for part in whole.resolve().parts[1:]:
            above = descriptor
            try:
                descriptor = os.open(part, flags | os.O_NOFOLLOW, dir_fd=above)
            finally:
                os.close(above)
    else:
        descriptor = os.open(folder, flags)
    try:
        yield descriptor
    finally:
        os.close(descriptor)


def _replace(folder: int, temporary: str, name: str, data: bytes, mode: int) -> None:
    flags = os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW | os.O_CLOEXEC
    descriptor = os.open(temporary, flags, mode, dir_fd=folder)
    try:
        try:
            write_all(descriptor, data)
            os.fsync(descriptor)
        finally:
            os.close(descriptor)
        os.replace(temporary, name, src_dir_fd=folder, dst_dir_fd=folder)
    except BaseException:
        with contextlib.suppress(OSError):
            os.unlink(temporary, dir_fd=folder)
        raise
    os.fsync(folder)


def read_handed_in(path: Path, most: int, noun: str) -> bytes:
    """A file that somebody names: an ordinary one, whole, and no larger than such a file ever is.

    Args:
        path: as it was named.
        most: bytes.
        noun: what the file should be, for the person: "reading".

    Raises:
        BadFileError: it is not there, no ordinary file (a device could go on for ever, a pipe could
            wait for ever), or too large.
    """
    try:
        about = path.stat()  # looked at before it is opened: opening a device can do something
        if stat.S_ISREG(about.st_mode) and about.st_size <= most:
            with os.fdopen(
                os.open(path, os.O_RDONLY | os.O_CLOEXEC | os.O_NONBLOCK | os.O_NOCTTY), "rb"
            ) as file:
                data = file.read(most + 1)
                if len(data) <= most:
                    return data
    except OSError as error:
        reason = (error.strerror or str(error)).lower()
        raise BadFileError(str(path), f"the {noun} cannot be opened: {reason}.") from error
    except ValueError as error:
        raise BadFileError(str(path), f"the {noun} cannot be opened: this is no path.") from error
    if not stat.S_ISREG(about.st_mode):
        kind = "a folder" if stat.S_ISDIR(about.st_mode) else "no ordinary file"
        raise BadFileError(str(path), f"this is {kind}.", next_step=f"Name the file of a {noun}.")
    raise BadFileError(
        str(path),
        f"this is larger than a {noun} ever is ({most >> 20} MiB).",
        next_step="Name another file.",
    )


def make_folder(path: Path) -> None:
    """The folder is there; whatever of the way to it was missing, only its owner may enter."""
    for place in (*reversed(path.parents), path):
        if not place.exists():
            with contextlib.suppress(FileExistsError):
                place.mkdir(mode=0o700)


def sweep(folder: Path) -> None:
    """Remove what a Lumtak that was killed left half-written there.

    What one that runs is writing stays.
    """
    for path in folder.glob(".*.new"):
        said = _TEMPORARY.fullmatch(path.name)
        if said and not Path("/proc", said[1]).exists():
            with contextlib.suppress(OSError):
                path.unlink()


def write_all(descriptor: int, data: bytes) -> None:
    """Write every byte, however many calls it takes."""
    left = memoryview(data)
    while left:
        left = left[os.write(descriptor, left) :]


def sync_folder(folder: Path) -> None:
    """Bring the folder's entries to the disk."""
    descriptor = os.open(folder, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC)
    try:
        os.fsync(descriptor)
    finally:
        os.close(descriptor)


_MEND = {
    errno.ENOENT: "Make its folder first, or choose another one.",
    errno.ENOTDIR: "Choose a folder; a file is in the way.",
    errno.EEXIST: "Choose a folder; a file is in the way.",
    errno.ENOSPC: "Make room, or choose another folder.",
    errno.EDQUOT: "Make room, or choose another folder.",
    errno.EACCES: "Choose a folder that you may write to.",
    errno.EPERM: "Choose a folder that you may write to.",
    errno.EROFS: "Choose a folder on a disk that can be written.",
}


def cannot_write(path: Path, error: OSError) -> StorageError:
    """The error for a file that could not be written, with what to do about it."""
    reason = (error.strerror or str(error)).lower()
    return StorageError(
        f"{path} cannot be written: {reason}.",
        _MEND.get(error.errno or 0, "Choose another folder."),
    )


_STORES = (
    "journal.db*",
    "casebook.db*",
    "journal-id",
    "before",
    "lost",
    "profiles",
    "catalogue",
    "simulated",
)
"""What is looked at in a data folder."""


def copied_to_look(home: Path) -> "TemporaryDirectory[str] | None":
    """A copy of a data folder that cannot be written, so that all of it can be looked at.

    None where the folder can be, or is not there.

    Raises:
        StorageError: it cannot be read either.
    """
    if not home.is_dir() or os.access(home, os.W_OK):
        return None
    import shutil
    import tempfile

    copy = tempfile.TemporaryDirectory(prefix="lumtak-")
    try:
        for place in (found for pattern in _STORES for found in home.glob(pattern)):
            target = Path(copy.name, place.name)
            shutil.copytree(place, target) if place.is_dir() else shutil.copyfile(place, target)
    except OSError as error:
        copy.cleanup()
        reason = (error.strerror or str(error)).lower()
        raise StorageError(
            f"{home} can be neither written nor read: {reason}.",
            "Make it yours, or name another with --home DIR.",
        ) from error
    return copy


def only_looked_at(home: Path) -> StorageError:
    """The refusal of whatever would have to be kept in a data folder that cannot be written."""
    return StorageError(
        f"{home} cannot be written, so nothing is changed.",
        "Make it writable, or name another folder with --home DIR.",
    )


@contextlib.contextmanager
def in_sentences(path: Path) -> Iterator[None]:
    """What cannot be written is told in a sentence.

    Raises:
        StorageError: it cannot be written.
    """
    try:
        yield
    except OSError as error:
        raise cannot_write(path, error) from error


def lock_file(path: Path) -> int:
    """A descriptor of a file that is there only to be locked.

    Raises:
        StorageError: it cannot be made.
    """
    try:
        make_folder(path.parent)
        return os.open(path, os.O_RDWR | os.O_CREAT | os.O_CLOEXEC | os.O_NOFOLLOW, 0o600)
    except OSError as error:
        raise cannot_write(path, error) from error


def forget_file(path: Path) -> None:
    """A file of Lumtak's own is gone, where it was there.

    Raises:
        StorageError: it cannot be removed.
    """
    with in_sentences(path):
        path.unlink(missing_ok=True)
