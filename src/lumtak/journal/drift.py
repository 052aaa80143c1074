"""Drift: settings that are no longer as Lumtak left them."""

from typing import Literal

from lumtak.computers.protocol import Computer
from lumtak.core.record import Record
from lumtak.core.setting import SettingRef, State
from lumtak.errors import ComputerError
from lumtak.journal.entry import UNFINISHED, Entry
from lumtak.journal.outcome import clock
from lumtak.journal.store import Journal

Standing = Literal["as left", "drifted", "back as before", "cannot be read", "interrupted"]
"""drifted: neither as left nor as before. back as before: somebody else put it back. interrupted:
to be looked into first."""


class Drift(Record):
    """How one changed setting stands now."""

    entry: Entry
    """The newest change of it that is not put back."""
    standing: Standing
    now: str
    """As a word; a question mark where it cannot be read."""
    last_right: str
    """When it was last seen as it was left; empty when it never was."""
    note: str = ""

    @property
    def is_drift(self) -> bool:
        """Whether it is not as it was left."""
        return self.standing in {"drifted", "back as before"}


def drift(journal: Journal, computer: Computer) -> list[Drift]:
    """Every changed setting of this computer's user, held against the computer now.

    Notes the time where it is right.
    """
    newest: dict[SettingRef, Entry] = {}
    for entry in journal.entries_of(computer):
        if entry.is_open:
            newest[entry.ref] = entry
    return [_stands(journal, computer, entry) for entry in newest.values()]


def _stands(journal: Journal, computer: Computer, entry: Entry) -> Drift:
    now: State | None = None
    note = ""
    standing: Standing = "interrupted"
    try:
        now = computer.settings.read(entry.ref)
        if entry.stage not in UNFINISHED:
            standing = _standing(entry, now)
    except ComputerError as error:
        standing, note = "cannot be read", str(error)
    last = entry.seen_at or (entry.stage_at if entry.stage == "verified" else "")
    if standing == "as left":
        last = clock(computer)
        journal.seen(entry, last)
    if standing == "drifted" and now is not None and now.value == entry.value:
        note = "the same word, but somebody edited it since"
    return Drift(
        entry=entry,
        standing=standing,
        now="?" if now is None else now.word,
        last_right=last,
        note=note or entry.note,
    )


def _standing(entry: Entry, now: State) -> Standing:
    if now.same_as(entry.left):
        return "as left"
    return "back as before" if now.same_as(entry.restore) else "drifted"
