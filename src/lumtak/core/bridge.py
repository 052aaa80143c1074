"""From the baseline to the after reading, one step a change, with what was projected beside what
was measured.
"""

from collections.abc import Iterable
from typing import Literal

from lumtak.core.plan import Plan, Step
from lumtak.core.reading import Reading
from lumtak.core.record import NotMeasured, Record

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
