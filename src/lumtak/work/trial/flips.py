"""Switching what is tried on and off: changes of the journal, and putting them back.

Each time something is switched on is a change in the journal, each time it is switched off that
change is put back; so a kill at any moment leaves what every kill of a change leaves.
"""

from collections.abc import Iterable, Mapping, Sequence

from lumtak.computers.protocol import Computer
from lumtak.core.facts import Facts
from lumtak.core.setting import Change, SettingRef
from lumtak.core.trial.record import State
from lumtak.errors import ComputerError, LumtakError
from lumtak.journal import Journal, Outcome, apply_changes, put_back

Problem = tuple[State, str]
"""Why a trial has to end: as what, and a clause for a person."""


class Flips:
    """What a trial has switched on.

    Args:
        journal: keeps every switch.
        computer: is switched.
        facts: of it, as it was before.
        changes: what is tried.
        number: of the trial.
    """

    def __init__(
        self,
        journal: Journal,
        computer: Computer,
        facts: Facts,
        changes: Sequence[Change],
        number: int,
    ) -> None:
        self._journal, self._computer, self._facts = journal, computer, facts
        self._number = number
        self._on = {c.ref: c for c in changes}
        items = {ref: facts.find(ref) for ref in self._on}
        self._off = {ref: item.value if item else None for ref, item in items.items()}
        self._open: dict[SettingRef, int] = {}
        """Places in the journal of the changes that switch them on, while they are on."""

    def switch(self, wanted: Mapping[SettingRef, bool]) -> Problem | None:
        """Into a state, those that go off first; why the trial has to end, where that did not work
        or somebody else was at it.
        """
        for ref, on in wanted.items():
            if on == (ref in self._open) and (problem := self._stands(ref, on=on)):
                return problem
        off = [ref for ref, on in wanted.items() if not on and ref in self._open]
        on_now = [ref for ref, on in wanted.items() if on and ref not in self._open]
        return self._switch_off(off) or self._switch_on(on_now)

    def restore(self) -> Problem | None:
        """The starting state, as far as what was tried still stands."""
        try:
            return self._switch_off(list(self._open))
        except LumtakError as error:
            return "failed", str(error)

    def let_go(self) -> None:
        """Root is left to nobody who comes next."""
        self._computer.settings.give_back_rights()

    def _switch_on(self, refs: Sequence[SettingRef]) -> Problem | None:
        if not refs:
            return None
        outcomes = apply_changes(
            self._journal,
            self._computer,
            self._facts,
            [self._on[ref] for ref in refs],
            trial=self._number,
            keep_rights=True,
        )
        for outcome in outcomes:
            if outcome.id is not None and outcome.result != "failed":
                self._open[outcome.change.ref] = outcome.id
        for outcome in outcomes:
            if outcome.result == "as it was":
                return "conflict", "somebody else set the value that was to be tried"
        return _problem(outcomes, well={"done"})

    def _switch_off(self, refs: Sequence[SettingRef]) -> Problem | None:
        numbers = [self._open[ref] for ref in refs]
        if not numbers:
            return None
        outcomes = put_back(self._journal, self._computer, numbers, keep_rights=True)
        well = {"done", "as it was"}
        for outcome in outcomes:
            if outcome.result in well:
                self._open.pop(outcome.change.ref, None)
        return _problem(outcomes, well=well)

    def _stands(self, ref: SettingRef, *, on: bool) -> Problem | None:
        """Whether it is still in the state in which it was left."""
        try:
            now = self._computer.settings.read(ref)
        except ComputerError as error:
            return "failed", error.message
        if now.value == (self._on[ref].value if on else self._off[ref]):
            return None
        return "conflict", f"somebody changed {ref} to {now.word} meanwhile"


def _problem(outcomes: Iterable[Outcome], well: set[str]) -> Problem | None:
    """What the first that did not go well says; the others were not tried after it."""
    bad = next((o for o in outcomes if o.result not in {*well, "not tried"}), None)
    if bad is None:
        return None
    return ("conflict" if bad.result == "conflict" else "failed"), bad.note
