"""What a damaged journal still tells: it is set aside, and every record that is whole is read out of it."""

import contextlib
import sqlite3
from pathlib import Path
from typing import TypeVar

import msgspec

from lumtak.errors import StorageError
from lumtak.journal.entry import Entry, PlanRecord, unsealed

MIGRATIONS = (
    """
    CREATE TABLE change (
        id INTEGER PRIMARY KEY, computer TEXT NOT NULL, document BLOB NOT NULL, checksum TEXT NOT NULL,
        seen_at TEXT NOT NULL DEFAULT ''
    ) STRICT;
    CREATE TABLE plan (id INTEGER PRIMARY KEY, document BLOB NOT NULL, checksum TEXT NOT NULL, ended INTEGER NOT NULL) STRICT
    """,
)
"""Schema of journal.db; a record is a JSON document with its checksum."""

_T = TypeVar("_T", Entry, PlanRecord)


def set_aside(path: Path) -> Path:
    """The damaged file under another name, with SQLite's files beside it.

    Raises:
        StorageError: it cannot be renamed.
    """
    number = 1
    while (aside := path.with_name(f"{path.name}.damaged-{number}")).exists():
        number += 1
    try:
        for suffix in ("-wal", "-shm", ""):  # the database last: until then the next start finds it damaged again
            with contextlib.suppress(FileNotFoundError):
                path.with_name(path.name + suffix).rename(aside.with_name(aside.name + suffix))
    except OSError as error:
        raise StorageError(
            f"{path} is damaged and cannot be set aside: {(error.strerror or '').lower()}.", "Make its folder writable."
        ) from error
    return aside


def salvage(path: Path) -> tuple[list[Entry], list[tuple[PlanRecord, bool]]]:
    """(changes, plans with whether they ended) that can be read out of a damaged journal, in order."""
    link = sqlite3.connect(path, isolation_level=None)
    link.row_factory = sqlite3.Row
    try:
        changes = {
            row["id"]: msgspec.structs.replace(entry, seen_at=str(row["seen_at"] or ""))
            for row, entry in _whole(link, "change", Entry)
        }
        plans = {row["id"]: (plan, bool(row["ended"])) for row, plan in _whole(link, "plan", PlanRecord)}
    finally:
        link.close()
    return [changes[n] for n in sorted(changes)], [plans[n] for n in sorted(plans)]


def _whole(link: sqlite3.Connection, table: str, kind: type[_T]) -> list[tuple[sqlite3.Row, _T]]:
    """Rows that are whole: from the first until one cannot be read, and from the last likewise."""
    found = []
    for order in ("ASC", "DESC"):
        try:
            for row in link.execute(f"SELECT * FROM {table} ORDER BY id {order}"):  # noqa: S608 - our own two names
                record = None
                with contextlib.suppress(TypeError, AttributeError):  # a cell of another kind than was written
                    record = unsealed(row["document"], row["checksum"], kind)
                if record is not None and record.id == row["id"]:
                    found.append((row, record))
        except sqlite3.Error:
            continue
    return found
