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
from lumtak.core.means import Spread, ar1_spread, batch_spread, student
from lumtak.core.record import Record
from lumtak.core.trial.design import Design
from lumtak.core.wander import cosine_spread

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray

    Floats = NDArray[np.float64]

LEFT_OVER = 0.1
"""Of what a change does, so much at most is thought to be still coming or going in what is kept of
a block: of what comes and goes exponentially that is a time constant of 11 s under the times by
default."""
ASSUMES = (
    "The interval assumes that the change does the same in every pair, and that at most a tenth of"
    " what it does is still coming or going after the washout."
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
        low, high = allowing(*interval(seen, look.spends))
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


def allowing(low: float, high: float) -> tuple[float, float]:
    """An interval that allows for what is left over of an effect: its ends away from nothing are
    moved further away, since what has not all come yet looks smaller than it is.
    """
    whole = 1 - LEFT_OVER
    return (low / whole if low < 0 else low), (high / whole if high > 0 else high)


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


def block_spread(values: Sequence[float], a_block: float) -> Spread | None:
    """How far the means of blocks lie apart while nothing is switched.

    The widest of batch means, a first-order autoregression and the slowest waves of a look, as of
    a mean over so many values as a block has: all fall with their number.

    Args:
        values: of the look, in order.
        a_block: how many of them a block has.

    Returns:
        (variance of the mean of a block, degrees of freedom); None of too few values.
    """
    import numpy as np

    if len(values) < _FEWEST_VALUES or a_block < 1:
        return None
    series = np.asarray(values, dtype=np.float64)
    ways = batch_spread(series), ar1_spread(series), cosine_spread(series)
    variance, freedom = max(ways)
    return variance * len(values) / a_block, freedom


_FEWEST_VALUES = 6


def could_show(spread: Spread, planned: Design) -> float:
    """The smallest effect that a whole trial can be expected to show on this load.

    Half the interval of the last look by Student's t, if the differences of the pairs spread as two
    blocks do that have nothing to do with each other: by √(2 variance / pairs).

    Args:
        spread: of the mean of a block; see `block_spread`.
        planned: the design.
    """
    return _half_of_all(2 * spread[0], planned)


def could_show_by(differences: Sequence[float], planned: Design) -> float | None:
    """The same, by the pairs that were made so far.

    Returns:
        None of fewer than three pairs.
    """
    count = len(differences)
    if count < _FEWEST_PAIRS:
        return None
    centre = sum(differences) / count
    return _half_of_all(sum((d - centre) ** 2 for d in differences) / (count - 1), planned)


def _half_of_all(variance: float, planned: Design) -> float:
    spread = variance / planned.pairs, float(planned.pairs - 1)
    return student(spread, planned.looks[-1].spends) / (1 - LEFT_OVER)


_FEWEST_PAIRS = 3
