"""A load over time, drawn in blocks while it is measured."""

from rich.segment import Segment
from rich.style import Style
from textual.strip import Strip as Row
from textual.widget import Widget

from lumtak.tui.theme import Palette

_BLOCKS = " ▁▂▃▄▅▆▇█"
_AXIS = 6


class Trace(Widget):
    """CPU load, newest at the right, with the ceiling as a line; samples before the load settled are drawn faint."""

    DEFAULT_CSS = "Trace { height: 30%; min-height: 6; max-height: 14; }"

    def __init__(self, *, id: str | None = None) -> None:  # noqa: A002 - Textual's name
        super().__init__(id=id)
        self._values: list[float] = []
        self._settled_from = 0
        self._ceiling = 0.0

    def show(self, values: list[float], *, ceiling: float, settled_from: int = 0) -> None:
        """Show these percentages."""
        self._values, self._ceiling, self._settled_from = values, ceiling, settled_from
        self.refresh()

    def _columns(self, width: int) -> list[tuple[float, bool]]:
        """(value, settled) a column: as many samples a column as it takes to fit, their mean."""
        count = len(self._values)
        per = max(1, -(-count // width))
        found = []
        for start in range(0, count, per):
            part = self._values[start : start + per]
            found.append((sum(part) / len(part), start + len(part) > self._settled_from))
        return found

    def render_line(self, y: int) -> Row:
        """One line, from the top."""
        palette = Palette(self.app)
        height, width = self.size.height, self.size.width - _AXIS - 1
        if width < 1:
            return Row.blank(self.size.width, self.rich_style)
        columns = self._columns(width)
        top = self._top()
        low = (height - 1 - y) * top / height
        step = top / height
        at_ceiling = low < self._ceiling <= low + step
        mark = f"{low + step:.0f} %" if y % 2 == 0 else ""
        axis = f"{self._ceiling:g} %┄" if at_ceiling else mark + " "
        segments = [Segment(axis.rjust(_AXIS), Style(color=palette.ink if at_ceiling else palette.soft))]
        for value, settled in columns:
            level = max(0, min(8, round((value - low) / step * 8)))
            colour = palette.kinds["keep"] if settled else palette.kinds["cache"]
            if at_ceiling:
                segments.append(Segment("┄", Style(color=palette.ink, bgcolor=colour if level > 4 else None)))
            else:
                segments.append(Segment(_BLOCKS[level], Style(color=colour)))
        rest = width - len(columns)
        if at_ceiling:
            word = " ceiling "
            line = "┄" * max(0, rest - len(word)) + word if rest > len(word) else "┄" * rest
            segments.append(Segment(line, Style(color=palette.ink)))
        return Row(segments).apply_style(self.rich_style).adjust_cell_length(self.size.width, self.rich_style)

    def _top(self) -> float:
        highest = max([*self._values, self._ceiling * 1.25, 5.0])
        return next(t for t in (8, 16, 24, 40, 64, 80, 100, 1e9) if t >= highest)
