"""Readings held against each other: by how much, how sure.

Samples taken one after the other depend on each other, so the interval of a plain t-test is too
narrow: on two readings of the same computer it reports a difference far more often than one time in
twenty. The interval here is the widest of several that allow for the dependence, and errs on the
side of caution; `make calibrate` shows how often it is wrong (docs/MEASURING.md).
"""

from collections.abc import Sequence
from typing import TYPE_CHECKING, Literal

from lumtak.core.means import BATCHES, FEWEST, Spread, ar1_spread, batch_spread, student
from lumtak.core.record import Record
from lumtak.core.units import signed
from lumtak.core.wander import Wander, cosine_spread, wander
from lumtak.errors import UsageError

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray

    Floats = NDArray[np.float64]

Verdict = Literal["lower", "none", "higher"]
"""After against before: lower, no clear difference, higher."""
Conclusion = Literal["lower", "higher", "no effect", "not known"]
"""As the verdict, but "none" told apart: the whole interval is within the practical threshold, or
it is not."""

_VERDICTS: dict[Conclusion, Verdict] = {
    "lower": "lower",
    "higher": "higher",
    "no effect": "none",
    "not known": "none",
}
CAUTION_ENDED = 1.15
"""By so much is the interval widened where a reading ended by itself: a lucky calm ends it early.
Set by calibration."""
TO_KNOW = "Longer readings, or three before and three after, would settle it."
MOST_PAIRED = 2000
"""Longer series are averaged into so many bins for the Hodges-Lehmann shift, which looks at every
pair."""


class Comparison(Record):
    """After minus before, for one column."""

    column: str
    before: float
    """Mean of the samples before; of several readings, the mean of their means."""
    after: float
    difference: float
    ci95: tuple[float, float]
    """(low, high) of the difference; cautious."""
    verdict: Verdict
    """From the interval and the threshold alone, never from the difference itself."""
    finding: Conclusion
    threshold: float
    """Differences smaller than this do not matter in practice; 0 where nobody said so."""
    smallest: float
    """The smallest difference that these windows could have shown: half the width of the
    interval."""
    median_difference: float
    p95_difference: float
    """Difference of the 95th percentiles."""
    shift: float
    """Hodges-Lehmann: the median of all differences between a sample after and a sample before."""
    n_before: int
    n_after: int
    effective_before: float
    """So many independent samples would say as much (from a first-order autoregression)."""
    effective_after: float
    readings_before: int
    readings_after: int
    wanders: str = ""
    """Why these readings cannot know, where that is so: what the load does, as a clause."""
    note: str = ""
    """What limits the result, as a sentence."""


class _Spread(Record):
    """How sure the mean of one side is: three ways, one more where there are several readings."""

    batch: Spread
    ar1: Spread
    waves: Spread
    between: Spread | None
    effective: float


def compare(
    before: "Sequence[float] | Floats",
    after: "Sequence[float] | Floats",
    column: str,
    *,
    threshold: float = 0.0,
) -> Comparison:
    """The difference of means of two readings with a 95 % interval; see `compare_many`."""
    return compare_many([before], [after], column, threshold=threshold)


def compare_many(
    before: "Sequence[Sequence[float] | Floats]",
    after: "Sequence[Sequence[float] | Floats]",
    column: str,
    *,
    threshold: float = 0.0,
    caution: float = 1.0,
    earlier: "Sequence[Sequence[Sequence[float]]]" = (),
) -> Comparison:
    """The difference of means with a 95 % interval, each side one reading or several.

    With several readings on a side the variation between them counts too: two starts differ.

    Args:
        before: readings, each one value a sample, in order, (n,).
        after: the same.
        column: what the values are.
        threshold: a difference smaller than this does not matter in practice.
        caution: by so much the interval is widened; CAUTION_ENDED where a reading ended by itself.
        earlier: readings of this computer in groups of one state each: how much they differ within
            their groups widens the interval.

    Raises:
        UsageError: fewer than two values in a reading, or values that are not finite.
    """
    import numpy as np  # costs 0.1 s, and only a comparison needs it

    a = [_values(values, "before", column) for values in before]
    b = [_values(values, "after", column) for values in after]
    spread_a, spread_b = _spread(a), _spread(b)
    # Each reading counts once, however long it is: starts differ more than samples do.
    was, now = (float(np.mean([x.mean() for x in side])) for side in (a, b))
    difference = now - was
    apart = _between_states(earlier, len(a), len(b))
    narrow = caution * _half_width(spread_a, spread_b, apart)
    slow = wander(a, b, narrow)
    finding, why = _found(difference, slow, narrow, threshold)
    whole_a, whole_b = np.concatenate(a), np.concatenate(b)
    medians, tails = ([float(np.percentile(x, q)) for x in (whole_a, whole_b)] for q in (50, 95))
    return Comparison(
        column=column,
        before=was,
        after=now,
        difference=difference,
        ci95=(difference - slow.half, difference + slow.half),
        verdict=_VERDICTS[finding],
        finding=finding,
        threshold=threshold,
        smallest=slow.half,
        median_difference=medians[1] - medians[0],
        p95_difference=tails[1] - tails[0],
        shift=_shift(whole_a, whole_b),
        n_before=int(whole_a.size),
        n_after=int(whole_b.size),
        effective_before=spread_a.effective,
        effective_after=spread_b.effective,
        readings_before=len(a),
        readings_after=len(b),
        wanders=why,
        note=_note(whole_a, whole_b, spread_a, spread_b),
    )


def _values(given: "Sequence[float] | Floats", name: str, column: str) -> "Floats":
    """One reading as an array.

    Raises:
        UsageError: it has fewer than two values, or some that are not finite.
    """
    import numpy as np

    values = np.asarray(given, dtype=np.float64)
    _check(values, name, column)
    return values


def _check(values: "Floats", name: str, column: str) -> None:
    import numpy as np

    if values.size < FEWEST:
        raise UsageError(
            f"The reading {name} has {values.size} values of {column}; a comparison needs at least"
            f" {FEWEST}.",
            "Take a longer reading.",
        )
    if not np.isfinite(values).all():
        raise UsageError(
            f"The reading {name} has values of {column} that are no finite numbers.",
            "Take it again.",
        )


def _found(
    difference: float, slow: Wander, narrow: float, threshold: float
) -> tuple[Conclusion, str]:
    """(finding, why nothing can be known where that is so)."""
    finding, sooner = (
        found_between(difference - half, difference + half, threshold)
        for half in (slow.half, narrow)
    )
    return finding, slow.why(matters=sooner != finding) if finding == "not known" else ""


def found_between(low: float, high: float, threshold: float) -> Conclusion:
    """What an interval says: no effect needs all of it inside the threshold.

    Lower and higher need it on one side of zero.
    """
    if -threshold < low and high < threshold:
        return "no effect"
    if high < 0:
        return "lower"
    return "higher" if low > 0 else "not known"


def _note(a: "Floats", b: "Floats", spread_a: _Spread, spread_b: _Spread) -> str:
    if min(a.size, b.size) < 2 * BATCHES:
        return (
            "So few samples say little about how they depend on each other; take longer readings."
        )
    if a.min() == a.max() and b.min() == b.max():
        return "Neither side varies at all, so the interval has no width."
    if min(spread_a.effective, spread_b.effective) < BATCHES:
        return (
            "The samples depend on each other so much that they are worth only a few; take longer"
            " readings."
        )
    if max(a.size, b.size) > MOST_PAIRED:
        return f"The shift was worked out on the means of {MOST_PAIRED} bins."
    return ""


def _half_width(a: _Spread, b: _Spread, apart: float) -> float:
    """The widest of the intervals, where the memory is short.

    Batch means, autoregression, slow waves, and variation between readings where there are several.

    Args:
        a: of the one side.
        b: of the other.
        apart: from `_between_states`.
    """
    widths = [apart, _welch(a.batch, b.batch), _welch(a.ar1, b.ar1), _welch(a.waves, b.waves)]
    if a.between or b.between:
        widths.append(_welch(a.between or max(a.batch, a.ar1), b.between or max(b.batch, b.ar1)))
    return max(widths)


_FEWEST_FREE = 2


def _between_states(
    groups: "Sequence[Sequence[Sequence[float]]]", before: int, after: int
) -> float:
    """Half the 95 % interval of a difference from how much earlier readings differ within their
    groups; 0 where there are too few of them.

    Args:
        groups: of readings, of one state each.
        before: number of readings that are compared.
        after: the same.
    """
    import numpy as np

    means = [[float(np.mean(x)) for x in group] for group in groups if len(group) > 1]
    free = sum(len(group) - 1 for group in means)
    if free < _FEWEST_FREE:
        return 0.0
    squares = sum(float(np.var(group)) * len(group) for group in means)
    return student((squares / free * (1 / before + 1 / after), float(free)))


def _welch(first: Spread, second: Spread) -> float:
    """Half the 95 % interval of a difference from two (variance of the mean, degrees of freedom);
    Welch-Satterthwaite.
    """
    variance = first[0] + second[0]
    if variance <= 0:
        return 0.0
    return student((variance, 1 / sum((v / variance) ** 2 / d for v, d in (first, second))))


def _spread(readings: "list[Floats]") -> _Spread:
    """The mean of several readings is as sure as their means are.

    Variances of means add, and so do degrees of freedom.
    """
    import numpy as np

    count = len(readings)
    ways = [[way(x) for x in readings] for way in (batch_spread, ar1_spread, cosine_spread)]
    batch, ar1, waves = (
        (sum(v for v, _ in way) / count**2, sum(d for _, d in way)) for way in ways
    )
    between = None
    if count > 1:
        between = (float(np.var([x.mean() for x in readings], ddof=1)) / count, float(count - 1))
    effective = sum(d + 1 for _, d in ways[1])
    return _Spread(batch=batch, ar1=ar1, waves=waves, between=between, effective=effective)


def _shift(a: "Floats", b: "Floats") -> float:
    """Hodges and Lehmann (1963): the median of all pairwise differences.

    Long series are binned first.
    """
    import numpy as np

    short = [
        x if x.size <= MOST_PAIRED else np.array([p.mean() for p in np.array_split(x, MOST_PAIRED)])
        for x in (a, b)
    ]
    return float(np.median(np.subtract.outer(short[1], short[0])))


def in_words(
    result: Comparison, what: str, unit: str, scale: float = 1.0, decimals: int = 1
) -> str:
    """The finding as a sentence that the computer's owner understands.

    Args:
        result: the comparison.
        what: the quantity, for example "CPU load at idle".
        unit: of the figures, after scaling.
        scale: what the figures are divided by.
        decimals: to show.
    """
    low, high = (x / scale for x in result.ci95)
    sure = f"95 % sure: {signed(low, decimals)} to {signed(high, decimals)}"
    start = f"{what[0].upper()}{what[1:]}"
    if result.finding == "no effect":
        limit = f"{result.threshold / scale:.{decimals}f} {unit}"
        return (
            f"{start} is the same: any difference is smaller than {limit}, which would not be felt"
            f" ({sure})."
        )
    if result.finding == "not known" and result.wanders:
        return (
            f"Whether {what} differs cannot be known from these readings: {result.wanders} ({sure}"
            f" {unit}). {TO_KNOW}"
        )
    if result.finding == "not known":
        seen = f"{result.smallest / scale:.{decimals}f} {unit}"
        return (
            f"No clear difference in {what} ({sure} {unit}); these readings could have shown {seen}"
            " or more."
        )
    near, far = sorted((abs(low), abs(high)))
    size = f"{abs(result.difference) / scale:.{decimals}f} {unit}"
    return (
        f"{start} is {result.finding} by {size} (95 % sure: {near:.{decimals}f} to"
        f" {far:.{decimals}f})."
    )
