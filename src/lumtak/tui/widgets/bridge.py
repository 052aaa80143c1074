"""The bridge from the baseline to the after reading.

A row a change, CPU and RAM side by side, what was projected as a ghost.
"""

from typing import NamedTuple

from rich.text import Text

from lumtak.core.bridge import Bridge
from lumtak.core.units import GIB, signed
from lumtak.tui.theme import WIDE, Palette
from lumtak.tui.widgets.lines import fit

_SHOWN = 8
_FULL, _GHOST = "█", "┄"


class _Step(NamedTuple):
    title: str
    changes: tuple[tuple[float, float | None], ...]
    """(measured, projected) of each quantity, in its shown unit."""


def bridge_rows(bridges: tuple[Bridge, ...], palette: Palette, width: int) -> list[Text]:
    """Heading, baseline, the largest steps, the smaller ones together, everything else, after.

    No rows without a bridge.
    """
    if not bridges:
        return []
    title, figures = (24, 22) if width >= WIDE else (15, 14)
    scales = [1.0 if b.quantity == "cpu_pct" else GIB for b in bridges]
    room = max(6, (width - title - 3) // len(bridges) - figures)
    most = [max(b.baseline, b.after, 1e-9) / s for b, s in zip(bridges, scales, strict=True)]
    pen = _Pen(palette, room, most, title, figures)
    steps, untold = _steps(bridges, scales)
    rows = [pen.heading(bridges)]
    levels = [b.baseline / s for b, s in zip(bridges, scales, strict=True)]
    rows.append(pen.level("baseline", levels, "guarded"))
    for step in steps:
        rows.append(pen.step(step, levels))
        levels = [
            level + measured for level, (measured, _) in zip(levels, step.changes, strict=True)
        ]
    rest = _Step(
        "everything else", tuple((b.rest / s, None) for b, s in zip(bridges, scales, strict=True))
    )
    rows.append(pen.step(rest, levels))
    rows.append(
        pen.level("after", [b.after / s for b, s in zip(bridges, scales, strict=True)], "keep")
    )
    if untold:
        shown, more = untold[:4], len(untold) - 4
        words = f" not told apart: {', '.join(shown)}" + (f" and {more} more" if more > 0 else "")
        rows.append(Text(words, style=palette.soft))
    return rows


def _steps(bridges: tuple[Bridge, ...], scales: list[float]) -> tuple[list[_Step], list[str]]:
    """(steps with something measured, the largest first; titles of those without)."""
    by_title: dict[str, list[tuple[float, float | None]]] = {}
    told: dict[str, float] = {}
    for place, (bridge, scale) in enumerate(zip(bridges, scales, strict=True)):
        for step in bridge.steps:
            changes = by_title.setdefault(step.title, [(0.0, None)] * len(bridges))
            projected = None if step.projected is None else step.projected / scale
            changes[place] = ((step.measured or 0.0) / scale, projected)
            if step.measured is not None:
                told[step.title] = told.get(step.title, 0.0) + abs(step.measured) / max(
                    bridge.baseline, 1e-9
                )
    ordered = sorted(told, key=lambda title: (-told[title], title))
    steps = [_Step(title, tuple(by_title[title])) for title in ordered]
    large, small = steps[:_SHOWN], steps[_SHOWN:]
    if len(small) == 1:
        large, small = steps, []
    if small:
        sums = []
        for place in range(len(bridges)):
            ghosts = [c for s in small if (c := s.changes[place][1]) is not None]
            sums.append((sum(s.changes[place][0] for s in small), sum(ghosts) if ghosts else None))
        large.append(_Step(f"{len(small)} smaller ones", tuple(sums)))
    return large, [title for title in by_title if title not in told]


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
            name = "CPU, %" if bridge.quantity == "cpu_pct" else "RAM, GiB"
            words = "measured (projected)" if wide else "(projected)"
            text.append(f"{name:<{self.room}} {words:<{self.figures - 1}}", style=self.palette.soft)
        return text

    def _cell(self, value: float, place: int) -> int:
        return max(0, min(self.room, round(value / self.most[place] * self.room)))

    def level(self, name: str, levels: list[float], kind: str) -> Text:
        """A whole bar from nothing."""
        colour = self.palette.kinds["guarded" if kind == "guarded" else "keep"]
        text = Text(f" {name:<{self.title}} ", style=f"bold {self.palette.ink}")
        for place, level in enumerate(levels):
            text.append((_FULL * self._cell(level, place)).ljust(self.room + 1), style=colour)
            text.append(
                f"{level:.{place + 1}f}".ljust(self.figures - 1), style=f"bold {self.palette.ink}"
            )
        return text

    def step(self, step: _Step, levels: list[float]) -> Text:
        """A bar that hangs from the level; the ghost reaches as far as was projected."""
        text = Text(f" {fit(step.title, self.title)} ", style=self.palette.ink)
        for place, (measured, projected) in enumerate(step.changes):
            text.append_text(self._bar(levels[place], measured, projected, place))
            words = signed(measured, place + 1)
            if projected is not None:
                words += f" ({signed(projected, place + 1)})"
            text.append(
                f" {words:<{self.figures - 1}}",
                style=self.palette.ink if measured else self.palette.soft,
            )
        return text

    def _bar(self, level: float, measured: float, projected: float | None, place: int) -> Text:
        cells = [" "] * self.room
        fall = self.palette.kinds["ease"] if measured <= 0 else self.palette.kinds["ask"]
        for change, fill in ((projected or 0.0, _GHOST), (measured, _FULL)):
            low, high = sorted((self._cell(level, place), self._cell(level + change, place)))
            if change and low == high:
                low = min(low, self.room - 1)
                high = low + 1
            for cell in range(low, high):
                cells[cell] = fill
        text = Text()
        for char in cells:
            text.append(char, style=fall if char == _FULL else self.palette.ink)
        return text
