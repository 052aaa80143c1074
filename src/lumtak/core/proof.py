"""The proof of a job: all that is said of its readings, in the order in which it is told.

The complaint first, then the load, then the ceilings, then what holds the computer back now.
"""

from lumtak.core.answer import FeltChange
from lumtak.core.attribution import Attribution
from lumtak.core.compare import Comparison
from lumtak.core.felt import COMPLAINTS, Complaint
from lumtak.core.floor import SpaceTold
from lumtak.core.provisional import Provisional
from lumtak.core.record import Record
from lumtak.core.standing import Standing, in_words
from lumtak.core.verdict import sentences


class Proof(Record):
    """Before against after."""

    complaint: Complaint = ""
    told: str = ""
    """The same in the owner's words."""
    headline: str
    felt: tuple[FeltChange, ...] = ()
    """What the owner waits for; what the complaint is about first."""
    led: int = 0
    """So many of them are what the complaint is about."""
    comparisons: tuple[Comparison, ...] = ()
    attribution: Attribution | None = None
    standings: tuple[Standing, ...] = ()
    brake: str = ""
    """What holds the computer back now; a sentence."""
    space: SpaceTold | None = None
    """The system's volume before and now; None where storage does not matter here."""
    pace: str = ""
    """Why percentages of the CPU are no measure between the readings; empty where they are."""
    provisional: Provisional = ""
    """Why the after reading does not count (yet); empty when it does."""

    @property
    def lead(self) -> tuple[FeltChange, ...]:
        """What the complaint is about."""
        return self.felt[: self.led]

    @property
    def gone(self) -> bool:
        """Whether the changes do not stand any more: what is said is of what was."""
        return self.provisional in {"put back", "changed"}

    @property
    def claims(self) -> list[str]:
        """What may be told, a sentence each, in order."""
        shown = tuple(c for c in self.comparisons if c.column != "work" or self.pace)
        said = [change.sentence for change in self.lead]
        said += sentences(shown, self.pace)
        if self.attribution is not None:
            said.append(self.attribution.words)
        said += [line for line in (in_words(self.standings), self.brake) if line]
        said += [self.space.words] if self.space else []
        then = "While the changes stood: " if self.gone else ""
        return [f"{then}{line}" for line in said]


def complaint_in_words(complaint: Complaint, told: str) -> str:
    """What the owner came with; empty where nobody asked."""
    kind = COMPLAINTS.get(complaint, "")
    quoted = f"“{told}”" if told else ""
    return ": ".join(part for part in (kind, quoted) if part)
