"""Changes carried out and put back: journal first, then the computer, then read back."""

import threading
from collections.abc import Callable, Iterable
from typing import Literal

from lumtak.computers.protocol import Computer
from lumtak.core.facts import Facts, Fixed
from lumtak.core.record import NotMeasured, Record
from lumtak.core.setting import Change, Shows, State
from lumtak.core.text import plain
from lumtak.errors import ComputerError
from lumtak.journal.store import UNFINISHED, Entry, Journal

Result = Literal["done", "as it was", "failed", "conflict", "not tried"]
"""done: written and read back (or put back). as it was: there was nothing to do."""


class Outcome(Record):
    """What became of one change."""

    change: Change
    title: str
    number: int | None
    """In the journal; None when it never got there."""
    before: str
    after: str
    """Read back, as a word."""
    result: Result
    note: str = ""


OnStep = Callable[[Outcome], None]


def _nothing(_: Outcome) -> None:
    pass


def _now(computer: Computer) -> str:
    return computer.wall().isoformat(timespec="seconds")


def _session(computer: Computer) -> str | None:
    session = computer.session_id()
    return None if isinstance(session, NotMeasured) else session


def apply_changes(
    journal: Journal,
    computer: Computer,
    facts: Facts,
    changes: Iterable[Change],
    *,
    job: str = "",
    on_step: OnStep = _nothing,
    stop: threading.Event | None = None,
) -> list[Outcome]:
    """Carry out changes in the order given; after one that fails, or when told to stop, the rest is not tried.

    Raises:
        StorageError: the journal cannot be written (nothing more is changed then), or another Lumtak is at work.
    """
    outcomes: list[Outcome] = []
    halted = False
    with journal.writing(computer.identity):
        recover(journal, computer)
        for change in changes:
            item = facts.find(change.ref)
            title = item.title if item else str(change.ref)
            if halted or (stop is not None and stop.is_set()):
                before = item.value if item and item.value is not None else "unset"
                outcome = Outcome(
                    change=change, title=title, number=None, before=before, after=before, result="not tried"
                )
            else:
                shows: Shows = "now" if item is None or isinstance(item.setting, Fixed) else item.setting.shows
                outcome = _apply(journal, computer, facts.system.user, change, title, shows, job)
            halted = halted or outcome.result in {"failed", "conflict"}
            outcomes.append(outcome)
            on_step(outcome)
    return outcomes


def _apply(
    journal: Journal, computer: Computer, user: str, change: Change, title: str, shows: Shows, job: str
) -> Outcome:
    def outcome(
        number: int | None, before: State | None, after: State | None, result: Result, note: str = ""
    ) -> Outcome:
        words = ["?" if state is None else state.word for state in (before, after)]
        return Outcome(
            change=change, title=title, number=number, before=words[0], after=words[1], result=result, note=note
        )

    try:
        before = computer.read(change.ref)
    except ComputerError as error:
        return outcome(None, None, None, "failed", str(error))
    if before.value == change.value:
        return outcome(None, before, before, "as it was", "it has this value already")
    number = journal.intend(
        computer=computer.identity,
        address=computer.address,
        user=user,
        job=job,
        change=change,
        title=title,
        before=before,
        shows=shows,
        boot_id=computer.boot_id(),
        session_id=_session(computer),
        at=_now(computer),
    )
    refusal = ""
    try:
        computer.write(change.ref, State(value=change.value))
        journal.stage(number, "written", _now(computer))
    except ComputerError as error:
        refusal = str(error)
    try:
        after = computer.read(change.ref)
    except ComputerError as error:
        note = f"{refusal} It could not be read back: {error}".strip()
        journal.stage(number, "conflict", _now(computer), note=note)
        return outcome(number, before, None, "conflict", note)
    if after.value == change.value and not refusal:
        journal.stage(number, "verified", _now(computer), after=after)
        return outcome(number, before, after, "done")
    if after.same_as(before):
        note = refusal or "the computer took the value and went back to the old one"
        journal.stage(number, "failed", _now(computer), after=after, note=note)
        return outcome(number, before, after, "failed", note)
    note = refusal or f"read back as {after.word}, which is neither the old value nor the new one"
    journal.stage(number, "conflict", _now(computer), after=after, note=note)
    return outcome(number, before, after, "conflict", note)


def recover(journal: Journal, computer: Computer) -> list[Entry]:
    """Find out about changes that were interrupted, by comparing the computer with the journal; gives them as they were.

    A change found not done is restored to its before value all the same, which clears what the write left half-way.
    """
    unfinished = [e for e in journal.entries(computer.identity) if e.stage in UNFINISHED]
    for entry in unfinished:
        at = _now(computer)
        try:
            now = computer.read(entry.ref)
            if entry.stage == "undoing":
                _recover_undo(journal, entry, now, at)
            elif now.same_as(entry.before):
                computer.write(entry.ref, entry.before)
                journal.stage(entry.id, "not done", at, note="interrupted before it was written")
            elif now.value == entry.value:
                journal.stage(entry.id, "verified", at, after=now, note="interrupted; found done")
            else:
                journal.stage(entry.id, "conflict", at, after=now, note=f"interrupted; found {now.word}")
        except ComputerError as error:
            journal.stage(entry.id, "conflict", at, note=f"interrupted; cannot be read: {error}")
    return unfinished


def _recover_undo(journal: Journal, entry: Entry, now: State, at: str) -> None:
    if now.same_as(entry.restore):
        journal.stage(entry.id, "undone", at, note="interrupted; found put back")
        journal.forget_copy(entry)
    elif entry.after is not None and now.same_as(entry.after):
        journal.stage(entry.id, "verified", at, note="putting back was interrupted; not put back yet")
    else:
        journal.stage(entry.id, "conflict", at, note=f"putting back was interrupted; found {now.word}")


def put_back(
    journal: Journal,
    computer: Computer,
    numbers: Iterable[int] | None = None,
    *,
    overwrite: bool = False,
    on_step: OnStep = _nothing,
) -> list[Outcome]:
    """Put changes back, newest first: those numbered, or all of this computer's user that are not put back yet.

    A value that is neither the one written nor the one before is a conflict, and stays unless `overwrite`.

    Raises:
        UnknownNameError: a number is not in the journal; StorageError: the journal cannot be written.
    """
    outcomes: list[Outcome] = []
    user = computer.system().user
    with journal.writing(computer.identity):
        recover(journal, computer)
        mine = [e for e in journal.entries(computer.identity) if e.user == user]
        wanted = [e.id for e in mine if e.is_open] if numbers is None else list(dict.fromkeys(numbers))
        for number in sorted(wanted, reverse=True):
            outcome = _put_back(journal, computer, journal.entry(number, computer.identity), overwrite=overwrite)
            outcomes.append(outcome)
            on_step(outcome)
    return outcomes


def _put_back(journal: Journal, computer: Computer, entry: Entry, *, overwrite: bool) -> Outcome:
    def outcome(now: State | None, result: Result, note: str = "") -> Outcome:
        return Outcome(
            change=Change(ref=entry.ref, value=entry.restore.value),
            title=entry.title,
            number=entry.id,
            before=State(value=entry.value).word,
            after="?" if now is None else now.word,
            result=result,
            note=note,
        )

    if not entry.is_open:
        return outcome(entry.restore, "as it was", f"change {entry.id} is {entry.stage} already")
    newer = [
        e
        for e in journal.entries(computer.identity)
        if e.ref == entry.ref and e.user == entry.user and e.id > entry.id and e.is_open
    ]
    if newer:
        journal.rebase(entry, newer[0], _now(computer))
        return outcome(
            entry.after, "done", f"change {newer[0].id} is newer; putting that back now restores {entry.restore.word}"
        )
    try:
        now = computer.read(entry.ref)
        if (
            not overwrite
            and not now.same_as(entry.restore)
            and entry.after is not None
            and not now.same_as(entry.after)
        ):
            note = _three_values(entry, now)
            journal.stage(entry.id, "conflict", _now(computer), note=note)
            return outcome(now, "conflict", note)
        journal.undoing(entry.id, _now(computer), boot_id=computer.boot_id(), session_id=_session(computer))
        computer.write(entry.ref, entry.restore)
        back = computer.read(entry.ref)
    except ComputerError as error:
        journal.stage(entry.id, "conflict", _now(computer), note=str(error))
        return outcome(None, "failed", str(error))
    if back.same_as(entry.restore):
        journal.stage(entry.id, "undone", _now(computer))
        journal.forget_copy(entry)
        return outcome(back, "done")
    note = f"read back as {back.word} instead of {entry.restore.word}"
    journal.stage(entry.id, "conflict", _now(computer), note=note)
    return outcome(back, "conflict", note)


def _three_values(entry: Entry, now: State) -> str:
    changed = "" if now.value != entry.value else " (the same word, but somebody edited it since)"
    return plain(
        f"it was {entry.restore.word}, Lumtak made it {State(value=entry.value).word}, and now it is {now.word}{changed}; "
        "left alone, overwrite it only if you are sure",
        400,
    )
