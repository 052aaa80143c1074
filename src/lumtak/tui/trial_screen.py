"""A trial as it goes: pair by pair, the interval that narrows, what is left of it."""

import secrets
from collections.abc import Callable
from typing import ClassVar

from rich.text import Text
from textual.app import ComposeResult
from textual.binding import Binding, BindingType
from textual.widgets import Static

from lumtak.core.setting import UNSET_WORD, Change
from lumtak.core.text import capital, plain
from lumtak.core.trial import design
from lumtak.core.trial.record import Trial, measure_for, title_of
from lumtak.core.trial.words import figure, in_words
from lumtak.core.units import span
from lumtak.tui.background import WorkingScreen
from lumtak.tui.command import Command
from lumtak.tui.keys import binding
from lumtak.tui.theme import Palette
from lumtak.tui.widgets.lines import Line, LineList, wrapped
from lumtak.work.audit import make_audit
from lumtak.work.open_job import OpenJob
from lumtak.work.rights import asking
from lumtak.work.trial.switchback import Switchback

_BAR = 20
"""Cells on either side of nothing."""


class TrialScreen(WorkingScreen):
    """Switches one change on and off; leaving it ends it, and restores what was.

    Args:
        open_job: the job from whose plan it is.
        change: what is tried.
    """

    CSS_PATH = "aside.tcss"
    BINDINGS: ClassVar[list[BindingType]] = [
        Binding("escape", "back", "Stop and back", show=False),
        binding("help", "help"),
    ]

    def __init__(self, open_job: OpenJob, change: Change) -> None:
        super().__init__()
        self.add_class("aside")
        self._open_job, self._change = open_job, change
        self._planned = design(seed=secrets.randbelow(2**31))
        self._measure = measure_for(open_job.job.complaint)
        self._trial: Trial | None = None
        self._problem = ""

    def compose(self) -> ComposeResult:
        """Head, what came of it so far, the pairs, hint."""
        yield Static(id="head", markup=False)
        yield Static(id="say", classes="big", markup=False)
        yield LineList(id="list")
        yield Static(id="hint", markup=False)

    def on_mount(self) -> None:
        """It begins."""
        open_job, change = self._open_job, self._change

        def run() -> Trial:
            trial = Switchback(
                open_job.data_folder,
                open_job.computer,
                open_job.job.profile,
                change,
                self._measure,
                self._planned,
            ).run(self._note, self.stop)
            if open_job.job.audit is not None:
                make_audit(open_job)
            return trial

        asks = asking(open_job.computer, [change.ref])
        self.begin("trying", run, self._came, asks=asks)
        self.update_all()
        self.set_focus(self.query_one(LineList))

    def _note(self, trial: Trial) -> None:
        """From the worker, after each block."""
        self._trial = trial
        self.app.call_from_thread(self.update_all)

    def _came(self, trial: Trial) -> None:
        self._trial = trial
        self.update_all()

    def tell(self, sentence: str) -> None:
        """What went wrong stands on the screen, and stays there."""
        self._problem = plain(sentence, 400)
        super().tell(sentence)

    # -- what is shown -----------------------------------------------------------------------------

    def update_all(self) -> None:
        """Draw everything as it is now."""
        on = UNSET_WORD if self._change.value is None else self._change.value
        title = f"a trial of {plain(str(self._change.ref), 50)} = {plain(on, 20)}"
        self.draw_head(self._open_job.job.computer_name, title)
        self.query_one("#say", Static).update(self._says())
        self.query_one(LineList).show(self._lines(Palette(self.app)))
        self.query_one("#hint", Static).update(
            "Escape ends it after this block and restores what was."
            if self.busy
            else "Escape goes back to the plan. What was proven here stands with the item."
        )

    def _says(self) -> str:
        trial = self._trial
        if trial is None:
            return self._problem or "A first look: can the measure be had, and what could be shown?"
        if not self.busy and trial.state != "under way":
            restored = "" if trial.state in {"conflict", "failed"} else " All is as it was before."
            return f"{in_words(trial)}{restored}"
        left = self._planned.length_s * (1 - len(trial.blocks) / (2 * self._planned.pairs))
        found = trial.shown
        so_far = ""
        if found is not None and found.ci95 is not None:
            low, high = (figure(x, trial) for x in found.ci95)
            so_far = f" So far {low} to {high}."
        pauses = f" {capital(trial.note)}." if trial.note else ""
        return (
            f"{title_of(self._measure)}: {len(trial.blocks)} of {2 * self._planned.pairs} blocks,"
            f" at most {span(max(0.0, left))} more.{so_far}{pauses}"
        )

    def _lines(self, palette: Palette) -> list[Line]:
        trial = self._trial
        if trial is None:
            return []
        lines = []
        if trial.could_show is not None:
            words = f"It can be expected to show {figure(trial.could_show, trial)} and more."
            lines += [Line(Text(f" {w}", style=palette.soft)) for w in wrapped(words, 100)]
        lines.append(Line(Text()))
        differences = dict(enumerate(trial.differences))
        most = max((abs(d) for d in differences.values()), default=0.0) or 1.0
        for place, difference in differences.items():
            lines.append(Line(self._row(place, difference, most, palette), f"pair {place}"))
        cut = [b for b in trial.blocks if not b.values]
        if cut:
            words = f" {len(cut)} blocks were disturbed, and their pairs made again."
            lines.append(Line(Text(words, style=palette.warning)))
        return lines

    def _row(self, place: int, difference: float, most: float, palette: Palette) -> Text:
        """One pair: which state came first, the difference as a bar about nothing."""
        trial = self._trial
        first = self._planned.on_first[place]
        text = Text(f"  pair {place + 1:>2}  ")
        text.append("on, off  " if first else "off, on  ", style=palette.soft)
        cells = round(_BAR * abs(difference) / most)
        left = "█" * cells if difference < 0 else ""
        right = "█" * cells if difference > 0 else ""
        text.append(f"{left:>{_BAR}}│{right:<{_BAR}}", style=palette.accent)
        text.append(f"  {figure(difference, trial) if trial else '':>14}", style="bold")
        return text

    # -- leaving -----------------------------------------------------------------------------------

    def hold_on(self) -> None:
        """The block that is being measured ends first."""
        self.notify("It ends, and what was is restored.", markup=False)

    def commands(self) -> tuple[Command, ...]:
        """For the palette."""
        back: Callable[[], object] = self.action_back
        return (
            Command("Stop and go back", back, "what was is restored", "Escape"),
            Command("Explain this screen", self.action_help, "in the words of the work", "help"),
        )

    def action_help(self) -> None:
        """Explain the screen."""
        from lumtak.tui.help import HelpScreen

        self.app.push_screen(HelpScreen("trial"))
