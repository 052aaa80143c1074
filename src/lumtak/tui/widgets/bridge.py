"""The bridge from the baseline to the after reading.

A row a change, CPU and RAM side by side, what was projected as a ghost.
"""

from rich.text import Text

from lumtak.core.bridge import Bar, Bridge, bars
from lumtak.core.units import large, signed
from lumtak.tui.theme import WIDE, Palette
from lumtak.tui.widgets.lines import fit

_SHOWN = 8
_FULL, _GHOST = "█", "┄"


def bridge_rows(bridges: tuple[Bridge, ...], palette: Palette, width: int) -> list[Text]:
    """Heading, baseline, the largest steps, the smaller ones together, everything else, after.

    No rows without a bridge.
    """
    if not bridges:
        return []
    title, figures = (24, 22) if width >= WIDE else (15, 14)
    scales = tuple(1.0 if b.quantity == "cpu_pct" else large()[0] for b in bridges)
    room = max(6, (width - title - 3) // len(bridges) - figures)
    most = [max(b.baseline, b.after, 1e-9) / s for b, s in zip(bridges, scales, strict=True)]
    pen = _Pen(palette, room, most, title, figures)
    drawn = bars(bridges, scales, _SHOWN)
    rows = [pen.heading(bridges), *(pen.bar(bar) for bar in drawn if bar.told)]
    untold = [bar.title for bar in drawn if not bar.told]
    if untold:
        shown, more = untold[:4], len(untold) - 4
        words = f" not told apart: {', '.join(shown)}" + (f" and {more} more" if more > 0 else "")
        rows.append(Text(words, style=palette.soft))
    return rows


class _Pen:
    def __init__(
        self, palette: Palette, room: int, most: list[float], title: int, figures: int
    ) -> None:
        self.palette, self.room, self.most, self.title, self.figures = (
            palette,
            room,
            most,
            title,
            figures,
        )

    def heading(self, bridges: tuple[Bridge, ...]) -> Text:
        """What the columns are."""
        wide = self.figures > len("measured (projected)")
        text = Text(f" {fit('step by step', self.title)} ", style=f"bold {self.palette.soft}")
        for bridge in bridges:
            name = "CPU, %" if bridge.quantity == "cpu_pct" else f"RAM, {large()[1]}"
            words = "measured (projected)" if wide else "(projected)"
            text.append(f"{name:<{self.room}} {words:<{self.figures - 1}}", style=self.palette.soft)
        return text

    def _cell(self, value: float, place: int) -> int:
        return max(0, min(self.room, round(value / self.most[place] * self.room)))

    def bar(self, bar: Bar) -> Text:
        """A whole bar from nothing, or one that hangs from where the one before ended."""
        return self._step(bar) if bar.kind in {"step", "rest"} else self._level(bar)

    def _level(self, bar: Bar) -> Text:
        colour = self.palette.kinds["guarded" if bar.kind == "baseline" else "keep"]
        text = Text(f" {bar.title:<{self.title}} ", style=f"bold {self.palette.ink}")
        for place, level in enumerate(bar.changes):
            text.append((_FULL * self._cell(level, place)).ljust(self.room + 1), style=colour)
            text.append(
                f"{level:.{place + 1}f}".ljust(self.figures - 1), style=f"bold {self.palette.ink}"
            )
        return text

    def _step(self, bar: Bar) -> Text:
        """The ghost reaches as far as was projected."""
        text = Text(f" {fit(bar.title, self.title)} ", style=self.palette.ink)
        for place, measured in enumerate(bar.changes):
            projected = bar.projected[place]
            text.append_text(self._hanging(bar.starts[place], measured, projected, place))
            words = signed(measured, place + 1)
            if projected is not None:
                words += f" ({signed(projected, place + 1)})"
            text.append(
                f" {words:<{self.figures - 1}}",
                style=self.palette.ink if measured else self.palette.soft,
            )
        return text

    def _hanging(self, level: float, measured: float, projected: float | None, place: int) -> Text:
        cells = [" "] * self.room
        fall = self.palette.kinds["ease"] if measured <= 0 else self.palette.kinds["ask"]
        for change, fill in ((projected or 0.0, _GHOST), (measured, _FULL)):
            low, high = sorted((self._cell(level, place), self._cell(level + change, place)))
            if change and low == high:
                low = min(low, self.room - 1)
                high = low + 1
            cells[low:high] = [fill] * (high - low)
        text = Text()
        for char in cells:
            text.append(char, style=fall if char == _FULL else self.palette.ink)
        return text
