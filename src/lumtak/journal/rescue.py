"""What a damaged journal still tells: every record that is whole is read out of it."""

import sqlite3
from collections.abc import Iterator
from pathlib import Path
from typing import Literal, TypeVar

import msgspec

from lumtak.database import Database, readable_rows
from lumtak.journal.entry import Entry, PlanRecord, sealed, unsealed

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

_RESCUED = "its record was rescued from its second copy"
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


Fate = Literal["lost", "the copy counts", "the row counts", "closed", "as it is"]


def fate(copy: Entry | None, row: Entry | None) -> Fate:
    """What becomes of a change that the database, its second copy or both can tell of.

    Where both know it, the newer record counts.
    """
    if row is None:
        return "lost" if copy is None else "the copy counts"
    if copy is not None and copy.turn > row.turn:
        return "the copy counts"
    if not row.is_open:
        return "closed"
    return "the row counts" if copy is None or copy.turn < row.turn else "as it is"


def as_rescued(copy: Entry) -> Entry:
    """A record as its second copy tells it, to be looked into: somebody may have written that."""
    return msgspec.structs.replace(
        # One turn on, so that the row that is made of it is newer than the copy it came from.
        copy,
        stage="written",
        turn=copy.turn + 1,
        note=_RESCUED,
        rescued=True,
    )


def insert(db: Database, entry: Entry) -> None:
    """Put a change into a database, whatever stood there."""
    document, checksum = sealed(msgspec.structs.replace(entry, seen_at=""))
    db.run(
        "INSERT OR REPLACE INTO change (id, computer, document, checksum, seen_at) VALUES (?, ?, ?,"
        " ?, ?)",
        (entry.id, entry.computer, document, checksum, entry.seen_at),
    )


def insert_plan(db: Database, plan: PlanRecord, *, ended: bool) -> None:
    """Put a plan into a database, whatever stood there."""
    document, checksum = sealed(plan)
    db.run(
        "INSERT OR REPLACE INTO plan VALUES (?, ?, ?, ?)", (plan.id, document, checksum, int(ended))
    )
