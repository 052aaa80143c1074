"""The casebook: jobs and their readings in SQLite.

What is large and seldom changes (facts, audit) stands beside a job's document, so that choosing an
item or moving the cursor writes little.
"""

import contextlib
import fcntl
import logging
import os
import re
from collections.abc import Iterator
from pathlib import Path
from typing import TYPE_CHECKING, TypeVar, get_args

import msgspec

from lumtak.casebook.heading import Heading
from lumtak.core.record import UNREADABLE, Record
from lumtak.database import Database, finish_mending, mended, readable_rows
from lumtak.errors import DamagedError, StorageError, UnknownNameError
from lumtak.storage import lock_file, only_looked_at

if TYPE_CHECKING:  # the opening screen lists jobs, and needs nothing of what is in them
    from lumtak.casebook.job import Job
    from lumtak.core.audit import Answer
    from lumtak.core.reading import Reading

_MIGRATIONS = (
    """
    CREATE TABLE job (
        id TEXT PRIMARY KEY, identity TEXT NOT NULL, changed INTEGER NOT NULL,
        document BLOB NOT NULL
    ) STRICT;
    CREATE TABLE reading (
        id INTEGER PRIMARY KEY AUTOINCREMENT, job TEXT NOT NULL REFERENCES job (id),
        role TEXT NOT NULL, document BLOB NOT NULL
    ) STRICT
    """,
    """
    CREATE TABLE answer (
        identity TEXT NOT NULL, address TEXT NOT NULL, answer TEXT NOT NULL, at TEXT NOT NULL,
        PRIMARY KEY (identity, address)
    ) STRICT
    """,
    """
    CREATE TABLE part (
        job TEXT NOT NULL REFERENCES job (id), name TEXT NOT NULL, document BLOB NOT NULL,
        PRIMARY KEY (job, name)
    ) STRICT
    """,
    """
    UPDATE job
    SET document = CAST(json_remove(CAST(document AS TEXT), '$.after_provisional') AS BLOB)
    WHERE json_valid(CAST(document AS TEXT))
    """,
    """
    UPDATE job
    SET document = CAST(json_set(CAST(document AS TEXT), '$.station', 'plan') AS BLOB)
    WHERE json_valid(CAST(document AS TEXT))
        AND json_extract(CAST(document AS TEXT), '$.station') = 'apply'
    """,
)
_TABLES = {
    "job": ("id", "identity", "changed", "document"),
    "reading": ("id", "job", "role", "document"),
    "answer": ("identity", "address", "answer", "at"),
    "part": ("job", "name", "document"),
}
"""Columns by table, those first that others refer to."""
_MOST_KEPT = 20
_R = TypeVar("_R", bound=Record)
_PARTS = ("facts", "audit")


def _parts() -> dict[str, type[Record]]:
    """What stands beside a job's document."""
    from lumtak.core.audit import Audit
    from lumtak.core.facts import Facts

    return {"facts": Facts, "audit": Audit}


class Casebook:
    """All jobs of one home folder.

    Args:
        home: Lumtak's data folder.
        only_look: the folder of which that is a copy, since it cannot be written: nothing is kept
            then.
    """

    def __init__(self, home: Path, *, only_look: Path | None = None) -> None:
        self._only_look = only_look
        self.notices: list[str] = []
        """What the person has to be told about the casebook itself."""
        self._held = lock_file(home / "locks" / "casebook")
        fcntl.flock(self._held, fcntl.LOCK_SH)
        try:
            self._db = self._open(home / "casebook.db")
        except BaseException:
            os.close(self._held)
            raise
        self._written: dict[tuple[str, str], object] = {}
        """The parts as they were written or read last."""
        self._said: set[str] = set()
        self._readings: dict[int, Reading] = {}
        """By number, as they were read last: a reading that is kept never changes."""

    def _open(self, path: Path) -> Database:
        """The database; one that is damaged is set aside, and what can be read out of it goes into
        a new one.

        Damage that shows only later stops what was asked for, and is mended at the next opening.
        """
        finish_mending(path, self._held)
        try:
            found = Database(path, _MIGRATIONS)
            try:
                for table, columns in _TABLES.items():
                    found.rows(f"SELECT count(*), max(rowid), {', '.join(columns)} FROM {table}")  # noqa: S608 - our own names
            except DamagedError:
                found.close()
                raise
        except DamagedError as error:
            found, aside, kept = mended(path, _MIGRATIONS, error, self._held, _salvage)
            self.notices.append(
                f"The casebook was damaged and has been built anew: {kept} jobs and their readings"
                f" could be read. The damaged file is kept as {aside.name}."
            )
        return found

    def new_id(self, name: str, identity: str) -> tuple[str, int]:
        """(id, visit) for the next job on a computer: its name and the number of the visit."""
        base = re.sub(r"[^a-z0-9]+", "-", name.lower()).strip("-") or "computer"
        visit = 1 + len(self._db.rows("SELECT 1 FROM job WHERE identity = ?", (identity,)))
        taken = {row["id"] for row in self._db.rows("SELECT id FROM job")}
        number = visit
        while f"{base}-{number}" in taken:
            number += 1
        return f"{base}-{number}", visit

    def save(self, job: "Job") -> None:
        """Keep the job; on disk when this returns."""
        parts = {name: getattr(job, name) for name in _PARTS}
        new = {
            name: part
            for name, part in parts.items()
            if self._written.get((job.id, name), self) is not part
        }
        self._check()
        with self._db.together():
            self._db.run(
                "INSERT INTO job (id, identity, changed, document) VALUES (?1, ?2, (SELECT"
                " coalesce(max(changed), 0) + 1 FROM job), ?3) ON CONFLICT (id) DO UPDATE SET"
                " document = ?3, changed = (SELECT max(changed) + 1 FROM job)",
                (
                    job.id,
                    job.identity,
                    msgspec.json.encode(msgspec.structs.replace(job, **dict.fromkeys(_PARTS))),
                ),
            )
            for name, part in new.items():
                if part is None:
                    self._db.run("DELETE FROM part WHERE job = ? AND name = ?", (job.id, name))
                else:
                    self._db.run(
                        "INSERT OR REPLACE INTO part VALUES (?, ?, ?)",
                        (job.id, name, msgspec.json.encode(part)),
                    )
        self._written.update({(job.id, name): part for name, part in new.items()})

    def erase(self, job: "Job") -> None:
        """Keep the job, and let nothing of what it was before stay in the database: not in free
        pages, and not in the write-ahead log.

        Raises:
            StorageError: another Lumtak has the casebook open, and could keep it again.
        """
        self._check()
        try:
            fcntl.flock(self._held, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except BlockingIOError as error:
            raise StorageError(
                "Another Lumtak has the casebook open, and would keep what is to be erased.",
                "Close it, then try again.",
            ) from error
        try:
            self.save(job)
            self._db.scrub()
        finally:
            fcntl.flock(self._held, fcntl.LOCK_SH)

    def set_aside(self) -> list[Path]:
        """Damaged casebooks that were set aside: what was in them is in there still."""
        return sorted(self._db.path.parent.glob(f"{self._db.path.name}.damaged*"))

    def _check(self) -> None:
        if self._only_look is not None:
            raise only_looked_at(self._only_look)

    def jobs(self) -> list[Heading]:
        """What tells all jobs apart, the one worked on last first."""
        found = []
        for row in self._db.rows("SELECT id, document FROM job ORDER BY changed DESC"):
            with self._told():  # the others are still there
                found.append(_decode(f"job {row['id']}", row["document"], Heading))
        return found

    @contextlib.contextmanager
    def _told(self) -> Iterator[None]:
        """What cannot be read is said once, and done without."""
        try:
            yield
        except StorageError as error:
            if str(error) not in self._said:
                self._said.add(str(error))
                self.notices.append(str(error))

    def job(self, number: str) -> "Job":
        """The job of this id.

        Raises:
            UnknownNameError: there is none.
        """
        from lumtak.casebook.job import Job

        rows = self._db.rows("SELECT document FROM job WHERE id = ?", (number,))
        if not rows:
            known = [row["id"] for row in self._db.rows("SELECT id FROM job")]
            raise UnknownNameError("job", number, known, "`lumtak jobs` lists them.")
        job = _decode(f"job {number}", rows[0]["document"], Job)
        parts: dict[str, Record] = {}
        kinds = _parts()
        for row in self._db.rows("SELECT name, document FROM part WHERE job = ?", (number,)):
            if row["name"] in kinds:
                with self._told():  # it can be made anew
                    parts[row["name"]] = _decode(
                        f"{row['name']} of job {number}", row["document"], kinds[row["name"]]
                    )
        self._written.update({(number, name): part for name, part in parts.items()})
        return msgspec.structs.replace(job, **parts)

    def add_reading(self, job: "Job", role: str, reading: "Reading") -> int:
        """Keep a reading; gives its number."""
        self._check()
        return self._db.run(
            "INSERT INTO reading (job, role, document) VALUES (?, ?, ?)",
            (job.id, role, msgspec.json.encode(reading)),
        )

    def reading(self, number: int | None) -> "Reading | None":
        """The reading of this number.

        None where there is none, or it is damaged, which is told: it can be taken again.
        """
        from lumtak.core.reading import Reading

        if number is None:
            return None
        if number not in self._readings:
            rows = self._db.rows("SELECT document FROM reading WHERE id = ?", (number,))
            if not rows:
                return None
            while len(self._readings) > 2 * _MOST_KEPT:
                self._readings.pop(next(iter(self._readings)), None)
            with self._told():
                self._readings[number] = _decode(f"reading {number}", rows[0]["document"], Reading)
        return self._readings.get(number)

    def readings(self, job: str, role: str) -> "list[tuple[int, Reading]]":
        """(number, reading) of a job in this role, the newest first."""
        rows = self._db.rows(
            "SELECT id FROM reading WHERE job = ? AND role = ? ORDER BY id DESC LIMIT ?",
            (job, role, _MOST_KEPT),
        )
        return [
            (row["id"], found) for row in rows if (found := self.reading(row["id"])) is not None
        ]

    def answers(self, identity: str) -> "dict[str, Answer]":
        """What the owner of this computer said about items, by address."""
        from lumtak.core.audit import Answer

        rows = self._db.rows(
            "SELECT address, answer FROM answer WHERE identity = ? ORDER BY address", (identity,)
        )
        return {row["address"]: row["answer"] for row in rows if row["answer"] in get_args(Answer)}

    def answer(self, identity: str, address: str, answer: str | None, at: str) -> None:
        """Keep what the owner said; None forgets it."""
        self._check()
        if answer is None:
            self._db.run(
                "DELETE FROM answer WHERE identity = ? AND address = ?", (identity, address)
            )
        else:
            self._db.run(
                "INSERT OR REPLACE INTO answer VALUES (?, ?, ?, ?)", (identity, address, answer, at)
            )

    def close(self) -> None:
        """Let the file go."""
        self._db.close()
        with contextlib.suppress(OSError):  # closed twice
            os.close(self._held)


def _salvage(damaged: Path, fresh: Database) -> int:
    """Put every row that can be read into a new casebook; how many jobs there are."""
    for table, names in _TABLES.items():
        columns, marks = ", ".join(names), ", ".join("?" * len(names))
        statement = f"INSERT OR IGNORE INTO {table} ({columns}) VALUES ({marks})"  # noqa: S608 - our own names
        for row in readable_rows(damaged, table, names):
            with contextlib.suppress(
                StorageError
            ):  # a cell of another kind, or a reading of a job that is lost
                fresh.run(statement, [row[name] for name in names])
    return int(fresh.rows("SELECT count(*) FROM job")[0][0])


def _decode(what: str, document: object, kind: type[_R]) -> _R:
    """The record of a document.

    Raises:
        StorageError: it is damaged, or from a newer Lumtak.
    """
    try:
        if isinstance(document, bytes):
            return msgspec.json.decode(document, type=kind)
        said = "it is no document"
    except UNREADABLE as error:
        said = str(error)
    logging.getLogger(__name__).error("the %s cannot be read: %s", what, said)
    raise StorageError(
        f"The {what} cannot be read.",
        "It is damaged, or a newer Lumtak wrote it: then update. Otherwise make it anew.",
    )
