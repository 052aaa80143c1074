"""The audit: every item weighed (what it costs) and judged (does the profile need it?), with the
reason.
"""

from collections.abc import Iterable, Mapping
from collections.abc import Set as AbstractSet
from functools import cached_property
from types import MappingProxyType
from typing import Literal

import msgspec

from lumtak.core.bottleneck import Bottleneck, find_bottleneck, memory_troubles
from lumtak.core.catalogue import Catalogue, Role
from lumtak.core.facts import RUNS_LUMTAK, Facts, Fixed, Gap, Item, Mark, Origin, Setting, lumtaks
from lumtak.core.load import ConsumerLoad, Reading
from lumtak.core.needs import STANDS_STILL, Graphs
from lumtak.core.profile import Profile
from lumtak.core.record import Figure, NotMeasured, Record, known
from lumtak.core.setting import AREAS, UNSET_WORD, Area, Change, SettingRef, parse_ref
from lumtak.core.sizing import swap_sizes
from lumtak.core.text import number
from lumtak.core.units import MIB, counted

Stance = Literal["keep", "ease", "ask", "guarded"]
Grade = Literal["proven here", "expected", "depends", "no effect", "harmful"]

NO_READING = "no reading was taken; take a baseline first"
PREFETCH = "launch-prefetch"
"""The role of which the kind of disk decides."""
_OFF_VALUES = {"off", "manual", "demand"}
_STOPS_SHOWN = 20
_NO_ANSWERS: "Mapping[str, Answer]" = MappingProxyType({})


class Weight(Record):
    """What an item costs, and where the figures come from."""

    cpu_pct: Figure
    cpu_se_pct: float = 0.0
    ram_bytes: Figure
    source: str
    """For example "60 s reading, memory proportional"."""

    heft: float = 0.0
    """CPU percentage plus RAM percentage of the whole computer: for the order of the list and its
    bars."""


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
    stops_with: tuple[str, ...] = ()
    """Keys in the same area, nearest first; the nearest twenty."""
    started_by: str = ""
    """The chain that starts it, as a clause."""
    starters: tuple[str, ...] = ()
    """Addresses of the items in that chain, nearest first."""
    again: str = ""
    """What may start it although it is off; empty where nothing does."""
    brings: tuple[str, ...] = ()
    """Addresses of what it starts and what goes with it, though it has no setting of its own."""
    origin: Origin = "unknown"
    question: str = ""
    """What to ask the owner; of `ask` findings, and of those that were answered."""
    answer: str = ""
    """What the owner said."""
    value: str
    """The setting's value now, as a word."""
    proposal: str | None = None
    """The value that would ease it; None where there is nothing to propose or it cannot be
    changed."""
    fixed: str = ""
    """Why it cannot be changed, and what would be needed; empty when it can."""

    @property
    def ref(self) -> SettingRef:
        """Its address."""
        return SettingRef(area=self.area, key=self.key)

    @property
    def can_choose(self) -> bool:
        """Whether a plan may hold a change of it."""
        return self.stance in {"ease", "ask"} and self.proposal is not None

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
    bottleneck: Bottleneck | None = None
    """What holds the computer back; None where nothing was weighed."""
    marks: tuple[Mark, ...] = ()
    """Traces of advice that somebody followed here."""

    @cached_property
    def by_address(self) -> dict[str, Finding]:
        """Every finding by its address."""
        return {f"{f.area}:{f.key}": f for f in self.findings}

    @cached_property
    def texts(self) -> dict[int, str]:
        """What is searched in each finding, in small letters, by its `id`."""
        return {
            id(f): (
                f"{f.title}\n{f.key}\n{f.role}\n{f.does}\n{f.started_by}\n{f.reason}\n{f.stops}".lower()
            )
            for f in self.findings
        }

    def find(self, ref: SettingRef) -> Finding | None:
        """The finding at this address."""
        return self.by_address.get(f"{ref.area}:{ref.key}")

    def with_brought(self, refs: Iterable[SettingRef]) -> list[SettingRef]:
        """These addresses, and those of what goes with them."""
        every = list(refs)
        return every + [
            parse_ref(name) for ref in every if (f := self.find(ref)) for name in f.brings
        ]


Answer = Literal["needed", "not needed"]
"""What the owner said about an item."""


def audit(
    facts: Facts,
    profile: Profile,
    catalogue: Catalogue,
    reading: Reading | None,
    answers: Mapping[str, Answer] = _NO_ANSWERS,
) -> Audit:
    """Every item of the computer, weighed by the reading and judged against the profile.

    Args:
        facts: of the computer.
        profile: what it is used for.
        catalogue: what is known of roles.
        reading: the baseline; None weighs nothing.
        answers: what the owner said, by address. A guard or a need of the profile counts more.
    """
    judge = _Judge(facts, profile, catalogue, reading, answers)
    findings = [judge.finding(item) for item in facts.items]
    findings = _with_starters(findings, judge.timed)
    order: dict[str, int] = {area: place for place, area in enumerate(AREAS)}
    findings.sort(key=lambda f: (order[f.area], -f.weight.heft, f.key))
    found = (
        None if reading is None else find_bottleneck(facts, profile, reading, eased_sum(findings))
    )
    return Audit(
        profile=profile.name,
        findings=tuple(findings),
        gaps=facts.gaps,
        headline=_headline(findings, profile, reading, found),
        bottleneck=found,
        marks=facts.marks,
    )


def eased_sum(findings: Iterable[Finding]) -> tuple[float, float]:
    """(CPU percentage points, bytes of RAM) that easing all that may be eased would save."""
    mine = [f for f in findings if f.stance in {"ease", "ask"}]
    return sum(known(f.weight.cpu_pct) for f in mine), sum(known(f.weight.ram_bytes) for f in mine)


class _Judge:
    """One audit at work."""

    def __init__(
        self,
        facts: Facts,
        profile: Profile,
        catalogue: Catalogue,
        reading: Reading | None,
        answers: Mapping[str, Answer],
    ) -> None:
        self.facts, self.profile, self.catalogue, self.reading, self.answers = (
            facts, profile, catalogue, reading, answers,
        )  # fmt: skip
        self.graphs = Graphs(facts.items)
        self.window = (
            "" if reading is None else f"{sum(s.length_s for s in reading.kept):.0f} s reading"
        )
        self.costs = {} if reading is None else {c.key: c for c in reading.consumers}
        items = facts.items
        self.running_lumtak = lumtaks(facts)
        self.guarding = self.graphs.carriers(i.consumer for i in items if self._guarded(i))
        self.leaving = {
            self.graphs.source_of(who, trigger)
            for i in items
            if isinstance(i.setting, Fixed) and i.running
            for who, trigger in self.graphs.chain(i.consumer)[:1]
        }
        self.timed = {
            i.consumer
            for i in items
            for who, trigger in self.graphs.chain(i.consumer)[:1]
            if trigger.kind == "timer"
            and (timer := self.graphs.items.get(self.graphs.source_of(who, trigger)))
            and timer.running
        }
        """What a timer that counts starts again and again, though it does not run just now."""
        self.needing = self.graphs.carriers(
            i.consumer for i in items if i.role and i.role in profile.needs.roles
        )

    def _guarded(self, item: Item) -> bool:
        role = self.catalogue.find(item.role)
        return (
            bool(role and role.guarded) or self._never(item) or item.consumer in self.running_lumtak
        )

    def _never(self, item: Item) -> bool:
        return item.role in self.profile.never.roles or item.consumer in self.profile.never.items

    def finding(self, item: Item) -> Finding:
        """The item, weighed and judged."""
        role = self.catalogue.find(item.role)
        consumer = item.consumer
        weight = _weigh(item, self.window, self.costs.get(consumer), self.facts.hardware.ram_bytes)
        stance, reason, proposal = self.stance(item, role)
        fixed = item.setting.needed if isinstance(item.setting, Fixed) else ""
        if fixed:
            proposal = None
        with_it = self.graphs.stops_with(consumer, _STOPS_SHOWN)
        return Finding(
            area=item.area,
            key=item.key,
            title=item.title,
            stance=stance,
            reason=reason,
            grade=_grade(stance, weight, role),
            weight=weight,
            role=item.role,
            does=role.does if role else item.note,
            stops=role.stops if role else "",
            stops_with=tuple(c[len(item.area) + 1 :] for c in with_it),
            started_by=self.graphs.chain_in_words(consumer) or item.started_by,
            starters=self.graphs.starters(consumer),
            again=self._again(item, proposal),
            origin=item.origin,
            question=_question(item, role) if stance == "ask" or consumer in self.answers else "",
            answer=self.answers.get(consumer, ""),
            value=UNSET_WORD if item.value is None else item.value,
            proposal=proposal,
            fixed=fixed,
        )

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

    def stance(self, item: Item, role: Role | None) -> tuple[Stance, str, str | None]:
        """(stance, reason, proposed value).

        Guards before needs, needs before answers, answers before the catalogue.
        """
        profile, consumer = self.profile, item.consumer
        if role and role.guarded:
            return (
                "guarded",
                f"for {role.title}; never touched, since without it {role.stops}.",
                None,
            )
        if self._never(item):
            return "guarded", f"the profile {profile.name} says never to touch it.", None
        if consumer in self.running_lumtak:
            return "guarded", f"{RUNS_LUMTAK}.", None
        if consumer in self.guarding:
            return (
                "guarded",
                (
                    f"{self.graphs.path_in_words(self.guarding[consumer])}, which is guarded,"
                    " cannot work without it."
                ),
                None,
            )
        if item.area in {"effects", "power", "memory"}:
            return self._by_area(item)
        if item.role and item.role in profile.needs.roles:
            return "keep", f"the profile needs it for {role.title if role else item.role}.", None
        if consumer in self.needing:
            return (
                "keep",
                (
                    f"{self.graphs.path_in_words(self.needing[consumer])}, which the profile needs,"
                    " cannot work without it."
                ),
                None,
            )
        if role and role.name == PREFETCH:
            return self._prefetch(item)
        if (
            item.value in _OFF_VALUES
            and not item.running
            and not self._leaves(item)
            and consumer not in self.timed
        ):
            return "keep", f"it is {item.value} already and does not run.", None
        return self._judged(item, role)

    def _leaves(self, item: Item) -> bool:
        """Whether it started something that still runs, though it has ended itself."""
        return item.consumer in self.leaving and item.value != "off"

    def _by_area(self, item: Item) -> tuple[Stance, str, str | None]:
        """Effects, plans and memory settings follow the profile's own rules."""
        if item.area == "effects":
            return _effect(item, self.profile)
        if item.area == "power":
            return _power(item, self.facts, self.profile)
        if item.key == "swap_mib" and self.profile.memory.swap:
            return self._swap(item, self.profile.memory.swap)
        return _memory(item, self.profile)

    def _swap(self, item: Item, rule: str) -> tuple[Stance, str, str | None]:
        """Only too little swap is worth changing; too much is only occupied disk."""
        size = next(s for s in swap_sizes(self.facts, self.reading) if s.rule == rule)
        if isinstance(size.mib, NotMeasured):
            return "keep", f"the rule {rule} has no answer here: {size.mib.not_measured}.", None
        wanted = size.mib[0]
        held = number(item.value)
        if held is None or held >= wanted:
            return (
                "keep",
                (
                    f"it is enough by the rule {rule}, which asks for {wanted} MiB"
                    f" ({size.arithmetic})."
                ),
                None,
            )
        return "ease", f"the rule {rule} asks for {wanted} MiB ({size.arithmetic}).", str(wanted)

    def _judged(self, item: Item, role: Role | None) -> tuple[Stance, str, str | None]:
        answer = self.answers.get(item.consumer)
        wanted = role.better if role and role.better != "keep" and not self._leaves(item) else "off"
        proposal = _best(item, wanted)
        if answer == "needed":
            return "keep", "the owner needs it.", None
        if answer == "not needed":
            return "ease", "the owner does not need it.", proposal
        if not role:
            return "ask", "nobody here knows what it is for; ask the owner.", proposal
        if role.ask:
            return "ask", f"for {role.title}; only the owner knows whether it is used.", proposal
        if item.value == role.better == "demand":
            return (
                "keep",
                f"for {role.title}; it starts only when it is asked for, which is best for it.",
                None,
            )
        if role.better == "keep":
            return "keep", f"for {role.title}; it is worth what it costs.", None
        return "ease", f"for {role.title}, which {self.profile.name} does not need.", proposal

    def _prefetch(self, item: Item) -> tuple[Stance, str, str | None]:
        """Launch-prefetching: worth keeping on a spinning disk, worthless on a solid one."""
        on = item.value in {"auto", "on"}
        disk = self.facts.hardware.disk
        if isinstance(disk, NotMeasured):
            return (
                "keep",
                f"whether it helps depends on the kind of disk, and {disk.not_measured}.",
                None,
            )
        if disk == "spinning":
            if on:
                return "keep", "on a spinning disk it makes programs start sooner.", None
            return (
                "ease",
                "it is off, and on a spinning disk it makes programs start sooner.",
                _best(item, "auto"),
            )
        if not on and not item.running:
            return "keep", "it is off, as it should be on a solid-state disk.", None
        return (
            "ease",
            "on a solid-state disk it does nothing for the start of programs.",
            _best(item, "off"),
        )


def _question(item: Item, role: Role | None) -> str:
    """What to ask the owner, in plain words."""
    if role and role.ask:
        return role.ask
    about = (
        f" It says of itself: {item.note.rstrip('.')}."
        if item.note and item.note != item.title
        else ""
    )
    return f"Does anybody here use “{item.title}”?{about}"


def _with_starters(findings: list[Finding], timed: AbstractSet[str]) -> list[Finding]:
    """What cannot be changed itself, or is started by a timer, and is started by something that
    can: its starter's stance, and named there.
    """
    by_name = {f"{f.area}:{f.key}": f for f in findings}
    brings: dict[str, list[str]] = {}
    result = []
    for finding in findings:
        consumer = f"{finding.area}:{finding.key}"
        starter = None
        if (finding.fixed or consumer in timed) and finding.stance in {"ease", "ask"}:
            starter = next((by_name[s] for s in finding.starters if not by_name[s].fixed), None)
        if starter is None:
            result.append(finding)
            continue
        brings.setdefault(f"{starter.area}:{starter.key}", []).append(consumer)
        reason = f"{starter.title} starts it: {starter.reason}"
        stance = starter.stance if starter.stance in {"ease", "ask"} else "keep"
        result.append(
            msgspec.structs.replace(
                finding,
                stance=stance,
                reason=reason,
                proposal=None,
                fixed=f"change {starter.title}, which starts it",
                question="",
            )
        )
    return [
        (
            msgspec.structs.replace(f, brings=tuple(brings[name]))
            if (name := f"{f.area}:{f.key}") in brings
            else f
        )
        for f in result
    ]


def _weigh(item: Item, window: str, cost: ConsumerLoad | None, ram_total_bytes: int) -> Weight:
    if item.area in {"power", "memory"}:
        nothing = NotMeasured(
            not_measured=(
                "a plan or a rule has no load of its own; a reading before and after shows it"
            )
        )
        return Weight(cpu_pct=nothing, ram_bytes=nothing, source=nothing.not_measured)
    if not window:
        nothing = NotMeasured(not_measured=NO_READING)
        return Weight(cpu_pct=nothing, ram_bytes=nothing, source=NO_READING)
    if cost is None and item.area == "effects":
        nothing = NotMeasured(
            not_measured="drawn by the desktop itself, so its share cannot be told apart"
        )
        return Weight(cpu_pct=nothing, ram_bytes=nothing, source=nothing.not_measured)
    if cost is None:
        return Weight(cpu_pct=0.0, ram_bytes=0.0, source=f"{window}: not seen running")
    return Weight(
        cpu_pct=cost.cpu_pct,
        cpu_se_pct=cost.cpu_se_pct,
        ram_bytes=cost.ram_bytes,
        source=_source(window, cost),
        heft=cost.cpu_pct + 100 * known(cost.ram_bytes) / ram_total_bytes,
    )


def _source(window: str, cost: ConsumerLoad) -> str:
    return f"{window}, memory {cost.ram_how}" if cost.ram_how else window


def _best(item: Item, wanted: str) -> str | None:
    """The value nearest to the wanted one that this setting can take, other than the one it has."""
    if not isinstance(item.setting, Setting):
        return None
    return next(
        (
            v
            for v in (wanted, "demand", "manual", "off")
            if v in item.setting.values and v != item.value
        ),
        None,
    )


def _effect(item: Item, profile: Profile) -> tuple[Stance, str, str | None]:
    if item.key in profile.effects.keep:
        return "keep", "the profile keeps this effect.", None
    if item.value == "off":
        return "keep", "it is off already.", None
    return "ease", f"{profile.name} does not ask for this effect.", "off"


def _power(item: Item, facts: Facts, profile: Profile) -> tuple[Stance, str, str | None]:
    wanted = profile.power.mains if item.key == "mains" else profile.power.battery
    if wanted is None:
        return "keep", "the profile leaves this plan alone.", None
    if item.value == wanted:
        return "keep", f"the plan is {wanted}, as the profile wants it.", None
    if isinstance(item.setting, Setting) and wanted not in item.setting.values:
        return "keep", f"the profile wants {wanted}, which {facts.name} does not have.", None
    return (
        "ease",
        f"the plan is {item.value or UNSET_WORD}, and the profile wants {wanted}.",
        wanted,
    )


def _memory(item: Item, profile: Profile) -> tuple[Stance, str, str | None]:
    wanted: int | None = getattr(profile.memory, item.key, None)
    if wanted is None:
        return "keep", "the profile has no rule for it.", None
    if item.value == str(wanted):
        return "keep", f"it is {wanted}, as the profile wants it.", None
    return "ease", f"it is {item.value or UNSET_WORD}, and the profile wants {wanted}.", str(wanted)


def _grade(stance: Stance, weight: Weight, role: Role | None) -> Grade:
    """From what was measured.

    Something measurable is expected to fall, nothing measurable is no effect.

    A role of which the catalogue says that it depends stays so until a trial has proved it here.
    """
    if isinstance(weight.cpu_pct, NotMeasured) and isinstance(weight.ram_bytes, NotMeasured):
        return "depends"
    if stance == "guarded":
        return "harmful"
    clear = (
        known(weight.cpu_pct) > max(0.1, 2 * weight.cpu_se_pct) or known(weight.ram_bytes) >= MIB
    )
    if not clear:
        return "no effect"
    return role.grade if role else "expected"


def _headline(
    findings: list[Finding], profile: Profile, reading: Reading | None, found: Bottleneck | None
) -> str:
    eased = [f for f in findings if f.stance == "ease" and f.can_choose]
    if reading is None or found is None:
        return (
            f"{counted(len(eased), 'item')} can be eased; nothing is weighed yet, because"
            f" {NO_READING}."
        )
    cpu, ram = reading.mean("cpu_pct"), reading.mean("ram_pct")
    over = [
        f"{name} is at {value:.0f} % and may be at {ceiling:g} %"
        for name, value, ceiling in (
            ("CPU", cpu, profile.ceilings.cpu_pct),
            ("RAM", ram, profile.ceilings.ram_pct),
        )
        if value > ceiling
    ]
    state = " and ".join(over) if over else "CPU and RAM are under their ceilings"
    if found.kind in {"disk", "clock"} or (
        found.kind == "memory" and (memory_troubles(reading) or not over)
    ):
        state = f"{found.in_words()[:1].upper()}{found.in_words()[1:]}; {state}"
    heavy = max(
        (f for f in findings if f.stance in {"ease", "ask"}),
        key=lambda f: f.weight.heft,
        default=None,
    )
    plans = [f for f in eased if f.area in {"power", "memory"} or f.role == PREFETCH]
    parts = [state]
    if found.kind in {"clock", "disk"} and plans:
        parts.append(
            f"first of what may go: {plans[0].title} ({plans[0].value} → {plans[0].proposal})"
        )
    elif heavy is not None and heavy.weight.heft > 0:
        cause = f", which {heavy.started_by}" if heavy.fixed and heavy.started_by else ""
        parts.append(f"heaviest of what may go: {heavy.title}{cause}")
    elif not plans:
        parts.append("nothing to gain: nothing here weighs that the profile does not need")
    return "; ".join(parts) + "." + (f" {found.not_by_settings}" if found.not_by_settings else "")


def is_system(consumer: str) -> bool:
    """Whether a consumer stands for the system itself."""
    return consumer.startswith("system:")
