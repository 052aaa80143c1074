"""What a report says, before it is drawn."""

from lumtak.computers.protocol import Script
from lumtak.core.actions import Action
from lumtak.core.audit import Audit
from lumtak.core.compare import Comparison, in_words
from lumtak.core.facts import Facts
from lumtak.core.load import Reading
from lumtak.core.plan import Plan
from lumtak.core.profile import Profile
from lumtak.core.provisional import PROVISIONAL_WORDS, Provisional
from lumtak.core.record import Record
from lumtak.core.units import GIB

FORMAT = 1

_QUANTITIES = {
    "cpu_pct": ("CPU load at idle", "percentage points", 1.0, 1),
    "ram_used_bytes": ("memory in use at idle", "GiB", GIB, 2),
    "work": ("work done at idle", "core-seconds per second", 1.0, 3),
}


class ChangeLine(Record):
    """One change and what became of it."""

    number: int
    address: str
    title: str
    before: str
    value: str
    stage: str
    shows: str
    begun_at: str
    stage_at: str
    note: str


class Content(Record):
    """Everything of a job that is handed over; job.json is this."""

    format: int = FORMAT
    job: str
    visit: int
    computer: str
    address: str
    user: str
    begun_at: str
    written_at: str
    profile: Profile
    facts: Facts | None
    audit: Audit | None
    plan: Plan | None
    before: Reading | None
    after: Reading | None
    after_provisional: Provisional
    """Why the after reading does not count (yet); empty when it does."""
    comparisons: tuple[Comparison, ...]
    mismatches: tuple[str, ...]
    pace: str = ""
    """Why percentages of the CPU are no measure between the readings; empty where they are."""
    verdict: str
    """The headline."""
    changes: tuple[ChangeLine, ...]
    actions: tuple[Action, ...]
    """What was done that cannot be put back."""
    undo_scripts: tuple[Script, ...]
    """What puts everything back without Lumtak; none where nothing stands changed, or the computer
    is a simulated one."""
    owed: str


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


def claims(content: Content) -> list[str]:
    """What each comparison says, a sentence each.

    Said of what was, where the changes do not stand any more.
    """
    then = (
        "While the changes stood: " if content.after_provisional in {"put back", "changed"} else ""
    )
    shown = [c for c in content.comparisons if c.column != "work" or content.pace]
    return [f"{then}{said}" for said in sentences(tuple(shown), content.pace)]
