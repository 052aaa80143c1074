"""Changes put back: one, several, all, in any order."""

import threading
from collections.abc import Callable, Collection, Iterable, Mapping

import msgspec

from lumtak.computers.protocol import Computer
from lumtak.computers.recorded import in_words
from lumtak.core.facts import Facts
from lumtak.core.needs import STANDS_STILL, Graphs
from lumtak.core.setting import Change, State
from lumtak.core.text import plain
from lumtak.errors import ComputerError
from lumtak.journal.entry import Entry, Stage
from lumtak.journal.outcome import (
    OnStep,
    Outcome,
    Result,
    clock,
    moment,
    nothing,
    with_force,
    word,
)
from lumtak.journal.recover import Review, recover
from lumtak.journal.store import Journal
from lumtak.journal.undo_script import refresh_script

UNSEEN = (
    "The computer has no receipt of these; an older Lumtak wrote them down, or somebody else. As"
    " root they would write:"
)
"""Before all that records would write which the computer does not vouch for."""
_NO_RECEIPT = "the computer has no receipt of it"
_ASKED = "it takes root, so it is put back only after you have looked at all that it says"


def put_back(
    journal: Journal,
    computer: Computer,
    numbers: Iterable[int] | None = None,
    *,
    overwrite: bool = False,
    shown: Collection[int] = (),
    keep_rights: bool = False,
    on_step: OnStep = nothing,
    on_review: Callable[[Review], None] = nothing,
    stop: threading.Event | None = None,
) -> list[Outcome]:
    """Put changes back, newest first.

    Those numbered, or all of this computer's user that are not put back yet.

    A value that is neither the one written nor the one before is a conflict, and stays unless
    `overwrite`. What cannot be put back now stays open, with the reason as its note.

    Args:
        journal: knows them.
        computer: is changed.
        numbers: which; None is all.
        overwrite: even what somebody changed since.
        shown: numbers of records that a person was shown whole and agreed to; no other record is
            put back that takes root and of which the computer has no receipt.
        keep_rights: whether more is to come; see `apply_changes`.
        on_step: told after each change.
        on_review: told what an interruption left, before anything is touched.
        stop: ends after the change that is being put back.

    Raises:
        UnknownNameError: a number is not in the journal; StorageError: the journal cannot be
            written.
    """
    outcomes: list[Outcome] = []
    with journal.writing(computer.identity):
        recover(journal, computer, on_review=on_review)
        mine = journal.entries_of(computer)
        wanted = (
            [e.id for e in mine if e.is_open] if numbers is None else list(dict.fromkeys(numbers))
        )
        try:
            # Newest first: what a later change stands on is there until that one is back.
            for number in sorted(wanted, reverse=True):
                # Read anew each time: putting the one before back may have changed what this
                # restores.
                entry = journal.entry(number, computer.identity)
                if stop is not None and stop.is_set():
                    outcome = _outcome(entry, entry.left, "not tried")
                else:
                    outcome = _put_back(journal, computer, entry, overwrite=overwrite, shown=shown)
                outcomes.append(outcome)
                on_step(outcome)
            refresh_script(journal, computer)
        finally:
            if not keep_rights:
                computer.settings.give_back_rights()
    return outcomes


def _outcome(
    entry: Entry, now: State | None, result: Result, note: str = "", force: str = ""
) -> Outcome:
    return Outcome(
        change=Change(ref=entry.ref, value=entry.restore.value),
        title=entry.title,
        id=entry.id,
        number=entry.number,
        before=entry.word,
        after=word(now),
        result=result,
        note=note,
        force=force,
    )


def is_asked(computer: Computer, entry: Entry) -> bool:
    """Whether this record is put back only after a person has seen all of it: it takes root, and
    the computer has no receipt of what it restores.

    Raises:
        ComputerError: the computer cannot be asked; then it is not put back either.
    """
    return entry.is_open and not computer.settings.vouched(entry.ref, entry.restore)


def recorded(entry: Entry) -> list[str]:
    """Everything that putting a change back would write, a line each.

    For a person who has to decide whether to believe the record.
    """
    state = entry.restore
    lines = [
        f"{entry.ref}: {entry.word} → {state.word}, recorded {entry.begun_at} for {entry.user}"
    ]
    if state.exact is not None:
        lines += [f"  {line}" for line in in_words(state.exact)]
    return [plain(line, 1000) for line in lines]


def _put_back(
    journal: Journal, computer: Computer, entry: Entry, *, overwrite: bool, shown: Collection[int]
) -> Outcome:
    """One change: is there anything to do, may it be done; then done, and read back."""
    if not entry.is_open:
        note = f"change {entry.number} is {entry.stage} already"
        return _outcome(entry, entry.restore, "as it was", note)
    try:
        believed = is_asked(computer, entry)
        unseen = believed and entry.id not in shown
    except ComputerError as error:
        return _later(journal, entry, None, str(error))
    # Writing now would take the newer change along without being asked to.
    if not unseen and (newer := _newer(journal, computer, entry)):
        journal.rebase(entry, newer, clock(computer))
        note = (
            f"change {newer.number} is newer; putting that back now restores {entry.restore.word}"
        )
        return _outcome(entry, entry.after, "done", note)
    try:
        now = computer.settings.read(entry.ref)
    except ComputerError as error:
        return _later(journal, entry, None, str(error))
    if unseen:
        return _not_believed(journal, computer, entry, now)
    if not overwrite and not _is_ours(entry, now):
        if any(_is_ours(older, now) for older in _older(journal, computer, entry)):
            note = "it was put back without Lumtak, with an older change of the same setting"
            journal.stage(entry, "undone", clock(computer), note=note)
            return _outcome(entry, now, "as it was", note)
        note = _three_values(entry, now)
        journal.stage(entry, "conflict", clock(computer), note=note)
        return _outcome(entry, now, "conflict", note)
    entry = journal.undoing(entry, moment(computer))
    return _bring_back(journal, computer, entry, believed=believed)


def _not_believed(journal: Journal, computer: Computer, entry: Entry, now: State) -> Outcome:
    """Nothing is written on the word of this record; it ends where nothing is left to do."""
    if now.same_as(entry.restore):
        note = "it stands as before already; nothing was written"
        journal.stage(entry, "undone", clock(computer), note=note)
        return _outcome(entry, now, "as it was", note)
    why = f"{entry.note}; " if entry.note else ""
    outcome = _outcome(entry, now, "failed", f"{why}{_NO_RECEIPT}; {_ASKED}")
    return msgspec.structs.replace(outcome, unseen=True)


def _newer(journal: Journal, computer: Computer, entry: Entry) -> Entry | None:
    """The next change of the same setting that stands on this one."""
    later = (e for e in journal.entries(computer.identity) if e.id > entry.id and e.is_open)
    return next((e for e in later if e.ref == entry.ref and e.user == entry.user), None)


def _older(journal: Journal, computer: Computer, entry: Entry) -> list[Entry]:
    """The changes of the same setting on which it stands."""
    mine = (e for e in journal.entries(computer.identity) if e.id < entry.id and e.is_open)
    return [e for e in mine if e.ref == entry.ref and e.user == entry.user]


def _is_ours(entry: Entry, now: State) -> bool:
    """Whether it stands as Lumtak left it, as it was before, or half-way between the two."""
    known = (entry.restore, *entry.known)
    return any(now.same_as(state) for state in known) or now.between(entry.restore, entry.left)


def _bring_back(journal: Journal, computer: Computer, entry: Entry, *, believed: bool) -> Outcome:
    refusal = _restore(computer, entry, believed=believed)
    if refusal:
        refusal = _restore(
            computer, entry, believed=believed
        )  # what failed half-way is ended by doing it again
    try:
        back = computer.settings.read(entry.ref)
    except ComputerError as error:
        return _later(journal, entry, None, refusal or str(error))
    if refusal:
        return _later(journal, entry, back, refusal)
    if back.same_as(entry.restore):
        note, force = with_force(computer, entry.ref)
        journal.stage(entry, "undone", clock(computer), note=note, force=force)
        return _outcome(entry, back, "done", note, force)
    note = f"read back as {back.word} instead of {entry.restore.word}"
    journal.stage(entry, "conflict", clock(computer), note=note)
    return _outcome(entry, back, "conflict", note)


def _restore(computer: Computer, entry: Entry, *, believed: bool) -> str:
    """Restore the state; why that failed, empty when it did not."""
    try:
        computer.settings.write(entry.ref, entry.restore, believed=believed)
    except ComputerError as error:
        # What a forged record would have a person type is not passed on unasked.
        return error.message if entry.rescued and not believed else str(error)
    return ""


def _later(journal: Journal, entry: Entry, now: State | None, reason: str) -> Outcome:
    """It stays open, with the reason."""
    note = plain(f"not put back yet: {reason}", 4000)
    stage: Stage = "verified" if now is not None and now.same_as(entry.left) else "conflict"
    if entry.stage == "undoing":
        journal.stage(entry, stage, entry.stage_at, note=note)
    else:
        journal.note(entry, note)
    return _outcome(entry, now, "failed", note)


def _three_values(entry: Entry, now: State) -> str:
    """What a conflict is between, and what can be done about it."""
    changed = "" if now.value != entry.value else " (the same word, but somebody edited it since)"
    return plain(
        f"it was {entry.restore.word}, Lumtak made it {entry.word}, and now it is"
        f" {now.word}{changed}; left alone, overwrite it only if you are sure",
        400,
    )


def warnings(facts: Facts, entries: Iterable[Entry], numbers: Iterable[int]) -> tuple[str, ...]:
    """What putting these changes back means for what depends on them, a sentence each.

    What is put back on works only if what it needs is on; what is put back off takes along what
    needs it.
    """
    wanted = set(numbers)
    standing = [e for e in entries if e.is_open]
    chosen = sorted((e for e in standing if e.id in wanted), key=lambda e: -e.id)
    will: dict[str, str | None] = {i.consumer: i.value for i in facts.items}
    will |= {str(e.ref): e.value for e in standing}
    will |= {str(e.ref): e.restore.value for e in chosen}
    graphs = Graphs(facts.items)
    found = [line for entry in chosen for line in _warnings(entry, graphs, will)]
    return tuple(dict.fromkeys(found))


def _warnings(entry: Entry, graphs: Graphs, will: Mapping[str, str | None]) -> list[str]:
    """Of one change.

    Args:
        entry: that is put back.
        graphs: who stands on whom.
        will: the value that each setting is going to have, by consumer.
    """
    here = graphs.name_of(entry.ref.area, entry.ref.key)
    if will[str(entry.ref)] in STANDS_STILL:
        lost = [c for c in graphs.stops_with(here) if will.get(c) not in STANDS_STILL]
        return [f"{graphs.title(c)} will stop when {entry.title} stops." for c in lost]
    off = [c for c in graphs.works_through(here) if will.get(c) == "off"]
    return [f"{entry.title} cannot work while {graphs.title(c)} is off." for c in off]
