"""A screen beside a job that lists what it finds on the computer when somebody looks."""

from typing import ClassVar

from rich.text import Text
from textual.app import ComposeResult
from textual.binding import Binding, BindingType
from textual.widgets import Static

from lumtak.tui.background import WorkingScreen
from lumtak.tui.command import Command
from lumtak.tui.help import HelpScreen
from lumtak.tui.keys import binding
from lumtak.tui.theme import Palette
from lumtak.tui.widgets.lines import Line, LineList
from lumtak.work.open_job import OpenJob

FOLD = "fold"
"""The key of the line behind which the rest is folded away."""


class LookingScreen(WorkingScreen):
    """Looks at once, and again when asked; what is never touched is folded into one line.

    Args:
        open_job: the job in which it is recorded what was done.
    """

    CSS_PATH = "aside.tcss"
    BINDINGS: ClassVar[list[BindingType]] = [
        Binding("escape", "back", "Back", show=False),
        binding("look-again", "look_again"),
        binding("help", "help"),
    ]
    topic: ClassVar[str]
    """Of its help."""
    what: ClassVar[str]
    """It looks at, for the palette."""

    def __init__(self, open_job: OpenJob) -> None:
        super().__init__()
        self.add_class("aside")
        self._open_job = open_job
        self._unfolded = False

    def compose(self) -> ComposeResult:
        """Head, sentence, list, hint."""
        yield Static(id="head", markup=False)
        yield Static(id="say", classes="big", markup=False)
        yield LineList(id="list")
        yield Static(id="hint", markup=False)

    def on_mount(self) -> None:
        """Look at the computer."""
        self.action_look_again()
        self.set_focus(self.query_one(LineList))

    def begun(self) -> None:
        """The head says what is under way."""
        self.update_all()

    def action_look_again(self) -> None:
        """What there is now."""
        raise NotImplementedError

    def folded(self, words: str, rows: list[Line], palette: Palette) -> list[Line]:
        """These rows below their sum, or the sum alone until they are asked for."""
        if not rows:
            return []
        more = "" if self._unfolded else ": Enter shows them and why"
        text = Text(f"   {words}{more}", style=palette.soft)
        return [Line(Text()), Line(text, FOLD), *(rows if self._unfolded else ())]

    def on_line_list_opened(self, message: LineList.Opened) -> None:
        """Show what is folded away, or what the line is for."""
        if message.key == FOLD:
            self._unfolded = not self._unfolded
            self.update_all()
        else:
            self.opened(message.key)

    def opened(self, key: str) -> None:
        """The line of this key was opened."""
        raise NotImplementedError

    def commands(self) -> tuple[Command, ...]:
        """For the palette."""
        return (
            Command("Look again", self.action_look_again, self.what, "look-again"),
            Command("Back", self.action_back, "to the job", "Escape"),
            Command("Explain this screen", self.action_help, "in the words of the work", "help"),
        )

    def action_help(self) -> None:
        """Explain the screen."""
        self.app.push_screen(HelpScreen(self.topic))
