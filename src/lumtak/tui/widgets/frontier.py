"""The picture of a frontier.

Step by step along disruption, CPU and RAM fall towards their ceilings.
"""

from collections.abc import Callable, Sequence
from typing import NamedTuple

from rich.text import Text

from lumtak.core.units import percent, ram
from lumtak.tui.theme import Palette

_BARS = " ▁▂▃▄▅▆▇█"
_LEVELS = len(_BARS) - 1
_GAP = 4
_NARROW = 45


class Panel(NamedTuple):
    """One load along the frontier."""

    name: str
    values: Sequence[float]
    ceiling: float
    words: Callable[[float], str]


class Stand(NamedTuple):
    """Where on the frontier one is."""

    at: int | None
    """None where what is chosen is none of its steps."""
    least: int | None
    """The step of the least plan."""


def frontier_picture(
    cpu: Sequence[float],
    ram_bytes: Sequence[float],
    ceilings: tuple[float, float],
    stand: Stand,
    *,
    width: int,
    height: int,
    palette: Palette,
) -> Text:
    """Both loads side by side, so many lines high, with a line above and one of marks below.

    Args:
        cpu: percent, at each step.
        ram_bytes: at each step.
        ceilings: (percent, bytes).
        stand: what is marked.
        width: cells for both.
        height: lines of the bars.
        palette: colours.
    """
    side = (width - _GAP - 2) // 2
    panels = (
        Panel("CPU", cpu, ceilings[0], percent),
        Panel("RAM", ram_bytes, ceilings[1], ram),
    )
    sides = [_panel(p, stand, side, height, palette) for p in panels]
    text = Text()
    for left, right in zip(*sides, strict=True):
        text.append(" ")
        left.truncate(side, pad=True)
        text.append_text(left)
        text.append(" " * _GAP)
        right.truncate(side)
        text.append_text(right)
        text.append("\n")
    return text


def _panel(panel: Panel, stand: Stand, width: int, height: int, palette: Palette) -> list[Text]:
    values, count = panel.values, len(panel.values)
    cell = max(1, min(9, width // max(1, count)))
    top = max(*values, panel.ceiling) or 1.0
    return [
        _head(panel, stand, palette, narrow=width < _NARROW),
        *(
            _line(panel, stand, line, height, top, cell, palette)
            for line in reversed(range(height))
        ),
        _marks(stand, count, cell, palette),
    ]


def _head(panel: Panel, stand: Stand, palette: Palette, *, narrow: bool) -> Text:
    now = panel.values[0 if stand.at is None else stand.at]
    over = now > panel.ceiling
    text = Text()
    text.append(f"{panel.name} ", style=f"bold {palette.ink}")
    text.append(
        f"{panel.words(now)} {'over' if over else 'within'}",
        style=f"bold {palette.kinds['ease'] if over else palette.accent}",
    )
    ceiling = panel.words(panel.ceiling)
    text.append(f" {ceiling if narrow else f'the ceiling of {ceiling}'}", style=palette.soft)
    return text


def _line(
    panel: Panel, stand: Stand, line: int, height: int, top: float, cell: int, palette: Palette
) -> Text:
    """A line of the bars; the ceiling runs through where nothing stands."""
    text = Text()
    at_ceiling = int(panel.ceiling / top * height * 0.999) == line
    for place, value in enumerate(panel.values):
        eighths = min(_LEVELS, max(0, round((value / top * height - line) * _LEVELS)))
        if line == 0:
            eighths = max(1, eighths)
        over = value > panel.ceiling
        colour = palette.kinds["ease"] if over else palette.kinds["keep"]
        style = f"bold {palette.lit}" if place == stand.at else colour
        bar = cell - 1 if cell > 1 else 1
        if eighths:
            text.append(_BARS[eighths] * bar, style=style)
        else:
            text.append(("┈" if at_ceiling else " ") * bar, style=palette.soft)
        if cell > 1:
            text.append("┈" if at_ceiling else " ", style=palette.soft)
    return text


def _marks(stand: Stand, count: int, cell: int, palette: Palette) -> Text:
    """Where one is, and where the least plan is."""
    text = Text()
    for place in range(count):
        here, least = place == stand.at, place == stand.least
        mark = "▲" if here else "◆" if least else " "
        style = f"bold {palette.lit}" if here else palette.accent
        text.append(mark.center(max(1, cell - 1)) + (" " if cell > 1 else ""), style=style)
    return text
