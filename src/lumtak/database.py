"""SQLite set up for durability: numbered migrations, and what is damaged set aside and mended."""

import contextlib
import fcntl
import os
import shutil
import sqlite3
import tempfile
import threading
from collections.abc import Callable, Iterator, Sequence
from pathlib import Path
from typing import TypeVar

from lumtak.core.text import plain
from lumtak.errors import DamagedError, NewerError, StorageError
from lumtak.storage import cannot_write, make_folder, sync_folder

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
        # A damaged header can hold any number.
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
        self._link.execute("PRAGMA secure_delete=ON")
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

    def scrub(self) -> None:
        """The file is built anew, so that nothing of what was deleted or written over stays in free
        pages, and the write-ahead log is emptied.

        Raises:
            StorageError: somebody else has the file open, or there is no room.
        """
        with self._lock, self._in_sentences():
            self._link.execute("PRAGMA temp_store=MEMORY")  # no copy in a temporary file
            self._link.execute("VACUUM")
            busy = self._link.execute("PRAGMA wal_checkpoint(TRUNCATE)").fetchone()[0]
        if busy:
            raise StorageError(
                f"{self.path} is in use, so that its log could not be emptied.",
                "Close whatever else has it open, then try again.",
            )

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
