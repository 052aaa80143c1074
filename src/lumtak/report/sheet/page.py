"""The sheet on paper: one page, large enough to be read at arm's length, and in grey."""

import io
from collections.abc import Callable, Iterator
from typing import Any, NamedTuple

from lumtak.report.document import name_language
from lumtak.report.lettering import BOLD, MONO, SANS, SERIF_BOLD, fonts, paragraph
from lumtak.report.sheet.record import Bar, Part, Sheet
from lumtak.report.tongue import PaperName

_INK, _SOFT, _RULE, _WAS, _NOW = "#111417", "#4a525a", "#8d959c", "#c6ccd1", "#39424a"
_MARGIN, _TOP, _BOTTOM = 52.0, 40.0, 40.0
"""Points; 72 to the inch."""
_HEADS, _GAP, _NUMBER = 108.0, 14.0, 44.0
"""Widths of the column of headings, of the space beside it, and of numbers before a line."""
_SIZES = (13.0, 12.25, 11.5, 11.0, 10.5, 10.0, 9.5, 9.0, 8.0, 7.0)
_MOST = tuple(range(14, 1, -1))
"""Changes with a line of their own; letters get smaller only once few are left."""
_LARGE_ENOUGH = 10.0
_SIGN = 62.0
_BAR, _BAR_GAP, _BAR_WORDS = 0.95, 0.55, 10.5
"""Of the small picture, as multiples of the size of letters."""


def sheet_pdf(make: Callable[[int], Sheet], paper: PaperName) -> bytes:
    """The sheet's bytes: one page, fonts embedded; the same sheet gives the same bytes.

    Args:
        make: the sheet with so many changes at most, called until it fits.
        paper: on which it is printed.
    """
    from reportlab.lib import pagesizes

    fonts()
    width, height = pagesizes.LETTER if paper == "letter" else pagesizes.A4
    for most, size in _tries():
        page = _Page(make(most), width, height, size)
        if page.fits:
            break
    return page.built()


def _tries() -> Iterator[tuple[int, float]]:
    large = [size for size in _SIZES if size >= _LARGE_ENOUGH]
    yield from ((most, size) for most in _MOST for size in large)
    yield from ((_MOST[-1], size) for size in _SIZES if size < _LARGE_ENOUGH)


class _Set(NamedTuple):
    """A paragraph, measured, and where it stands."""

    what: Any
    left: float
    height: float


class _Row(NamedTuple):
    """What stands beside each other."""

    cells: tuple[_Set, ...]
    height: float
    after: float
    rule: bool = False
    bars: bool = False


class _Page:
    """One sheet at one size of letters.

    Args:
        sheet: what stands on it.
        width: of the paper, in points.
        height: of it.
        size: of letters.
    """

    def __init__(self, sheet: Sheet, width: float, height: float, size: float) -> None:
        self._sheet, self._width, self._height, self._size = sheet, width, height, size
        self._inner = width - 2 * _MARGIN
        self._text_left = _MARGIN + _HEADS + _GAP
        self._text_width = self._inner - _HEADS - _GAP
        self._rows = [*self._head(), *(row for part in sheet.parts for row in self._part(part))]

    @property
    def fits(self) -> bool:
        """Whether all of it is on the page."""
        used = sum(row.height + row.after for row in self._rows)
        return used <= self._height - _TOP - _BOTTOM - _SIGN

    # -- measuring ---------------------------------------------------------------------------------

    def _set(
        self, text: str, left: float, width: float, font: str, size: float, colour: str = _INK
    ) -> _Set:
        from reportlab.lib.styles import ParagraphStyle

        style = ParagraphStyle(
            font, fontName=font, fontSize=size, leading=size * 1.28, textColor=colour,
            splitLongWords=1,
        )  # fmt: skip
        made = paragraph(text, style, width)
        _, height = made.wrap(width, 10_000)
        return _Set(made, left, height)

    def _head(self) -> list[_Row]:
        """Who did the work, for whom, and what came of it."""
        sheet, small = self._sheet, self._size * 0.8
        half = self._inner / 2 - _GAP / 2
        shop = [self._set(line, _MARGIN, half, SANS, small, _SOFT) for line in _in_two(sheet.shop)]
        about = [self._set(x, _MARGIN + half + _GAP, half, SANS, small, _SOFT) for x in sheet.about]
        rows = []
        for place in range(max(len(shop), len(about))):
            cells = tuple(c[place] for c in (shop, about) if place < len(c))
            rows.append(_Row(cells, max(c.height for c in cells), 0.0))
        title = self._set(sheet.title, _MARGIN, self._inner, SERIF_BOLD, self._size * 1.55)
        return [*rows, _Row((), 10.0, 0.0), _Row((title,), title.height, 4.0)]

    def _part(self, part: Part) -> list[_Row]:
        sheet, size = self._sheet, self._size
        head = self._set(part.head, _MARGIN, _HEADS, BOLD, size * 0.86, _SOFT)
        numbered = any(line.numbers for line in part.lines)
        indent = _NUMBER if numbered else 0.0
        rows: list[_Row] = []
        for place, line in enumerate(part.lines):
            said = self._set(
                line.words, self._text_left + indent, self._text_width - indent, SANS, size
            )
            cells = [said]
            if line.numbers:
                cells.append(self._set(line.numbers, self._text_left, indent - 4, BOLD, size))
            high = max(c.height for c in cells)
            if place == 0:
                cells.insert(0, head)
            rows.append(_Row(tuple(cells), high, size * 0.22, rule=not place))
            if line.command:
                typed = self._set(
                    line.command, self._text_left, self._text_width, MONO, size * 0.86
                )
                rows.append(_Row((typed,), typed.height, size * 0.3))
        if part.left_out:
            more = self._set(
                part.left_out,
                self._text_left + indent,
                self._text_width - indent,
                SANS,
                size,
                _SOFT,
            )
            rows.append(_Row((more,), more.height, 2.0))
        if part.pictured and sheet.bars:
            high = (len(sheet.bars) * (2 * _BAR + _BAR_GAP) + _BAR_GAP) * size
            rows.append(_Row((), high, 2.0, bars=True))
        # A heading of two lines may be higher than what stands beside it.
        used = sum(row.height + row.after for row in rows)
        after = rows[-1].after + size * 0.55 + max(0.0, head.height - used)
        return [*rows[:-1], rows[-1]._replace(after=after)]

    # -- drawing -----------------------------------------------------------------------------------

    def built(self) -> bytes:
        """The bytes of the page."""
        from reportlab.pdfgen.canvas import Canvas

        out = io.BytesIO()
        canvas = Canvas(
            out, pagesize=(self._width, self._height), invariant=1, initialFontName=SANS,
        )  # fmt: skip
        canvas.setTitle(self._sheet.title)
        canvas.setAuthor("Lumtak")
        canvas.setSubject(" · ".join(self._sheet.about))
        canvas.setCreator("Lumtak")
        name_language(canvas, self._sheet.language)
        self._draw(canvas)
        canvas.showPage()
        canvas.save()
        return out.getvalue()

    def _draw(self, canvas: Any) -> None:  # noqa: ANN401
        y = self._height - _TOP
        for row in self._rows:
            if row.rule:
                canvas.setStrokeColor(_RULE)
                canvas.setLineWidth(0.6)
                canvas.line(_MARGIN, y + 2, self._width - _MARGIN, y + 2)
                y -= self._size * 0.25
            for cell in row.cells:
                cell.what.drawOn(canvas, cell.left, y - cell.height)
            if row.bars:
                self._bars(canvas, y)
            y -= row.height + row.after
        self._foot(canvas)

    def _bars(self, canvas: Any, top: float) -> None:  # noqa: ANN401
        """Before in light grey with an edge, now in dark: told apart in any print."""
        size = self._size * 0.8
        titles = max(canvas.stringWidth(bar.title, BOLD, size) for bar in self._sheet.bars) + 10
        high, gap = _BAR * self._size, _BAR_GAP * self._size
        left = self._text_left + titles
        longest = self._text_width - titles - _BAR_WORDS * self._size
        y = top - gap
        for bar in self._sheet.bars:
            canvas.setFillColor(_INK)
            canvas.setFont(BOLD, size)
            canvas.drawString(self._text_left, y - high + 2, bar.title)
            whole = max(bar.before, bar.after) or 1.0
            for value, words, name, colour in _pair(bar, self._sheet.bars_head):
                y -= high
                canvas.setFillColor(colour)
                canvas.setStrokeColor(_NOW)
                canvas.setLineWidth(0.5)
                canvas.rect(left, y, max(1.0, longest * value / whole), high - 1.5, fill=1)
                canvas.setFillColor(_INK)
                canvas.setFont(SANS, size)
                canvas.drawString(left + longest * value / whole + 6, y + 1, f"{name}: {words}")
            y -= gap

    def _foot(self, canvas: Any) -> None:  # noqa: ANN401
        """Lines to sign on, and where this comes from."""
        half = self._inner / 2 - _GAP
        size = self._size * 0.74
        canvas.setFont(SANS, size)
        for words, left in zip(
            self._sheet.signs, (_MARGIN, _MARGIN + half + 2 * _GAP), strict=True
        ):
            canvas.setStrokeColor(_INK)
            canvas.setLineWidth(0.6)
            canvas.line(left, _BOTTOM + 24, left + half, _BOTTOM + 24)
            canvas.setFillColor(_SOFT)
            canvas.drawString(left, _BOTTOM + 24 - size * 1.3, words)
        canvas.drawString(_MARGIN, _BOTTOM - 8, self._sheet.foot)


def _in_two(lines: tuple[str, ...]) -> list[str]:
    """The name, and all the rest behind it: an address may have very many lines."""
    return [*lines[:1], *([" · ".join(lines[1:])] if lines[1:] else [])]


def _pair(bar: Bar, names: tuple[str, str]) -> tuple[tuple[float, str, str, str], ...]:
    before, now = names
    return (
        (bar.before, bar.before_words, before, _WAS),
        (bar.after, bar.after_words, now, _NOW),
    )
