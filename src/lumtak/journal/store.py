"""The journal on disk: every change with its before value, and how far it got."""

import contextlib
import fcntl
import os
import secrets
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import msgspec

from lumtak.computers.protocol import Computer
from lumtak.core.setting import State
from lumtak.core.units import counted
from lumtak.database import Database, finish_mending, mended
from lumtak.errors import DamagedError, StorageError, UnknownNameError
from lumtak.journal.copies import Copies
from lumtak.journal.entry import Entry, Moment, PlanRecord, Stage, sealed, unsealed
from lumtak.journal.locks import BusyError, locked
from lumtak.journal.numbers import Numbers, called, lowest_free
from lumtak.journal.rescue import MIGRATIONS, as_rescued, fate, insert, insert_plan, salvage
from lumtak.reserve import see_to_reserve
from lumtak.storage import lock_file, only_looked_at, write_whole

_WITH_COPY: tuple[Stage, ...] = ("intent", "verified", "conflict")
"""Stages that the second copy follows; the others last a moment, and are looked into again after an
interruption."""


class Journal:
    """The journal of all computers of one home folder.

    A journal that is damaged is set aside when it is opened, and built anew from the rows that can
    still be read and from the second copies; `notices` then says so.

    Args:
        home: Lumtak's data folder; holds journal.db, before/ (a second, checksummed copy of every
            open change) and locks/.
        only_look: the folder of which that is a copy, since it cannot be written: no computer is
            changed then.

    Raises:
        StorageError: it cannot be opened, or was written by a newer Lumtak.
    """

    def __init__(self, home: Path, *, only_look: Path | None = None) -> None:
        self._home, self._only_look = home, None
        self._copies = Copies(home / "before")
        self.notices: list[str] = []
        """What the person has to be told about the journal itself."""
        self._held = lock_file(home / "locks" / "journal")
        # Shared by all who have it open: whoever mends the journal waits until nobody else has.
        fcntl.flock(self._held, fcntl.LOCK_SH)
        try:
            self._db = self._open()
            self._reconcile()
        except BaseException:
            if hasattr(self, "_db"):
                self._db.close()
            os.close(self._held)
            raise
        self._only_look = only_look
        self.numbers = Numbers(home / "numbers.json")
        """Which stand on sheets."""

    # -- opening and mending -----------------------------------------------------------------------

    def _open(self) -> Database:
        path = self._home / "journal.db"
        finish_mending(path, self._held)
        try:
            self._db = Database(path, MIGRATIONS)
            self.entries()
            self._plans()
        except DamagedError as error:
            if hasattr(self, "_db"):
                self._db.close()
            return self._rebuild(path, error)
        return self._db

    def _rebuild(self, path: Path, error: DamagedError) -> Database:
        # What a newer Lumtak wrote is refused before anything is touched.
        for computer in self._copies.computers():
            for number in self._copies.numbers(computer):
                self._copies.entry(computer, number)

        def fill(damaged: Path, fresh: Database) -> int:
            entries, plans = salvage(damaged)
            for entry in entries:
                insert(fresh, entry)
            for plan, ended in plans:
                insert_plan(fresh, plan, ended=ended)
            return len(entries)

        self._db, aside, count = mended(path, MIGRATIONS, error, self._held, fill)
        self.notices.append(
            f"The journal was damaged and has been built anew: {counted(count, 'change')} could be"
            " read, and every change that is not put back was checked against its second copy. The"
            f" damaged file is kept as {aside.name}."
        )
        return self._db

    def _reconcile(self) -> None:
        """Hold the database against the second copies.

        Where both know a change, the newer record counts.

        A computer that another Lumtak is changing now is left to it.
        """
        open_here = {e.computer for e in self.entries() if e.is_open}
        for computer in sorted(open_here | set(self._copies.computers())):
            try:
                with self.writing(computer):
                    self._reconcile_one(computer)
            except BusyError:
                continue

    def _reconcile_one(self, computer: str) -> None:
        rows = {e.id: e for e in self.entries(computer)}
        copied = self._copies.numbers(computer)
        rescued = 0
        for number in sorted(copied):
            copy, row = self._copies.entry(computer, number), rows.get(number)
            match fate(copy, row):
                case "lost":
                    self._copies.lose(computer, number)
                    self.notices.append(
                        f"The record of change {number} on {computer} is lost: neither of its"
                        " copies can be read. The undo script that was left there still knows the"
                        " change, and stays."
                    )
                case "the copy counts" if copy:
                    rescued += 1
                    insert(self._db, as_rescued(copy))
                case "the row counts" if row:
                    self._copies.keep(row)
                case "closed":
                    self._copies.forget(computer, number)
        # It was put back, and the database forgot; or somebody removed the copy.
        for row in rows.values():
            if row.is_open and row.id not in copied:
                self._put(row, stage="undoing", note="its second copy is gone")
                self._copies.keep(self.entry(row.id, computer))
        if rescued:
            whose = "its second copy" if rescued == 1 else "their second copies"
            changes = counted(rescued, "change")
            self.notices.append(f"{changes} on {computer} rescued from {whose}.")

    @property
    def tag(self) -> str:
        """Tells this journal from others on the same computer.

        Eight hexadecimal digits, made once.
        """
        path = self._home / "journal-id"
        try:
            tag = path.read_text(encoding="ascii").strip()
        except (OSError, UnicodeDecodeError):
            tag = ""
        # It becomes part of a file name on the computer, so nothing else is believed.
        if not (len(tag) == 8 and tag.isalnum()):
            tag = secrets.token_hex(4)
            write_whole(path, tag.encode() + b"\n", private=True)
        return tag

    def script_tag(self, computer: str) -> str:
        """Tells the undo script of this journal on a computer from others there.

        After a record was lost it is another one: the script that was left before still knows the
        lost change, and is not written over.
        """
        return _tag_after(self.tag, len(self.lost(computer)))

    def older_script_tags(self, computer: str) -> tuple[str, ...]:
        """Tags of the scripts that were left before records were lost."""
        return tuple(_tag_after(self.tag, count) for count in range(len(self.lost(computer))))

    def lost(self, computer: str) -> list[int]:
        """Numbers of changes on this computer of which neither record can be read.

        They can be put back by an older undo script only.
        """
        return self._copies.lost(computer)

    def give_up_lost(self, computer: str) -> None:
        """The lost changes of this computer are put back, or are to stay.

        They are not spoken of any more.
        """
        self._copies.give_up(computer)

    # -- reading -----------------------------------------------------------------------------------

    def entries(self, computer: str | None = None, *, job: str | None = None) -> list[Entry]:
        """All changes, oldest first.

        Raises:
            DamagedError: a record is not what was written.
        """
        rows = self._db.rows(
            "SELECT id, computer, document, checksum, seen_at FROM change WHERE (?1 IS NULL OR"
            " computer = ?1) ORDER BY id",
            (computer,),
        )
        found = []
        for row in rows:
            entry = unsealed(row["document"], row["checksum"], Entry)
            # A record that was moved to another row has a right checksum and says something else.
            if entry is None or (entry.id, entry.computer) != (row["id"], row["computer"]):
                raise self._damaged(f"change {row['id']}")
            found.append(msgspec.structs.replace(entry, seen_at=row["seen_at"]))
        return [e for e in found if job is None or e.job == job]

    def entries_of(self, computer: Computer) -> list[Entry]:
        """All changes of this computer's user, oldest first.

        What others changed there is theirs to put back.
        """
        return [e for e in self.entries(computer.identity) if e.user == computer.user_name]

    def _damaged(self, what: str) -> DamagedError:
        return DamagedError(
            f"{self._home / 'journal.db'} is damaged ({what}).",
            "Start Lumtak again: it mends the journal as it opens it.",
        )

    def entry(self, number: int, computer: str) -> Entry:
        """One change of this computer, by its place in the journal.

        Raises:
            UnknownNameError: there is none.
        """
        known = {e.id: e for e in self.entries(computer)}
        if number not in known:
            raise UnknownNameError(
                "change on this computer",
                str(number),
                map(str, known),
                "`lumtak journal COMPUTER` lists them.",
            )
        return known[number]

    def called(self, number: int, computer: str) -> Entry:
        """The change of this computer that people call so; see `numbers.called`."""
        return called(self.entries(computer), number)

    def unfinished_plans(self, computer: str, user: str) -> list[PlanRecord]:
        """Plans of this user that were interrupted, oldest first."""
        return [
            p
            for p, ended in self._plans()
            if not ended and (p.computer, p.user) == (computer, user)
        ]

    def _plans(self) -> list[tuple[PlanRecord, bool]]:
        found = []
        for row in self._db.rows("SELECT id, document, checksum, ended FROM plan ORDER BY id"):
            plan = unsealed(row["document"], row["checksum"], PlanRecord)
            if plan is None:
                raise self._damaged(f"plan {row['id']}")
            found.append((plan, bool(row["ended"])))
        return found

    # -- writing: each on disk when it returns -----------------------------------------------------

    def begin_plan(self, plan: PlanRecord) -> int:
        """A plan is about to be applied; gives its number, whatever number it came with."""
        with self._db.together():
            number = 1 + int(self._db.rows("SELECT coalesce(max(id), 0) FROM plan")[0][0])
            insert_plan(self._db, msgspec.structs.replace(plan, id=number), ended=False)
        return number

    def end_plan(self, number: int) -> None:
        """Nothing more of this plan is under way."""
        self._db.run("UPDATE plan SET ended = 1 WHERE id = ?", (number,))

    def intend(self, entry: Entry) -> Entry:
        """A change is about to be written; its before value is on disk twice when this returns.

        Gives it with its place and its number.
        """
        with self._db.together():
            highest = int(self._db.rows("SELECT coalesce(max(id), 0) FROM change")[0][0])
            number = lowest_free(
                self.entries(entry.computer),
                self.numbers.on_sheets(entry.computer),
                self.lost(entry.computer),
            )
            place = 1 + max(highest, self._copies.highest())
            entry = msgspec.structs.replace(entry, id=place, number=number)
            insert(self._db, entry)
        try:
            self._copies.keep(entry)
        # Without its second copy nothing is written to the computer, so there is no change either.
        except StorageError:
            self._db.run("DELETE FROM change WHERE id = ?", (entry.id,))
            raise
        return entry

    def stage(
        self,
        entry: Entry,
        stage: Stage,
        at: str,
        *,
        after: State | None = None,
        note: str = "",
        force: str = "",
        taken_over_by: int = 0,
    ) -> Entry:
        """How far a change got; gives it as it is now."""
        over = taken_over_by or entry.taken_over_by
        return self._put(
            entry,
            stage=stage,
            stage_at=at,
            note=note,
            force=force or entry.force,
            after=after or entry.after,
            taken_over_by=over,
        )

    def note(self, entry: Entry, note: str) -> Entry:
        """Why a change stands as it does."""
        return self._put(entry, note=note)

    def undoing(self, entry: Entry, moment: Moment) -> Entry:
        """A change is about to be put back."""
        return self._put(
            entry,
            stage="undoing",
            stage_at=moment.at,
            boot_id=moment.boot_id,
            session_id=moment.session_id,
        )

    def rebase(self, older: Entry, newer: Entry, at: str) -> None:
        """The older change of a setting counts as put back.

        Putting back the newer one restores what was before both.
        """
        with self._db.together():
            newer = self._put(
                newer, copy=False, restore=older.restore, rescued=newer.rescued or older.rescued
            )
            note = f"taken over by change {newer.number}"
            older = self._put(
                older, copy=False, stage="undone", stage_at=at, taken_over_by=newer.id, note=note
            )
        self._copies.keep(newer)
        self._copies.forget(older.computer, older.id)

    def seen(self, entry: Entry, at: str) -> None:
        """The setting was seen as it was left."""
        self._db.run("UPDATE change SET seen_at = ? WHERE id = ?", (at, entry.id))

    def _put(self, entry: Entry, *, copy: bool = True, **fields: Any) -> Entry:  # noqa: ANN401 - fields of an entry
        fresh = msgspec.structs.replace(entry, turn=entry.turn + 1, seen_at="", **fields)
        document, checksum = sealed(fresh)
        self._db.run(
            "UPDATE change SET document = ?, checksum = ? WHERE id = ?",
            (document, checksum, fresh.id),
        )
        if copy and fresh.stage in _WITH_COPY:
            self._copies.keep(fresh)
        elif copy and not fresh.is_open:
            self._copies.forget(fresh.computer, fresh.id)
        return fresh

    # -- one writer a computer ---------------------------------------------------------------------

    @contextlib.contextmanager
    def writing(self, computer: str) -> Iterator[None]:
        """Nobody else changes this computer while it lasts.

        The kernel lets go when the process dies.

        Raises:
            BusyError: somebody else does, with their process id.
            StorageError: the lock cannot be had.
        """
        if self._only_look is not None:
            raise only_looked_at(self._only_look)
        see_to_reserve(self._home)
        with locked(self._home / "locks" / f"{computer}.lock"):
            yield

    def close(self) -> None:
        """Let the files go."""
        self._db.close()
        with contextlib.suppress(OSError):  # closed twice
            os.close(self._held)


def _tag_after(tag: str, losses: int) -> str:
    return f"{tag}-{losses}" if losses else tag
