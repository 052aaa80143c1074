"""The verdict: two readings held against each other, and what may be said of them.

Screens, the command line and the report say the same, because they say it through here.
"""

from lumtak.core.compare import CAUTION_ENDED, Comparison, compare_many, in_words
from lumtak.core.profile import Threshold
from lumtak.core.provisional import PROVISIONAL_WORDS, Provisional
from lumtak.core.reading import Reading
from lumtak.core.record import NotMeasured
from lumtak.core.units import GIB

_QUANTITIES = {
    "cpu_pct": ("CPU load at idle", "percentage points", 1.0, 1),
    "ram_used_bytes": ("memory in use at idle", "GiB", GIB, 2),
    "work": ("work done at idle", "core-seconds per second", 1.0, 3),
}


def compare_readings(
    before: Reading, after: Reading, threshold: Threshold | None = None
) -> tuple[Comparison, ...]:
    """CPU, RAM, and work where both readings know it; thresholds from the profile."""
    limits = threshold or Threshold()
    results = [
        _compare(before, after, "cpu_pct", limits.cpu_pct),
        _compare(before, after, "ram_used_bytes", limits.ram_pct / 100 * after.ram_total_bytes),
    ]
    works = [s.work for reading in (before, after) for s in reading.kept]
    if not any(isinstance(w, NotMeasured) for w in works):
        results.append(_compare(before, after, "work", limits.cpu_pct / 100 * after.cores))
    return tuple(results)


def caution_for(*readings: Reading) -> float:
    """By how much the interval is widened for these readings."""
    return CAUTION_ENDED if any(r.ended == "precise" for r in readings) else 1.0


def _compare(before: Reading, after: Reading, column: str, threshold: float) -> Comparison:
    sides = [reading.series(column) for reading in (before, after)]
    return compare_many(
        [sides[0]], [sides[1]], column, threshold=threshold, caution=caution_for(before, after)
    )


def sentence(result: Comparison) -> str:
    """The verdict of one comparison for the computer's owner."""
    what, unit, scale, decimals = _QUANTITIES[result.column]
    return in_words(result, what, unit, scale, decimals)


def sentences(comparisons: tuple[Comparison, ...], pace: str) -> list[str]:
    """What each comparison says.

    Where the clock was another one, a percentage of the CPU says nothing.
    """
    return [
        (
            f"The percentage of CPU is no measure here, since {pace}."
            if pace and c.column == "cpu_pct"
            else sentence(c)
        )
        for c in comparisons
    ]


def headline(comparisons: tuple[Comparison, ...], provisional: Provisional, pace: str = "") -> str:
    """One sentence for the customer; it follows from the intervals, never from the means alone.

    Args:
        comparisons: of the baseline and the after reading.
        provisional: why the after reading does not count.
        pace: why percentages of the CPU are no measure: then the verdict is the work's.
    """
    if not comparisons:
        return "There is no reading before and after yet, so nothing is said about the load."
    if provisional in {"put back", "changed"}:
        words = PROVISIONAL_WORDS[provisional]
        return f"The after reading says nothing about the computer as it is now: {words}."
    verdicts = {c.column: c.verdict for c in comparisons}
    processor, measure = ("work", "work") if pace else ("CPU", "cpu_pct")
    cpu, ram = verdicts.get(measure), verdicts["ram_used_bytes"]
    if cpu is None:
        found = {
            "lower": "Less memory",
            "higher": "More memory",
            "none": "No clear difference in memory",
        }[ram]
        tail = "was found" if ram == "none" else "is in use at idle than before"
        text = (
            f"{found} {tail}; of the processor nothing can be said, since {pace}, and its work"
            " could not be measured."
        )
    elif cpu == ram == "none":
        text = "No clear difference was found between before and after."
    elif "higher" in {cpu, ram} and "lower" not in {cpu, ram}:
        text = "The computer carries more load at idle than before."
    elif "higher" in {cpu, ram}:
        text = "One load is lower and the other higher than before; see both."
    elif cpu == ram:
        text = f"The computer carries less load at idle than before, both {processor} and memory."
    else:
        lower, other = (processor, "memory") if cpu == "lower" else ("memory", processor)
        does = "does less work" if lower == "work" else f"carries less {lower} load"
        text = f"The computer {does} at idle than before; in {other} no clear difference was found."
    return f"Provisional, since {PROVISIONAL_WORDS[provisional]}: {text}" if provisional else text
