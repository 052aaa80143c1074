"""A job: everything of one visit."""

from lumtak.casebook.heading import Heading
from lumtak.core.actions import Action
from lumtak.core.audit import Audit
from lumtak.core.deciding import Decided
from lumtak.core.facts import Facts
from lumtak.core.felt import Complaint
from lumtak.core.owner import Owner
from lumtak.core.plan import Plan
from lumtak.core.setting import Change
from lumtak.core.shop import Wrong
from lumtak.core.strip import Strip


class Job(Heading, forbid_unknown_fields=True):
    """Everything of one visit but the readings, which the casebook keeps by number."""

    facts: Facts | None = None
    audit: Audit | None = None
    free_bytes: float | None = None
    """Free on the system's volume when the job was first audited; None where that is not known."""
    disk: Strip | None = None
    """The strip of the system's volume when the job was first audited with it."""
    chosen: tuple[Change, ...] = ()
    """Chosen and not yet applied."""
    plan: Plan | None = None
    """As it was applied, with its projection."""
    actions: tuple[Action, ...] = ()
    """What was done that cannot be put back, oldest first."""
    wrong: tuple[Wrong, ...] = ()
    """Findings that somebody said were wrong, oldest first."""
    complaint: Complaint = ""
    """What its owner came with; empty: nobody asked."""
    told: str = ""
    """The same in the owner's words."""
    owner: Owner = Owner()
    """Who brought the computer, and what was agreed."""
    written: tuple[str, ...] = ()
    """Where sheets and reports were written, which hold what is said of the owner."""
    program: str = ""
    """The path of a large program whose start is tried in readings, as the person agreed."""
    said: str = ""
    """What the proof said when it was last worked out."""
    decided: tuple[Decided, ...] = ()
    """What the owner said of their own files."""
    cursor: str = ""
    """Address of the item selected in the audit."""
