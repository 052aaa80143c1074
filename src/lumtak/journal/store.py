"""The journal on disk: every change with its before value, and how far it got."""

import contextlib
import fcntl
import hashlib
import os
import sqlite3
from collections.abc import Iterator
from pathlib import Path
from typing import Literal

import msgspec

from lumtak.core.record import Record
from lumtak.core.setting import Change, SettingRef, Shows, State
from lumtak.errors import StorageError, UnknownNameError
from lumtak.storage import Database, cannot_write, write_whole

Stage = Literal["intent", "written", "verified", "undoing", "undone", "not done", "failed", "conflict"]
"""intent: about to be written. written: written, not read back. verified: read back as wanted. undoing: about to be put back.
undone: put back. not done: interrupted before the write. failed: refused, and as before. conflict: needs a look."""

OPEN: tuple[Stage, ...] = ("intent", "written", "verified", "undoing", "conflict")
"""Stages of changes that are not put back."""
UNFINISHED: tuple[Stage, ...] = ("intent", "written", "undoing")

_MIGRATIONS = (
    """
    CREATE TABLE change (
        id INTEGER PRIMARY KEY AUTOINCREMENT,
        computer TEXT NOT NULL, address TEXT NOT NULL, user TEXT NOT NULL, job TEXT NOT NULL,
        area TEXT NOT NULL, key TEXT NOT NULL, title TEXT NOT NULL,
        value TEXT, before BLOB NOT NULL, restore BLOB NOT NULL, after BLOB,
        stage TEXT NOT NULL, shows TEXT NOT NULL, boot_id TEXT NOT NULL, session_id TEXT,
        note TEXT NOT NULL DEFAULT '', begun_at TEXT NOT NULL, stage_at TEXT NOT NULL
    ) STRICT;
    CREATE INDEX change_by_computer ON change (computer, stage)
    """,
)


class Entry(Record):
    """One change in the journal."""

    id: int
    computer: str
    """The computer's identity."""
    address: str
    user: str
    job: str
    ref: SettingRef
    title: str
    value: str | None
    """What it was to become."""
    before: State
    """What it was when it was changed."""
    restore: State
    """What putting it back restores: `before`, unless an older change of the same setting was put back since."""
    after: State | None
    """What was read back."""
    stage: Stage
    shows: Shows
    boot_id: str
    """Of the last write to the computer, forth or back."""
    session_id: str | None
    note: str
    begun_at: str
    stage_at: str

    @property
    def is_open(self) -> bool:
        """Whether it is still to be put back."""
        return self.stage in OPEN

    @property
    def change(self) -> Change:
        """What was asked for."""
        return Change(ref=self.ref, value=self.value)


class Journal:
    """The journal of all computers of one home folder.

    Args:
        home: Lumtak's data folder; holds journal.db, before/ (a second, checksummed copy of every before value) and locks/.
    """

    def __init__(self, home: Path) -> None:
        self._home = home
        self._db = Database(home / "journal.db", _MIGRATIONS)

    # -- reading ------------------------------------------------------------------------------------------------------

    def entries(self, computer: str | None = None, *, job: str | None = None) -> list[Entry]:
        """All changes, oldest first."""
        rows = self._db.rows(
            "SELECT * FROM change WHERE (?1 IS NULL OR computer = ?1) AND (?2 IS NULL OR job = ?2) ORDER BY id",
            (computer, job),
        )
        return [_entry(row) for row in rows]

    def entry(self, number: int, computer: str) -> Entry:
        """One change of this computer.

        Raises:
            UnknownNameError: there is none of this number.
        """
        known = {e.id: e for e in self.entries(computer)}
        if number not in known:
            raise UnknownNameError(
                "change on this computer", str(number), map(str, known), "`lumtak journal COMPUTER` lists them."
            )
        return known[number]

    # -- writing: each on disk when it returns --------------------------------------------------------------------------

    def intend(
        self,
        *,
        computer: str,
        address: str,
        user: str,
        job: str,
        change: Change,
        title: str,
        before: State,
        shows: Shows,
        boot_id: str,
        session_id: str | None,
        at: str,
    ) -> int:
        """A change is about to be written; its before value is on disk twice when this returns. Gives its number."""
        state = msgspec.json.encode(before)
        number = self._db.run(
            "INSERT INTO change (computer, address, user, job, area, key, title, value, before, restore, stage, shows, boot_id,"
            " session_id, begun_at, stage_at) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, 'intent', ?, ?, ?, ?, ?)",
            (
                computer, address, user, job, change.ref.area, change.ref.key, title, change.value, state, state,
                shows, boot_id, session_id, at, at,
            ),
        )  # fmt: skip
        body = msgspec.json.encode({"id": number, "setting": str(change.ref), "user": user, "before": before})
        check = hashlib.sha256(body).hexdigest().encode()
        try:
            write_whole(self._second_copy(computer, number), check + b"\n" + body + b"\n", 0o600)
        except StorageError:
            self._db.run("DELETE FROM change WHERE id = ?", (number,))
            raise
        return number

    def stage(self, number: int, stage: Stage, at: str, *, after: State | None = None, note: str = "") -> None:
        """How far a change got."""
        self._db.run(
            "UPDATE change SET stage = ?, stage_at = ?, note = ?, after = coalesce(?, after) WHERE id = ?",
            (stage, at, note, None if after is None else msgspec.json.encode(after), number),
        )

    def undoing(self, number: int, at: str, *, boot_id: str, session_id: str | None) -> None:
        """A change is about to be put back."""
        self._db.run(
            "UPDATE change SET stage = 'undoing', stage_at = ?, boot_id = ?, session_id = ? WHERE id = ?",
            (at, boot_id, session_id, number),
        )

    def rebase(self, older: Entry, newer: Entry, at: str) -> None:
        """The older change of a setting counts as put back: putting back the newer one restores what was before both."""
        with self._db.together():
            self._db.run("UPDATE change SET restore = ? WHERE id = ?", (msgspec.json.encode(older.restore), newer.id))
            self.stage(older.id, "undone", at, note=f"taken over by change {newer.id}")

    def forget_copy(self, entry: Entry) -> None:
        """The second copy of a before value is not needed any more."""
        with contextlib.suppress(FileNotFoundError):
            self._second_copy(entry.computer, entry.id).unlink()

    def _second_copy(self, computer: str, number: int) -> Path:
        return self._home / "before" / computer / f"{number}.json"

    # -- one writer a computer ------------------------------------------------------------------------------------------

    @contextlib.contextmanager
    def writing(self, computer: str) -> Iterator[None]:
        """Nobody else changes this computer while it lasts; the kernel lets go when the process dies.

        Raises:
            StorageError: somebody else does, with their process id.
        """
        path = self._home / "locks" / f"{computer}.lock"
        try:
            path.parent.mkdir(parents=True, exist_ok=True)
            descriptor = os.open(path, os.O_RDWR | os.O_CREAT | os.O_CLOEXEC | os.O_NOFOLLOW, 0o600)
        except OSError as error:
            raise cannot_write(path, error) from error
        try:
            try:
                fcntl.flock(descriptor, fcntl.LOCK_EX | fcntl.LOCK_NB)
            except BlockingIOError as error:
                holder = os.read(descriptor, 32).decode("ascii", "replace").strip() or "unknown"
                raise StorageError(
                    f"Another Lumtak (process {holder}) is changing this computer now.",
                    "Let it finish, then try again.",
                ) from error
            os.ftruncate(descriptor, 0)
            os.pwrite(descriptor, str(os.getpid()).encode(), 0)
            yield
        finally:
            os.close(descriptor)

    def close(self) -> None:
        """Let the files go."""
        self._db.close()


def _entry(row: sqlite3.Row) -> Entry:
    return Entry(
        id=row["id"],
        computer=row["computer"],
        address=row["address"],
        user=row["user"],
        job=row["job"],
        ref=SettingRef(area=row["area"], key=row["key"]),
        title=row["title"],
        value=row["value"],
        before=msgspec.json.decode(row["before"], type=State),
        restore=msgspec.json.decode(row["restore"], type=State),
        after=None if row["after"] is None else msgspec.json.decode(row["after"], type=State),
        stage=row["stage"],
        shows=row["shows"],
        boot_id=row["boot_id"],
        session_id=row["session_id"],
        note=row["note"],
        begun_at=row["begun_at"],
        stage_at=row["stage_at"],
    )
