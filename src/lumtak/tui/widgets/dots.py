"""Two distributions on one axis as rows of dots, with their medians and the interval of the
difference.
"""

from rich.text import Text

from lumtak.core.compare import Comparison
from lumtak.core.units import signed
from lumtak.tui.theme import Palette

_DENSITY = " ·∙•●"
_NAME = 9


def distribution_rows(
    before: list[float],
    after: list[float],
    result: Comparison,
    palette: Palette,
    width: int,
    *,
    unit: str,
    scale: float,
    decimals: int,
) -> list[Text]:
    """Rows of text: before, after, axis, difference.

    Values are divided by `scale` and shown in `unit`.
    """
    sides = {"before": [v / scale for v in before], "after": [v / scale for v in after]}
    top = max(max(side) for side in sides.values()) * 1.05 or 1.0
    room = max(20, width - _NAME - 30)
    rows = []
    for name, values in sides.items():
        colour = palette.kinds["guarded"] if name == "before" else palette.kinds["keep"]
        rows.append(_dots(name, values, top, room, colour, palette, unit, decimals))
    rows += [
        _axis(top, room, palette, unit, decimals),
        _difference(result, top, room, palette, unit, scale, decimals),
    ]
    return rows


def _place(value: float, top: float, room: int) -> int:
    return max(0, min(room - 1, int(value / top * room)))


def _dots(
    name: str,
    values: list[float],
    top: float,
    room: int,
    colour: str,
    palette: Palette,
    unit: str,
    decimals: int,
) -> Text:
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
    text.append(f"  median {middle:.{decimals}f} {unit}", style=palette.ink)
    return text


def _axis(top: float, room: int, palette: Palette, unit: str, decimals: int) -> Text:
    line = ["─"] * room
    for part in range(5):
        place = min(room - 1, part * room // 4)
        line[place] = "┴"
    text = Text()
    text.append(" " * _NAME + "".join(line), style=palette.rule)
    text.append(f"  0 to {top:.{decimals}f} {unit}", style=palette.soft)
    return text


def _difference(
    result: Comparison,
    top: float,
    room: int,
    palette: Palette,
    unit: str,
    scale: float,
    decimals: int,
) -> Text:
    """The interval of the difference, on its own axis with zero in the middle."""
    low, high = (x / scale for x in result.ci95)
    span = max(abs(low), abs(high), top * 0.25) * 1.1
    middle = room // 2

    def place(value: float) -> int:
        return max(0, min(room - 1, middle + round(value / span * middle)))

    clear = result.verdict != "none"
    colour = palette.accent if clear else palette.soft
    text = Text()
    text.append(f" {'change':<{_NAME - 1}}", style=palette.ink)
    for cell in range(room):
        if cell == place(result.difference / scale):
            text.append("◆", style=f"bold {colour}")
        elif place(low) <= cell <= place(high):
            text.append("━", style=colour)
        elif cell == middle:
            text.append("0", style=palette.soft)
        else:
            text.append("┄" if cell % 2 else " ", style=palette.rule)
    text.append(f"  {signed(low, decimals)} to {signed(high, decimals)} {unit}", style=palette.ink)
    return text
