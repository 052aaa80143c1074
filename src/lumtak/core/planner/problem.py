"""What a plan may hold, what it has to reach, and what binds changes to each other."""

import math
from collections.abc import Collection, Iterable, Mapping
from typing import Literal, NamedTuple

from lumtak.core.audit import Audit, Finding, Weight
from lumtak.core.bottleneck import memory_troubles
from lumtak.core.catalogue import Catalogue
from lumtak.core.facts import Facts, Setting
from lumtak.core.means import standard_error
from lumtak.core.needs import STANDS_STILL, Graphs
from lumtak.core.planner.disruption import LEVEL_WORDS, Level, level_of, needs_a_yes, number_of
from lumtak.core.profile import Profile, Scale
from lumtak.core.reading import Reading
from lumtak.core.record import NotMeasured, Record, known
from lumtak.core.setting import Change, Shows
from lumtak.core.stance import MAY_CHANGE
from lumtak.core.units import ram, signed

Goal = Literal["cpu", "ram", "both"]
_LIGHTENS = {"off", "manual", "demand"}
_NO_FACTORS: Mapping[str, float] = {}
RAM_SHARE_SE = 0.03
"""Standard error of what a program holds, as a share of it: programs grow and shrink, and readings
look at their memory a few times only. Set by carrying out plans on simulated computers."""


class Choice(Record):
    """A change that a plan may hold."""

    address: str
    title: str
    before: str
    value: str | None
    """As it is set; None unsets it."""
    cpu_pct: float
    """What it saves."""
    cpu_se_pct: float
    ram_bytes: float
    ram_se_bytes: float
    level: Level
    disruption: int
    shows: Shows
    asks: bool
    """Whether it takes the owner's yes."""
    projected: bool
    """Whether it could be told beforehand what it saves."""
    with_it: tuple[int, ...] = ()
    """Places of those that have to be chosen with it."""
    factor: float = 1.0
    """By what it multiplies the percentage of CPU: a power plan with another clock."""

    @property
    def on_demand(self) -> bool:
        """Whether it still runs when it is asked for."""
        return self.value == "demand"

    @property
    def words(self) -> str:
        """What the owner would notice."""
        return LEVEL_WORDS[self.level]

    @property
    def saves(self) -> str:
        """What it saves, as far as that could be told."""
        if not self.projected:
            return "not projected"
        return f"{signed(-self.cpu_pct)} points, {ram(-self.ram_bytes)}"

    @property
    def change(self) -> str:
        """What it does, in words."""
        return f"{self.before} → {self.value or 'unset'}"


class Problem(Record):
    """What is to be planned."""

    choices: tuple[Choice, ...]
    cpu_pct: float
    """Now."""
    cpu_se_pct: float
    ram_bytes: float
    ram_se_bytes: float
    ram_total_bytes: int
    refill_bytes: float = 0.0
    """So much of what is freed is taken by what comes back from swap, as is to be expected."""
    refill_half_bytes: float = 0.0
    """Half the width of that: what is in swap comes back when somebody needs it, or never."""
    cpu_ceiling_pct: float
    ram_ceiling_pct: float
    scale: Scale

    @property
    def ram_ceiling_bytes(self) -> float:
        """The ceiling in bytes."""
        return self.ram_ceiling_pct / 100 * self.ram_total_bytes

    def ram_left(self, saved_bytes: float) -> float:
        """What is in use once so much is saved."""
        return self.ram_bytes - saved_bytes + min(self.refill_bytes, saved_bytes)

    def left(self, chosen: Iterable[int]) -> tuple[float, float]:
        """(CPU percentage, bytes of RAM) that a plan leaves, as far as can be told beforehand."""
        mine = [self.choices[i] for i in chosen]
        factor = math.prod(c.factor for c in mine)
        cpu_pct = factor * (self.cpu_pct - sum(c.cpu_pct for c in mine))
        return cpu_pct, self.ram_left(sum(c.ram_bytes for c in mine))

    def is_whole(self, chosen: Collection[int]) -> bool:
        """Whether all is in a plan that belongs to what is in it."""
        mine = set(chosen)
        return all(mine.issuperset(self.choices[i].with_it) for i in mine)

    @property
    def free(self) -> tuple[int, ...]:
        """Places of what may be planned without asking the owner anything more."""
        asking = {i for i, c in enumerate(self.choices) if c.asks}
        return tuple(
            i
            for i in range(len(self.choices))
            if i not in asking and not asking & set(self.choices[i].with_it)
        )


def problem_of(
    facts: Facts,
    found: Audit,
    profile: Profile,
    catalogue: Catalogue,
    reading: Reading,
    *,
    saved: tuple[float, float] = (0.0, 0.0),
    factors: Mapping[str, float] = _NO_FACTORS,
    used_days: Mapping[str, float] = _NO_FACTORS,
) -> Problem:
    """The problem of one computer.

    Args:
        facts: of the computer.
        found: its audit, by this reading.
        profile: gives ceilings and scale.
        catalogue: knows roles.
        reading: what is in use now.
        saved: (CPU percentage points, bytes) that changes save which stand already, and which the
            reading does not know of.
        factors: by what a power plan multiplies the percentage of CPU, by its name, where that is
            known from other readings of this computer.
        used_days: how long ago the owner last used something, by consumer, where anything tells.
    """
    choices = _may_go(facts, found)
    order = {f.consumer: i for i, (f, _) in enumerate(choices)}
    made = _Making(facts, found, catalogue, profile.disruption, factors, used_days)
    cpu = reading.series("cpu_pct")
    memory = reading.series("ram_used_bytes")
    back, unsure = _back_from_swap(reading)
    return Problem(
        refill_bytes=back,
        refill_half_bytes=unsure,
        choices=tuple(
            made.choice(finding, tuple(sorted(order[b] for b in bound)))
            for finding, bound in choices
        ),
        cpu_pct=reading.mean("cpu_pct") - saved[0],
        cpu_se_pct=standard_error(cpu),
        ram_bytes=reading.mean("ram_used_bytes") - saved[1],
        ram_se_bytes=standard_error(memory),
        ram_total_bytes=reading.ram_total_bytes,
        cpu_ceiling_pct=profile.ceilings.cpu_pct,
        ram_ceiling_pct=profile.ceilings.ram_pct,
        scale=profile.disruption,
    )


_SHORT, _IDLE = (1.0, 0.25), (0.75, 0.5)
"""Shares of what is in swap that come back, and half their width: where memory is short all of it,
else what somebody needs; after a restart nothing is there yet."""


def _back_from_swap(reading: Reading) -> tuple[float, float]:
    """(bytes that come back from swap once there is room, half their width)."""
    swapped = reading.mean("swap_used_bytes")
    share, half = _SHORT if memory_troubles(reading) else _IDLE
    return share * swapped, half * swapped


def _is_load(finding: Finding) -> bool:
    return finding.can_choose and finding.pile is None


def _may_go(facts: Facts, found: Audit) -> list[tuple[Finding, tuple[str, ...]]]:
    """What may be planned, each with what goes with it."""
    # Space on the disk is no load: what is set aside for it is chosen by itself.
    may = [f for f in found.findings if _is_load(f)]
    rules = _Rules(Graphs(facts.items), found, {f.consumer: i for i, f in enumerate(may)})
    bound = {f.consumer: b for f in may if (b := rules.bound(f)) is not None}
    # What cannot be planned at all takes with it whatever is bound to it.
    while left := [c for c, others in bound.items() if not bound.keys() >= set(others)]:
        for consumer in left:
            del bound[consumer]
    return [(f, bound[f.consumer]) for f in may if f.consumer in bound]


class _Rules:
    """What has to be chosen together.

    Args:
        graphs: of the computer's items.
        found: its audit.
        places: what may be chosen.
    """

    def __init__(self, graphs: Graphs, found: Audit, places: Mapping[str, int]) -> None:
        self._graphs, self._found, self._places = graphs, found, places

    def bound(self, finding: Finding) -> tuple[str, ...] | None:
        """What goes with a change, by consumer; None where it cannot be planned at all.

        What stops with it has to go too, and so has what would start it again.
        """
        if finding.proposal not in _LIGHTENS:
            return ()
        bound = []
        for other in self._graphs.stops_with(finding.consumer):
            item = self._graphs.items.get(other)
            if item is None or not item.running:
                continue
            if other in self._places:
                bound.append(other)
            elif not self._goes_by_itself(other, finding):
                return None
        return tuple(bound) + self._starters(finding)

    def _goes_by_itself(self, consumer: str, finding: Finding) -> bool:
        """Whether what stops with a change is nothing that stays for a reason of its own."""
        other = self._found.by_consumer.get(consumer)
        return consumer in finding.brings or other is None or other.stance in MAY_CHANGE

    def _starters(self, finding: Finding) -> tuple[str, ...]:
        """What starts it again, though it does not start by itself any more."""
        if finding.proposal not in STANDS_STILL:
            return ()
        ways = self._graphs.comes_back_by(finding.consumer)
        sources = (
            self._graphs.source_of(finding.consumer, t) for t in ways if t.kind in {"wants", "app"}
        )
        return tuple(s for s in sources if s in self._places and self._graphs.items[s].running)


class _Making(NamedTuple):
    """What makes a choice of a finding."""

    facts: Facts
    found: Audit
    catalogue: Catalogue
    scale: Scale
    factors: Mapping[str, float]
    used_days: Mapping[str, float]

    def choice(self, finding: Finding, with_it: tuple[int, ...]) -> Choice:
        """The change that the audit proposes, weighed."""
        used = self.used_days.get(finding.consumer)
        level = level_of(finding, self.catalogue.find(finding.role), used)
        brought = [b for b in map(self.found.by_consumer.get, finding.brings) if b]
        weights = [f.weight for f in (finding, *brought)] if finding.proposal in _LIGHTENS else []
        memory = sum((known(w.ram_bytes) for w in weights), 0.0)
        factor = self._factor(finding)
        return Choice(
            address=finding.consumer,
            title=finding.title,
            before=finding.value,
            value=finding.proposal,
            cpu_pct=sum((known(w.cpu_pct) for w in weights), 0.0),
            cpu_se_pct=sum((w.cpu_se_pct**2 for w in weights), 0.0) ** 0.5,
            ram_bytes=memory,
            ram_se_bytes=RAM_SHARE_SE * memory,
            level=level,
            disruption=number_of(self.scale, level),
            shows=self._shows(finding),
            asks=needs_a_yes(finding, level),
            projected=factor != 1.0 or any(_is_known(w) for w in weights),
            with_it=with_it,
            factor=factor,
        )

    def _factor(self, finding: Finding) -> float:
        plan = finding.area == "power" and finding.key in {"mains", "battery"}
        return self.factors.get(finding.proposal or "", 1.0) if plan else 1.0

    def _shows(self, finding: Finding) -> Shows:
        item = self.facts.find(finding.ref)
        return item.setting.shows if item and isinstance(item.setting, Setting) else "now"


def _is_known(weight: Weight) -> bool:
    """Whether it could be told what an item costs."""
    return not isinstance(weight.cpu_pct, NotMeasured) or not isinstance(
        weight.ram_bytes, NotMeasured
    )


def changes_of(chosen: Iterable[Choice], found: Audit) -> tuple[Change, ...]:
    """The changes of a plan, as the audit proposes them."""
    addresses = {choice.address for choice in chosen}
    return tuple(f.change for f in found.findings if f.consumer in addresses)
