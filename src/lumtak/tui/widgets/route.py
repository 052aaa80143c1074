"""The route: the six stations of a job on one line."""

from rich.segment import Segment
from rich.style import Style
from textual import events
from textual.message import Message
from textual.strip import Strip as Row
from textual.widget import Widget

from lumtak.casebook import STATIONS, Station
from lumtak.tui.theme import Palette

_SHORT: dict[Station, str] = {
    "intake": "Intake",
    "baseline": "Base",
    "audit": "Audit",
    "plan": "Plan",
    "proof": "Proof",
    "handover": "Hand",
}


class Route(Widget):
    """Stations left to right.

    The one that is open stands out, those with something in them are marked.
    """

    DEFAULT_CSS = "Route { height: 1; }"

    class Gone(Message):
        """A station was clicked."""

        def __init__(self, station: Station) -> None:
            super().__init__()
            self.station = station

    def __init__(self, *, id: str | None = None) -> None:  # noqa: A002 - Textual's name
        super().__init__(id=id)
        self._here: Station = "intake"
        self._done: set[Station] = set()

    def show(self, here: Station, done: set[Station]) -> None:
        """Show where the job stands and what is done."""
        self._here, self._done = here, done
        self.refresh()

    def _pieces(self) -> list[tuple[Station | None, str]]:
        wide = self.size.width >= 92
        pieces: list[tuple[Station | None, str]] = [(None, "── " if wide else "─ ")]
        for number, station in enumerate(STATIONS, start=1):
            word = station.capitalize() if wide else _SHORT[station]
            mark = "•" if station in self._done else " " if wide else ""
            pieces += [(station, f"{number} {word}{mark}"), (None, " ── " if wide else " ─ ")]
        pieces[-1] = (None, " ")
        return pieces

    def render_line(self, y: int) -> Row:
        """The line."""
        del y
        palette = Palette(self.app)
        rule, segments = Style(color=palette.rule), []
        for station, text in self._pieces():
            if station is None:
                style = rule
            elif station == self._here:
                style = Style(color=palette.accent, bold=True, underline=True)
            else:
                style = Style(color=palette.ink if station in self._done else palette.soft)
            segments.append(Segment(text, style))
        row = Row(segments)
        rest = self.size.width - row.cell_length
        return (
            Row([*segments, Segment("─" * max(0, rest), rule)])
            .apply_style(self.rich_style)
            .crop(0, self.size.width)
        )

    def on_click(self, event: events.Click) -> None:
        """Go to the station that was clicked."""
        edge = 0
        for station, text in self._pieces():
            edge += len(text)
            if event.x < edge:
                if station is not None:
                    self.post_message(self.Gone(station))
                return
