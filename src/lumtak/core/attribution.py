"""How much of a difference is of what was changed, and how sure that is beside the whole.

What was changed is measured by its own consumers, which keep apart from whatever else the computer
does: their difference is sure even where that of the whole is not.
"""

import math
from collections.abc import Iterable, Sequence

from lumtak.core.compare import Comparison
from lumtak.core.plan import Plan
from lumtak.core.reading import Reading
from lumtak.core.record import Record
from lumtak.core.units import signed

_BATCHES_T = 2.571
"""Student's t for 95 % with the degrees of freedom of six batches (core.means): what a standard
error of a consumer is at least worth."""


_LEAST = 0.1


class Share(Record):
    """A difference in percentage points of the whole computer, and half its 95 % interval."""

    points: float
    half: float

    @property
    def words(self) -> str:
        """For a person."""
        size = f"{self.half:.1f}" if self.half >= _LEAST else f"less than {_LEAST:g}"
        return f"{signed(self.points, 1)} ± {size}"


class Attribution(Record):
    """After minus before of the CPU: changed + rest = whole."""

    changed: Share
    rest: Share
    """All that was not changed; its interval adds those of the others in quadrature."""
    whole: Share

    @property
    def words(self) -> str:
        """A sentence for a person."""
        return (
            f"Of the CPU, what was changed: {self.changed.words} points; everything else:"
            f" {self.rest.words}; the computer: {self.whole.words}."
        )


def attribution(
    plan: Plan,
    before: Sequence[Reading],
    after: Sequence[Reading],
    comparisons: Iterable[Comparison],
) -> Attribution | None:
    """The CPU's difference, told apart; None where none of what was changed has a share of its own.

    Standard errors of consumers add in quadrature, as if they did not depend on each other.

    Args:
        plan: what was changed.
        before: the readings that were compared.
        after: the same.
        comparisons: of them.
    """
    whole = next((c for c in comparisons if c.column == "cpu_pct"), None)
    then, now = _changed(plan, before), _changed(plan, after)
    if whole is None or (then is None and now is None):
        return None
    (was, was_variance), (is_now, is_variance) = then or (0.0, 0.0), now or (0.0, 0.0)
    half = _BATCHES_T * math.sqrt(was_variance + is_variance)
    changed = Share(points=is_now - was, half=half)
    rest = Share(points=whole.difference - changed.points, half=math.hypot(whole.smallest, half))
    return Attribution(
        changed=changed, rest=rest, whole=Share(points=whole.difference, half=whole.smallest)
    )


def _changed(plan: Plan, readings: Sequence[Reading]) -> tuple[float, float] | None:
    """(mean of what the consumers of what was changed cost, its variance); None where no reading
    saw any of them.
    """
    names = {n for step in plan.steps for n in (str(step.change.ref), *step.brings)}
    seen = [c for reading in readings for c in reading.consumers if c.key in names]
    count = len(readings)
    if not seen:
        return None
    return sum(c.cpu_pct for c in seen) / count, sum(c.cpu_se_pct**2 for c in seen) / count**2
