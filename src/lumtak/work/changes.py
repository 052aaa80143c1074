"""Everything ever changed on a computer, by visit, held against what stands there now."""

from collections.abc import Iterable, Sequence

import msgspec

from lumtak.computers.protocol import Computer
from lumtak.core.facts import Facts
from lumtak.core.record import Record
from lumtak.core.text import plain
from lumtak.core.units import all_of, counted
from lumtak.errors import LumtakError
from lumtak.journal import Drift, Entry, drift, owed_now
from lumtak.work.data_folder import DataFolder
from lumtak.work.due import all_due


class Visited(Record):
    """The changes of one visit."""

    heading: str
    """For a person: which visit, when, for what."""
    entries: tuple[Entry, ...]


class Changes(Record):
    """All of them."""

    visits: tuple[Visited, ...]
    """The newest first; changes without a job at the end."""
    standing: dict[int, Drift]
    """How the newest change of each setting stands now, by its number."""
    facts: Facts
    lost: tuple[int, ...] = ()
    """Numbers of changes whose records are lost."""

    @property
    def entries(self) -> list[Entry]:
        """All changes, oldest first."""
        return sorted((e for v in self.visits for e in v.entries), key=lambda e: e.id)

    @property
    def open(self) -> list[Entry]:
        """Those that are not put back."""
        return [e for e in self.entries if e.is_open]

    def conflict(self, entry: Entry) -> bool:
        """Whether somebody changed the setting since, which putting it back would overwrite."""
        found = self.standing.get(entry.id)
        return found is not None and found.standing == "drifted"


def once_a_trial(entries: Iterable[Entry]) -> list[Entry]:
    """The changes, oldest first; of all flips of a trial those that stand, else the last."""
    flips: dict[int, list[Entry]] = {}
    shown: list[Entry] = []
    for entry in entries:
        if entry.trial:
            flips.setdefault(entry.trial, []).append(entry)
        else:
            shown.append(entry)
    for mine in flips.values():
        shown += [e for e in mine if e.is_open] or mine[-1:]
    return sorted(shown, key=lambda e: e.id)


def changes_of(data_folder: DataFolder, computer: Computer) -> Changes:
    """Read the journal and look at the computer; nothing is touched."""
    standing = {d.entry.id: d for d in drift(data_folder.journal, computer)}
    entries = once_a_trial(data_folder.journal.entries_of(computer))
    jobs = {j.id: j for j in data_folder.casebook.jobs()}
    by_job: dict[str, list[Entry]] = {}
    for entry in entries:
        by_job.setdefault(entry.job if entry.job in jobs else "", []).append(entry)
    visits = []
    for name in sorted((n for n in by_job if n), key=lambda n: -jobs[n].visit):
        job = jobs[name]
        heading = (
            f"visit {job.visit} · begun {job.begun_at[:10]} ·"
            f" {plain(job.profile.title.lower(), 40)}"
        )
        visits.append(Visited(heading=heading, entries=tuple(by_job[name])))
    if "" in by_job:
        visits.append(Visited(heading="without a job", entries=tuple(by_job[""])))
    return Changes(
        visits=tuple(visits),
        standing=standing,
        facts=computer.about.facts(),
        lost=tuple(data_folder.journal.lost(computer.identity)),
    )


def in_few_lines(entries: Sequence[Entry], mind: Iterable[str]) -> str:
    """What putting changes back does, for a question: the newest first, and what stops with it."""
    lines = [
        plain(f"{e.title}: {e.after.word if e.after else '?'} → {e.restore.word}", 160)
        for e in reversed(entries)
    ]
    return "\n".join(
        (
            *lines,
            "",
            *(plain(f"Warning: {w}", 200) for w in mind),
            (
                "What it changed starts and has its load again as before. A value that somebody"
                " else changed since is left alone."
            ),
        )
    )


class StandingChanges(Record):
    """What stands changed on one computer."""

    changes: int = 0
    drifted: int = 0
    unread: int = 0
    owed: str = ""
    upkeep: int = 0
    """Tasks of upkeep that are due."""

    @property
    def due(self) -> str:
        """What of upkeep is, in few words; empty where nothing is."""
        return f"{counted(self.upkeep, 'task')} of upkeep due" if self.upkeep else ""

    def in_words(self) -> str:
        """For a line about the computer."""
        parts = [f"{counted(self.changes, 'change')} in place"] if self.changes else []
        if self.drifted:
            parts.append(f"{self.drifted} drifted")
        if self.unread:
            parts.append(f"{self.unread} cannot be read")
        if self.owed:
            parts.append(self.owed)
        if self.upkeep:
            parts.append(self.due)
        return ", ".join(parts)


def standing_changes(data_folder: DataFolder) -> dict[str, StandingChanges]:
    """What stands changed and is due, by address, on every computer that can be opened here and has
    changes of this user's, or a job.
    """
    found = {}
    addresses = {
        e.address.partition("?")[0]: e.computer for e in data_folder.journal.entries() if e.is_open
    }
    for address, identity in addresses.items():
        try:
            computer = data_folder.computer(address)
        except LumtakError:
            continue  # it is not there any more; the journal still lists its changes
        if computer.identity == identity and (drifts := drift(data_folder.journal, computer)):
            found[address] = StandingChanges(
                changes=sum(e.is_open for e in data_folder.journal.entries(identity)),
                drifted=sum(d.is_drift for d in drifts),
                unread=sum(d.standing == "cannot be read" for d in drifts),
                owed=owed_now(data_folder.journal, computer).in_words(),
            )
    for one in all_due(data_folder):
        if one.is_due:
            address = one.address.partition("?")[0]
            before = found.get(address, StandingChanges())
            found[address] = msgspec.structs.replace(before, upkeep=before.upkeep + 1)
    return found


def in_words(changes: Changes) -> str:
    """What was changed here and how it stands, as a sentence."""
    if not changes.entries and not changes.lost:
        return "Lumtak never changed anything on this computer."
    if changes.lost:
        return _lost(changes)
    left = len(changes.open)
    if not left:
        return f"{all_of(len(changes.entries), 'change')} put back or came to nothing."
    verb = "is still in place" if left == 1 else "are still in place"
    return f"{left} of {len(changes.entries)} changes {verb}; {_drifted(changes)}."


def _lost(changes: Changes) -> str:
    numbers = ", ".join(map(str, changes.lost))
    what, them = f"The records of changes {numbers} are", "them"
    if len(changes.lost) == 1:
        what, them = f"The record of change {numbers} is", "it"
    others = f"{counted(len(changes.open), 'other change')} can be put back."
    return f"{what} lost, so Lumtak cannot put {them} back. {others}"


def _drifted(changes: Changes) -> str:
    drifted = sum(d.is_drift for d in changes.standing.values())
    unread = sum(d.standing == "cannot be read" for d in changes.standing.values())
    if unread:
        return (f"{drifted} drifted, " if drifted else "") + f"{unread} cannot be read now"
    if not drifted:
        return "all are as they were left"
    if drifted == 1:
        return "1 setting is no longer as it was left"
    return f"{drifted} settings are no longer as they were left"
