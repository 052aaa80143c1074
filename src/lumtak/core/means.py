"""Means of samples that depend on each other, and how sure they are.

The one place that works them out.

Samples taken one after the other depend on each other, so a plain standard error is too small. Two
ways allow for the dependence, batch means and a first-order autoregression; what is shown is always
the wider. Samples of different length count by their length.
"""

import math
from collections.abc import Sequence
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray

    Floats = NDArray[np.float64]

Spread = tuple[float, float]
"""(variance of a mean, degrees of freedom)."""

BATCHES = 6
FEWEST = 2
MOST_CORRELATED = 0.995
"""A correlation above this cannot be told from a wander that has not ended within the window."""


def mean(values: Sequence[float], lengths: Sequence[float]) -> float:
    """The mean over time: each value counts by its length; 0 where there is no time."""
    whole = sum(lengths)
    return (
        sum(v * length for v, length in zip(values, lengths, strict=True)) / whole
        if whole > 0
        else 0.0
    )


def weighed(values: Sequence[float], lengths: Sequence[float]) -> list[float]:
    """A series whose plain mean is the mean over time, and whose spread is the spread of that mean.

    The mean over time m is a ratio of sums; to first order its error is that of the mean of m + (v
    - m) · length / mean length (linearisation of a ratio estimator; Cochran 1977, section 6.3).
    Where all lengths are equal the values stay as they are.
    """
    if not values or max(lengths) - min(lengths) <= 1e-9 * max(lengths):
        return list(values)
    centre, middle = mean(values, lengths), sum(lengths) / len(lengths)
    return [
        centre + (v - centre) * length / middle for v, length in zip(values, lengths, strict=True)
    ]


def batch_spread(values: "Floats") -> Spread:
    """From six non-overlapping batch means (Schmeiser 1982).

    Fewer values than two a batch give the plain spread.
    """
    size = values.size // BATCHES
    if size < 2:
        return float(values.var(ddof=1) / values.size), float(values.size - 1)
    means = values[: size * BATCHES].reshape(BATCHES, size).mean(axis=1)
    return float(means.var(ddof=1) / BATCHES), float(BATCHES - 1)


def ar1_spread(values: "Floats") -> Spread:
    """If the series were a first-order autoregression.

    The lag-one correlation r is corrected for its bias in short series, r + (1 + 4 r) / n (Kendall
    1954), the long-run variance is s² (1 + r) / (1 - r), and the effective sample size n (1 - r) /
    (1 + r) less one gives the degrees of freedom (Zwiers and von Storch 1995), never fewer than
    two.
    """
    n = values.size
    centred = values - values.mean()
    power = float(centred @ centred)
    if power <= 0:
        return 0.0, float(n - 1)
    r = float(centred[1:] @ centred[:-1]) / power
    r = min(max(r + (1 + 4 * r) / n, 0.0), MOST_CORRELATED)
    inflation = (1 + r) / (1 - r)
    return power / (n - 1) * inflation / n, max(n / inflation, 3.0) - 1


def student(spread: Spread, error: float = 0.05) -> float:
    """Half the interval of what has this spread: of 95 %, or with another chance to be wrong."""
    from scipy.special import stdtrit  # costs 0.3 s

    return float(stdtrit(spread[1], 1 - error / 2)) * math.sqrt(max(spread[0], 0.0))


def half_width(values: "Sequence[float] | Floats") -> float:
    """Half the 95 % interval of the mean of a series: the wider of both ways.

    Without end where there are fewer than two values.
    """
    import numpy as np  # costs 0.1 s

    series = np.asarray(values, dtype=np.float64)
    if series.size < FEWEST:
        return math.inf
    return max(student(batch_spread(series)), student(ar1_spread(series)))


def standard_error(values: "Sequence[float] | Floats") -> float:
    """Of the mean of a series: the larger of both ways; 0 where there are fewer than two values."""
    import numpy as np  # costs 0.1 s

    series = np.asarray(values, dtype=np.float64)
    if series.size < FEWEST:
        return 0.0
    return math.sqrt(max(batch_spread(series)[0], ar1_spread(series)[0], 0.0))
