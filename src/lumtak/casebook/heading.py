"""What tells a job from others: one computer, one of its users, one visit."""

from typing import Literal, get_args

from lumtak.core.profile import Profile
from lumtak.core.record import Record
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
