"""How much of a difference is of what was changed, and how sure that is beside the whole.

What was changed is measured by its own consumers, which keep apart from whatever else the computer
does: their difference is sure even where that of the whole is not.
"""

import math
from collections.abc import Iterable

from lumtak.core.compare import Comparison
from lumtak.core.plan import Plan
from lumtak.core.reading import ConsumerLoad, Reading
from lumtak.core.record import Record
from lumtak.core.units import signed

_BATCHES_T = 2.571
"""Student's t for 95 % with the degrees of freedom of six batches (core.means): what a standard
error of a consumer is at least worth."""


class Share(Record):
    """A difference in percentage points of the whole computer, and half its 95 % interval."""

    points: float
    half: float

    @property
    def words(self) -> str:
        """For a person."""
        return f"{signed(self.points, 1)} ± {self.half:.1f}"


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
    plan: Plan, before: Reading, after: Reading, comparisons: Iterable[Comparison]
) -> Attribution | None:
    """The CPU's difference, told apart; None where none of what was changed has a share of its own.

    Standard errors of consumers add in quadrature, as if they did not depend on each other.
    """
    whole = next((c for c in comparisons if c.column == "cpu_pct"), None)
    then, now = _changed(plan, before), _changed(plan, after)
    if whole is None or not (then or now):
        return None
    points = sum(c.cpu_pct for c in now) - sum(c.cpu_pct for c in then)
    error = math.sqrt(sum(c.cpu_se_pct**2 for c in (*then, *now)))
    changed = Share(points=points, half=_BATCHES_T * error)
    return Attribution(
        changed=changed,
        rest=Share(
            points=whole.difference - changed.points,
            half=math.hypot(whole.smallest, changed.half),
        ),
        whole=Share(points=whole.difference, half=whole.smallest),
    )


def _changed(plan: Plan, reading: Reading) -> list[ConsumerLoad]:
    """What the consumers of what was changed cost in a reading."""
    names = {n for step in plan.steps for n in (str(step.change.ref), *step.brings)}
    return [c for c in reading.consumers if c.key in names]
