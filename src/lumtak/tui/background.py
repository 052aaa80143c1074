"""Screens that do slow work in the background.

One thing at a time, with its name in the head and a way to stop it.
"""

import contextlib
import logging
import threading
from collections.abc import Callable
from typing import TYPE_CHECKING, Literal, TypeVar

from rich.text import Text
from textual import events, work
from textual.app import SuspendNotSupported
from textual.screen import Screen
from textual.widgets import Static

from lumtak.core.text import capital, plain
from lumtak.errors import ComputerError, LumtakError
from lumtak.tui.theme import Palette

if TYPE_CHECKING:
    from lumtak.journal import Outcome

_T = TypeVar("_T")


Doing = Literal["", "applying", "baseline", "after", "other"]
"""Work in the background that screens tell apart: applying a plan, taking a baseline, reading after
the changes, anything else."""


def unforeseen(error: Exception) -> str:
    """What is said of an error that nobody foresaw; the log has the rest."""
    kind = type(error).__name__
    return f"This should not have happened ({kind}: {error}). The log has the rest."


class WorkingScreen(Screen[None]):
    """Subclasses say what they look up after each piece of work (`look`), take it over (`take`),
    and draw (`update_all`).
    """

    def __init__(self) -> None:
        super().__init__()
        self.busy = ""
        """What is being done in the background, for a person; empty when nothing is."""
        self.doing: Doing = ""
        """The same, where something depends on which it is."""
        self.stop = threading.Event()
        self._then: Callable[[], object] | None = None

    def look(self) -> object:
        """What has to be known anew after each piece of work; called in the background."""
        return None

    def take(self, found: object) -> None:
        """Take over what `look` found."""

    def update_all(self) -> None:
        """Draw everything as it is now."""

    def begin(
        self,
        what: str,
        job: Callable[[], _T],
        done: Callable[[_T], object],
        *,
        doing: Doing = "other",
        asks: Callable[[], None] | None = None,
    ) -> bool:
        """Do something slow in the background, then show everything; one thing at a time.

        Whether it was begun.

        `asks` is called first with the terminal handed over, so that a password can be typed.
        """
        if not self.free():
            return False
        if asks is not None:
            self._hand_over(asks)
        self.busy, self.doing = what, doing
        self.stop.clear()
        self.begun()
        self._run(job, done)
        return True

    def _hand_over(self, ask: Callable[[], None]) -> None:
        """Hand the terminal over; a refusal is an ordinary answer, which each change then tells."""
        try:
            with self.app.suspend(), contextlib.suppress(ComputerError, KeyboardInterrupt):
                ask()
        except SuspendNotSupported:
            return

    def free(self) -> bool:
        """Whether nothing is under way; says what is, else."""
        if self.busy:
            self.tell(f"{capital(self.busy)} first has to end, or be stopped.")
        return not self.busy

    def begun(self) -> None:
        """Something was begun in the background."""

    @work(thread=True, exit_on_error=False, group="work")
    def _run(self, job: Callable[[], _T], done: Callable[[_T], object]) -> None:
        result: _T | None = None
        problem, found = "", None
        try:
            result = job()
        except LumtakError as error:
            problem = str(error)
        except Exception as error:  # the screen stays, the log has the rest
            logging.getLogger(__name__).exception("in the background")
            problem = unforeseen(error)
        try:
            found = self.look()
        except LumtakError as error:
            problem = problem or str(error)
        # Set unless there is a problem.
        self.app.call_from_thread(self._ended, found, problem, lambda: done(result))  # type: ignore[arg-type]

    def _ended(self, found: object, problem: str, done: Callable[[], object]) -> None:
        self.busy, self.doing = "", ""
        if found is not None:
            self.take(found)
        if self._then is not None:
            self.finish()
            return
        if problem:
            self.tell(problem)
        else:
            done()
        self.update_all()

    def leave(self, then: Callable[[], object]) -> None:
        """Stop what is going on, let go of everything, then do that."""
        if self._then is not None:
            return
        # What is being written is finished by its worker; `_ended` comes back here then.
        self._then = then
        self.stop.set()
        if self.busy:
            self.hold_on()
        else:
            self.finish()

    def action_back(self) -> None:
        """Back to the screen before, once everything is let go of."""
        self.leave(self.dismiss)

    def on_click(self, event: events.Click) -> None:
        """The head goes back, the bottom line opens every command.

        For those who have only a mouse.
        """
        where = event.widget.id if event.widget else None
        if where == "head":
            self.action_back()
        elif where == "hint":
            self.app.action_command_palette()

    def hold_on(self) -> None:
        """Say that what is being written is finished first."""

    @work(thread=True, exit_on_error=False, group="leave")
    def finish(self) -> None:
        """Let go of everything, in the background, then do what was to come."""
        self.let_go()
        if self._then:
            self.app.call_from_thread(self._then)

    def let_go(self) -> None:
        """Close what is held; called in the background."""

    def draw_head(self, name: str, about: str) -> None:
        """The head of a screen beside a job: whose computer, which screen, what is under way."""
        palette = Palette(self.app)
        head = Text(no_wrap=True)
        head.append(" Lumtak", style=f"bold {palette.accent}")
        head.append(f"  {plain(name, 40)}", style="bold")
        head.append(f" · {about}", style=palette.soft)
        room = self.size.width - 2 - head.cell_len - len(self.busy)
        if self.busy and room > 0:
            head.append(" " * room + self.busy, style=palette.accent)
        self.query_one("#head", Static).update(head)

    def tell_put_back(self, outcomes: "list[Outcome]") -> None:
        """What became of putting back: a sentence for each that was not, and how many were."""
        bad = [o for o in outcomes if o.result not in {"done", "as it was"}]
        for outcome in bad:
            self.tell(f"{outcome.title}: {outcome.note}")
        if len(bad) < len(outcomes):
            self.notify(f"{len(outcomes) - len(bad)} put back and read back.", markup=False)

    def tell(self, sentence: str) -> None:
        """Say something went wrong."""
        self.notify(plain(sentence, 600), severity="warning", timeout=12, markup=False)
