"""One of several to be picked: a list, and what it is for."""

from collections.abc import Sequence
from typing import ClassVar

from rich.text import Text
from textual.app import ComposeResult
from textual.binding import Binding, BindingType
from textual.containers import Vertical
from textual.screen import ModalScreen
from textual.widgets import Static

from lumtak.core.text import plain
from lumtak.tui.theme import Palette
from lumtak.tui.widgets.lines import Line, LineList

_HIGHEST = 20


class PickScreen(ModalScreen[str | None]):
    """Gives the key of what was picked; None where the person thought better of it.

    Args:
        question: what is to be picked.
        about: what follows from it.
        options: (key, words, more about it) of each.
        here: the key of the one that counts now.
    """

    CSS_PATH = "confirm.tcss"
    BINDINGS: ClassVar[list[BindingType]] = [Binding("escape", "no", "No", show=False)]

    def __init__(
        self, question: str, about: str, options: Sequence[tuple[str, str, str]], here: str
    ) -> None:
        super().__init__(classes="ask")
        self._question, self._about = question, about
        self._options, self._here = options, here

    def compose(self) -> ComposeResult:
        """Question, what follows, the list."""
        with Vertical(id="paper"):
            yield Static(plain(self._question, 200), id="question", markup=False)
            yield Static(plain(self._about, 600), id="what", markup=False)
            yield LineList(id="options", one_click=True)
            yield Static("Enter picks; Escape leaves it as it is.", classes="soft", markup=False)

    def on_mount(self) -> None:
        """On the one that counts now."""
        palette = Palette(self.app)
        lines = []
        for key, words, more in self._options:
            text = Text(" ◆ " if key == self._here else "   ", style=palette.accent)
            text.append(f"{plain(words, 40):<42}", style=palette.ink)
            text.append(plain(more, 60), style=palette.soft)
            lines.append(Line(text, key))
        self.query_one(LineList).styles.height = min(len(lines), _HIGHEST)
        self.query_one(LineList).show(lines, self._here)
        self.set_focus(self.query_one(LineList))

    def on_line_list_opened(self, message: LineList.Opened) -> None:
        """That one."""
        message.stop()
        self.dismiss(message.key)

    def action_no(self) -> None:
        """None."""
        self.dismiss(None)
