"""After an interruption.

The computer is held against the journal, and every change is known again.
"""

from collections.abc import Callable
from typing import Literal

import msgspec

from lumtak.computers.protocol import Computer
from lumtak.core.record import Record
from lumtak.core.setting import Change, SettingRef, State
from lumtak.errors import ComputerError
from lumtak.journal.entry import UNFINISHED, Entry, Stage
from lumtak.journal.outcome import clock, nothing
from lumtak.journal.store import Journal
from lumtak.journal.undo_script import refresh_script

Found = Literal["done", "not done", "put back", "needs a look", "not begun"]
"""not begun: it was part of the plan, and the interruption came before its turn."""


class ReviewLine(Record):
    """One change of what was interrupted."""

    change: Change
    title: str
    id: int | None
    number: int | None
    before: str
    now: str
    found: Found
    note: str = ""


class Review(Record):
    """What an interruption left.

    Every change of the plans that did not end, and of a putting back that did not.
    """

    lines: tuple[ReviewLine, ...] = ()

    def count(self, found: Found) -> int:
        """How many there are of this kind."""
        return sum(line.found == found for line in self.lines)

    def in_words(self) -> str:
        """One sentence: "2 done, 1 not begun"."""
        kinds: tuple[Found, ...] = ("done", "put back", "not done", "needs a look", "not begun")
        return ", ".join(f"{n} {kind}" for kind in kinds if (n := self.count(kind)))


class _Judged(Record):
    entry: Entry
    found: Found
    now: State | None
    note: str = ""
    clear: State | None = None
    """The state to restore once more, so that nothing half-made stays behind."""
    taken_over_by: int = 0
    """The newer change that restores what this one would; 0 where there is none."""
    halfway: bool = False
    """Whether parts of it are as before, and others as written."""


def review(journal: Journal, computer: Computer) -> Review:
    """Compare the computer with the journal, and touch neither."""
    return _review(journal, computer, _judge(journal, computer))


def _review(journal: Journal, computer: Computer, found: list[_Judged]) -> Review:
    judged = {j.entry.id: j for j in found}
    entries = journal.entries_of(computer)
    lines: list[ReviewLine] = []
    told: set[int] = set()
    for plan in journal.unfinished_plans(computer.identity, computer.user_name):
        mine = {e.ref: e for e in entries if e.plan == plan.id}
        for change, title in zip(plan.changes, plan.titles, strict=True):
            entry = mine.get(change.ref)
            told.add(entry.id if entry else 0)
            lines.append(_line(judged.get(entry.id), entry) if entry else _not_begun(change, title))
    lines += [_line(j, j.entry) for j in judged.values() if j.entry.id not in told]
    return Review(lines=tuple(lines))


def _not_begun(change: Change, title: str) -> ReviewLine:
    return ReviewLine(
        change=change, title=title, id=None, number=None, before="", now="", found="not begun"
    )


def _line(judged: _Judged | None, entry: Entry) -> ReviewLine:
    if judged is not None:
        found, now, note = judged.found, judged.now, judged.note
    else:
        words: dict[str, Found] = {
            "verified": "done",
            "undone": "put back",
            "conflict": "needs a look",
        }
        found, now, note = words.get(entry.stage, "not done"), entry.after, entry.note
    return ReviewLine(
        change=entry.change,
        title=entry.title,
        id=entry.id,
        number=entry.number,
        before=entry.before.word,
        now="?" if now is None else now.word,
        found=found,
        note=note,
    )


def recover(
    journal: Journal, computer: Computer, *, on_review: Callable[[Review], None] = nothing
) -> Review:
    """Review, tell, and only then mark each change, clear what the interruption left half-way, and
    end the plans.

    A change found not done or put back is restored once more, which removes what a half-made write
    left behind.
    """
    found = _judge(journal, computer)
    told = _review(journal, computer, found)
    if not told.lines:
        return told
    on_review(told)
    for judged in found:
        _mark(journal, computer, judged)
    for plan in journal.unfinished_plans(computer.identity, computer.user_name):
        journal.end_plan(plan.id)
    refresh_script(journal, computer)
    return told


def _judge(journal: Journal, computer: Computer) -> list[_Judged]:
    """Every unfinished change of this user, oldest first."""
    mine = [e for e in journal.entries_of(computer) if e.is_open]
    above: dict[SettingRef, Entry] = {}
    judged = []
    # From the newest down: an older change of the same setting is judged by what stands on it.
    for entry in reversed(mine):
        if entry.stage in UNFINISHED:
            verdict = _judge_one(computer, entry, above.get(entry.ref))
            # Somebody else can have written this record.
            if verdict.clear is not None and not _vouched(computer, entry.ref, verdict.clear):
                verdict = _hands_off(verdict)
            judged.append(verdict)
            if verdict.found in {"not done", "put back"}:
                continue
        above.setdefault(entry.ref, entry)
    return judged[::-1]


def _judge_one(computer: Computer, entry: Entry, newer: Entry | None) -> _Judged:
    if newer is not None:
        return _under(newer, entry)
    try:
        now = computer.settings.read(entry.ref)
    except ComputerError as error:
        note = f"interrupted; cannot be read: {error}"
        return _Judged(entry=entry, found="needs a look", now=None, note=note)
    ended = _judge_back(entry, now) if entry.stage == "undoing" else _judge_forth(entry, now)
    if ended is not None:
        return ended
    if now.between(entry.restore, entry.left):
        return _Judged(
            entry=entry,
            found="put back" if entry.stage == "undoing" else "not done",
            now=now,
            note="interrupted half-way; brought back",
            clear=entry.restore,
            halfway=True,
        )
    note = f"interrupted; found {now.word}"
    return _Judged(entry=entry, found="needs a look", now=now, note=note)


def _under(newer: Entry, entry: Entry) -> _Judged:
    """A newer change stands on it, so it was done; the computer shows the newer one's value."""
    if entry.stage == "undoing" and newer.restore.same_as(entry.restore):
        note = f"taken over by change {newer.number}"
        return _Judged(
            entry=entry, found="put back", now=entry.after, note=note, taken_over_by=newer.id
        )
    note = f"change {newer.number} was made on it"
    return _Judged(entry=entry, found="done", now=entry.after, note=note)


def _judge_forth(entry: Entry, now: State) -> _Judged | None:
    """A change whose writing was interrupted; None where it shows neither value."""
    for state in (entry.restore, entry.before):
        if now.same_as(state):
            note = "interrupted before it was written"
            return _Judged(entry=entry, found="not done", now=now, note=note, clear=state)
    if _is_written(entry, now):
        return _Judged(entry=entry, found="done", now=now, note="interrupted; found done")
    return None


def _judge_back(entry: Entry, now: State) -> _Judged | None:
    """A change whose putting back was interrupted; None where it shows neither value."""
    if now.same_as(entry.restore):
        note = "interrupted; found put back"
        return _Judged(entry=entry, found="put back", now=now, note=note, clear=entry.restore)
    if _is_written(entry, now):
        note = "putting back was interrupted; not put back yet"
        return _Judged(entry=entry, found="done", now=now, note=note)
    return None


def _is_written(entry: Entry, now: State) -> bool:
    return now.same_as(entry.left) or (entry.after is None and now.value == entry.value)


def _vouched(computer: Computer, ref: SettingRef, state: State) -> bool:
    try:
        return computer.settings.vouched(ref, state)
    except ComputerError:
        return False


def _hands_off(judged: _Judged) -> _Judged:
    """Nothing is written as root by itself on the word of a record that somebody else may have
    written.
    """
    found: Found = "needs a look" if judged.halfway else judged.found
    return msgspec.structs.replace(judged, found=found, clear=None)


def _mark(journal: Journal, computer: Computer, judged: _Judged) -> None:
    entry, at = judged.entry, clock(computer)
    match judged.found:
        case "done":
            journal.stage(entry, "verified", at, after=judged.now, note=judged.note)
        case "needs a look":
            journal.stage(entry, "conflict", at, note=judged.note)
        case found:
            try:
                if judged.clear is not None:
                    computer.settings.write(entry.ref, judged.clear)
            except ComputerError as error:
                journal.stage(entry, "conflict", at, note=f"interrupted; {error}")
                return
            stage: Stage = "undone" if found == "put back" else "not done"
            journal.stage(entry, stage, at, note=judged.note, taken_over_by=judged.taken_over_by)
