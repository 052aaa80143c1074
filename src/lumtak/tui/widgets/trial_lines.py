"""A trial as lines: pairs or changes as bars about nothing, the interval, the blocks."""

from collections.abc import Iterable
from math import isfinite

from rich.text import Text

from lumtak.core.text import plain
from lumtak.core.trial.record import Block, Experiment, Screening, Trial
from lumtak.core.trial.words import SAID, between, could_now, figure, level, ranked, size, so_far
from lumtak.tui.theme import Palette
from lumtak.tui.widgets.lines import Line

_HALF = 20
"""Cells on either side of nothing."""
_NAME = 24
_BOTH = 2
_BLOCKS_ROOM = 2 * 13 + 3
"""Cells of what both blocks of a pair measured."""
_PAIR_ROOM = len("  pair 12  ") + _BLOCKS_ROOM + 2


def trial_lines(trial: Experiment, palette: Palette) -> list[Line]:
    """Everything that is known of it so far."""
    lines = []
    could = could_now(trial)
    if could is not None:
        can = "can" if trial.state == "under way" else "could"
        words = f"  It {can} be expected to show {size(could, trial)} and more."
        lines += [Line(Text(words, style=palette.soft)), Line(Text())]
    lines += _changes(trial, palette) if isinstance(trial, Screening) else _pairs(trial, palette)
    cut = sum(not b.values for b in trial.blocks)
    if cut:
        words = f"  {cut} blocks were disturbed, and made again."
        lines.append(Line(Text(words, style=palette.warning)))
    return lines


def _head(room: int, palette: Palette) -> Line:
    """Above the bars: which side is which."""
    words = f"{'':<{room}}{'less with it':<{_HALF}} {'more with it':>{_HALF}}"
    return Line(Text(words, style=palette.soft))


def _pairs(trial: Trial, palette: Palette) -> list[Line]:
    """A line a pair, below them the interval on the same scale."""
    sides: dict[int, list[Block]] = {}
    for block in trial.blocks:
        if trial.measure in block.values:
            sides.setdefault(block.pair, []).append(block)
    differences = {
        pair: _with_it(blocks, trial) for pair, blocks in sides.items() if len(blocks) == _BOTH
    }
    interval = so_far(trial)
    most = _most([*differences.values(), *(interval or ())])
    lines = [_head(_PAIR_ROOM, palette)] if differences else []
    for pair, blocks in sorted(sides.items()):
        text = _of_pair(pair, blocks, trial, palette)
        difference = differences.get(pair)
        if difference is None:
            text.append(f"{'':>{_HALF}}│", style=palette.soft)
        else:
            text.append_text(_bar(difference, most, palette))
            text.append(f"  {figure(difference, trial):>14}", style="bold")
        lines.append(Line(text, f"pair {pair}"))
    if interval is not None:
        words = "  95 % sure, so far" if trial.state == "under way" else "  95 % sure"
        text = Text(f"{words:<{_PAIR_ROOM}}", style=palette.soft)
        mean = sum(differences.values()) / len(differences)
        text.append_text(_interval(interval, mean, most, palette))
        text.append(f"  {between(interval, trial)}", style="bold")
        lines += [Line(Text()), Line(text)]
    return lines


def _of_pair(pair: int, blocks: Iterable[Block], trial: Trial, palette: Palette) -> Text:
    """What its blocks measured, in their order."""
    text = Text(f"  pair {pair + 1:>2}  ")
    seen = "   ".join(
        f"{'on' if b.on else 'off':<3} {level(b.values[trial.measure], trial):>9}" for b in blocks
    )
    text.append(f"{seen:<{_BLOCKS_ROOM}}  ", style=palette.soft)
    return text


def _with_it(blocks: Iterable[Block], trial: Trial) -> float:
    return sum((1 if b.on else -1) * b.values[trial.measure] for b in blocks)


def _changes(trial: Screening, palette: Palette) -> list[Line]:
    """A line a change, the largest first; below them the blocks, the newest first."""
    lines = []
    effects = trial.seen.effects if trial.seen else ()
    if effects:
        lines.append(_head(_NAME + 4, palette))
    most = _most(x for e in effects for x in e.ci95)
    for place in ranked(trial):
        text = Text(f"  {plain(trial.tried[place].title, _NAME):<{_NAME}}  ")
        if effects:
            effect = effects[place]
            text.append_text(_interval(effect.ci95, effect.difference, most, palette))
            text.append(f"  {figure(effect.difference, trial):>14}", style="bold")
            text.append(f"  {SAID[effect.finding]}", style=palette.soft)
        else:
            text.append("nothing before the first round is whole", style=palette.soft)
        lines.append(Line(text, f"change {place}"))
    lines.append(Line(Text()))
    for block in reversed(trial.blocks):
        if trial.measure not in block.values:
            continue
        row = trial.layout.rows[block.place]
        on = [plain(t.title, _NAME) for t, is_on in zip(trial.tried, row, strict=True) if is_on]
        text = Text(f"  block {block.place + 1:>2}  ")
        text.append(f"{level(block.values[trial.measure], trial):>10}", style="bold")
        text.append(f"   with {', '.join(on)}" if on else "   with none", style=palette.soft)
        lines.append(Line(text, f"block {block.place}"))
    return lines


# -- bars ------------------------------------------------------------------------------------------


def _most(values: Iterable[float]) -> float:
    return max((abs(v) for v in values if isfinite(v)), default=0.0) or 1.0


def _bar(value: float, most: float, palette: Palette) -> Text:
    cells = "█" * round(_HALF * abs(value) / most)
    left, right = (cells, "") if value < 0 else ("", cells)
    return Text(f"{left:>{_HALF}}│{right:<{_HALF}}", style=palette.accent)


def _interval(ends: tuple[float, float], mean: float, most: float, palette: Palette) -> Text:
    """From low to high as a line, the mean in it as a dot, nothing as an upright."""
    low, high, middle = (
        _HALF + round(_HALF * max(-1.0, min(1.0, x / most))) for x in (*ends, mean)
    )
    cells = [" "] * (2 * _HALF + 1)
    for place in range(low, high + 1):
        cells[place] = "─"
    cells[_HALF] = "┼" if low <= _HALF <= high else "│"
    cells[middle] = "●"
    return Text("".join(cells), style=palette.accent)
