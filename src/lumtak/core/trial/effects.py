"""What the blocks of a screening say, by the orders that could have been drawn.

Each change has half of the blocks of every round on and half off, and no two changes are on in the
same halves, so what one does is the difference of its two halves; chance is what no change
explains. The largest ratio of the two over all changes is held against the same ratio in orders of
blocks that could have been drawn as well (Westfall and Young 1993): where no change does anything,
all of them are as likely as the one that was, whatever the load does by itself. So the chance that
any change is taken to do something there is what the looks spend, 5 % together.

Where one does something, what was found of it is taken out before the others are judged. That, and
the intervals, are an approximation: they assume that changes add.
"""

import math
from collections.abc import Sequence
from typing import TYPE_CHECKING

from lumtak.core.compare import Conclusion, found_between
from lumtak.core.means import Spread, student
from lumtak.core.record import Record
from lumtak.core.trial.inference import LEFT_OVER, allowing
from lumtak.core.trial.screening import Layout

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray

    Floats = NDArray[np.float64]

ORDERS = 1999
"""So many are drawn to judge chance by."""
_NEXT_TO_NOTHING = 1e-9
"""Of the size of the values: less is no chance, but how numbers are kept."""
ASSUMES = (
    "Where nothing does anything, at most one such screening in twenty takes anything for an"
    " effect. Where something does, intervals are approximate: they assume that changes add, and"
    " that at most a tenth of what one does is still coming or going after the washout."
)


class Effect(Record):
    """What one of the changes does, as far as is known."""

    difference: float
    """On minus off, in the unit of the measure."""
    ci95: tuple[float, float]
    """(low, high); all of a screening hold together."""
    finding: Conclusion


class Seen(Record):
    """What a screening shows at its newest look."""

    rounds: int
    """That were complete."""
    effects: tuple[Effect, ...]
    """In the order of the changes."""
    apart: float
    """Figures that are closer to each other than this may as well stand the other way round."""
    ends: bool
    """Whether all is known, or no rounds are left."""


def seen(values: Sequence[float], layout: Layout, threshold: float) -> Seen | None:
    """What the blocks say at the newest look; None before the first.

    Args:
        values: a number a block that was kept, in the order of the layout.
        layout: fixed before.
        threshold: what does not matter in practice; no effect is said only where the whole interval
            lies within it.
    """
    import numpy as np  # costs 0.1 s

    rounds = len(values) // layout.round_blocks
    if not rounds:
        return None
    count = rounds * layout.round_blocks
    table = np.where(np.array(layout.rows[:count]), 1.0, -1.0)
    load = np.array(values[:count], dtype=np.float64).reshape(rounds, -1)
    load = load - load.mean(axis=1, keepdims=True)
    size = max(float(np.abs(values[:count]).max()), 1e-30) * _NEXT_TO_NOTHING
    found, error = _fitted(load.reshape(1, -1), table, layout.freedom(rounds), size)
    figures, wide = 2 * found[0], 2 * float(error[0])
    limits = _limits(load, table, layout, (found[0], float(error[0])), size)
    effects = []
    for figure, limit in zip(figures, limits, strict=True):
        low, high = allowing(float(figure - limit * wide), float(figure + limit * wide))
        said = found_between(low, high, threshold)
        effects.append(Effect(difference=float(figure), ci95=(low, high), finding=said))
    open_ones = any(e.finding == "not known" for e in effects)
    return Seen(
        rounds=rounds,
        effects=tuple(effects),
        apart=float(max(limits)) * wide * math.sqrt(2),
        ends=not open_ones or rounds == layout.rounds,
    )


def _fitted(loads: "Floats", table: "Floats", freedom: int, size: float) -> "tuple[Floats, Floats]":
    """Half of each effect and its standard error, by load: (n, changes), (n,).

    Columns are balanced against each other and within rounds, so least squares are plain means.
    """
    import numpy as np

    count = table.shape[0]
    halves = loads @ table / count
    left = (loads**2).sum(axis=1) - count * (halves**2).sum(axis=1)
    error = np.sqrt(np.maximum(left, 0.0) / freedom / count)
    return halves, np.maximum(error, size)


def _limits(
    load: "Floats", table: "Floats", layout: Layout, found: "tuple[Floats, float]", size: float
) -> list[float]:
    """How large the ratio of each change has to be: the largest first, and those that are shown are
    taken out for the rest.
    """
    import numpy as np

    rounds, blocks = load.shape
    rng = np.random.default_rng(layout.seed + rounds)
    orders = rng.random((ORDERS, rounds, blocks)).argsort(axis=2)
    rank = int(layout.spends * (ORDERS + 1))
    halves, by_itself = found
    limits = np.zeros(table.shape[1])
    known: set[int] = set()
    while True:
        others = [i for i in range(table.shape[1]) if i not in known]
        taken = sum((halves[i] * table[:, i] for i in known), np.zeros(rounds * blocks))
        rest = load - taken.reshape(rounds, blocks)
        mixed = np.take_along_axis(rest[None], orders, axis=2).reshape(ORDERS, -1)
        by_chance, error = _fitted(mixed, table, layout.freedom(rounds), size)
        most = (np.abs(by_chance[:, others]) / error[:, None]).max(axis=1)
        limit = float(np.partition(most, ORDERS - rank)[ORDERS - rank])
        limits[others] = limit
        new = {i for i in others if abs(halves[i]) / by_itself > limit}
        known |= new
        if not new or len(known) == len(halves):
            return [float(x) for x in limits]


def could_see(spread: Spread, layout: Layout) -> float:
    """The smallest effect that a whole screening can be expected to show on this load.

    Args:
        spread: (variance of the mean of a block, degrees of freedom), as it is while nothing is
            switched.
        layout: fixed before.

    Returns:
        Half the interval after all rounds, by Student's t with the error shared by all changes and
        all rounds (Bonferroni), in the unit of the measure.
    """
    spread_of_all = 4 * spread[0] / len(layout.rows), float(layout.freedom(layout.rounds))
    return student(spread_of_all, layout.spends / layout.changes) / (1 - LEFT_OVER)
