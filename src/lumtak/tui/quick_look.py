"""A quick look at a computer without a job: what weighs just now, and what that cannot say."""

from typing import ClassVar

from rich.text import Text
from textual.app import ComposeResult
from textual.binding import Binding, BindingType
from textual.widgets import Static

from lumtak.computers.protocol import Computer
from lumtak.core.facts import Facts
from lumtak.core.reading import Reading
from lumtak.tui.background import WorkingScreen
from lumtak.tui.theme import Palette
from lumtak.tui.widgets.lines import Line, LineList
from lumtak.tui.widgets.live import Live
from lumtak.work.quick import Look, Row, look_in_words, quick_look
from lumtak.work.sampling import take_reading

_SECONDS = 20.0


class QuickLookScreen(WorkingScreen):
    """Reads for a short while, then says what was seen; nothing is kept, nothing is touched.

    Args:
        computer: what is looked at; closed when the screen is left.
    """

    CSS_PATH = "aside.tcss"
    BINDINGS: ClassVar[list[BindingType]] = [
        Binding("escape", "back", "Back", show=False),
        Binding("r", "again", "Look again", show=False),
        Binding("question_mark", "help", "Help", show=False),
    ]

    def __init__(self, computer: Computer) -> None:
        super().__init__()
        self.add_class("aside")
        self._computer = computer
        self._found: Look | None = None

    def compose(self) -> ComposeResult:
        """Head, the reading as it comes, what was seen, hint."""
        yield Static(id="head", markup=False)
        yield Live("Looking", id="live")
        yield LineList(id="list")
        yield Static(id="hint", markup=False)

    def on_mount(self) -> None:
        """Look."""
        self.action_again()

    def action_again(self) -> None:
        """Look once more."""
        live = self.query_one(Live)

        def read() -> tuple[Facts, Reading]:
            reading = take_reading(
                self._computer,
                seconds=_SECONDS,
                on_begin=live.follow,
                on_sample=live.note,
                stop=self.stop,
            )
            return self._computer.about.facts(), reading

        if self.begin("looking", read, self._saw):
            live.begin(0.0)
            self.update_all()

    def _saw(self, found: tuple[Facts, Reading]) -> None:
        self._found = quick_look(*found)

    def update_all(self) -> None:
        """Draw everything as it is now."""
        self.draw_head(self._computer.name, "a quick look; nothing is kept or touched")
        live, lines = self.query_one(Live), self.query_one(LineList)
        live.display = bool(self.busy)
        lines.display = not self.busy
        if self._found is not None and not self.busy:
            lines.show([_line(row, Palette(self.app)) for row in look_in_words(self._found)])
            lines.focus()
        self.query_one("#hint", Static).update(
            "Escape ends it."
            if self.busy
            else (
                "r looks again; Escape goes back; a job on this computer says what of it is needed."
            )
        )

    def let_go(self) -> None:
        """The computer."""
        self._computer.close()

    def action_help(self) -> None:
        """Explain the screen."""
        from lumtak.tui.help import HelpScreen

        self.app.push_screen(HelpScreen("look"))


def _line(row: Row, palette: Palette) -> Line:
    return Line(Text(f" {row.words}", style=f"bold {palette.soft}" if row.is_head else palette.ink))
