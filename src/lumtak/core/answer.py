"""The answer to the complaint: what the owner waits for, before and after, with how sure that is.

Times are compared by their logarithms: a wait is long or short by a factor, and a few very long
ones are no reason to call all of them long. What is told is the geometric mean of a side, and by
how many per cent the other differs.
"""

import math
from collections.abc import Sequence
from itertools import pairwise

from lumtak.core.compare import (
    CAUTION_ENDED,
    TO_KNOW,
    Comparison,
    Conclusion,
    compare_many,
    found_between,
)
from lumtak.core.felt import MEASURES, TRIED, Complaint, Felt, Start, leads
from lumtak.core.means import student
from lumtak.core.reading import Reading
from lumtak.core.record import NotMeasured, Record
from lumtak.core.text import capital
from lumtak.core.units import counted, signed

FEWEST_TRIES = 3
"""In each reading; fewer say nothing of how they spread."""
FELT_PCT, FELT_C = 10.0, 2.0
"""Smaller differences are not felt: no effect."""
_SECOND_VARIANCE = 1 / 12
"""Of a time that was rounded to a second."""
_LEAST_S = 1e-6
"""What clocks cannot tell apart; it has a logarithm."""


class FeltChange(Record):
    """One of the things that the owner waits for, before and after."""

    felt: Felt
    before: float
    """Seconds, the geometric mean; °C, the mean."""
    after: float
    difference: float
    """Of a time in per cent of what it was before; of a temperature in °C. Negative is less."""
    ci95: tuple[float, float] | NotMeasured
    """(low, high) of it; cautious."""
    finding: Conclusion
    count_before: int
    """Tries, or starts."""
    count_after: int
    wanders: str = ""
    """Why these readings cannot know, where that is so; a clause."""

    @property
    def sentence(self) -> str:
        """What may be said of it."""
        measure = MEASURES[self.felt]
        title = capital(measure.title)
        was, now = measure.value(self.before), measure.value(self.after)
        both = f"{title}: {was} before, {now} after"
        if isinstance(self.ci95, NotMeasured):
            return f"{both}; how sure that is cannot be told: {self.ci95.not_measured}."
        unit = "°C" if measure.degrees else "%"
        low, high = (signed(x, 0) for x in self.ci95)
        sure = f"95 % sure: {low} to {high} {unit}"
        if self.finding == "no effect":
            limit = FELT_C if measure.degrees else FELT_PCT
            return f"{both}: the same, any difference is under {limit:g} {unit} ({sure})."
        if self.finding == "not known":
            if self.wanders:
                return f"{both}; this cannot be known: {self.wanders} ({sure}). {TO_KNOW}"
            return f"{both}: no clear difference ({sure})."
        near, far = sorted(abs(x) for x in self.ci95)
        size = f"{abs(self.difference):.0f} {unit}"
        less = "less" if self.finding == "lower" else "more"
        return f"{both}: {size} {less} (95 % sure: {near:.0f} to {far:.0f} {unit})."

    @property
    def short(self) -> str:
        """The same in the fewest words, for a line of several."""
        measure = MEASURES[self.felt]
        was, now = measure.value(self.before), measure.value(self.after)
        said = {"lower": measure.less, "higher": measure.more, "no effect": "the same"}
        return f"{measure.title} {was} → {now}, {said.get(self.finding, 'not clear')}"

    @property
    def clause(self) -> str:
        """The same in few words, for a headline."""
        measure = MEASURES[self.felt]
        was, now = measure.value(self.before), measure.value(self.after)
        if self.finding in {"lower", "higher"}:
            how = measure.less if self.finding == "lower" else measure.more
            return f"{measure.happens} {how} than before ({now}, was {was})."
        if self.finding == "no effect":
            return f"{measure.happens} as before ({now}, was {was})."
        return f"No clear difference in what was complained of: {measure.title} {was}, now {now}."


def felt_changes(
    before: Sequence[Reading],
    after: Sequence[Reading],
    starts: tuple[Sequence[Start], Sequence[Start]] = ((), ()),
) -> tuple[FeltChange, ...]:
    """All that was measured on both sides.

    Args:
        before: one reading or several of the same state.
        after: the same.
        starts: (before, after), each of one state.
    """
    found = [_of_tries(felt, before, after) for felt in TRIED]
    found += [_of_starts(felt, *starts) for felt in ("login_screen", "usable")]
    return tuple(change for change in found if change is not None)


def led_by(complaint: Complaint, changes: Sequence[FeltChange]) -> tuple[FeltChange, ...]:
    """Those that a complaint is about, the most telling first."""
    by_felt = {change.felt: change for change in changes}
    return tuple(by_felt[felt] for felt in leads(complaint) if felt in by_felt)


def _of_tries(felt: Felt, before: Sequence[Reading], after: Sequence[Reading]) -> FeltChange | None:
    sides = [
        [values for r in side if len(values := tries_of(r, felt)) >= FEWEST_TRIES]
        for side in (before, after)
    ]
    if not all(sides):
        return None
    scaled = [[_scaled(felt, values) for values in side] for side in sides]
    if MEASURES[felt].degrees:
        scaled = _headed_for(scaled)
    ended = any(r.ended == "precise" for r in (*before, *after))
    result = compare_many(
        scaled[0],
        scaled[1],
        felt,
        threshold=_threshold(felt),
        caution=CAUTION_ENDED if ended else 1.0,
    )
    return _change(felt, result, tuple(sum(map(len, side)) for side in sides))


def tries_of(reading: Reading, felt: Felt) -> list[float]:
    """The tries that were taken once the load had settled."""
    kept = reading.felt.get(felt)
    if kept is None:
        return []
    cut = min(reading.settled_from, len(reading.samples) - 1)
    return kept.since(reading.samples[cut - 1].t_s if cut else 0.0)


_SLOWEST = 0.985
"""Of what is left of a difference in temperature from one try to the next."""


def _headed_for(sides: list[list[list[float]]]) -> list[list[list[float]]]:
    """The temperature that a computer is on its way to at each try.

    What is warm follows its load with a delay (Newton's law of cooling): of the difference to where
    it is headed a share f is left at the next try, so it is headed for (T2 - f T1) / (1 - f). The
    share is found by least squares over all readings, each about its own mean. These follow each
    other as the load does, and hold nothing of how warm the computer was when the reading began.
    """
    pairs = [pair for side in sides for values in side for pair in _about_means(values)]
    power = sum(a * a for a, _ in pairs)
    along = sum(a * b for a, b in pairs)
    left = min(max(along / power, 0.0), _SLOWEST) if power > 0 else 0.0
    return [
        [[(b - left * a) / (1 - left) for a, b in pairwise(values)] for values in side]
        for side in sides
    ]


def _about_means(values: Sequence[float]) -> list[tuple[float, float]]:
    """Each temperature with the next, both about the mean of theirs."""
    count = len(values) - 1
    first, second = sum(values[:-1]) / count, sum(values[1:]) / count
    return [(a - first, b - second) for a, b in pairwise(values)]


def typical(reading: Reading, felt: Felt) -> float | None:
    """What one of them came to in a reading: the geometric mean of a time, the mean of a
    temperature; None where it was tried too seldom.
    """
    values = tries_of(reading, felt)
    if len(values) < FEWEST_TRIES:
        return None
    scaled = _scaled(felt, values)
    middle = sum(scaled) / len(scaled)
    return middle if MEASURES[felt].degrees else _back(middle)


def _scaled(felt: Felt, values: Sequence[float]) -> list[float]:
    if MEASURES[felt].degrees:
        return list(values)
    return [math.log(max(v, _LEAST_S)) for v in values]


def _threshold(felt: Felt) -> float:
    return FELT_C if MEASURES[felt].degrees else math.log1p(FELT_PCT / 100)


def _change(felt: Felt, result: Comparison, counts: tuple[int, ...]) -> FeltChange:
    low, high = result.ci95
    degrees = MEASURES[felt].degrees
    return FeltChange(
        felt=felt,
        before=result.before if degrees else _back(result.before),
        after=result.after if degrees else _back(result.after),
        difference=result.difference if degrees else _percent(result.difference),
        ci95=(low, high) if degrees else (_percent(low), _percent(high)),
        finding=result.finding,
        count_before=counts[0],
        count_after=counts[1],
        wanders=result.wanders,
    )


_FARTHEST = 40.0
"""A logarithm beyond which nothing that was measured lies."""


def _back(logarithm: float) -> float:
    return math.exp(max(-_FARTHEST, min(logarithm, _FARTHEST)))


def _percent(logarithm: float) -> float:
    return 100 * (_back(logarithm) - 1)


def _of_starts(felt: Felt, before: Sequence[Start], after: Sequence[Start]) -> FeltChange | None:
    """Starts do not depend on each other: Student's t, both sides taken to spread alike."""
    sides = [
        [v for start in side if not isinstance(v := start.seconds(felt), NotMeasured)]
        for side in (before, after)
    ]
    if not all(sides):
        return None
    logs = [_scaled(felt, side) for side in sides]
    was, now = (sum(side) / len(side) for side in logs)
    free = sum(len(side) - 1 for side in logs)
    difference = now - was
    ci95: tuple[float, float] | NotMeasured = NotMeasured(
        not_measured="one start is known on each side"
    )
    finding: Conclusion = "not known"
    if free:
        half = student((_variance_of_starts(logs, free), float(free)))
        finding = found_between(difference - half, difference + half, _threshold(felt))
        ci95 = (_percent(difference - half), _percent(difference + half))
    return FeltChange(
        felt=felt,
        before=_back(was),
        after=_back(now),
        difference=_percent(difference),
        ci95=ci95,
        finding=finding,
        count_before=len(sides[0]),
        count_after=len(sides[1]),
    )


def _variance_of_starts(logs: list[list[float]], free: int) -> float:
    """Of the difference of two means, pooled."""
    means = [sum(side) / len(side) for side in logs]
    squares = sum((v - m) ** 2 for side, m in zip(logs, means, strict=True) for v in side)
    # Records tell a start to the second: that is never surer than rounding leaves it.
    rounding = max(_SECOND_VARIANCE / _back(2 * m) for m in means)
    return max(squares / free, rounding) * sum(1 / len(side) for side in logs)


def counts_in_words(change: FeltChange) -> str:
    """Of how many tries or starts that was found."""
    one = "try" if change.felt in TRIED else "start"
    many = "tries" if change.felt in TRIED else "starts"
    before, after = (counted(n, one, many) for n in (change.count_before, change.count_after))
    return f"{before} before, {after} after"
