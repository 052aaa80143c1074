"""What a report says, before it is drawn."""

from lumtak.computers.kit import Script
from lumtak.core.actions import Action
from lumtak.core.answer import FeltChange, typical
from lumtak.core.attribution import Attribution
from lumtak.core.audit import Audit
from lumtak.core.bottleneck import Bottleneck
from lumtak.core.compare import Comparison
from lumtak.core.facts import Facts
from lumtak.core.felt import MEASURES, Complaint, leads
from lumtak.core.owner import Owner
from lumtak.core.plan import Plan
from lumtak.core.planner.disruption import Level
from lumtak.core.profile import Profile
from lumtak.core.provisional import Provisional
from lumtak.core.reading import Reading
from lumtak.core.record import Record
from lumtak.core.settings import Shop
from lumtak.core.standing import Standing
from lumtak.core.trial.record import Experiment
from lumtak.core.upkeep.due import Due
from lumtak.core.upkeep.tasks import Result

FORMAT = 1


class ChangeLine(Record):
    """One change and what became of it."""

    id: int
    """Its place in the journal."""
    number: int
    """What people call it."""
    address: str
    title: str
    notice: str = ""
    """What it means for the owner, as a sentence to them; see `core.notice`."""
    missed: Level = "nothing"
    """How much of it they would notice."""
    bytes: float = 0.0
    """Of the disk, that it set aside."""
    before: str
    value: str
    stage: str
    shows: str
    begun_at: str
    stage_at: str
    note: str

    stands: bool = False
    """Whether it is in place on the computer."""


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
    shop: Shop = Shop()
    """Who did the work."""
    complaint: Complaint = ""
    """What the owner came with; empty: nobody asked."""
    told: str = ""
    """The same in the owner's words."""
    owner: Owner = Owner()
    """Who brought the computer."""
    limits: tuple[Bottleneck, ...] = ()
    """What holds the computer back: before, and after where that was read."""
    empty_on: str = ""
    """The day from which on what is set aside may be emptied; empty where nothing is."""
    by_number: str = ""
    """What to type on the computer, with a number after it, to put one change back; empty where
    nothing stands changed, or the computer is a simulated one."""
    claims: tuple[str, ...] = ()
    """What may be told, in the order in which it is told: the complaint first."""
    felt: tuple[FeltChange, ...] = ()
    """What the owner waits for, before and after; what the complaint is about first."""
    comparisons: tuple[Comparison, ...]
    attribution: Attribution | None = None
    """How much of the CPU's difference is of what was changed."""
    standings: tuple[Standing, ...] = ()
    """CPU and RAM of the after reading against their ceilings."""
    brake: str = ""
    """What holds the computer back now; a sentence."""
    mismatches: tuple[str, ...]
    pace: str = ""
    """Why percentages of the CPU are no measure between the readings; empty where they are."""
    verdict: str
    """The headline."""
    changes: tuple[ChangeLine, ...]
    trials: tuple[Experiment, ...] = ()
    """That were made on this computer, oldest first."""
    actions: tuple[Action, ...]
    """What was done that cannot be put back."""
    upkeep: tuple[Result, ...] = ()
    """What each task of upkeep found last."""
    due: tuple[Due, ...] = ()
    """When each is to be done again."""
    undo_scripts: tuple[Script, ...]
    """What puts everything back without Lumtak; none where nothing stands changed, or the computer
    is a simulated one."""
    owed: str


def waits_of(content: Content) -> list[tuple[str, str, str]]:
    """(title, before, after) of what the complaint is about, as far as it was tried."""
    readings = (content.before, content.after)
    rows = []
    for felt in leads(content.complaint):
        values = [None if r is None else typical(r, felt) for r in readings]
        if values != [None, None]:
            was, now = ("" if v is None else MEASURES[felt].value(v) for v in values)
            rows.append((MEASURES[felt].title, was, now))
    return rows
