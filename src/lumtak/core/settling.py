"""Settling: where the transient at the beginning of a series ends, and whether it did."""

from collections.abc import Sequence

from lumtak.core.means import standard_error
from lumtak.core.reading import Conditions
from lumtak.core.record import known
from lumtak.core.sample import Sample

_GATE, _TAIL = 6.0, 10
_START_S, RECENT_S = 30.0, 300.0


def settle(values: list[float], skip: int = 0, batch: int = 5) -> tuple[int, bool]:
    """Where the transient ends, and whether it did.

    MSER-5 (White 1997; White, Cobb and Spratt 2000): batch the series by five, and find the cut
    where the standard error of what remains is least, searching the first half only. On a series
    without a transient that rule still cuts, and makes what is left look steadier than it is. So
    nothing is cut unless the mean of what would go is more than six standard errors away from the
    rest, and then half as much again goes too (ten samples at least), for the tail of the
    transient; both were set by calibration. When the best cut is at the end of the search, and
    again so in what remains, the series never settled. Fewer than four batches are too few to
    judge: nothing is cut, and the series counts as not settled.

    Args:
        values: in order.
        skip: so many go in any case, because a transient is known to be there.
        batch: values a batch.

    Returns:
        (index of the first sample kept, at most half-way; whether the series settled).
    """
    # A short reading right after a start keeps half of itself, and says that it never settled.
    skip = min(skip, len(values) // 2)
    best, last = _mser_cut(values[skip:], batch)
    if last == 0:
        return skip, False
    start = skip + best
    again, end = _mser_cut(values[start:], batch) if best == last else (0, 1)
    settled = again != end
    if best == 0 or not _stands_out(values[skip:start], values[start:]):
        return skip, settled
    return min(start + max(_TAIL, best // 2), len(values) // 2), settled


def skip_after_start(samples: Sequence[Sample], conditions: Conditions) -> int:
    """How many samples go in any case.

    Those of the first half minute when a start or login was less than five minutes ago.
    """
    since = min(conditions.uptime_s, known(conditions.since_login_s, otherwise=conditions.uptime_s))
    return sum(s.t_s <= _START_S for s in samples) if since < RECENT_S else 0


def _mser_cut(values: list[float], batch: int) -> tuple[int, int]:
    """(best cut, last cut that was looked at), both in values.

    (0, 0) when there are fewer than four batches.
    """
    means = [sum(values[i : i + batch]) / batch for i in range(0, len(values) - batch + 1, batch)]
    if len(means) < 4:
        return 0, 0
    scores = _mser_scores(means)
    return min(range(len(scores)), key=scores.__getitem__) * batch, (len(scores) - 1) * batch


def _mser_scores(means: list[float]) -> list[float]:
    """The squared standard error of what remains after cutting 0, 1, 2, ...

    Batches, up to half; one pass from the end.
    """
    # Sums are taken about the mean of all: squares of large numbers would swallow the variance.
    middle = sum(means) / len(means)
    total = squares = 0.0
    scores = []
    for count, value in enumerate(reversed(means), start=1):
        total += value - middle
        squares += (value - middle) ** 2
        if len(means) - count <= len(means) // 2:
            scores.append((squares - total * total / count) / count**2)
    return scores[::-1]


def _stands_out(head: list[float], rest: list[float]) -> bool:
    """Whether the head is no part of the same steady load.

    Its mean is more than six standard errors away.
    """
    error = standard_error(rest) * (1 + len(rest) / len(head)) ** 0.5
    return bool(abs(sum(head) / len(head) - sum(rest) / len(rest)) > _GATE * error)
