"""A trial as it goes: what comes block by block, the interval that narrows, what is left of it."""

import secrets
import threading
from collections.abc import Callable, Sequence
from typing import ClassVar

from textual.app import ComposeResult
from textual.binding import Binding, BindingType
from textual.widgets import Static

from lumtak.core.setting import UNSET_WORD, Change
from lumtak.core.text import capital, plain
from lumtak.core.trial import Design, design
from lumtak.core.trial.record import Experiment, Screening, measure_for, title_of
from lumtak.core.trial.screening import Layout, screening
from lumtak.core.trial.words import EXPECTED, apart_words, between, counting, in_words, so_far
from lumtak.core.units import counted, span
from lumtak.journal import Outcome, put_back
from lumtak.tui.background import WorkingScreen
from lumtak.tui.command import Command
from lumtak.tui.keys import binding, with_keys
from lumtak.tui.theme import Palette
from lumtak.tui.widgets.lines import LineList
from lumtak.tui.widgets.trial_lines import trial_lines
from lumtak.work.audit import make_audit
from lumtak.work.open_job import OpenJob
from lumtak.work.rights import asking
from lumtak.work.trial.screening import ScreeningRun
from lumtak.work.trial.switchback import Switchback


class TrialScreen(WorkingScreen):
    """Switches changes on and off; leaving it ends it, and restores what was.

    Args:
        open_job: the job from whose plan they are.
        changes: what is tried; several are screened together.
    """

    CSS_PATH = "aside.tcss"
    BINDINGS: ClassVar[list[BindingType]] = [
        Binding("escape", "back", "Stop and back", show=False),
        binding("hold", "hold"),
        binding("leave-on", "leave_on"),
        binding("put-trial-back", "put_back"),
        binding("help", "help"),
    ]

    def __init__(self, open_job: OpenJob, changes: Sequence[Change]) -> None:
        super().__init__()
        self.add_class("aside")
        self._open_job, self._changes = open_job, tuple(changes)
        seed = secrets.randbelow(2**31)
        self._planned: Design | Layout = (
            design(seed=seed) if len(changes) == 1 else screening(len(changes), seed=seed)
        )
        self._measure = measure_for(open_job.job.complaint)
        self._hold, self._keep = threading.Event(), threading.Event()
        self._trial: Experiment | None = None
        self._left: list[int] = []
        self._problem = ""

    def compose(self) -> ComposeResult:
        """Head, what came of it so far, pairs or changes with their blocks, hint."""
        yield Static(id="head", markup=False)
        yield Static(id="say", classes="big", markup=False)
        yield LineList(id="list")
        yield Static(id="hint", markup=False)

    def on_mount(self) -> None:
        """It begins."""
        open_job = self._open_job

        def run() -> Experiment:
            trial = self._made()
            if open_job.job.audit is not None:
                make_audit(open_job)
            return trial

        asks = asking(open_job.computer, [c.ref for c in self._changes])
        self.begin("trying", run, self._came, asks=asks)
        self.update_all()
        self.set_focus(self.query_one(LineList))

    def _made(self) -> Experiment:
        job = self._open_job
        args = job.data_folder, job.computer, job.job.profile
        if isinstance(self._planned, Layout):
            screened = ScreeningRun(
                *args, self._changes, self._measure, self._planned, watched=job.watched
            )
            return screened.run(self._note, self.stop, self._hold)
        (change,) = self._changes
        alone = Switchback(
            *args, change, self._measure, self._planned, keep=self._keep, watched=job.watched
        )
        return alone.run(self._note, self.stop, self._hold)

    def _note(self, trial: Experiment) -> None:
        """From the worker, after each block."""
        self._trial = trial
        self.app.call_from_thread(self.update_all)

    def _came(self, trial: Experiment) -> None:
        self._trial = trial
        self.update_all()

    def tell(self, sentence: str) -> None:
        """What went wrong stands on the screen, and stays there."""
        self._problem = plain(sentence, 400)
        super().tell(sentence)

    def look(self) -> list[int]:
        """Places in the journal of what the trial left standing; in the background."""
        if self._trial is None:
            return []
        job = self._open_job
        mine = job.data_folder.journal.entries_of(job.computer)
        return [e.id for e in mine if e.trial == self._trial.id and e.is_open]

    def take(self, found: object) -> None:
        """Take them over."""
        self._left = found if isinstance(found, list) else []

    # -- what is shown -----------------------------------------------------------------------------

    def update_all(self) -> None:
        """Draw everything as it is now."""
        self.draw_head(self._open_job.job.computer_name, f"a trial of {self._what}")
        self.query_one("#say", Static).update(self._says())
        lines = trial_lines(self._trial, Palette(self.app)) if self._trial else []
        self.query_one(LineList).show(lines)
        self.query_one("#hint", Static).update(self._hint())

    @property
    def _what(self) -> str:
        if len(self._changes) > 1:
            return f"{len(self._changes)} changes together"
        (change,) = self._changes
        on = UNSET_WORD if change.value is None else change.value
        return f"{plain(str(change.ref), 50)} = {plain(on, 20)}"

    def _hint(self) -> str:
        if not self.busy:
            back = " {put-trial-back} puts it back." if self._left else ""
            return with_keys(
                self.app,
                f"Escape goes back to the plan. What was found stands with the item.{back}",
            )
        pause = "{hold} goes on." if self._hold.is_set() else "{hold} pauses."
        leave = "{leave-on} leaves it on at the end. "
        if self._keep.is_set():
            leave = "{leave-on} restores it at the end after all. "
        if len(self._changes) > 1:
            leave = ""
        return with_keys(
            self.app, f"{pause} {leave}Escape ends it after this block and restores what was."
        )

    def _says(self) -> str:
        trial = self._trial
        if trial is None:
            return self._problem or "A first look: can the measure be had, and what could be shown?"
        if not self.busy and trial.state != "under way":
            return self._came_to(trial)
        blocks = self._planned.blocks
        made = counting(trial)
        left = self._planned.length_s * max(0.0, 1 - made / blocks)
        sure = "" if isinstance(trial, Screening) else between(so_far(trial), trial)
        known = f" So far {sure}." if sure else ""
        held = self._hold.is_set() and not trial.note
        pauses = (
            f" {capital(trial.note)}."
            if trial.note
            else (" It pauses after this block." if held else "")
        )
        stays = " It is left on at the end." if self._keep.is_set() else ""
        title = capital(title_of(self._measure))
        return (
            f"{title}: {made} of {blocks} blocks, at most {span(left)} more.{known}{pauses}{stays}"
        )

    def _came_to(self, trial: Experiment) -> str:
        """What came of it, and how the computer stands now."""
        if self._left:
            stands = f" {counted(len(self._left), 'change')} of it stands."
        else:
            stands = "" if trial.state in {"conflict", "failed"} else " All is as it was before."
        if not isinstance(trial, Screening) or trial.seen is None:
            return f"{in_words(trial)}{stands}"
        worth = sum(e.finding in {"lower", "higher"} for e in trial.seen.effects)
        ended = f" It ended early: {trial.note}." if trial.note else ""
        return (
            f"{worth} of {len(trial.tried)} do something that shows, in"
            f" {trial.seen.rounds * trial.layout.round_blocks} blocks.{ended} {apart_words(trial)}"
            f" {trial.layout.confounded(trial.seen.rounds)} {EXPECTED}{stands}"
        )

    # -- keys --------------------------------------------------------------------------------------

    def action_hold(self) -> None:
        """Pause after this block, in the starting state; or go on."""
        self._turn(self._hold)

    def action_leave_on(self) -> None:
        """Whether what is tried stays at the end."""
        if len(self._changes) > 1:
            self.tell("Of several that are tried together nothing is left on; try one alone.")
            return
        self._turn(self._keep)

    def _turn(self, event: threading.Event) -> None:
        """On or off, while the trial goes."""
        if not self.busy:
            return
        if event.is_set():
            event.clear()
        else:
            event.set()
        self.update_all()

    def action_put_back(self) -> None:
        """What the trial left standing is put back."""
        if not self.free():
            return
        left, job = self._left, self._open_job
        if not left:
            self.tell("Nothing of this trial stands; all is as it was before.")
            return

        def back() -> list[Outcome]:
            return put_back(job.data_folder.journal, job.computer, left)

        self.begin("putting back", back, self.tell_put_back)

    # -- leaving -----------------------------------------------------------------------------------

    def hold_on(self) -> None:
        """The block that is being measured ends first."""
        self.notify("It ends, and what was is restored.", markup=False)

    def commands(self) -> tuple[Command, ...]:
        """For the palette."""
        back: Callable[[], object] = self.action_back
        return (
            Command("Pause, or go on", self.action_hold, "in the starting state", "hold"),
            Command("Leave it on", self.action_leave_on, "at the end, or not", "leave-on"),
            Command("Put it back", self.action_put_back, "what it left", "put-trial-back"),
            Command("Stop and go back", back, "what was is restored", "Escape"),
            Command("Explain this screen", self.action_help, "in the words of the work", "help"),
        )

    def action_help(self) -> None:
        """Explain the screen."""
        from lumtak.tui.help import HelpScreen

        self.app.push_screen(HelpScreen("trial"))
