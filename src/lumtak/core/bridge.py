"""From the baseline to the after reading, one step a change, with what was projected beside what
was measured.
"""

from collections.abc import Iterable
from typing import Literal, TypeVar

import msgspec

from lumtak.core.plan import Plan, Step
from lumtak.core.reading import Reading
from lumtak.core.record import NotMeasured, Record

T = TypeVar("T")
Quantity = Literal["cpu_pct", "ram_used_bytes"]


class BridgeStep(Record):
    """One change."""

    title: str
    projected: float | None
    """What it was to change, negative is less; None where nothing was projected."""
    measured: float | None
    """By how much its own consumers changed; None where it has none of its own (a plan, an effect
    that the desktop draws)."""


class Bridge(Record):
    """The steps sum to the whole: baseline + measured steps + rest = after."""

    quantity: Quantity
    baseline: float
    steps: tuple[BridgeStep, ...]
    """The largest measured fall first."""
    rest: float
    """What no step accounts for: other programs, the system, settings without a consumer of their
    own, chance."""
    after: float


def bridge(plan: Plan, before: Reading, after: Reading, quantity: Quantity) -> Bridge:
    """The bridge of one quantity: percentage points of the whole computer, or bytes."""
    start, end = before.mean(quantity), after.mean(quantity)
    steps = [_step(step, before, after, quantity) for step in plan.steps]
    steps.sort(key=lambda s: (s.measured is None, s.measured or 0.0, s.title))
    told = sum(s.measured for s in steps if s.measured is not None)
    return Bridge(
        quantity=quantity, baseline=start, steps=tuple(steps), rest=end - start - told, after=end
    )


def _step(step: Step, before: Reading, after: Reading, quantity: Quantity) -> BridgeStep:
    names = (str(step.change.ref), *step.brings)
    then, now = _held(before, names, quantity), _held(after, names, quantity)
    saves = step.saves_cpu_pct if quantity == "cpu_pct" else step.saves_ram_bytes
    return BridgeStep(
        title=step.title,
        projected=-saves if saves else None,
        measured=None if then is None and now is None else (now or 0.0) - (then or 0.0),
    )


def _held(reading: Reading, names: Iterable[str], quantity: Quantity) -> float | None:
    """The sum of these consumers in a reading; None where none of them was seen."""
    values = []
    for name in names:
        cost = reading.consumer(name)
        if cost is None:
            continue
        value = cost.cpu_pct if quantity == "cpu_pct" else cost.ram_bytes
        if not isinstance(value, NotMeasured):
            values.append(value)
    return sum(values) if values else None


class Bar(Record):
    """One bar of a drawn bridge, of one quantity or several side by side."""

    kind: Literal["baseline", "step", "rest", "after"]
    title: str
    starts: tuple[float, ...]
    """Where it begins, a number a quantity."""
    changes: tuple[float, ...]
    """How far it reaches from there."""
    projected: tuple[float | None, ...]
    told: bool = True
    """Whether anything of it was measured apart."""


def bars(bridges: tuple[Bridge, ...], scales: tuple[float, ...], most: int = 0) -> list[Bar]:
    """How bridges are drawn: from the baseline, each step from where the one before ended.

    Steps that were measured come first, the largest first; the others after them.

    Args:
        bridges: of one plan.
        scales: what each quantity is divided by to be shown.
        most: so many steps at most, the smaller ones together; 0 shows all.
    """
    places = range(len(bridges))
    steps = _side_by_side(bridges, scales)
    told = sorted((s for s in steps if s.told), key=lambda s: (-_size(s, bridges, scales), s.title))
    # One small one would take as much room as the line that stands for it.
    if most and len(told) > most + 1:
        told = [*told[:most], _together(told[most:])]
    levels = [b.baseline / s for b, s in zip(bridges, scales, strict=True)]
    nothing, unknown = (0.0,) * len(bridges), (None,) * len(bridges)
    found = [
        Bar(
            kind="baseline",
            title="baseline",
            starts=nothing,
            changes=tuple(levels),
            projected=unknown,
        )
    ]
    for step in (*told, *(s for s in steps if not s.told)):
        found.append(msgspec.structs.replace(step, starts=tuple(levels)))
        levels = [levels[i] + step.changes[i] for i in places]
    rests = tuple(b.rest / s for b, s in zip(bridges, scales, strict=True))
    ends = tuple(b.after / s for b, s in zip(bridges, scales, strict=True))
    found.append(
        Bar(
            kind="rest",
            title="everything else",
            starts=tuple(levels),
            changes=rests,
            projected=unknown,
        )
    )
    found.append(Bar(kind="after", title="after", starts=nothing, changes=ends, projected=unknown))
    return found


def _side_by_side(bridges: tuple[Bridge, ...], scales: tuple[float, ...]) -> list[Bar]:
    """The steps of all bridges by their title; where each begins is not known yet."""
    by_title: dict[str, Bar] = {}
    empty: tuple[None, ...] = (None,) * len(bridges)
    for place, (found, scale) in enumerate(zip(bridges, scales, strict=True)):
        for step in found.steps:
            bar = by_title.get(step.title) or Bar(
                kind="step",
                title=step.title,
                starts=(),
                changes=(0.0,) * len(bridges),
                projected=empty,
                told=False,
            )
            ghost = None if step.projected is None else step.projected / scale
            by_title[step.title] = msgspec.structs.replace(
                bar,
                changes=_with(bar.changes, place, (step.measured or 0.0) / scale),
                projected=_with(bar.projected, place, ghost),
                told=bar.told or step.measured is not None,
            )
    return list(by_title.values())


def _with(values: tuple[T, ...], place: int, value: T) -> tuple[T, ...]:
    return (*values[:place], value, *values[place + 1 :])


def _size(bar: Bar, bridges: tuple[Bridge, ...], scales: tuple[float, ...]) -> float:
    """How much of the baselines a step took, all quantities together."""
    of = zip(bar.changes, bridges, scales, strict=True)
    return sum(abs(change) * scale / max(b.baseline, 1e-9) for change, b, scale in of)


def _together(small: list[Bar]) -> Bar:
    ghosts = [
        [g for g in column if g is not None]
        for column in zip(*(s.projected for s in small), strict=True)
    ]
    return Bar(
        kind="step",
        title=f"{len(small)} smaller ones",
        starts=(),
        changes=tuple(sum(column) for column in zip(*(s.changes for s in small), strict=True)),
        projected=tuple(sum(g) if g else None for g in ghosts),
    )
