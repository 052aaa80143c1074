"""The sheet in a terminal, line by line as it will print."""

import textwrap
from typing import NamedTuple

from lumtak.report.sheet.record import Bar, Line, Part, Sheet

_HEADS, _NUMBERS, _WIDEST, _NARROWEST = 20, 9, 96, 40
_BEFORE, _NOW = "░", "█"


class Printed(NamedTuple):
    """A line of the preview."""

    head: str
    """In the column of headings; empty where it goes on."""
    words: str
    strong: bool = False
    soft: bool = False


def preview(sheet: Sheet, width: int) -> list[Printed]:
    """The sheet in so many cells.

    Args:
        sheet: what will be printed.
        width: of the terminal.
    """
    room = max(_NARROWEST, min(width, _WIDEST) - _HEADS - 2)
    lines = [Printed("", " · ".join(sheet.shop), soft=True)] if sheet.shop else []
    lines += [Printed("", words, soft=True) for words in sheet.about]
    lines += [Printed("", ""), Printed("", sheet.title, strong=True)]
    for part in sheet.parts:
        lines += [Printed("", ""), *_part(part, sheet, room)]
    lines += [Printed("", ""), Printed("", f"____________________  {sheet.signs[0]}", soft=True)]
    lines += [Printed("", f"____________________  {sheet.signs[1]}", soft=True)]
    return lines


def _part(part: Part, sheet: Sheet, room: int) -> list[Printed]:
    numbered = any(line.numbers for line in part.lines)
    words = [w for line in part.lines for w in _line(line, room, numbered=numbered)]
    if part.left_out:
        words.append(f"{'':{_NUMBERS if numbered else 0}}{part.left_out}")
    if part.pictured:
        words += [w for bar in sheet.bars for w in _bar(bar, sheet, room)]
    heads = textwrap.wrap(part.head, _HEADS - 1) or [""]
    high = max(len(heads), len(words))
    heads += [""] * (high - len(heads))
    words += [""] * (high - len(words))
    return [Printed(h, w) for h, w in zip(heads, words, strict=True)]


def _line(line: Line, room: int, *, numbered: bool) -> list[str]:
    indent = _NUMBERS if numbered else 0
    said = textwrap.wrap(line.words, max(10, room - indent)) or [""]
    numbers = textwrap.wrap(line.numbers, indent - 1) if numbered else []
    high = max(len(said), len(numbers))
    rows = []
    for place in range(high):
        number = numbers[place] if place < len(numbers) else ""
        rows.append(f"{number:<{indent}}{said[place] if place < len(said) else ''}")
    return [*rows, *([f"  {line.command}"] if line.command else [])]


def _bar(bar: Bar, sheet: Sheet, room: int) -> list[str]:
    whole, cells = max(bar.before, bar.after) or 1.0, max(8, room - 52)
    before, now = sheet.bars_head
    rows = (
        (before, bar.before, bar.before_words, _BEFORE),
        (now, bar.after, bar.after_words, _NOW),
    )
    return [
        f"{bar.title if not place else '':<28.28} {mark * max(1, round(cells * value / whole))}"
        f" {name}: {words}"
        for place, (name, value, words, mark) in enumerate(rows)
    ]
