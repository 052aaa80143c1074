"""Files and databases that are whole or not there: atomic replacement, SQLite set up for durability, numbered migrations."""

import contextlib
import os
import sqlite3
import threading
from collections.abc import Iterator, Sequence
from pathlib import Path

from lumtak.errors import DamagedError, StorageError

_DAMAGED = (sqlite3.SQLITE_CORRUPT, sqlite3.SQLITE_NOTADB, sqlite3.SQLITE_IOERR_SHORT_READ)


def in_short(path: Path) -> str:
    """A path as people write it, fit for `Path.expanduser`: ~ for their own folder."""
    home = Path.home()
    return f"~/{path.relative_to(home)}" if path.is_relative_to(home) else str(path)


def write_whole(path: Path, data: bytes, mode: int = 0o644) -> None:
    """Replace a file by new content, or leave it as it was.

    Temporary file in the same folder, fsync, replace, fsync of the folder; the temporary file is removed on every failure.

    Raises:
        StorageError: the disk is full, the folder is read-only, ...
    """
    temporary = path.with_name(f".{path.name}.{os.getpid()}.new")
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        descriptor = os.open(temporary, os.O_WRONLY | os.O_CREAT | os.O_TRUNC | os.O_NOFOLLOW | os.O_CLOEXEC, mode)
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


def cannot_write(path: Path, error: OSError) -> StorageError:
    """The error for a file that could not be written, with what to do about it."""
    reason = (error.strerror or str(error)).lower()
    return StorageError(
        f"{path} cannot be written: {reason}.",
        "Make room or choose another folder (--home DIR for Lumtak's own data, --out for results).",
    )


class Database:
    """One SQLite file, safe to use from several threads: WAL, synchronous=FULL, schema by numbered migrations, one transaction each.

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
            path.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
            self._link = sqlite3.connect(path, isolation_level=None, check_same_thread=False, timeout=10)
            self._link.row_factory = sqlite3.Row
            self._check()
            version = int(self._link.execute("PRAGMA user_version").fetchone()[0])
            if version > len(migrations):
                self._link.close()
                raise StorageError(
                    f"{path} was written by a newer Lumtak (schema {version}, this one knows {len(migrations)}).",
                    "Update Lumtak, or use another --home.",
                )
            self._link.execute("PRAGMA journal_mode=WAL")
            self._link.execute("PRAGMA synchronous=FULL")
            self._link.execute("PRAGMA foreign_keys=ON")
            for number, script in enumerate(migrations[version:], start=version + 1):
                self._link.executescript(f"BEGIN; {script}; PRAGMA user_version={number}; COMMIT;")
        except OSError as error:
            raise cannot_write(path, error) from error
        except sqlite3.Error as error:
            self._link.close()
            raise self._trouble(error) from error
        except DamagedError:
            self._link.close()
            raise

    def _check(self) -> None:
        problem = self._link.execute("PRAGMA quick_check(1)").fetchone()[0]
        if problem != "ok":
            raise DamagedError(f"{self.path} is damaged ({problem}).", self._mend)

    _mend = "Move it away to begin anew; the file may be of use to somebody who knows SQLite."

    def _trouble(self, error: sqlite3.Error) -> StorageError:
        code = getattr(error, "sqlite_errorcode", 0)
        if code in _DAMAGED or code & 0xFF in _DAMAGED or "no such table" in str(error):
            return DamagedError(f"{self.path} is damaged ({error}).", self._mend)
        return StorageError(
            f"{self.path} cannot be used: {error}.",
            "Make room on the disk and see that the folder can be written, or choose another one with --home DIR.",
        )

    def run(self, statement: str, values: Sequence[object] = ()) -> int:
        """Carry out one statement, on disk when this returns; gives the row id of an insert."""
        try:
            with self._lock:
                return int(self._link.execute(statement, values).lastrowid or 0)
        except sqlite3.Error as error:
            raise self._trouble(error) from error

    def rows(self, statement: str, values: Sequence[object] = ()) -> list[sqlite3.Row]:
        """All rows of a query."""
        try:
            with self._lock:
                return self._link.execute(statement, values).fetchall()
        except sqlite3.Error as error:
            raise self._trouble(error) from error

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
