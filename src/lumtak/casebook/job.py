"""A job: one computer, one of its users, one visit."""

from typing import Literal, get_args

from lumtak.core.actions import Action
from lumtak.core.audit import Audit
from lumtak.core.facts import Facts
from lumtak.core.felt import Complaint
from lumtak.core.plan import Plan
from lumtak.core.profile import Profile
from lumtak.core.record import Record
from lumtak.core.setting import Change
from lumtak.core.shop import Wrong
from lumtak.core.strip import Glance

Station = Literal["intake", "baseline", "audit", "plan", "proof", "handover"]
STATIONS: tuple[Station, ...] = get_args(Station)


class Heading(Record, forbid_unknown_fields=False):
    """What tells a job from others, and where it stands."""

    id: str
    address: str
    identity: str
    computer_name: str
    user: str
    visit: int
    profile: Profile
    station: Station = "intake"
    """Where it stands; reopening lands there."""
    begun_at: str
    baseline: int | None = None
    """Number of the reading."""
    after: int | None = None
    after_stood: tuple[int, ...] | None = None
    """Numbers of the changes that stood when the after reading was taken; None where that was not
    noted."""
    last: Glance | None = None
    """The load as it was read last."""
    verdict: str = ""
    """What came of it, in few words; empty until there is a proof."""
    archived: bool = False
    """Whether it is put away."""


class Job(Heading, forbid_unknown_fields=True):
    """Everything of one visit but the readings, which the casebook keeps by number."""

    facts: Facts | None = None
    audit: Audit | None = None
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
    program: str = ""
    """The path of a large program whose start is tried in readings, as the person agreed."""
    said: str = ""
    """What the proof said when it was last worked out."""
    cursor: str = ""
    """Address of the item selected in the audit."""
