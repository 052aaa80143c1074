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

from lumtak.core.asking import Question
from lumtak.core.audit import Answer, Finding
from lumtak.core.record import known
from lumtak.core.text import plain
from lumtak.core.units import percent, ram
from lumtak.tui.theme import Palette

Answers = dict[str, Answer | None]
_SHOWN = 4
"""Items of a question that are told of; the others are counted."""
_ANSWERS: dict[str, Answer] = {"needed": "needed", "unneeded": "not needed"}


class InterviewScreen(ModalScreen[Answers]):
    """Gives what was answered, by consumer; None where an answer was taken back.

    Args:
        asked: the questions.
        closely: lines about what runs of each item, by consumer.
    """

    CSS_PATH = "confirm.tcss"
    BINDINGS: ClassVar[list[BindingType]] = [
        Binding("escape", "end", "End", show=False),
        Binding("left,up", "app.focus_previous", "Other answer", show=False),
        Binding("right,down", "app.focus_next", "Other answer", show=False),
        Binding("backspace", "before", "The question before", show=False),
    ]

    def __init__(self, asked: tuple[Question, ...], closely: Mapping[str, tuple[str, ...]]) -> None:
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
        for button in self.query(Button):
            button.active_effect_duration = 0  # while it lights up, a second press would be lost
        self.update_all()

    def update_all(self) -> None:
        """Draw the question that is asked now."""
        palette, question = Palette(self.app), self._asked[self._place]
        self.query_one("#question", Static).update(plain(question.words, 300))
        text = Text()
        text.append(f"question {self._place + 1} of {len(self._asked)}\n\n", style=palette.soft)
        for f in question.about[:_SHOWN]:
            text.append_text(self._about(f, palette))
        if (more := len(question.about) - _SHOWN) > 0:
            text.append(f"and {more} more that it decides\n", style=palette.soft)
        if question.answer:
            text.append(f"the owner said: {question.answer}\n", style=palette.soft)
        text.append(
            "\nEscape ends and keeps what was answered; Backspace goes one question back.",
            style=palette.soft,
        )
        self.query_one("#about", Static).update(text)
        self.set_focus(self.query_one("#open"))

    def _about(self, f: Finding, palette: Palette) -> Text:
        """An item that the question decides: what it weighs, and all that is known of it."""
        text = Text.assemble((plain(f.title, 60), f"bold {palette.ink}"))
        memory, cpu = ram(known(f.weight.ram_bytes)), percent(known(f.weight.cpu_pct))
        text.append(f"   {memory}   {cpu}\n", style=palette.ink)
        stops = f"without it: {f.stops}" if f.stops else ""
        for words in (f.does, f.started_by, stops, *self._closely.get(f.consumer, ())):
            if words:
                text.append(f"{plain(words, 200)}\n", style=palette.soft)
        return text

    def on_button_pressed(self, event: Button.Pressed) -> None:
        """The next question, or the end."""
        answer = _ANSWERS.get(event.button.id or "")
        for finding in self._asked[self._place].about:
            if answer != (finding.answer or None):
                self._given[finding.consumer] = answer
            else:
                self._given.pop(finding.consumer, None)
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
