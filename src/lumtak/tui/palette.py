"""Every command of a screen, in the order of the work, with its key; typing narrows the list."""

from collections.abc import Iterable
from typing import ClassVar

from rich.text import Text
from textual.app import ComposeResult
from textual.binding import Binding, BindingType
from textual.containers import Vertical
from textual.screen import ModalScreen
from textual.widgets import Input, Static

from lumtak.tui.command import Command
from lumtak.tui.keys import BY_NAME, key_of
from lumtak.tui.theme import Palette
from lumtak.tui.widgets.lines import Line, LineList, column

_NAME, _KEY = 34, 10


class PaletteScreen(ModalScreen[None]):
    """The list; what is chosen is done once it has closed.

    Args:
        commands: in the order of the work.
    """

    CSS_PATH = "palette.tcss"
    BINDINGS: ClassVar[list[BindingType]] = [
        Binding("escape", "dismiss", "Close", show=False),
        Binding("up", "move(-1)", "Up", show=False),
        Binding("down", "move(1)", "Down", show=False),
        Binding("pageup", "move(-10)", "Page up", show=False),
        Binding("pagedown", "move(10)", "Page down", show=False),
    ]

    def __init__(self, commands: Iterable[Command]) -> None:
        super().__init__()
        self._commands = tuple(commands)

    def compose(self) -> ComposeResult:
        """What is typed, what it leaves."""
        with Vertical(id="paper"):
            yield Input(placeholder="what is to be done?", id="words", compact=True)
            yield LineList(id="commands", one_click=True)
            yield Static("Enter does it, Escape closes this.", classes="soft", markup=False)

    def on_mount(self) -> None:
        """All of them."""
        self.query_one(LineList).can_focus = False
        self.set_focus(self.query_one(Input))
        self._show("")

    def _show(self, words: str) -> None:
        palette = Palette(self.app)
        given = words.lower().split()
        lines = []
        for place, command in enumerate(self._commands):
            said = f"{command.words} {command.about}".lower()
            if not all(word in said for word in given):
                continue
            text = Text(" ")
            text.append(column(command.words, _NAME), style=f"bold {palette.ink}")
            text.append(column(self._key(command), _KEY), style=palette.accent)
            text.append(command.about, style=palette.soft)
            lines.append(Line(text, str(place)))
        if not lines:
            lines = [Line(Text(" There is no such command here.", style=palette.soft))]
        self.query_one(LineList).show(lines)

    def _key(self, command: Command) -> str:
        return key_of(self.app, command.key) if command.key in BY_NAME else command.key

    def on_input_changed(self, event: Input.Changed) -> None:
        """The list follows."""
        event.stop()
        self._show(event.value)

    def on_input_submitted(self, event: Input.Submitted) -> None:
        """Do what is selected."""
        event.stop()
        self._do(self.query_one(LineList).selected)

    def on_line_list_opened(self, message: LineList.Opened) -> None:
        """A click on what is selected."""
        message.stop()
        self._do(message.key)

    def action_move(self, steps: int) -> None:
        """Along the list."""
        self.query_one(LineList).action_move(steps)

    def _do(self, key: str | None) -> None:
        if key is None:
            return
        command = self._commands[int(key)]
        self.dismiss()
        self.app.call_later(command.run)
