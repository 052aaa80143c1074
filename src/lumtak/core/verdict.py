"""The verdict: two readings held against each other, and what may be said of them.

Screens, the command line and the report say the same, because they say it through here.
"""

from collections.abc import Sequence

from lumtak.core.answer import FeltChange
from lumtak.core.compare import CAUTION_ENDED, Comparison, Verdict, compare_many, in_words
from lumtak.core.profile import Threshold
from lumtak.core.provisional import PROVISIONAL_WORDS, Provisional
from lumtak.core.reading import Reading
from lumtak.core.record import NotMeasured
from lumtak.core.units import large, signed


def _quantity(column: str) -> tuple[str, str, float, int]:
    """(name, unit, what it is divided by, decimals) of a measure."""
    size, unit = large()
    return {
        "cpu_pct": ("CPU load at idle", "percentage points", 1.0, 1),
        "ram_used_bytes": ("memory in use at idle", unit, size, 2),
        "work": ("work done at idle", "core-seconds per second", 1.0, 3),
    }[column]


Readings = Sequence[Reading]


def compare_readings(
    before: Readings,
    after: Readings,
    threshold: Threshold | None = None,
    earlier: Sequence[Readings] = (),
) -> tuple[Comparison, ...]:
    """CPU, RAM, and work where all readings know it; thresholds from the profile.

    Args:
        before: one reading or several of the same state.
        after: the same.
        threshold: of the profile.
        earlier: more readings of this computer, in groups of one state each.
    """
    limits, (one, *_) = threshold or Threshold(), after
    results = [
        _compare(before, after, "cpu_pct", limits.cpu_pct, earlier),
        _compare(
            before, after, "ram_used_bytes", limits.ram_pct / 100 * one.ram_total_bytes, earlier
        ),
    ]
    works = [s.work for reading in (*before, *after) for s in reading.kept]
    if not any(isinstance(w, NotMeasured) for w in works):
        results.append(_compare(before, after, "work", limits.cpu_pct / 100 * one.cores, ()))
    return tuple(results)


def caution_for(*readings: Reading) -> float:
    """By how much the interval is widened for these readings."""
    return CAUTION_ENDED if any(r.ended == "precise" for r in readings) else 1.0


def _compare(
    before: Readings, after: Readings, column: str, threshold: float, earlier: Sequence[Readings]
) -> Comparison:
    then, now = ([reading.series(column) for reading in side] for side in (before, after))
    return compare_many(
        then,
        now,
        column,
        threshold=threshold,
        caution=caution_for(*before, *after),
        earlier=[[reading.series(column) for reading in group] for group in earlier],
    )


def sentence(result: Comparison) -> str:
    """The verdict of one comparison for the computer's owner."""
    what, unit, scale, decimals = _quantity(result.column)
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


def headline(
    comparisons: tuple[Comparison, ...],
    provisional: Provisional,
    pace: str = "",
    led: Sequence[FeltChange] = (),
) -> str:
    """What to tell the customer: the complaint first, then the load; it follows from the intervals,
    never from the means alone.

    Args:
        comparisons: of the baseline and the after reading.
        provisional: why the after reading does not count.
        pace: why percentages of the CPU are no measure: then the verdict is the work's.
        led: what the complaint is about, before and after, the most telling first.
    """
    if not comparisons:
        return "There is no reading before and after yet, so nothing is said about the load."
    if provisional in {"put back", "changed"}:
        words = PROVISIONAL_WORDS[provisional]
        return f"The after reading says nothing about the computer as it is now: {words}."
    verdicts = {c.column: c.verdict for c in comparisons}
    processor, measure = ("work", "work") if pace else ("CPU", "cpu_pct")
    cpu, memory = verdicts.get(measure), verdicts["ram_used_bytes"]
    text = _of_memory_alone(memory, pace) if cpu is None else _of_both(cpu, memory, processor)
    if answer := _answer(led):
        same = cpu == memory == "none"
        text = f"{answer} {_of_load(comparisons, processor) if same else text}"
    return f"Provisional, since {PROVISIONAL_WORDS[provisional]}: {text}" if provisional else text


def in_few_words(
    comparisons: Sequence[Comparison], provisional: Provisional, pace: str = ""
) -> str:
    """The same for a line of a list: "CPU −24.1 points, RAM −1.3 GiB"; empty without readings."""
    by_column = {c.column: c for c in comparisons}
    parts = [
        _part(by_column["work"], "work", "%", by_column["work"].before / 100 or 1.0)
        if pace and "work" in by_column
        else _part(by_column["cpu_pct"], "CPU", "points", 1.0)
        if "cpu_pct" in by_column
        else "",
        _part(by_column["ram_used_bytes"], "RAM", large()[1], large()[0])
        if "ram_used_bytes" in by_column
        else "",
    ]
    words = ", ".join(filter(None, parts))
    return f"provisional: {words}" if provisional and words else words


def _part(found: Comparison, name: str, unit: str, scale: float) -> str:
    if found.finding in {"lower", "higher"}:
        return f"{name} {signed(found.difference / scale)} {unit}"
    return f"{name} {'the same' if found.finding == 'no effect' else 'not known'}"


def _answer(led: Sequence[FeltChange]) -> str:
    """What became of the complaint: the first of its measures that changed, else the first."""
    sure = [change for change in led if not isinstance(change.ci95, NotMeasured)]
    told = next((c for c in sure if c.finding in {"lower", "higher"}), None)
    return "" if not sure else (told or sure[0]).clause


def _of_load(comparisons: tuple[Comparison, ...], processor: str) -> str:
    """Where neither load changed, as far as can be told."""
    what = "work" if processor == "work" else "CPU"
    measured = "work" if processor == "work" else "cpu_pct"
    found = {c.column: c.finding for c in comparisons}
    if found[measured] == found["ram_used_bytes"] == "no effect":
        return f"At idle {what} and memory are the same as before."
    return f"At idle no clear difference was found in {what} and memory."


def _of_memory_alone(memory: Verdict, pace: str) -> str:
    """Where nothing can be said of the processor."""
    found = {
        "lower": "Less memory is in use at idle than before",
        "higher": "More memory is in use at idle than before",
        "none": "No clear difference in memory was found",
    }[memory]
    return (
        f"{found}; of the processor nothing can be said, since {pace}, and its work could not be"
        " measured."
    )


def _of_both(cpu: Verdict, memory: Verdict, processor: str) -> str:
    # The order of these cases is what the sentence must not contradict: both, one, opposite.
    if cpu == memory:
        return {
            "none": "No clear difference was found between before and after.",
            "higher": "The computer carries more load at idle than before.",
            "lower": (
                f"The computer carries less load at idle than before, both {processor} and memory."
            ),
        }[cpu]
    if {cpu, memory} == {"higher", "none"}:
        return "The computer carries more load at idle than before."
    if {cpu, memory} == {"higher", "lower"}:
        return "One load is lower and the other higher than before; see both."
    lower, other = (processor, "memory") if cpu == "lower" else ("memory", processor)
    does = "does less work" if lower == "work" else f"carries less {lower} load"
    return f"The computer {does} at idle than before; in {other} no clear difference was found."
