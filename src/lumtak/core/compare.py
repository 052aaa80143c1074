"""Two readings held against each other: by how much, how sure.

Samples taken one after the other depend on each other, so the interval of a plain t-test is too narrow: on two readings
of the same computer it reports a difference far more often than one time in twenty. The interval here is the wider of two that
allow for the dependence, and is meant to err on the side of caution.
"""

import math
from typing import TYPE_CHECKING, Literal

from lumtak.core.record import Record
from lumtak.errors import UsageError

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray

Verdict = Literal["lower", "none", "higher"]
"""After against before: lower, no clear difference, higher."""

BATCHES = 6
FEWEST = 2


class Comparison(Record):
    """After minus before, for one column."""

    column: str
    before: float
    """Mean of the samples before."""
    after: float
    difference: float
    ci95: tuple[float, float]
    """(low, high) of the difference; cautious."""
    verdict: Verdict
    """From the interval alone: "none" when it holds zero."""
    n_before: int
    n_after: int
    smallest: float
    """The smallest difference that these two windows could have shown: half the width of the interval."""


def compare(
    before: "list[float] | NDArray[np.float64]", after: "list[float] | NDArray[np.float64]", column: str
) -> Comparison:
    """The difference of means with a 95 % interval.

    Args:
        before: one value a sample, in order, (n,).
        after: the same, (m,).
        column: what the values are.

    Raises:
        UsageError: fewer than two values on a side, or values that are not finite.
    """
    import numpy as np  # costs 0.1 s, and only a comparison needs it

    a, b = (np.asarray(side, dtype=np.float64) for side in (before, after))
    for name, side in (("before", a), ("after", b)):
        if side.size < FEWEST:
            raise UsageError(
                f"The reading {name} has {side.size} values of {column}; a comparison needs at least {FEWEST}.",
                "Take a longer reading.",
            )
        if not np.isfinite(side).all():
            raise UsageError(f"The reading {name} has values of {column} that are no finite numbers.", "Take it again.")
    difference = float(b.mean() - a.mean())
    half = max(_half_width(_batch_error(a), _batch_error(b)), _half_width(_ar1_error(a), _ar1_error(b)))
    low, high = difference - half, difference + half
    verdict: Verdict = "lower" if high < 0 else "higher" if low > 0 else "none"
    return Comparison(
        column=column,
        before=float(a.mean()),
        after=float(b.mean()),
        difference=difference,
        ci95=(low, high),
        verdict=verdict,
        n_before=int(a.size),
        n_after=int(b.size),
        smallest=half,
    )


def _half_width(first: tuple[float, float], second: tuple[float, float]) -> float:
    """Half the 95 % interval from two (variance of the mean, degrees of freedom), Welch-Satterthwaite."""
    from scipy.special import stdtrit

    variance = first[0] + second[0]
    if variance <= 0:
        return 0.0
    freedom = 1 / sum((v / variance) ** 2 / d for v, d in (first, second))
    return float(stdtrit(freedom, 0.975)) * math.sqrt(variance)


def _batch_error(values: "NDArray[np.float64]") -> tuple[float, float]:
    """(variance of the mean, degrees of freedom) from non-overlapping batch means (Schmeiser 1982)."""
    size = values.size // BATCHES
    if size < 2:
        return float(values.var(ddof=1) / values.size), float(values.size - 1)
    means = values[: size * BATCHES].reshape(BATCHES, size).mean(axis=1)
    return float(means.var(ddof=1) / BATCHES), float(BATCHES - 1)


def _ar1_error(values: "NDArray[np.float64]") -> tuple[float, float]:
    """(variance of the mean, degrees of freedom) if the series were a first-order autoregression.

    The lag-one correlation r is corrected for its bias in short series, r + (1 + 4 r) / n (Kendall 1954), the long-run
    variance is s² (1 + r) / (1 - r), and the effective sample size n (1 - r) / (1 + r) less one gives the degrees
    of freedom (Zwiers and von Storch 1995), never fewer than two.
    """
    n = values.size
    centred = values - values.mean()
    power = float(centred @ centred)
    if power <= 0:
        return 0.0, float(n - 1)
    r = float(centred[1:] @ centred[:-1]) / power
    r = min(max(r + (1 + 4 * r) / n, 0.0), 0.97)
    inflation = (1 + r) / (1 - r)
    effective = max(n / inflation, 3.0)
    return power / (n - 1) * inflation / n, effective - 1


def in_words(result: Comparison, what: str, unit: str, scale: float = 1.0, decimals: int = 1) -> str:
    """The verdict as a sentence that the computer's owner understands.

    Args:
        result: the comparison.
        what: the quantity, for example "CPU load at idle".
        unit: of the figures, after scaling.
        scale: what the figures are divided by.
        decimals: to show.
    """
    low, high = sorted(abs(x) / scale for x in result.ci95)
    size = f"{abs(result.difference) / scale:.{decimals}f} {unit}"
    if result.verdict == "none":
        return (
            f"No clear difference in {what}: these two readings could have shown "
            f"{result.smallest / scale:.{decimals}f} {unit} or more, and did not."
        )
    return f"{what[0].upper()}{what[1:]} is {result.verdict} by {size} (95 % sure: {low:.{decimals}f} to {high:.{decimals}f})."
