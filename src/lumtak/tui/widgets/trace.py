"""A load over time, drawn in blocks while it is measured."""

from collections.abc import Sequence
from itertools import groupby

from rich.segment import Segment
from rich.style import Style
from textual.geometry import Region
from textual.strip import Strip as Row
from textual.widget import Widget

from lumtak.tui.theme import Palette

_BLOCKS = " ▁▂▃▄▅▆▇█"
_AXIS = 6
_TOPS = {8: 2, 16: 4, 25: 5, 40: 10, 60: 20, 80: 20, 100: 20}
"""Ends of the scale with the step of its marks."""


class Trace(Widget):
    """CPU load from left to right, with the ceiling as a line.

    Samples before the load settled are drawn faint.

    While a reading runs, only the columns that changed are drawn again.
    """

    DEFAULT_CSS = "Trace { height: 30%; min-height: 6; max-height: 14; }"

    def __init__(self, *, id: str | None = None) -> None:  # noqa: A002 - Textual's name
        super().__init__(id=id)
        self._values: Sequence[float] = ()
        self._settled_from = 0
        self._ceiling = 0.0
        self._most = 0
        self._seen: list[tuple[float, bool]] = []
        self._scale: tuple[object, ...] = ()
        self._reach = self._top()
        """The end of the scale that is drawn."""
        self._ground: tuple[str, Style] = ("", Style())

    def show(
        self, values: Sequence[float], *, ceiling: float, settled_from: int = 0, most: int = 0
    ) -> None:
        """Show these percentages.

        Args:
            values: in order.
            ceiling: that of the profile.
            settled_from: index of the first that counts.
            most: how many there will be, so that the columns stay where they are; 0 is as many as
                there are.
        """
        self._values, self._ceiling, self._settled_from, self._most = (
            values,
            ceiling,
            settled_from,
            most,
        )
        columns, scale = self._columns(), (self._top(), ceiling, self._per())
        if scale == self._scale and len(columns) >= len(self._seen):
            changed = [
                x
                for x, column in enumerate(columns)
                if x >= len(self._seen) or column != self._seen[x]
            ]
            if changed:
                first = changed[0]
                touched = [c[x][0] for c in (columns, self._seen) for x in changed if x < len(c)]
                height = self.size.height
                top = max(0, height - 2 - int(max(touched) / self._top() * height))
                self.refresh(Region(_AXIS + first, top, changed[-1] - first + 1, height - top))
        else:
            self.refresh()
        self._seen, self._scale, self._reach = columns, scale, self._top()

    def _room(self) -> int:
        return max(1, self.size.width - _AXIS - 1)

    def _per(self) -> int:
        return max(1, -(-max(len(self._values), self._most) // self._room()))

    def _columns(self) -> list[tuple[float, bool]]:
        """(value, settled) a column: as many samples a column as it takes to fit, their mean."""
        per = self._per()
        found = []
        for start in range(0, len(self._values), per):
            part = self._values[start : start + per]
            found.append((sum(part) / len(part), start + len(part) > self._settled_from))
        return found

    def render_line(self, y: int) -> Row:
        """One line, from the top."""
        palette = Palette(self.app)
        if self._ground[0] != self.app.theme:
            self._ground = (self.app.theme, self.rich_style)
        ground = self._ground[1]
        height, width = self.size.height, self.size.width - _AXIS - 1
        if width < 1:
            return Row.blank(self.size.width, ground)
        if self._scale[2:] != (self._per(),):  # the window is another one since
            self._seen, self._scale = self._columns(), (self._top(), self._ceiling, self._per())
        step = self._reach / height
        low = (height - 1 - y) * step
        at_ceiling = low < self._ceiling <= low + step
        drawn = self._ceiling_line if at_ceiling else self._blocks
        segments = [self._axis(low, step, palette, at_ceiling=at_ceiling)]
        segments += drawn(low, step, width, palette)
        return Row(segments).apply_style(ground).adjust_cell_length(self.size.width, ground)

    def _axis(self, low: float, step: float, palette: Palette, *, at_ceiling: bool) -> Segment:
        """The mark of the scale, or the ceiling's figure."""
        if at_ceiling:
            return Segment(f"{self._ceiling:g} %┄".rjust(_AXIS), Style(color=palette.ink))
        every = _TOPS[self._reach]
        tick = int((low + step + 1e-9) // every) * every
        mark = f"{tick} % " if tick > low + 1e-9 else " "
        return Segment(mark.rjust(_AXIS), Style(color=palette.soft))

    def _levels(self, low: float, step: float) -> list[tuple[int, bool]]:
        """(eighths of this line that a column fills, whether it settled) of each column."""
        return [
            (max(0, min(8, round((value - low) / step * 8))), settled)
            for value, settled in self._seen
        ]

    def _blocks(self, low: float, step: float, _width: int, palette: Palette) -> list[Segment]:
        colours = (palette.kinds["cache"], palette.kinds["keep"])
        return [
            Segment("".join(_BLOCKS[level] for level, _ in run), Style(color=colours[settled]))
            for settled, run in groupby(self._levels(low, step), key=lambda cell: cell[1])
        ]

    def _ceiling_line(self, low: float, step: float, width: int, palette: Palette) -> list[Segment]:
        """Dashes over what reaches behind them, then the word, where there is room."""
        colours = (palette.kinds["cache"], palette.kinds["keep"])
        levels = self._levels(low, step)
        segments = []
        for behind, run in groupby(levels, key=lambda c: colours[c[1]] if c[0] > 4 else None):
            style = Style(color=palette.ink, bgcolor=behind)
            segments.append(Segment("┄" * len(list(run)), style))
        word, rest = " ceiling ", width - len(levels)
        line = "┄" * (rest - len(word)) + word if rest > len(word) else "┄" * rest
        return [*segments, Segment(line, Style(color=palette.ink))]

    def _top(self) -> int:
        highest = max([*self._values, self._ceiling * 1.25, 5.0])
        return next((t for t in _TOPS if t >= highest), 100)
