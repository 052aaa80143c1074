"""Two distributions on one axis as rows of dots, with their medians and the interval of the
difference.
"""

from typing import NamedTuple

from rich.text import Text

from lumtak.core.units import signed
from lumtak.tui.theme import Palette

_DENSITY = " ·∙•●"
_NAME = 9


class Form(NamedTuple):
    """How values are written."""

    unit: str
    decimals: int

    def words(self, value: float) -> str:
        """A value with its unit."""
        return f"{value:.{self.decimals}f} {self.unit}"


class Difference(NamedTuple):
    """After minus before, with its interval."""

    middle: float
    low: float
    high: float
    clear: bool
    """Whether the interval is on one side of zero and matters."""
    form: Form
    reach: float
    """The axis goes at least so far to both sides."""


def distribution_rows(
    before: list[float],
    after: list[float],
    difference: Difference,
    form: Form,
    palette: Palette,
    width: int,
) -> list[Text]:
    """Rows of text: before, after, axis, difference.

    Args:
        before: values in the unit in which they are shown.
        after: the same.
        difference: of both, in a unit of its own.
        form: of the values.
        palette: of the theme.
        width: of the screen.
    """
    top = max(*before, *after) * 1.05 or 1.0
    room = max(20, width - _NAME - 30)
    colours = (palette.kinds["guarded"], palette.kinds["keep"])
    rows = [
        _dots(name, values, top, room, Palettes(palette, colour), form)
        for name, values, colour in zip(("before", "after"), (before, after), colours, strict=True)
    ]
    return [*rows, _axis(top, room, palette, form), _difference(difference, room, palette)]


class Palettes(NamedTuple):
    """The theme's palette, and the colour of one side."""

    palette: Palette
    colour: str


def _place(value: float, top: float, room: int) -> int:
    return max(0, min(room - 1, int(value / top * room)))


def _dots(
    name: str, values: list[float], top: float, room: int, colours: Palettes, form: Form
) -> Text:
    palette, colour = colours
    counts = [0] * room
    for value in values:
        counts[_place(value, top, room)] += 1
    most = max(counts)
    ordered = sorted(values)
    middle = ordered[len(ordered) // 2]
    text = Text()
    text.append(f" {name:<{_NAME - 1}}", style=palette.ink)
    for place, count in enumerate(counts):
        if place == _place(middle, top, room):
            text.append("┃", style=f"bold {palette.lit}")
        else:
            level = 0 if count == 0 else 1 + min(3, int(3 * count / most))
            text.append(_DENSITY[level], style=colour)
    text.append(f"  median {form.words(middle)}", style=palette.ink)
    return text


def _axis(top: float, room: int, palette: Palette, form: Form) -> Text:
    line = ["─"] * room
    for part in range(5):
        place = min(room - 1, part * room // 4)
        line[place] = "┴"
    text = Text()
    text.append(" " * _NAME + "".join(line), style=palette.rule)
    text.append(f"  0 to {form.words(top)}", style=palette.soft)
    return text


def _difference(found: Difference, room: int, palette: Palette) -> Text:
    """The interval of the difference, on its own axis with zero in the middle."""
    span = max(abs(found.low), abs(found.high), found.reach) * 1.1 or 1.0
    middle = room // 2

    def place(value: float) -> int:
        return max(0, min(room - 1, middle + round(value / span * middle)))

    colour = palette.accent if found.clear else palette.soft
    text = Text()
    text.append(f" {'change':<{_NAME - 1}}", style=palette.ink)
    for cell in range(room):
        if cell == place(found.middle):
            text.append("◆", style=f"bold {colour}")
        elif place(found.low) <= cell <= place(found.high):
            text.append("━", style=colour)
        elif cell == middle:
            text.append("0", style=palette.soft)
        else:
            text.append("┄" if cell % 2 else " ", style=palette.rule)
    low, high = (signed(x, found.form.decimals) for x in (found.low, found.high))
    text.append(f"  {low} to {high} {found.form.unit}", style=palette.ink)
    return text
