"""What only the owner can know, as a short interview.

One question at a time, the heaviest first.
"""

from collections.abc import Mapping
from typing import ClassVar

from rich.text import Text
from textual.app import ComposeResult
from textual.binding import Binding, BindingType
from textual.containers import Horizontal, Vertical, VerticalScroll
from textual.screen import ModalScreen
from textual.widgets import Button, Static

from lumtak.core.audit import Answer, Audit, Finding
from lumtak.core.record import known
from lumtak.core.text import plain
from lumtak.core.units import percent, ram
from lumtak.tui.theme import Palette

Answers = dict[str, Answer | None]
_ANSWERS: dict[str, Answer] = {"needed": "needed", "unneeded": "not needed"}


def questions(found: Audit) -> tuple[Finding, ...]:
    """What is to be asked, the heaviest first.

    Then what was answered already, so that it can be answered otherwise.
    """
    asked = [f for f in found.findings if f.question]
    return tuple(sorted(asked, key=lambda f: (bool(f.answer), -f.weight.heft, f.key)))


class InterviewScreen(ModalScreen[Answers]):
    """Gives what was answered, by address; None where an answer was taken back.

    Args:
        asked: the questions.
        closely: lines about what runs of each, by address.
    """

    CSS_PATH = "confirm.tcss"
    BINDINGS: ClassVar[list[BindingType]] = [
        Binding("escape", "end", "End", show=False),
        Binding("left,up", "app.focus_previous", "Other answer", show=False),
        Binding("right,down", "app.focus_next", "Other answer", show=False),
        Binding("backspace", "before", "The question before", show=False),
    ]

    def __init__(self, asked: tuple[Finding, ...], closely: Mapping[str, tuple[str, ...]]) -> None:
        super().__init__(classes="ask")
        self._asked, self._closely = asked, closely
        self._place = 0
        self._given: Answers = {}

    def compose(self) -> ComposeResult:
        """Question, what is known, three answers."""
        with Vertical(id="paper"):
            yield Static(id="question", markup=False)
            with VerticalScroll(id="what", can_focus=False):
                yield Static(id="about", markup=False)
            with Horizontal(classes="acts"):
                yield Button("Not known yet", id="open", compact=True)
                yield Button("It is needed", id="needed", compact=True)
                yield Button("Nobody uses it", id="unneeded", compact=True)

    def on_mount(self) -> None:
        """The first question."""
        self.update_all()

    def update_all(self) -> None:
        """Draw the question that is asked now."""
        palette, f = Palette(self.app), self._asked[self._place]
        self.query_one("#question", Static).update(plain(f.question, 300))
        text = Text()
        text.append(f"question {self._place + 1} of {len(self._asked)}\n\n", style=palette.soft)
        text.append(plain(f.title, 60), style=f"bold {palette.ink}")
        text.append(
            f"   {ram(known(f.weight.ram_bytes))}   {percent(known(f.weight.cpu_pct))}\n",
            style=palette.ink,
        )
        for words in (
            f.does,
            f.started_by,
            f.stops and f"without it: {f.stops}",
            f.answer and f"the owner said: {f.answer}",
        ):
            if words:
                text.append(f"{plain(words, 200)}\n", style=palette.soft)
        for line in self._closely.get(str(f.ref), ()):
            text.append(f"{plain(line, 200)}\n", style=palette.soft)
        text.append(
            "\nEscape ends and keeps what was answered; Backspace goes one question back.",
            style=palette.soft,
        )
        self.query_one("#about", Static).update(text)
        self.query_one("#open").focus()

    def on_button_pressed(self, event: Button.Pressed) -> None:
        """The next question, or the end."""
        finding = self._asked[self._place]
        answer = _ANSWERS.get(event.button.id or "")
        if answer != (finding.answer or None):
            self._given[str(finding.ref)] = answer
        else:
            self._given.pop(str(finding.ref), None)
        self._place += 1
        if self._place == len(self._asked):
            self.dismiss(self._given)
        else:
            self.update_all()

    def action_before(self) -> None:
        """The question before."""
        self._place = max(0, self._place - 1)
        self.update_all()

    def action_end(self) -> None:
        """What was answered counts."""
        self.dismiss(self._given)
