"""Files and databases that are whole or not there.

Atomic replacement, SQLite set up for durability, numbered migrations.
"""

import contextlib
import errno
import fcntl
import os
import re
import secrets
import shutil
import sqlite3
import stat
import tempfile
import threading
from collections.abc import Callable, Iterator, Sequence
from pathlib import Path
from typing import TypeVar

from lumtak.core.text import plain
from lumtak.errors import BadFileError, DamagedError, NewerError, StorageError

_DAMAGED = (
    sqlite3.SQLITE_CORRUPT,
    sqlite3.SQLITE_NOTADB,
    sqlite3.SQLITE_IOERR_SHORT_READ,
    sqlite3.SQLITE_ERROR,  # every statement is ours and right, so that only the schema can be wrong
    sqlite3.SQLITE_MISMATCH,
    sqlite3.SQLITE_TOOBIG,
    sqlite3.SQLITE_FORMAT,
)
_BUSY_S = 10.0
_HIGHEST = 1000
"""No Lumtak will ever have so many versions of a schema: a higher number is a damaged one."""
_T = TypeVar("_T")
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
    temporary = path.with_name(f".{path.name}.{os.getpid()}.{secrets.token_hex(4)}.new")
    try:
        if private:
            make_folder(path.parent)
        flags = os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW | os.O_CLOEXEC
        descriptor = os.open(temporary, flags, 0o600 if private else 0o644)
        try:
            try:
                write_all(descriptor, data)
                os.fsync(descriptor)
            finally:
                os.close(descriptor)
            temporary.replace(path)
        except BaseException:
            with contextlib.suppress(OSError):
                temporary.unlink()
            raise
        sync_folder(path.parent)
    except OSError as error:
        raise cannot_write(path, error) from error


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


def copied_to_look(home: Path) -> tempfile.TemporaryDirectory[str] | None:
    """A copy of a data folder that cannot be written, so that all of it can be looked at.

    None where the folder can be, or is not there.

    Raises:
        StorageError: it cannot be read either.
    """
    if not home.is_dir() or os.access(home, os.W_OK):
        return None
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


def as_text(data: bytes) -> str:
    """Text of a database.

    What is not UTF-8 shows as U+FFFD, where SQLite's own way would be an error in the middle of a
    check.
    """
    return data.decode("utf-8", "replace")


class Database:
    """One SQLite file, safe to use from several threads.

    WAL, synchronous=FULL, schema by numbered migrations, one transaction each.

    Args:
        path: the file; made with its folder when it is not there.
        migrations: SQL scripts, one a schema version, never changed once released.

    Raises:
        StorageError: it cannot be opened, or was written by a newer Lumtak.
        DamagedError: it is damaged.
    """

    def __init__(self, path: Path, migrations: Sequence[str]) -> None:
        self.path = path
        self._lock = threading.RLock()
        try:
            make_folder(path.parent)
            if not path.exists():  # SQLite gives what it makes beside it the same mode
                os.close(
                    os.open(path, os.O_WRONLY | os.O_CREAT | os.O_CLOEXEC | os.O_NOFOLLOW, 0o600)
                )
        except OSError as error:
            raise cannot_write(path, error) from error
        with self._in_sentences():
            self._link = sqlite3.connect(
                path, isolation_level=None, check_same_thread=False, timeout=_BUSY_S
            )
        try:
            with self._in_sentences():
                self._prepare(migrations)
        except StorageError:
            self._link.close()
            raise

    def _prepare(self, migrations: Sequence[str]) -> None:
        self._link.row_factory, self._link.text_factory = sqlite3.Row, as_text
        version = int(self._link.execute("PRAGMA user_version").fetchone()[0])
        if version not in range(_HIGHEST):
            raise self._damaged(f"its version is {version}")
        if version > len(
            migrations
        ):  # before anything else: a newer Lumtak's file is not ours to judge
            raise NewerError(str(self.path), version, len(migrations))
        problem = self._link.execute("PRAGMA quick_check(1)").fetchone()[0]
        if problem != "ok":
            raise self._damaged(problem)
        self._link.execute("PRAGMA journal_mode=WAL")
        self._link.execute("PRAGMA synchronous=FULL")
        self._link.execute("PRAGMA foreign_keys=ON")
        for number, script in enumerate(migrations[version:], start=version + 1):
            self._link.executescript(f"BEGIN; {script}; PRAGMA user_version={number}; COMMIT;")

    def _damaged(self, said: object) -> DamagedError:
        return DamagedError(
            f"{self.path} is damaged ({plain(str(said))}).",
            "Move it away to begin anew; the file may be of use to somebody who knows SQLite.",
        )

    @contextlib.contextmanager
    def _in_sentences(self) -> Iterator[None]:
        """What SQLite raises becomes a sentence.

        Its own words may be damaged too: then they cannot even be read.
        """
        try:
            yield
        except sqlite3.Error as error:
            code = getattr(error, "sqlite_errorcode", 0)
            if code in _DAMAGED or code & 0xFF in _DAMAGED:
                raise self._damaged(error) from error
            raise StorageError(
                f"{self.path} cannot be used: {plain(str(error))}.",
                "Make room on the disk and see that the folder can be written, or choose another"
                " one with --home DIR.",
            ) from error
        except (UnicodeError, OverflowError, MemoryError) as error:
            raise self._damaged(error) from error

    def run(self, statement: str, values: Sequence[object] = ()) -> int:
        """Carry out one statement, on disk when this returns; gives the row id of an insert."""
        with self._lock, self._in_sentences():
            return int(self._link.execute(statement, values).lastrowid or 0)

    def rows(self, statement: str, values: Sequence[object] = ()) -> list[sqlite3.Row]:
        """All rows of a query."""
        with self._lock, self._in_sentences():
            return self._link.execute(statement, values).fetchall()

    @contextlib.contextmanager
    def together(self) -> Iterator[None]:
        """Statements inside are carried out all or not at all."""
        with self._lock:
            self.run("BEGIN IMMEDIATE")
            try:
                yield
                self.run("COMMIT")
            except BaseException:
                with contextlib.suppress(sqlite3.Error):
                    self._link.execute("ROLLBACK")
                raise

    def close(self) -> None:
        """Let the file go."""
        self._link.close()


# -- damaged files: what can still be read out of them ---------------------------------------------


def mended(
    path: Path,
    migrations: Sequence[str],
    error: DamagedError,
    held: int,
    fill: Callable[[Path, Database], _T],
) -> tuple[Database, Path, _T]:
    """A new database in the place of a damaged one.

    (the new one, the damaged file's new name, what `fill` gave).

    Args:
        path: of the damaged one.
        migrations: of its schema.
        error: what was found.
        held: descriptor of the lock that everybody who has it open shares.
        fill: puts what can be read out of the file (a copy of the damaged one) into the new
            database.

    Raises:
        StorageError: somebody else has it open, or there is no room.
    """
    _alone(held, error.message)
    fresh = path.with_name(f".{path.name}.mending")
    try:
        with tempfile.TemporaryDirectory(prefix="lumtak-") as folder:
            copy = Path(folder) / path.name
            for suffix in ("", "-wal"):
                with contextlib.suppress(FileNotFoundError):
                    shutil.copyfile(
                        path.with_name(path.name + suffix), copy.with_name(copy.name + suffix)
                    )
            _forget_database(fresh)
            made = Database(fresh, migrations)
            try:
                with made.together():
                    result = fill(copy, made)
            finally:
                made.close()
        fresh.rename(_ready(path))
        sync_folder(path.parent)
    except OSError as problem:
        raise cannot_write(path, problem) from problem
    finally:
        _forget_database(fresh)
    aside = finish_mending(path, held)
    return Database(path, migrations), aside or path, result


def finish_mending(path: Path, held: int) -> Path | None:
    """Put the new database in the place of the damaged one, also where that was interrupted.

    Gives the damaged one's new name.

    Nothing is done, and None given, where nothing was being mended.

    Raises:
        StorageError: somebody else has it open, or it cannot be renamed.
    """
    ready = _ready(path)
    if not ready.exists():
        return None
    _alone(held, f"{path} is being mended.")
    try:
        number = 1
        while (aside := path.with_name(f"{path.name}.damaged-{number}")).exists():
            number += 1
        for suffix in ("-wal", "-shm", ""):
            with contextlib.suppress(FileNotFoundError):
                path.with_name(path.name + suffix).rename(aside.with_name(aside.name + suffix))
        ready.rename(path)
        sync_folder(path.parent)
    except OSError as error:
        raise StorageError(
            f"{path} is damaged and cannot be set aside: {(error.strerror or '').lower()}.",
            "Make its folder writable.",
        ) from error
    fcntl.flock(held, fcntl.LOCK_SH)
    return aside


def _ready(path: Path) -> Path:
    """Under this name the new database waits, complete, for its place."""
    return path.with_name(f".{path.name}.mended")


def _alone(held: int, problem: str) -> None:
    try:
        fcntl.flock(held, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except BlockingIOError as error:
        raise StorageError(
            problem,
            "Another Lumtak has it open: close that one, then try again; it will be mended.",
        ) from error


def _forget_database(path: Path) -> None:
    """A database of which nothing is needed is gone, with SQLite's files beside it."""
    for suffix in ("-wal", "-shm", ""):
        path.with_name(path.name + suffix).unlink(missing_ok=True)


def readable_rows(path: Path, table: str, columns: Sequence[str]) -> list[sqlite3.Row]:
    """These columns of a table's rows that can be read.

    From the first until one cannot, from the last likewise; by their row ids.
    """
    found: dict[int, sqlite3.Row] = {}
    wanted = ", ".join(("rowid AS row_number", *columns))
    for order in ("ASC", "DESC"):
        link = sqlite3.connect(path, isolation_level=None)
        link.row_factory, link.text_factory = sqlite3.Row, as_text
        try:
            for row in link.execute(f"SELECT {wanted} FROM {table} ORDER BY rowid {order}"):  # noqa: S608 - our own names
                found[row["row_number"]] = row
        except (
            sqlite3.Error,
            UnicodeError,
            OverflowError,
            MemoryError,
        ):  # the text of an error may be damaged too
            continue
        finally:
            link.close()
    return [found[number] for number in sorted(found)]
