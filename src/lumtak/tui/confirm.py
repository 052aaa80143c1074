"""A question before something is done: what will happen, what stops working, how to put it back.

The safe answer is the default.
"""

from typing import ClassVar

from textual.app import ComposeResult
from textual.binding import Binding, BindingType
from textual.containers import Horizontal, Vertical, VerticalScroll
from textual.screen import ModalScreen
from textual.widgets import Button, Static


class ConfirmScreen(ModalScreen[bool]):
    """Answers True only when the second button is chosen."""

    CSS_PATH = "confirm.tcss"
    BINDINGS: ClassVar[list[BindingType]] = [
        Binding("escape,n", "no", "No", show=False),
        Binding("left,up", "app.focus_previous", "Other answer", show=False),
        Binding("right,down", "app.focus_next", "Other answer", show=False),
    ]

    def __init__(
        self, question: str, what: str, *, yes: str, no: str = "Leave everything as it is"
    ) -> None:
        super().__init__(classes="ask")
        self._question, self._what, self._yes, self._no = question, what, yes, no

    def compose(self) -> ComposeResult:
        """Question, what it means, two answers."""
        with Vertical(id="paper"):
            yield Static(self._question, id="question", markup=False)
            with VerticalScroll(id="what", can_focus=False):
                yield Static(self._what, markup=False)
            with Horizontal(classes="acts"):
                yield Button(self._no, id="no", compact=True)
                yield Button(self._yes, id="yes", compact=True)

    def on_mount(self) -> None:
        """The safe answer has the focus."""
        self.query_one("#no").focus()

    def on_button_pressed(self, event: Button.Pressed) -> None:
        """That answer."""
        self.dismiss(event.button.id == "yes")

    def action_no(self) -> None:
        """The safe answer."""
        self.dismiss(result=False)
