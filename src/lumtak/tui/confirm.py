"""A question before something is done: what will happen, what stops working, how to put it back.

The safe answer is the default.
"""

from collections.abc import Callable
from typing import ClassVar

from textual.app import ComposeResult
from textual.binding import Binding, BindingType
from textual.containers import Horizontal, Vertical, VerticalScroll
from textual.screen import ModalScreen
from textual.widgets import Button, Static

from lumtak.tui.background import WorkingScreen

_CUT = {
    "baseline": ("A reading is being taken. Stop it and {}?", "What was read so far is kept."),
    "after": ("A reading is being taken. Stop it and {}?", "What was read so far is kept."),
    "applying": (
        "The plan is being applied. Stop after this change and {}?",
        "What is changed stays changed, and the rest is left as it is.",
    ),
}


def unless_at_work(screen: WorkingScreen, then: Callable[[], object], what: str) -> None:
    """Do that at once, or after a question where it would cut work short.

    Args:
        screen: that may be at work.
        then: what is to be done.
        what: the same in a word.
    """
    if screen.doing not in _CUT:
        then()
        return
    question, about = _CUT[screen.doing]

    def answered(yes: bool | None) -> None:  # noqa: FBT001 - Textual calls it so
        if yes:
            then()

    screen.app.push_screen(
        ConfirmScreen(question.format(what), about, yes=f"Stop and {what}", no="Go on"), answered
    )


_FIRST = "Left or right points at an answer, Enter gives it."


class ConfirmScreen(ModalScreen[bool]):
    """Answers True only when the second button is chosen.

    Args:
        question: what is asked.
        what: what it means.
        yes: the answer that does it.
        no: the safe answer.
        by_itself: whether it comes up without a key of the person's: then no key answers it before
            one that moves.
    """

    AUTO_FOCUS = ""

    CSS_PATH = "confirm.tcss"
    BINDINGS: ClassVar[list[BindingType]] = [
        Binding("escape,n", "no", "No", show=False),
        Binding("left,up", "point(-1)", "Other answer", show=False),
        Binding("right,down", "point(1)", "Other answer", show=False),
    ]

    def __init__(
        self,
        question: str,
        what: str,
        *,
        yes: str,
        no: str = "Leave everything as it is",
        by_itself: bool = False,
    ) -> None:
        super().__init__(classes="ask")
        self._by_itself = by_itself
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

            if self._by_itself:
                yield Static(_FIRST, classes="soft", markup=False)

    def on_mount(self) -> None:
        """The safe answer has the focus, unless the question came up by itself."""
        self.set_focus(None if self._by_itself else self.query_one("#no"))

    def action_point(self, steps: int) -> None:
        """To the other answer."""
        self._by_itself = False
        # At once, so that a quick typist's Enter goes to the answer that is lit.
        self.set_focus(self.query_one("#yes" if steps > 0 else "#no"))

    def on_button_pressed(self, event: Button.Pressed) -> None:
        """That answer."""
        self.dismiss(event.button.id == "yes")

    def action_no(self) -> None:
        """The safe answer; not by a key that was meant for what was there before."""
        if not self._by_itself:
            self.dismiss(result=False)
