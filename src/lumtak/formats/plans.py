"""A plan as a file: saved, edited, checked against another computer. It is input like any other:
what stands in it about guards, needs or values before is never believed.
"""

from pathlib import Path

import msgspec

from lumtak.core.planner import Planned
from lumtak.core.planner.disruption import Level
from lumtak.core.record import Record, json_document
from lumtak.formats.readings import decode_file
from lumtak.storage import read_handed_in

FORMAT = 1
_LARGEST = 16 << 20


class FileChange(Record):
    """One change."""

    address: str
    """AREA:KEY."""
    from_: str = msgspec.field(name="from")
    """The value when it was planned, as a word."""
    to: str | None
    """null unsets it."""
    disruption: int = 0
    level: Level = "function"
    cpu_pct: float = 0.0
    """What it was to save."""
    ram_bytes: float = 0.0


class Loads(Record):
    """CPU in percentage points, RAM in bytes."""

    cpu_pct: float
    ram_bytes: float


class PlanFile(Record):
    """What `lumtak plan --save` writes and `--json` shows."""

    format: int = FORMAT
    computer: str
    identity: str
    profile: str
    reach: str
    confidence: float
    reached: bool
    proven: bool
    gap: float = 0.0
    headline: str = ""
    disruption: int = 0
    owed: str = "now"
    changes: tuple[FileChange, ...]
    reaches: Loads
    """What is left with the plan."""
    misses: Loads
    """By how much that is over the ceilings; 0 where it is not."""
    answers: tuple[str, ...] = ()
    """What the owner would have to be asked about, to reach it or to come nearer."""
    closes: bool = False
    """Whether those answers would reach it."""
    lasting: str = ""
    """What else would, where no setting does."""
    unprojected: tuple[str, ...] = ()


def plan_file(found: Planned, *, computer: str, identity: str, profile: str) -> PlanFile:
    """A plan as a document."""
    by = {reach.quantity: reach for reach in found.reaches}
    return PlanFile(
        computer=computer,
        identity=identity,
        profile=profile,
        reach=found.goal,
        confidence=found.confidence,
        reached=found.reached,
        proven=found.proven,
        gap=found.gap,
        headline=found.headline,
        disruption=found.disruption,
        owed=found.owed,
        changes=tuple(
            FileChange(
                address=c.address,
                from_=c.before,
                to=c.value,
                disruption=c.disruption,
                level=c.level,
                cpu_pct=c.cpu_pct,
                ram_bytes=c.ram_bytes,
            )
            for c in found.changes
        ),
        reaches=Loads(cpu_pct=by["cpu"].planned, ram_bytes=by["ram"].planned),
        misses=Loads(cpu_pct=by["cpu"].misses, ram_bytes=by["ram"].misses),
        answers=found.answers,
        closes=found.closes,
        lasting=found.lasting,
        unprojected=found.unprojected,
    )


def to_json(plan: PlanFile) -> bytes:
    """As the versioned JSON of docs/FORMATS.md."""
    return json_document(plan)


def load_plan(path: Path) -> PlanFile:
    """A plan from a file.

    Raises:
        BadFileError: it is none, or of a newer format.
    """
    data = read_handed_in(path, _LARGEST, "plan")
    again = "Write it anew: lumtak plan COMPUTER --save FILE."
    return decode_file(data, path, PlanFile, "plan", FORMAT, again)
