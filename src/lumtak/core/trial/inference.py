"""What the blocks of a trial say, by the orders that could have been drawn.

Which block of a pair had the change on was drawn by itself for each pair. Where the change does
nothing, each pair's difference could as well have had the other sign, whatever the load does by
itself: so the orders that were not drawn say what chance does. That needs no model of the load.

For the interval a shift is assumed that is the same in all pairs. Under it, the means of all
subsets of the differences are typical values (Hartigan 1969): between two of them that stand next
to each other the shift lies with the same chance, 1 / 2^pairs, so that the k-th from below and from
above hold it with 1 - 2k / 2^pairs.
"""

import math
from collections.abc import Sequence
from typing import TYPE_CHECKING

from lumtak.core.compare import Conclusion, found_between
from lumtak.core.means import student
from lumtak.core.record import Record
from lumtak.core.trial.design import Design

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray

    Floats = NDArray[np.float64]

ASSUMES = (
    "The interval assumes that the change does the same in every pair, and that what it did is over"
    " after the washout."
)


class Shown(Record):
    """What a trial shows so far."""

    pairs: int
    """That were complete."""
    difference: float
    """On minus off: the mean over the pairs, in the unit of the measure."""
    ci95: tuple[float, float] | None
    """(low, high) of it, at the look that was made; None before the first look."""
    finding: Conclusion
    ends: bool
    """Whether the trial is over: it showed an effect at a look, or there are no pairs left."""


def shown(differences: Sequence[float], planned: Design, threshold: float) -> Shown:
    """What the pairs say at the newest look.

    The intervals of all looks hold the shift together with 95 %, since the looks spend 5 %
    together: so whichever look ends the trial, its interval can be told.

    Args:
        differences: on minus off, a number a complete pair, in order.
        planned: the design.
        threshold: what does not matter in practice; no effect is said only where the whole interval
            lies within it.
    """
    difference = sum(differences) / len(differences) if differences else 0.0
    found = Shown(
        pairs=len(differences), difference=difference, ci95=None, finding="not known", ends=False
    )
    for look in planned.looks:
        if look.pairs > len(differences) or found.ends:
            break
        seen = differences[: look.pairs]
        low, high = interval(seen, look.spends)
        ends = low > 0 or high < 0 or look.pairs == planned.pairs
        found = Shown(
            pairs=look.pairs if ends else len(differences),
            difference=sum(seen) / look.pairs if ends else difference,
            ci95=(low, high),
            finding=found_between(low, high, threshold) if ends else "not known",
            ends=ends,
        )
    return found


def interval(differences: Sequence[float], error: float) -> tuple[float, float]:
    """The shifts that the orders do not speak against.

    Args:
        differences: of complete pairs.
        error: the chance that it does not hold the shift; never more.

    Returns:
        (low, high); without bounds where so few pairs cannot be that sure.
    """
    count = 2 ** len(differences)
    rank = math.floor(error / 2 * count)
    if rank < 1:
        return -math.inf, math.inf
    means = subset_means(differences)
    return float(means[rank - 1]), float(means[-rank])


def subset_means(differences: Sequence[float]) -> "Floats":
    """The mean of every subset that is not empty, in order: 2^n - 1 of them."""
    import numpy as np

    sums, sizes = np.zeros(1), np.zeros(1)
    for value in differences:
        sums = np.concatenate([sums, sums + value])
        sizes = np.concatenate([sizes, sizes + 1])
    means: Floats = sums[1:] / sizes[1:]
    means.sort()
    return means


def could_show(values: Sequence[float], interval_s: float, planned: Design) -> float | None:
    """The smallest effect that such a trial can be expected to show on this load.

    Half the interval that it would have if the change did nothing: pairs of blocks are cut out of a
    reading in which nothing was switched, as far apart as they will be.

    Args:
        values: samples of the measure, once it had settled.
        interval_s: from one to the next.
        planned: the design.

    Returns:
        None where the reading is too short to say: it has to hold three pairs.
    """
    kept = max(1, round(planned.block_s / interval_s))
    step = kept + round(planned.washout_s / interval_s)
    starts = range(0, len(values) - kept + 1, step)
    blocks = [sum(values[i : i + kept]) / kept for i in starts]
    pairs = [b - a for a, b in zip(blocks[::2], blocks[1::2], strict=False)]
    if len(pairs) < _FEWEST_PAIRS:
        return None
    # Where nothing is switched a difference has mean 0, so that its square is its variance.
    variance = sum(d * d for d in pairs) / len(pairs)
    return student((variance / planned.pairs, float(len(pairs))))


_FEWEST_PAIRS = 3
