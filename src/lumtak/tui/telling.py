"""What a person has to say in their own words: a few lines, and what follows from them."""

from collections.abc import Sequence
from typing import ClassVar, NamedTuple

from textual.app import ComposeResult
from textual.binding import Binding, BindingType
from textual.containers import Horizontal, Vertical
from textual.screen import ModalScreen
from textual.widgets import Button, Input, Static

from lumtak.core.text import plain


class Told(NamedTuple):
    """What was said."""

    choice: str
    """The id of the button."""
    lines: tuple[str, ...]


class TellScreen(ModalScreen[Told | None]):
    """Gives what was typed and chosen; None where the person thought better of it.

    Args:
        question: what is to be said.
        about: what is known so far.
        lines: what each line is for.
        choices: (id, words) of the buttons; the first does nothing.
        values: what the lines say to begin with; then they may be emptied.
    """

    CSS_PATH = "confirm.tcss"
    BINDINGS: ClassVar[list[BindingType]] = [Binding("escape", "no", "No", show=False)]

    def __init__(
        self,
        question: str,
        about: str,
        *,
        lines: Sequence[str],
        choices: Sequence[tuple[str, str]],
        values: Sequence[str] = (),
    ) -> None:
        super().__init__(classes="ask")
        self._question, self._about = question, about
        self._names, self._choices = tuple(lines), tuple(choices)
        self._values = tuple(values)

    def compose(self) -> ComposeResult:
        """Question, what is known, a line for each answer, the choices."""
        with Vertical(id="paper"):
            yield Static(plain(self._question, 200), id="question", markup=False)
            yield Static(plain(self._about, 600), id="what", markup=False)
            for number, name in enumerate(self._names):
                yield Static(name, classes="soft", markup=False)
                value = self._values[number] if self._values else ""
                yield Input(
                    value, id=f"line-{number}", classes="line", compact=True, max_length=1000
                )
            yield Static(id="said", classes="soft", markup=False)
            with Horizontal(classes="acts"):
                for name, words in self._choices:
                    yield Button(words, id=name, compact=True)

    def on_mount(self) -> None:
        """Into the first line."""
        self.set_focus(self.query_one("#line-0", Input))

    def on_input_submitted(self, event: Input.Submitted) -> None:
        """Enter goes on: to the next line, then to the choices."""
        event.stop()
        self.focus_next()

    def on_button_pressed(self, event: Button.Pressed) -> None:
        """That is what was said, once every line says something."""
        event.stop()
        if event.button.id == self._choices[0][0]:
            self.dismiss(None)
            return
        lines = tuple(line.value.strip() for line in self.query(Input))
        if all(lines) or self._values:
            self.dismiss(Told(event.button.id or "", lines))
            return
        self.query_one("#said", Static).update("Every line has to say something.")
        self.set_focus(next(line for line in self.query(Input) if not line.value.strip()))

    def action_no(self) -> None:
        """Nothing is said."""
        self.dismiss(None)
