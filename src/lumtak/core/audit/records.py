"""What an audit holds: findings with their weight and the stance taken."""

from collections.abc import Iterable, Sequence
from functools import cached_property
from typing import Literal

from lumtak.core.bottleneck import Bottleneck
from lumtak.core.clutter import Pile
from lumtak.core.facts import Gap, Mark, Origin
from lumtak.core.floor import Room
from lumtak.core.record import Figure, Record, known
from lumtak.core.setting import Area, Change, SettingRef
from lumtak.core.stance import MAY_CHANGE, Stance
from lumtak.core.text import capital, plain
from lumtak.core.units import percent, ram

Grade = Literal["proven here", "expected", "depends", "no effect", "harmful"]
Answer = Literal["needed", "not needed"]
"""What the owner said about an item."""


class Weight(Record):
    """What an item costs, and where the figures come from."""

    cpu_pct: Figure
    cpu_se_pct: float = 0.0
    ram_bytes: Figure
    disk_bytes: Figure = 0.0
    """Of the disk, that would be free without it."""
    source: str
    """For example "60 s reading, memory proportional"."""

    heft: float = 0.0
    """CPU percentage plus RAM percentage of the whole computer: for the order of the list and its
    bars."""


class AtMost(Record):
    """What draws the screen costs: no effect that it draws can cost more, nor all of them."""

    cpu_pct: float
    ram_bytes: float

    @property
    def words(self) -> str:
        """For a person."""
        return f"{ram(self.ram_bytes)}, {percent(self.cpu_pct)}"


class Finding(Record):
    """An item with its weight and the stance taken."""

    area: Area
    key: str
    title: str
    stance: Stance
    reason: str
    """One sentence."""
    grade: Grade
    weight: Weight
    role: str
    does: str = ""
    stops: str = ""
    """What stops working without it, as a clause."""
    notice: str = ""
    """What the owner would notice without it, as a sentence to them."""
    stops_with: tuple[str, ...] = ()
    """Keys in the same area, nearest first; the nearest twenty."""
    started_by: str = ""
    """The chain that starts it, as a clause."""
    starters: tuple[str, ...] = ()
    """Consumers in that chain, nearest first."""
    again: str = ""
    """What may start it although it is off; empty where nothing does."""
    brings: tuple[str, ...] = ()
    """Consumers that it starts and that go with it, though it has no setting of its own."""
    origin: Origin = "unknown"
    tried: str = ""
    """What trials on this computer showed of the proposal; empty where none counts."""
    question: str = ""
    """What to ask the owner; of `ask` findings, and of those that were answered."""
    answer: str = ""
    """What the owner said."""
    value: str
    """The setting's value now, as a word."""
    proposal: str | None = None
    """The value that would ease it; None where there is nothing to propose or it cannot be
    changed."""
    pile: Pile | None = None
    """What it holds of the disk, of clutter."""
    fixed: str = ""
    """Why it cannot be changed, and what would be needed; empty when it can."""

    @property
    def ref(self) -> SettingRef:
        """Its address."""
        return SettingRef(area=self.area, key=self.key)

    @property
    def consumer(self) -> str:
        """Its name in a reading, and among what it stands on."""
        return str(self.ref)

    @property
    def why(self) -> str:
        """The reason as a sentence of its own."""
        return capital(self.reason)

    @property
    def can_choose(self) -> bool:
        """Whether a plan may hold a change of it."""
        return self.stance in MAY_CHANGE and self.proposal is not None

    @property
    def change(self) -> Change:
        """The change that eases it."""
        return Change(ref=self.ref, value=self.proposal)

    def why_not(self) -> str:
        """Why it cannot be chosen, as a sentence; empty when it can."""
        if self.can_choose:
            return ""
        if self.stance == "guarded":
            return f"{self.title} is guarded: {self.reason}"
        if self.fixed:
            return f"{self.title} cannot be changed here: {self.fixed}"
        return f"There is nothing to change on {self.title}: {self.reason}"


class Audit(Record, dict=True, gc=True):
    """All findings, heaviest first within their area, and what could not be read."""

    profile: str
    findings: tuple[Finding, ...]
    gaps: tuple[Gap, ...]
    headline: str
    """The lines as one text, and what no setting will fix."""
    lines: tuple[str, ...] = ()
    """What holds the computer back, what is over its ceiling, what to do first."""
    first: str = ""
    """The consumer that the last line names; empty where it names none."""
    bottleneck: Bottleneck | None = None
    """What holds the computer back; None where nothing was weighed."""
    room: Room | None = None
    """The system's volume against its floor; None where its size is not known."""
    drawing: AtMost | None = None
    """What all effects that the desktop draws cost together at most: its compositor, shell and
    display server; None where nothing of them was seen."""
    marks: tuple[Mark, ...] = ()
    """Traces of advice that somebody followed here."""

    @property
    def told(self) -> tuple[str, ...]:
        """What was not seen, the headline line by line, and last what no setting will fix."""
        beyond = self.bottleneck.not_by_settings if self.bottleneck else ""
        lines = self.lines or (self.headline,)
        return tuple(filter(None, (self.unseen, *lines, beyond)))

    @property
    def unseen(self) -> str:
        """Of what there is more than was looked at, as a sentence; empty for nothing."""
        reasons = [plain(gap.reason, 200) for gap in self.gaps if gap.partly]
        if not reasons:
            return ""
        more = f", and {len(reasons) - 1} more" if len(reasons) > 1 else ""
        return f"Not all was seen: {reasons[0]}{more}; what was not seen may hold anything."

    @property
    def nothing_to_gain(self) -> bool:
        """Whether it was weighed, and nothing weighs that may go."""
        return self.bottleneck is not None and not (self.first or self.unseen or not self.lines)

    @cached_property
    def by_consumer(self) -> dict[str, Finding]:
        """Every finding by what it is called in a reading."""
        return {f.consumer: f for f in self.findings}

    @cached_property
    def _loads(self) -> tuple[dict[int, float], dict[int, float]]:
        """Bytes, and percent of the CPU, of each finding by its `id`; 0 where not measured."""
        return (
            {id(f): known(f.weight.ram_bytes) for f in self.findings},
            {id(f): known(f.weight.cpu_pct) for f in self.findings},
        )

    def sums(self, findings: Sequence[Finding]) -> tuple[float, float]:
        """(bytes, percent of the CPU) of these findings together."""
        memory, cpu = self._loads
        which = list(map(id, findings))
        return sum(map(memory.__getitem__, which)), sum(map(cpu.__getitem__, which))

    @cached_property
    def texts(self) -> tuple[str, ...]:
        """What is searched in each finding, in small letters, in the order of the findings."""
        return tuple(
            f"{f.title}\n{f.key}\n{f.role}\n{f.does}\n{f.started_by}\n{f.reason}\n{f.stops}".lower()
            for f in self.findings
        )

    @cached_property
    def text_of(self) -> dict[int, str]:
        """The same by `id`."""
        return {id(f): text for f, text in zip(self.findings, self.texts, strict=True)}

    def find(self, ref: SettingRef) -> Finding | None:
        """The finding at this address."""
        return self.by_consumer.get(str(ref))

    def with_brought(self, refs: Iterable[SettingRef]) -> list[SettingRef]:
        """These addresses, and those of what goes with them."""
        every = list(refs)
        brought = [c for ref in every if (f := self.find(ref)) for c in f.brings]
        return every + [f.ref for c in brought if (f := self.by_consumer.get(c))]
