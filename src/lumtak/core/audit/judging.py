"""The stance taken on each item, and why.

Guards come before needs, needs before what the owner said, that before the catalogue.
"""

from collections.abc import Mapping
from collections.abc import Set as AbstractSet
from functools import cached_property

import msgspec

from lumtak.core.audit.disk import by_clutter
from lumtak.core.audit.records import Answer, AtMost, Finding, Weight
from lumtak.core.audit.rules import (
    PREFETCH,
    best_value,
    by_area,
    by_evidence,
    prefetch,
    serving,
    stood_on,
)
from lumtak.core.audit.weighing import drawing, grade_of, weigh, weigh_pile
from lumtak.core.catalogue import COPIES, Catalogue, Role
from lumtak.core.facts import RUNS_LUMTAK, Facts, Fixed, Item, Trigger, lumtaks
from lumtak.core.needs import STANDS_STILL, Graphs
from lumtak.core.profile import Profile
from lumtak.core.reading import Reading
from lumtak.core.ruling import (
    Ruling,
    asked_as_server,
    by_role,
    guarded_for,
    needed_for,
    never_by,
    question_of,
)
from lumtak.core.setting import UNSET_WORD

_OFF_VALUES = {"off", "manual", "demand"}
_STOPS_SHOWN = 20
_DRAWS, _DESKTOP = "graphics", "system:desktop"
"""The role of display server, compositor and shell; the desktop of a simulated computer."""


class Judge:
    """One audit at work."""

    def __init__(
        self,
        facts: Facts,
        profile: Profile,
        catalogue: Catalogue,
        reading: Reading | None,
        answers: Mapping[str, Answer],
    ) -> None:
        self.facts, self.profile, self.catalogue = facts, profile, catalogue
        self.reading, self.answers = reading, answers
        self.graphs = Graphs(facts.items)
        self.window, self.costs = "", {}
        if reading is not None:
            self.window = f"{sum(s.length_s for s in reading.kept):.0f} s reading"
            self.costs = {c.key: c for c in reading.consumers}
        self.running_lumtak = lumtaks(facts)

    # -- what follows from all items together ------------------------------------------------------

    @cached_property
    def guarding(self) -> dict[str, tuple[str, ...]]:
        """What something guarded cannot work without, with the path."""
        return self.graphs.carriers(i.consumer for i in self.facts.items if self._guarded(i))

    @cached_property
    def needing(self) -> dict[str, tuple[str, ...]]:
        """What something needed cannot work without, with the path."""
        return self.graphs.carriers(i.consumer for i in self.facts.items if self._needed(i))

    @cached_property
    def copying(self) -> dict[str, tuple[str, ...]]:
        """What copies or synchronising of the owner's data cannot work without, with the path."""
        return self.graphs.carriers(
            i.consumer
            for i in self.facts.items
            if i.value != "off"
            and (role := self.catalogue.find(i.role))
            and role.loses in COPIES
            and self.answers.get(i.consumer) != "not needed"
        )

    @cached_property
    def _updated_otherwise(self) -> bool:
        """Whether something that is never chosen brings updates."""
        roles = (self.catalogue.find(i.role) for i in self.facts.items if i.value != "off")
        return any(role and role.guarded and role.loses == "updates" for role in roles)

    @cached_property
    def leaving(self) -> set[str]:
        """What started something that still runs and cannot be changed itself."""
        lasting = [i for i in self.facts.items if i.running and isinstance(i.setting, Fixed)]
        return {source for item in lasting if (source := self._nearest(item)[1])}

    @cached_property
    def timed(self) -> set[str]:
        """What a timer that counts starts again and again, though it does not run just now."""
        found = set()
        for item in self.facts.items:
            trigger, source = self._nearest(item)
            timer = self.graphs.items.get(source)
            if trigger and trigger.kind == "timer" and timer and timer.running:
                found.add(item.consumer)
        return found

    @cached_property
    def drawn(self) -> AtMost | None:
        """What all effects together cost at most; see `weighing.drawing`."""
        return drawing(cost for cost in self.costs.values() if self._draws(cost.key))

    def _draws(self, consumer: str) -> bool:
        if consumer == _DESKTOP:
            return True
        if item := self.graphs.items.get(consumer):
            return item.role == _DRAWS
        area, _, name = consumer.partition(":")
        return self.catalogue.role_for(area, name.rpartition("/")[2]) == _DRAWS

    def _nearest(self, item: Item) -> tuple[Trigger | None, str]:
        """(what starts it, the consumer that this stands for); both empty where nothing does."""
        chain = self.graphs.chain(item.consumer)
        if not chain:
            return None, ""
        who, trigger = chain[0]
        return trigger, self.graphs.source_of(who, trigger)

    # -- one item ----------------------------------------------------------------------------------

    def finding(self, item: Item) -> Finding:
        """The item, weighed and judged."""
        role, consumer = self.catalogue.find(item.role), item.consumer
        weight = self._weight(item)
        # What is fixed is judged all the same: it may be eased through what starts it.
        stance, reason, proposal = self.ruling(item, role)
        if stance == "ease" and _is_set(item, proposal):
            stance = "set"
        fixed = item.setting.needed if isinstance(item.setting, Fixed) else ""
        if fixed:
            proposal = None
        asked = stance == "ask" or consumer in self.answers
        with_it = self.graphs.stops_with(consumer, _STOPS_SHOWN)
        return Finding(
            area=item.area,
            key=item.key,
            title=item.title,
            stance=stance,
            reason=reason,
            grade=grade_of(stance, weight, role),
            weight=weight,
            role=item.role,
            does=role.does if role else item.note,
            stops=_stops(item, role),
            notice=role.notice if role else "",
            pile=item.pile,
            stops_with=tuple(c[len(item.area) + 1 :] for c in with_it),
            started_by=self.graphs.chain_in_words(consumer) or item.started_by,
            starters=self.graphs.starters(consumer),
            again=self._again(item, proposal),
            origin=item.origin,
            question=self._question(item, role) if asked else "",
            answer=self.answers.get(consumer, ""),
            value=UNSET_WORD if item.value is None else item.value,
            proposal=proposal,
            fixed=fixed,
        )

    def _weight(self, item: Item) -> Weight:
        if item.pile is not None:
            return weigh_pile(item.pile, self.facts.space.total_bytes)
        cost, whole = self.costs.get(item.consumer), self.facts.hardware.ram_bytes
        return weigh(item, self.window, cost, whole, self.drawn)

    def _question(self, item: Item, role: Role | None) -> str:
        if item.pile is not None:
            return f"May what is in “{item.title}” be set aside? It can be put back until emptied."
        if item.consumer in self.copying:
            root = self.graphs.title(self.copying[item.consumer][0])
            return f"May “{root}” stop? It copies the owner's data, and needs “{item.title}”."
        if serving(item, role):
            return asked_as_server(item.title, item.note)
        return question_of(role, item.title, item.note)

    def _again(self, item: Item, proposal: str | None) -> str:
        """What may start it though it is off.

        A sentence, empty where nothing can or nothing is proposed.
        """
        if proposal not in STANDS_STILL:
            return ""
        ways = self.graphs.comes_back_by(item.consumer)
        return "; ".join(
            f"still {self.graphs.trigger_in_words(t)}" for t in ways if t.kind in {"wants", "app"}
        )

    def ruling(self, item: Item, role: Role | None) -> Ruling:
        """The stance: the first of the rules that has something to say."""
        # The order is a promise: no answer of the owner lifts a guard, no catalogue an answer.
        return (
            self._guard(item, role)
            or self._only_way(role)
            or self._of_its_area(item)
            or self._need(item, role)
            or self._of_its_disk(item, role)
            or self._stands_still(item)
            or self._carries_copies(item, role)
            or self._said(item, role)
            or self._by_hint(item, role)
            or by_role(role, item.value, self._proposal(item, role))
        )

    def _guard(self, item: Item, role: Role | None) -> Ruling | None:
        if role and role.guarded:
            return guarded_for(role)
        if self._never(item):
            return never_by(self.profile)
        if item.consumer in self.running_lumtak:
            why = f"{RUNS_LUMTAK}."
        elif item.consumer in self.guarding:
            through = self.graphs.path_in_words(self.guarding[item.consumer])
            why = f"{through}, which is guarded, cannot work without it."
        elif why_not := by_evidence(item, role):
            why = why_not
        else:
            return None
        return Ruling("guarded", why)

    def _only_way(self, role: Role | None) -> Ruling | None:
        """One working way to get security updates always stays."""
        if role is None or role.loses != "updates" or self._updated_otherwise:
            return None
        return Ruling("keep", "it is the only way by which updates come to this computer.")

    def _of_its_area(self, item: Item) -> Ruling | None:
        if item.area == "storage":
            return self._clutter(item)
        if item.area == "upkeep":
            return Ruling("keep", "it is a rule of upkeep, and costs nothing while nobody waits.")
        if item.area not in {"effects", "power", "memory"}:
            return None
        return by_area(item, self.facts, self.profile, self.reading)

    def _clutter(self, item: Item) -> Ruling:
        """Of clutter only the owner's own is asked about; what they said counts there."""
        found = by_clutter(item, self.facts, self.profile)
        if found.stance != "ask":
            return found
        match self.answers.get(item.consumer):
            case "needed":
                return Ruling("keep", "the owner still wants it.")
            case "not needed":
                return Ruling("ease", "the owner does not want it any more.", found.proposal)
        return found

    def _need(self, item: Item, role: Role | None) -> Ruling | None:
        if self._needed(item):
            return needed_for(role.title if role else item.role)
        if item.consumer not in self.needing:
            return None
        through = self.graphs.path_in_words(self.needing[item.consumer])
        return Ruling("keep", f"{through}, which the profile needs, cannot work without it.")

    def _of_its_disk(self, item: Item, role: Role | None) -> Ruling | None:
        return prefetch(item, self.facts) if role and role.name == PREFETCH else None

    def _stands_still(self, item: Item) -> Ruling | None:
        still = item.value in _OFF_VALUES and not item.running
        if not still or self._leaves(item) or item.consumer in self.timed:
            return None
        return Ruling("keep", f"it is {item.value} already and does not run.")

    def _carries_copies(self, item: Item, role: Role | None) -> Ruling | None:
        """Copies of the owner's data never stop because something else was not needed."""
        if item.consumer not in self.copying:
            return None
        through = self.graphs.path_in_words(self.copying[item.consumer])
        why = f"{through}, which copies the owner's data, cannot work without it; ask the owner."
        return Ruling("ask", why, self._proposal(item, role))

    def _said(self, item: Item, role: Role | None) -> Ruling | None:
        match self.answers.get(item.consumer):
            case "needed":
                return Ruling("keep", "the owner needs it.")
            case "not needed":
                return Ruling("ease", "the owner does not need it.", self._proposal(item, role))
            case None:
                return None

    def _by_hint(self, item: Item, role: Role | None) -> Ruling | None:
        """What is not known, but seems to be there for others: asked, with what says so."""
        if why := serving(item, role):
            said = f"its purpose is unknown, but {why}: other computers may use it."
        elif why := stood_on(item, role):
            said = f"its purpose is unknown, but {why}: somebody seems to need it."
        else:
            return None
        return Ruling("ask", said, self._proposal(item, role))

    # -- what the rules ask ------------------------------------------------------------------------

    def _proposal(self, item: Item, role: Role | None) -> str | None:
        milder = role is not None and role.better != "keep" and not self._leaves(item)
        return best_value(item, role.better if role and milder else "off")

    def _guarded(self, item: Item) -> bool:
        role = self.catalogue.find(item.role)
        by_role = role is not None and role.guarded
        return by_role or self._never(item) or item.consumer in self.running_lumtak

    def _never(self, item: Item) -> bool:
        return item.role in self.profile.never.roles or item.consumer in self.profile.never.items

    def _needed(self, item: Item) -> bool:
        return bool(item.role) and item.role in self.profile.needs.roles

    def _leaves(self, item: Item) -> bool:
        """Whether it started something that still runs, though it has ended itself."""
        return item.consumer in self.leaving and item.value != "off"


def _stops(item: Item, role: Role | None) -> str:
    """What does not work without it, as a clause."""
    if item.pile is not None:
        return item.pile.without.rstrip(".")
    return role.stops if role else ""


def _is_set(item: Item, proposal: str | None) -> bool:
    """Whether a proposal sets another value, and switches nothing off."""
    if item.area in {"power", "memory"}:
        return True
    if item.pile is not None:
        return False
    return proposal is not None and proposal not in _OFF_VALUES


def with_starters(findings: list[Finding], timed: AbstractSet[str]) -> list[Finding]:
    """What cannot be changed itself, or is started by a timer, and is started by something that
    can: its starter's stance, and named there.
    """
    by_consumer = {f.consumer: f for f in findings}
    brings: dict[str, list[str]] = {}
    result = []
    for finding in findings:
        starter = _starter_that_decides(finding, by_consumer, timed)
        if starter is None:
            result.append(finding)
        else:
            brings.setdefault(starter.consumer, []).append(finding.consumer)
            result.append(_through(finding, starter))
    return [
        msgspec.structs.replace(f, brings=tuple(b)) if (b := brings.get(f.consumer)) else f
        for f in result
    ]


def _starter_that_decides(
    finding: Finding, by_consumer: Mapping[str, Finding], timed: AbstractSet[str]
) -> Finding | None:
    decided_elsewhere = bool(finding.fixed) or finding.consumer in timed
    if not decided_elsewhere or finding.stance not in {"ease", "ask"}:
        return None
    return next((by_consumer[s] for s in finding.starters if not by_consumer[s].fixed), None)


def _through(finding: Finding, starter: Finding) -> Finding:
    return msgspec.structs.replace(
        finding,
        stance=starter.stance if starter.stance in {"ease", "ask"} else "keep",
        reason=f"{starter.title} starts it: {starter.reason}",
        proposal=None,
        fixed=f"change {starter.title}, which starts it",
        question="",
    )
