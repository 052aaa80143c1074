"""How many items take which stance, as words that can be clicked."""

from collections import Counter
from collections.abc import Iterable

from rich.segment import Segment
from rich.style import Style
from textual import events
from textual.message import Message
from textual.strip import Strip as Row
from textual.widget import Widget

from lumtak.core.audit import Finding
from lumtak.core.stance import Stance
from lumtak.tui.theme import Palette

_ORDER: tuple[Stance, ...] = ("ease", "set", "ask", "keep", "guarded")


class Stances(Widget):
    """`ease 15   set 2   ask 2   keep 30   guarded 127`.

    A click shows only these, another one all again.
    """

    DEFAULT_CSS = "Stances { height: 1; width: auto; }"

    class Clicked(Message):
        """A stance was clicked."""

        def __init__(self, stance: Stance) -> None:
            super().__init__()
            self.stance = stance

    def __init__(self, *, id: str | None = None) -> None:  # noqa: A002 - Textual's name
        super().__init__(id=id)
        self._counts: Counter[Stance] = Counter()
        self._lit: frozenset[str] = frozenset()

    def count(self, findings: Iterable[Finding]) -> None:
        """Show how many there are."""
        self._counts = Counter(f.stance for f in findings)
        self.refresh(layout=True)

    def light(self, words: Iterable[str]) -> None:
        """These are asked for."""
        lit = frozenset(words).intersection(self._counts)
        if lit != self._lit:
            self._lit = lit
            self.refresh()

    def _pieces(self) -> list[tuple[Stance, str]]:
        return [(s, f"  {s} {self._counts[s]} ") for s in _ORDER if self._counts[s]]

    def get_content_width(self, *_: object) -> int:
        """As wide as its words."""
        return sum(len(words) for _, words in self._pieces())

    def render_line(self, y: int) -> Row:
        """The line."""
        del y
        palette = Palette(self.app)
        segments = [
            Segment(
                words,
                Style(
                    color=palette.stances[stance],
                    bold=stance in self._lit,
                    underline=stance in self._lit,
                ),
            )
            for stance, words in self._pieces()
        ]
        return (
            Row(segments)
            .apply_style(self.rich_style)
            .adjust_cell_length(self.size.width, self.rich_style)
        )

    def on_click(self, event: events.Click) -> None:
        """That stance."""
        edge = 0
        for stance, words in self._pieces():
            edge += len(words)
            if event.x < edge:
                self.post_message(self.Clicked(stance))
                return
