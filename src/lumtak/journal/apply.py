"""Changes carried out: journal first, then the computer, then read back."""

import threading
from collections.abc import Callable, Iterable

import msgspec

from lumtak.computers.protocol import Computer
from lumtak.core.facts import Facts, Fixed
from lumtak.core.setting import Change, Shows, State
from lumtak.errors import ComputerError
from lumtak.journal.entry import Entry, PlanRecord, Stage
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

_PAUSE_LOOK_S = 0.2


def apply_changes(
    journal: Journal,
    computer: Computer,
    facts: Facts,
    changes: Iterable[Change],
    *,
    job: str = "",
    trial: int = 0,
    keep_rights: bool = False,
    on_step: OnStep = nothing,
    on_review: Callable[[Review], None] = nothing,
    stop: threading.Event | None = None,
    pause: threading.Event | None = None,
) -> list[Outcome]:
    """Carry out changes in the order given.

    After one that fails, or when told to stop, the rest is not tried; but nothing depends on what
    could not be set aside.

    Args:
        journal: keeps each step.
        computer: is changed.
        facts: of it, for titles and for when a change shows.
        changes: in a safe order.
        job: whom they belong to.
        trial: of which they are flips.
        keep_rights: whether more is to come, so that what was granted for it is not given back.
        on_step: told after each change.
        on_review: told what an interrupted plan left, before anything is touched.
        stop: ends after the change that is being made.
        pause: while set, the next change waits.

    Raises:
        StorageError: the journal cannot be written (nothing more is changed then), or another
            Lumtak is at work.
    """
    wanted = list(changes)
    outcomes: list[Outcome] = []
    halted = False
    # The lock is held to the end: a second Lumtak would foresee values that this one changes.
    with journal.writing(computer.identity):
        recover(journal, computer, on_review=on_review)
        plan = journal.begin_plan(_plan(computer, facts, wanted, job))
        try:
            for change in wanted:
                # Between two changes only: a write is never held up half-way.
                _wait(pause, stop)
                if halted or (stop is not None and stop.is_set()):
                    outcome = _not_tried(facts, change)
                else:
                    outcome = _apply(journal, computer, facts, change, (plan, job, trial))
                    halted = _ends_it(outcome)
                outcomes.append(outcome)
                on_step(outcome)
            journal.end_plan(plan)
            refresh_script(journal, computer)
        finally:  # also after an error, so that root is never left to whoever comes next
            if not keep_rights:
                computer.settings.give_back_rights()
    return outcomes


def _ends_it(outcome: Outcome) -> bool:
    """Whether the rest is not tried after it; nothing depends on what is set aside."""
    return outcome.result in {"failed", "conflict"} and outcome.change.ref.area != "storage"


def _wait(pause: threading.Event | None, stop: threading.Event | None) -> None:
    stop = stop or threading.Event()
    while pause is not None and pause.is_set() and not stop.wait(_PAUSE_LOOK_S):
        pass


def _plan(computer: Computer, facts: Facts, changes: list[Change], job: str) -> PlanRecord:
    return PlanRecord(
        id=0,
        computer=computer.identity,
        user=computer.user_name,
        job=job,
        changes=tuple(changes),
        titles=tuple(_title(facts, c) for c in changes),
        begun_at=clock(computer),
    )


def _title(facts: Facts, change: Change) -> str:
    item = facts.find(change.ref)
    return item.title if item else str(change.ref)


def _not_tried(facts: Facts, change: Change) -> Outcome:
    item = facts.find(change.ref)
    before = item.value if item and item.value is not None else "unset"
    return Outcome(
        change=change,
        title=_title(facts, change),
        before=before,
        after=before,
        result="not tried",
    )


def _apply(
    journal: Journal, computer: Computer, facts: Facts, change: Change, of: tuple[int, str, int]
) -> Outcome:
    """One change, of a plan, a job and a trial: begun, carried out, concluded."""
    plan, job, trial = of
    try:
        before = computer.settings.read(change.ref)
        if before.value == change.value:
            note = "it has this value already"
            return _outcome(change, _title(facts, change), before, before, "as it was", note)
        expected = computer.settings.foresee(change.ref, State(value=change.value))
        # What could not be brought back is not changed.
        computer.settings.foresee(change.ref, before)
        kit = computer.settings.undo_kit()
        made = 0 if kit is None else kit.missing()
    except ComputerError as error:
        return _outcome(change, _title(facts, change), None, None, "failed", str(error))
    now = moment(computer)
    entry = Entry(
        id=0,
        trial=trial,
        plan=plan,
        computer=computer.identity,
        address=computer.address,
        user=computer.user_name,
        job=job,
        ref=change.ref,
        title=_title(facts, change),
        value=change.value,
        before=before,
        restore=before,
        expected=expected,
        shows=_shows(facts, change),
        boot_id=now.boot_id,
        session_id=now.session_id,
        script_made=made,
        begun_at=now.at,
        stage_at=now.at,
    )
    return _carry_out(journal, computer, journal.intend(entry))


def _shows(facts: Facts, change: Change) -> Shows:
    item = facts.find(change.ref)
    return "now" if item is None or isinstance(item.setting, Fixed) else item.setting.shows


def _carry_out(journal: Journal, computer: Computer, entry: Entry) -> Outcome:
    """A change that stands in the journal is written and read back."""
    # The script comes before the write: from here on the computer alone can be put back.
    try:
        refresh_script(journal, computer)
    except ComputerError as error:
        note = f"the undo script cannot be left on the computer, so nothing was changed: {error}"
        journal.stage(entry, "failed", clock(computer), after=entry.before, note=note)
        return _ended(entry, entry.before, "failed", note)
    refusal = ""
    try:
        computer.settings.write(entry.ref, State(value=entry.value))
        # Said before it is read back: a cut in between is then known to be after the write.
        entry = journal.stage(entry, "written", clock(computer))
    except ComputerError as error:
        refusal = str(error)
    try:
        after = computer.settings.read(entry.ref)
        # Where half of it was written, that half goes back.
        if refusal and after.between(entry.before, entry.expected):
            computer.settings.write(entry.ref, entry.before)
            after = computer.settings.read(entry.ref)
    except ComputerError as error:
        note = f"{refusal} It could not be read back: {error}".strip()
        journal.stage(entry, "conflict", clock(computer), note=note)
        return _ended(entry, None, "conflict", note)
    return _conclude(journal, computer, entry, after, refusal)


def _conclude(
    journal: Journal, computer: Computer, entry: Entry, after: State, refusal: str
) -> Outcome:
    """What is said of a change follows from what was read back, not from what the computer said."""
    stage: Stage
    result: Result
    is_exact = entry.expected.exact is not None and after.same_as(entry.expected)
    if after.value == entry.value and (not refusal or is_exact):
        stage, result = "verified", "done"
        note = f"it is done, although the computer said: {refusal}" if refusal else ""
    elif after.same_as(entry.before):
        stage = result = "failed"
        note = refusal or "the computer took the value and went back to the old one"
    else:
        stage = result = "conflict"
        odd = f"read back as {after.word}, which is neither the old value nor the new one"
        note = refusal or odd
    force = ""
    if result == "done":
        note, force = with_force(computer, entry.ref, note)
    journal.stage(entry, stage, clock(computer), after=after, note=note, force=force)
    return _ended(entry, after, result, note, force)


def _ended(
    entry: Entry, after: State | None, result: Result, note: str, force: str = ""
) -> Outcome:
    ended = _outcome(entry.change, entry.title, entry.before, after, result, note)
    return msgspec.structs.replace(ended, id=entry.id, number=entry.number, force=force)


def _outcome(
    change: Change, title: str, before: State | None, after: State | None, result: Result, note: str
) -> Outcome:
    return Outcome(
        change=change,
        title=title,
        before=word(before),
        after=word(after),
        result=result,
        note=note,
    )
