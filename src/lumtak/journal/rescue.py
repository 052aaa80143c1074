"""What a damaged journal still tells: every record that is whole is read out of it."""

import sqlite3
from collections.abc import Iterator
from pathlib import Path
from typing import TypeVar

import msgspec

from lumtak.journal.entry import Entry, PlanRecord, unsealed
from lumtak.storage import readable_rows

MIGRATIONS = (
    """
    CREATE TABLE change (
        id INTEGER PRIMARY KEY, computer TEXT NOT NULL, document BLOB NOT NULL,
        checksum TEXT NOT NULL, seen_at TEXT NOT NULL DEFAULT ''
    ) STRICT;
    CREATE TABLE plan (
        id INTEGER PRIMARY KEY, document BLOB NOT NULL, checksum TEXT NOT NULL,
        ended INTEGER NOT NULL
    ) STRICT
    """,
)
"""Schema of journal.db; a record is a JSON document with its checksum."""

_T = TypeVar("_T", Entry, PlanRecord)


def salvage(path: Path) -> tuple[list[Entry], list[tuple[PlanRecord, bool]]]:
    """(changes, plans with whether they ended) that can be read out of a damaged journal, in order.

    Raises:
        NewerError: a newer Lumtak wrote one of them.
    """
    changes = [
        msgspec.structs.replace(entry, seen_at=str(row["seen_at"] or ""))
        for row, entry in _whole(path, "change", ("seen_at",), Entry)
    ]
    plans = [
        (plan, bool(row["ended"])) for row, plan in _whole(path, "plan", ("ended",), PlanRecord)
    ]
    return changes, plans


def _whole(
    path: Path, table: str, beside: tuple[str, ...], kind: type[_T]
) -> Iterator[tuple[sqlite3.Row, _T]]:
    """Rows that hold a whole record, with it."""
    for row in readable_rows(path, table, ("id", "document", "checksum", *beside)):
        record = unsealed(row["document"], row["checksum"], kind)
        if record is not None and record.id == row["id"]:
            yield row, record
