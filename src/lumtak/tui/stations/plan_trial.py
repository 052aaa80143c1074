"""Trials out of the plan: one change alone, or several that are chosen together."""

from functools import partial
from typing import ClassVar

from textual.binding import BindingType

from lumtak.core.plan import Plan, Step
from lumtak.core.setting import Change
from lumtak.core.text import plain
from lumtak.core.trial.design import BLOCK_S, BLOCKS, WASHOUT_S
from lumtak.core.trial.screening import FEWEST_CHANGES, MOST_CHANGES
from lumtak.errors import LumtakError
from lumtak.tui.confirm import ConfirmScreen
from lumtak.tui.keys import binding
from lumtak.tui.stations.plan_frontier import FrontierStation
from lumtak.tui.trial_screen import TrialScreen
from lumtak.tui.widgets.lines import LineList
from lumtak.work.plan import plan_of
from lumtak.work.trial.refused import why_not

_HOW = (
    f"{BLOCKS} blocks of {BLOCK_S:g} s after {WASHOUT_S:g} s each, and measured: leave the computer"
    " alone meanwhile. Each switch is in the journal, and what was is restored at the end. It can"
    " be paused and ended at any time."
)


class TryingStation(FrontierStation):
    """The part of the plan that tries."""

    BINDINGS: ClassVar[list[BindingType]] = [
        binding("trial", "try"),
        binding("screening", "screen"),
    ]

    _problem = ""

    def action_try(self) -> None:
        """Ask whether the change under the cursor is to be tried."""
        key = self.query_one(LineList).selected
        step = next((s for s in self._plan().steps if str(s.change.ref) == key), None)
        if step is None:
            self.desk.tell("The cursor is on no change that is proposed; choose one to try it.")
            return
        value = step.change.value or "unset"
        self._ask(
            f"Try {plain(step.title, 60)}?",
            f"It is switched between {step.before} and {value} in random order, at most {_HOW}",
            [step.change],
        )

    def action_screen(self) -> None:
        """Ask whether what is chosen is to be tried in the same blocks."""
        steps = self._plan().steps
        can = [s for s in steps if not self._why_not(s)]
        if len(can) < FEWEST_CHANGES:
            why = next((w for s in steps if (w := self._why_not(s))), "")
            because = f" {plain(why, 200).capitalize()}" if why else ""
            self.desk.tell(
                "Two changes at least have to be chosen that show at once and are no power plan, to"
                f" be tried together.{because}"
            )
            return
        tried, left = can[:MOST_CHANGES], len(steps) - len(can[:MOST_CHANGES])
        rest = f" {left} of what is chosen cannot be in it." if left else ""
        self._ask(
            f"Try {len(tried)} changes together?",
            f"{', '.join(plain(s.title, 40) for s in tried)}: each is on in half of at most {_HOW}"
            f" It says which is worth a trial of its own.{rest}",
            [s.change for s in tried],
        )

    def _plan(self) -> Plan:
        """What is chosen; empty where that cannot be planned, and why is said then."""
        self._problem = ""
        try:
            return plan_of(self.desk.open_job) if self.desk.job.chosen else Plan()
        except LumtakError as error:
            self._problem = plain(str(error), 400)
            return Plan()

    def _why_not(self, step: Step) -> str:
        facts = self.desk.job.facts
        item = facts.find(step.change.ref) if facts else None
        if item is None:
            return "the computer has no such item."
        return why_not(item, step.change, screened=True)

    def _ask(self, title: str, words: str, changes: list[Change]) -> None:
        if not self.desk.free():
            return
        question = ConfirmScreen(title, words, yes="Try it", no="Leave it as it is")
        self.app.push_screen(question, partial(self._try, changes))

    def _try(self, changes: list[Change], yes: bool | None) -> None:  # noqa: FBT001 - what a question gives
        if yes:
            screen = TrialScreen(self.desk.open_job, changes)
            self.app.push_screen(screen, lambda _: self.say(self.Changed()))
