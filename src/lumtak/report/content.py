"""What a report says, before it is drawn."""

from lumtak.computers.protocol import Script
from lumtak.core.actions import Action
from lumtak.core.attribution import Attribution
from lumtak.core.audit import Audit
from lumtak.core.compare import Comparison
from lumtak.core.facts import Facts
from lumtak.core.plan import Plan
from lumtak.core.profile import Profile
from lumtak.core.provisional import Provisional
from lumtak.core.reading import Reading
from lumtak.core.record import Record
from lumtak.core.verdict import sentences

FORMAT = 1


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
    attribution: Attribution | None = None
    """How much of the CPU's difference is of what was changed."""
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


def claims(content: Content) -> list[str]:
    """What each comparison says, a sentence each.

    Said of what was, where the changes do not stand any more.
    """
    then = (
        "While the changes stood: " if content.after_provisional in {"put back", "changed"} else ""
    )
    shown = [c for c in content.comparisons if c.column != "work" or content.pace]
    said = sentences(tuple(shown), content.pace)
    if content.attribution is not None:
        said.append(content.attribution.words)
    return [f"{then}{line}" for line in said]
