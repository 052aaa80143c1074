"""The ledger: one strip for RAM and one for CPU, at the top of every station; one for the disk
where storage matters.
"""

from collections.abc import Iterable, Mapping
from itertools import groupby

from rich.segment import Segment
from rich.style import Style
from textual import events
from textual.geometry import Region
from textual.message import Message
from textual.strip import Strip as Row
from textual.widget import Widget

from lumtak.core.sample import consumer_name
from lumtak.core.strip import PIECE_KIND_WORDS, Piece, PieceKind, Strip, cells
from lumtak.core.text import plain
from lumtak.core.units import large
from lumtak.tui.theme import FILLS, HATCH, HOLLOW, WIDE, Palette

_LABEL = 5
_NUMBERS = 31
_NARROW_NUMBERS = 27
_STRIP_LINES = 4
_NO_LOAD: frozenset[PieceKind] = frozenset({"free", "cache"})


_SHORT: dict[PieceKind, str] = {
    "guarded": "system",
    "keep": "keep",
    "ask": "ask",
    "ease": "ease",
    "aside": "aside",
    "cache": "cache",
    "free": "free",
}


class Ledger(Widget):
    """The strips with their numbers, the baseline as a thin line beneath, the selected piece lit in
    all of them.

    Lines: RAM, baseline of RAM, CPU, baseline of CPU, the disk where there is one to show, words.
    """

    DEFAULT_CSS = "Ledger { height: 5; } Ledger.-disk { height: 6; }"

    class Picked(Message):
        """A piece was clicked."""

        def __init__(self, key: str) -> None:
            super().__init__()
            self.key = key

    def __init__(
        self,
        *,
        id: str | None = None,  # noqa: A002 - Textual's name
        legend: Mapping[PieceKind, str] | None = None,
    ) -> None:
        super().__init__(id=id)
        self._legend = legend
        """What the fills mean, where no audit took a stance."""
        self._ram: Strip | None = None
        self._cpu: Strip | None = None
        self._disk: Strip | None = None
        self._disk_bytes = 0.0
        self._before: tuple[Strip, Strip] | None = None
        self._total_bytes = 0
        self._titles: dict[str, str] = {}
        self._lit: str | None = None
        self._hover: str | None = None
        self._keys: frozenset[str] = frozenset()
        """Of the pieces that can be lit."""
        self._cut: list[tuple[Strip, list[int]]] = []
        self._by_key: list[tuple[Strip, dict[str, int]]] = []
        self._drawn: list[tuple[Strip, tuple[int, str], list[tuple[str, Style]]]] = []
        """Cells of bars with nothing lit, as they were drawn last."""

    def show(
        self,
        ram: Strip | None,
        cpu: Strip | None,
        *,
        total_bytes: int = 0,
        before: tuple[Strip, Strip] | None = None,
        titles: dict[str, str] | None = None,
    ) -> None:
        """Show these strips; `before` is the baseline's, drawn thin."""
        self._ram, self._cpu, self._before, self._total_bytes = ram, cpu, before, total_bytes
        self._titles = titles or {}
        self.show_disk(None)

    def show_disk(self, disk: Strip | None, total_bytes: float = 0.0) -> None:
        """Show this strip too; None takes it away."""
        self._disk, self._disk_bytes = disk, total_bytes
        self.set_class(disk is not None, "-disk")
        self._keys = frozenset(
            p.key for strip in self._strips() for p in strip.pieces if p.kind not in _NO_LOAD
        )
        self.refresh()

    def light(self, key: str | None) -> None:
        """Light the pieces of this consumer."""
        if key == self._lit:
            return
        old, pointed = self._lit, self._hover is not None
        self._lit, self._hover = key, None
        if pointed:
            self.refresh()
        elif old in self._keys or key in self._keys:
            lines = _STRIP_LINES + (self._disk is not None)
            self.refresh(Region(0, 0, self.size.width, lines))

    def step(self, steps: int) -> str | None:
        """Point at the next piece, along the RAM and then what only the others show.

        Gives its key, None without strips.
        """
        if self._ram is None or self._cpu is None:
            return None
        keys = list(dict.fromkeys(p.key for strip in self._strips() for p in strip.pieces))
        here = self._hover or self._lit
        place = keys.index(here) + steps if here in keys else 0 if steps > 0 else len(keys) - 1
        self._hover = keys[place % len(keys)]
        self._lit = self._hover
        self.refresh()
        return self._hover

    # -- drawing -----------------------------------------------------------------------------------

    def _strips(self) -> list[Strip]:
        return [strip for strip in (self._ram, self._cpu, self._disk) if strip is not None]

    def _strip_width(self) -> int:
        numbers = _NUMBERS if self.size.width >= WIDE else _NARROW_NUMBERS
        return max(10, self.size.width - _LABEL - numbers)

    def render_line(self, y: int) -> Row:
        """One of the lines."""
        palette = Palette(self.app)
        ground = self.rich_style
        width = self.size.width
        if y in {0, 2}:
            segments = self._bar(
                self._ram if y == 0 else self._cpu, "RAM" if y == 0 else "CPU", palette, ram=y == 0
            )
        elif y in {1, 3}:
            segments = self._under(y == 1, palette)
        elif y == _STRIP_LINES and self._disk is not None:
            segments = self._of_disk(self._disk, palette)
        else:
            segments = self._words(palette)
        return Row(segments).apply_style(ground).adjust_cell_length(width, ground)

    def _bar(self, strip: Strip | None, name: str, palette: Palette, *, ram: bool) -> list[Segment]:
        width = self._strip_width()
        label = Segment(f" {name} "[:_LABEL], Style(color=palette.ink, bold=True))
        if strip is None:
            text = "no reading yet"
            line = f" {text} ".center(width, FILLS["free"])
            return [label, Segment(line, Style(color=palette.soft))]
        drawn = self._lit_cells(strip, width, palette)
        return [label, *_runs(drawn), Segment("  "), *self._numbers(strip, palette, ram=ram)]

    def _of_disk(self, strip: Strip, palette: Palette) -> list[Segment]:
        """One line: the disk, and how much of it is free."""
        unit, name = large()
        free = (1 - strip.load) * self._disk_bytes / unit
        short = strip.ceiling is not None and strip.load > strip.ceiling
        return [
            Segment("DISK ", Style(color=palette.ink, bold=True)),
            *_runs(self._lit_cells(strip, self._strip_width(), palette)),
            Segment(f"  {free:.0f} of {self._disk_bytes / unit:.0f} {name} free", _bold(palette)),
            Segment("  short" if short else "", Style(color=palette.kinds["ease"], bold=True)),
        ]

    def _lit_cells(self, strip: Strip, width: int, palette: Palette) -> list[tuple[str, Style]]:
        """Every cell of a bar, those of what is selected or pointed at lit."""
        drawn = self._unlit(strip, width, palette)
        lit = {self._place_of(strip, self._lit), self._place_of(strip, self._hover)} - {None}
        if lit:
            shine = Style(color=palette.lit, bold=True)
            cut = self._cells(strip, width)
            drawn = [
                (char, shine) if index in lit else (char, style)
                for (char, style), index in zip(drawn, cut, strict=True)
            ]
        return drawn

    def _unlit(self, strip: Strip, width: int, palette: Palette) -> list[tuple[str, Style]]:
        """Every cell of a bar, with the ticks; worked out once for a strip, a width and a theme."""
        of = (width, palette.ink)
        for known, known_of, drawn in self._drawn:
            if known is strip and known_of == of:
                return drawn
        ticks = self._ticks(strip, width)
        tick = Style(color=palette.lit, bold=True)
        styles = {kind: Style(color=palette.kinds[kind]) for kind in palette.kinds}
        drawn = []
        for cell, index in enumerate(self._cells(strip, width)):
            piece = strip.pieces[index]
            if cell in ticks:
                drawn.append((ticks[cell], tick))
            else:
                drawn.append((self._fill(piece), styles[piece.kind]))
        self._drawn = [(strip, of, drawn), *self._drawn[:4]]
        return drawn

    def _cells(self, strip: Strip, width: int) -> list[int]:
        """Which piece each cell shows; worked out once for a strip and a width."""
        for known, cut in self._cut:
            if known is strip and len(cut) == width:
                return cut
        cut = cells(strip, width)
        self._cut = [(strip, cut), *self._cut[:4]]
        return cut

    @staticmethod
    def _ticks(strip: Strip, width: int) -> dict[int, str]:
        ticks: dict[int, str] = {}
        if strip.baseline is not None:
            ticks[min(width - 1, int(strip.baseline * width))] = "╎"
        if strip.ceiling is not None:
            ticks[min(width - 1, int(strip.ceiling * width))] = "┃"
        return ticks

    @staticmethod
    def _fill(piece: Piece) -> str:
        if piece.mark == "chosen":
            return HOLLOW
        return HATCH if piece.mark == "applied" else FILLS[piece.kind]

    def _place_of(self, strip: Strip, key: str | None) -> int | None:
        """The piece of this consumer, where it is load; looked up once for a strip."""
        for known, places in self._by_key:
            if known is strip:
                return places.get(key or "")
        places = {p.key: place for place, p in enumerate(strip.pieces) if p.kind not in _NO_LOAD}
        self._by_key = [(strip, places), *self._by_key[:2]]
        return places.get(key or "")

    def _numbers(self, strip: Strip, palette: Palette, *, ram: bool) -> list[Segment]:
        if ram:
            size, unit = large()
            total = self._total_bytes / size
            text = f"{strip.load * total:.1f} of {total:.1f} {unit}"
        else:
            text = f"{strip.load * 100:.0f} %"
        over = strip.ceiling is not None and strip.load > strip.ceiling
        word = "over" if over else "within" if strip.ceiling is not None else ""
        colour = palette.kinds["ease"] if over else palette.accent
        return [
            Segment(text, Style(color=palette.ink, bold=True)),
            Segment(f"  {word}", Style(color=colour, bold=over)),
        ]

    def _under(self, ram: bool, palette: Palette) -> list[Segment]:  # noqa: FBT001
        """The thin line.

        The baseline's strip, a mark under the lit piece, and the numbers of ceiling and baseline.
        """
        width = self._strip_width()
        strip = self._ram if ram else self._cpu
        thin = self._before[0 if ram else 1] if self._before else None
        if strip is None:
            return [Segment(" ")]
        line = [" "] * width
        styles = [Style()] * width
        if thin is not None:
            colours = {kind: Style(color=palette.kinds[kind]) for kind in palette.kinds}
            for cell, index in enumerate(self._cells(thin, width)):
                kind = thin.pieces[index].kind
                if kind not in _NO_LOAD:
                    line[cell], styles[cell] = "▔", colours[kind]
        middle = self._middle(strip, width)
        if middle is not None:
            line[middle], styles[middle] = "▲", Style(color=palette.lit, bold=True)
        segments = [Segment(" " * _LABEL), *_runs(zip(line, styles, strict=True))]
        return [*segments, Segment("  " + self._beside(strip, ram=ram), Style(color=palette.soft))]

    def _beside(self, strip: Strip, *, ram: bool) -> str:
        scale, form = (self._total_bytes / large()[0], ".1f") if ram else (100.0, ".0f")
        parts = [
            f"{name} {share * scale:{form}}"
            for name, share in (("ceiling", strip.ceiling), ("baseline", strip.baseline))
            if share is not None
        ]
        return "  ".join(parts)

    def _middle(self, strip: Strip, width: int) -> int | None:
        place = self._place_of(strip, self._lit)
        if place is None:
            return None
        edge = sum(piece.share for piece in strip.pieces[:place])
        return min(width - 1, int((edge + strip.pieces[place].share / 2) * width))

    def _words(self, palette: Palette) -> list[Segment]:
        """The piece under the pointer, else what the fills mean."""
        if self._hover is not None and self._strips():
            return [Segment(" " * _LABEL + self._describe(self._hover), Style(color=palette.ink))]
        segments = [Segment(" " * _LABEL)]
        wide = self.size.width >= WIDE
        words: Mapping[PieceKind, str] = self._legend or (PIECE_KIND_WORDS if wide else _SHORT)
        gap = "   " if wide else "  "
        for kind in (k for k in FILLS if k in words and (k != "aside" or self._holds_aside())):
            segments.append(Segment(FILLS[kind] * 2 + " ", Style(color=palette.kinds[kind])))
            segments.append(Segment(words[kind] + gap, Style(color=palette.soft)))
        return [*segments, *self._mark_words(palette, gap, wide=wide)]

    def _holds_aside(self) -> bool:
        return self._disk is not None and any(p.kind == "aside" for p in self._disk.pieces)

    def _mark_words(self, palette: Palette, gap: str, *, wide: bool) -> list[Segment]:
        """What hollow and hatched pieces are, where there are any."""
        segments = []
        marks = {p.mark for strip in self._strips() for p in strip.pieces}
        for mark, fill, word in (
            ("chosen", HOLLOW, "chosen"),
            ("applied", HATCH, "changed, to be measured" if wide else "changed"),
        ):
            if mark in marks:
                segments.append(Segment(fill * 2 + " ", Style(color=palette.kinds["ease"])))
                segments.append(Segment(word + gap, Style(color=palette.soft)))
        return segments

    def _describe(self, key: str) -> str:
        parts = [plain(self._titles.get(key, consumer_name(key)), 40)]
        for strip, name in ((self._ram, "RAM"), (self._cpu, "CPU"), (self._disk, "disk")):
            share = sum(p.share for p in strip.pieces if p.key == key) if strip else 0.0
            if share:
                parts.append(f"{share * 100:.1f} % of the {name}")
        return ", ".join(parts)

    # -- the mouse ---------------------------------------------------------------------------------

    def _at(self, x: int, y: int) -> str | None:
        strips = (self._ram, self._ram, self._cpu, self._cpu, self._disk)
        strip = strips[y] if 0 <= y < len(strips) else None
        cell, width = x - _LABEL, self._strip_width()
        if strip is None or not 0 <= cell < width:
            return None
        return strip.pieces[self._cells(strip, width)[cell]].key

    def on_mouse_move(self, event: events.MouseMove) -> None:
        """Moving along a strip names its pieces."""
        key = self._at(event.x, event.y)
        if key != self._hover:
            self._hover = key
            self.refresh()

    def on_leave(self) -> None:
        """Nothing is pointed at."""
        self._hover = None
        self.refresh()

    def on_click(self, event: events.Click) -> None:
        """A click on a piece selects it."""
        key = self._at(event.x, event.y)
        if key is not None:
            self.post_message(self.Picked(key))


def _bold(palette: Palette) -> Style:
    return Style(color=palette.ink, bold=True)


def _runs(cells_of: Iterable[tuple[str, Style]]) -> list[Segment]:
    """Cells of one style in a row as one segment, for speed."""
    return [
        Segment("".join(char for char, _ in run), style)
        for style, run in groupby(cells_of, key=lambda cell: cell[1])
    ]
