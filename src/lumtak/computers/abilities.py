"""What can be done to a computer, and why not where it cannot."""

from lumtak.core.record import Record
from lumtak.core.setting import Area


class Cannot(Record):
    """Something that Lumtak cannot do to a computer."""

    why: str
    """A sentence."""
    instead: str
    """What the person can do; a sentence."""

    def __str__(self) -> str:
        return f"{self.why} {self.instead}"


class Capabilities(Record):
    """What can be done to a computer, and why not where it cannot."""

    restart: Cannot | None = None
    """Why Lumtak cannot restart it; None where it can."""
    login: Cannot | None = None
    """The same for logging out and in again."""
    asks: bool = False
    """Whether a password may be asked for on the terminal before a change that takes root; see
    `Settings.take_rights`."""
    asks_for: tuple[Area, ...] = ()
    """Areas whose changes take root."""
    pace: float = 1.0
    """How many of its seconds pass in one of ours; 0 is as many as it can."""
