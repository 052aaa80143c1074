"""The audit: every item weighed (what it costs) and judged (does the profile need it?), with the reason."""

from typing import Literal

from lumtak.core.catalogue import Catalogue, Role
from lumtak.core.facts import Facts, Fixed, Gap, Item, Setting
from lumtak.core.load import SYSTEM, ConsumerLoad, Reading
from lumtak.core.needs import stops_with, works_through
from lumtak.core.profile import Profile
from lumtak.core.record import Figure, NotMeasured, Record, known
from lumtak.core.setting import AREAS, UNSET_WORD, Area, Change, SettingRef
from lumtak.core.units import MIB

Stance = Literal["keep", "ease", "ask", "guarded"]
Grade = Literal["proven here", "expected", "depends", "no effect", "harmful"]

NO_READING = "no reading was taken; take a baseline first"
_OFF_VALUES = {"off", "manual", "demand"}


class Weight(Record):
    """What an item costs, and where the figures come from."""

    cpu_pct: Figure
    cpu_se_pct: float = 0.0
    ram_bytes: Figure
    source: str
    """For example "60 s reading, memory proportional"."""

    heft: float = 0.0
    """CPU percentage plus RAM percentage of the whole computer: for the order of the list and its bars."""


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
    started_by: str = ""
    value: str
    """The setting's value now, as a word."""
    proposal: str | None = None
    """The value that would ease it; None where there is nothing to propose or it cannot be changed."""
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


class Audit(Record):
    """All findings, heaviest first within their area, and what could not be read."""

    profile: str
    findings: tuple[Finding, ...]
    gaps: tuple[Gap, ...]
    headline: str

    def find(self, ref: SettingRef) -> Finding | None:
        """The finding at this address."""
        return next((f for f in self.findings if f.area == ref.area and f.key == ref.key), None)


def audit(facts: Facts, profile: Profile, catalogue: Catalogue, reading: Reading | None) -> Audit:
    """Every item of the computer, weighed by the reading and judged against the profile."""
    kept_for = _kept_for(facts, profile)
    findings = [_judge(item, facts, profile, catalogue, reading, kept_for) for item in facts.items]
    order: dict[str, int] = {area: place for place, area in enumerate(AREAS)}
    findings.sort(key=lambda f: (order[f.area], -f.weight.heft, f.key))
    return Audit(
        profile=profile.name, findings=tuple(findings), gaps=facts.gaps, headline=_headline(findings, profile, reading)
    )


def _kept_for(facts: Facts, profile: Profile) -> dict[str, str]:
    """Consumer -> title of the needed item that cannot work without it."""
    result: dict[str, str] = {}
    titles = {item.consumer: item.title for item in facts.items}
    for item in facts.items:
        if item.role and item.role in profile.needs.roles:
            for key in works_through(item.ref, facts.items):
                result.setdefault(f"{item.area}:{key}", titles[item.consumer])
    return result


def _judge(
    item: Item, facts: Facts, profile: Profile, catalogue: Catalogue, reading: Reading | None, kept_for: dict[str, str]
) -> Finding:
    role = catalogue.find(item.role)
    weight = _weigh(item, reading, facts.hardware.ram_bytes)
    stance, reason, proposal = _stance(item, facts, profile, role, kept_for)
    fixed = item.setting.needed if isinstance(item.setting, Fixed) else ""
    if fixed:
        proposal = None
    return Finding(
        area=item.area,
        key=item.key,
        title=item.title,
        stance=stance,
        reason=reason,
        grade=_grade(stance, weight),
        weight=weight,
        role=item.role,
        does=role.does if role else item.note,
        stops=role.stops if role else "",
        stops_with=stops_with(item.ref, facts.items),
        started_by=item.started_by,
        value=UNSET_WORD if item.value is None else item.value,
        proposal=proposal,
        fixed=fixed,
    )


def _weigh(item: Item, reading: Reading | None, ram_total_bytes: int) -> Weight:
    if item.area in {"power", "memory"}:
        nothing = NotMeasured(
            not_measured="a plan or a rule has no load of its own; a reading before and after shows it"
        )
        return Weight(cpu_pct=nothing, ram_bytes=nothing, source=nothing.not_measured)
    if reading is None:
        nothing = NotMeasured(not_measured=NO_READING)
        return Weight(cpu_pct=nothing, ram_bytes=nothing, source=NO_READING)
    cost = reading.consumer(item.consumer)
    if cost is None and item.area == "effects":
        nothing = NotMeasured(not_measured="drawn by the desktop itself, so its share cannot be told apart")
        return Weight(cpu_pct=nothing, ram_bytes=nothing, source=nothing.not_measured)
    window = f"{sum(s.length_s for s in reading.kept):.0f} s reading"
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


def _stance(
    item: Item, facts: Facts, profile: Profile, role: Role | None, kept_for: dict[str, str]
) -> tuple[Stance, str, str | None]:
    """(stance, reason, proposed value)."""
    if role and role.guarded:
        return "guarded", f"for {role.title}; never touched, since without it {role.stops}.", None
    if item.role in profile.never.roles or item.consumer in profile.never.items:
        return "guarded", f"the profile {profile.name} says never to touch it.", None
    match item.area:
        case "effects":
            return _effect(item, profile)
        case "power":
            return _power(item, facts, profile)
        case "memory":
            return _memory(item, profile)
    if item.role and item.role in profile.needs.roles:
        return "keep", f"the profile needs it for {role.title if role else item.role}.", None
    if item.consumer in kept_for:
        return "keep", f"{kept_for[item.consumer]}, which the profile needs, cannot work without it.", None
    if item.value in _OFF_VALUES and not item.running:
        return "keep", f"it is {item.value} already and does not run.", None
    if not role:
        proposal = _best(item, "off")
        return "ask", "nobody here knows what it is for; ask the owner.", proposal
    proposal = _best(item, role.better)
    return "ease", f"for {role.title}, which {profile.name} does not need.", proposal


def _best(item: Item, wanted: str) -> str | None:
    """The value nearest to the wanted one that this setting can take, other than the one it has."""
    if not isinstance(item.setting, Setting):
        return None
    return next((v for v in (wanted, "demand", "manual", "off") if v in item.setting.values and v != item.value), None)


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
    return "ease", f"the plan is {item.value or UNSET_WORD}, and the profile wants {wanted}.", wanted


def _memory(item: Item, profile: Profile) -> tuple[Stance, str, str | None]:
    wanted: int | None = getattr(profile.memory, item.key, None)
    if wanted is None:
        return "keep", "the profile has no rule for it.", None
    if item.value == str(wanted):
        return "keep", f"it is {wanted}, as the profile wants it.", None
    return "ease", f"it is {item.value or UNSET_WORD}, and the profile wants {wanted}.", str(wanted)


def _grade(stance: Stance, weight: Weight) -> Grade:
    """From what was measured alone: something measurable is expected to fall, nothing measurable is no effect."""
    if isinstance(weight.cpu_pct, NotMeasured) and isinstance(weight.ram_bytes, NotMeasured):
        return "depends"
    if stance == "guarded":
        return "harmful"
    clear = known(weight.cpu_pct) > max(0.1, 2 * weight.cpu_se_pct) or known(weight.ram_bytes) >= MIB
    return "expected" if clear else "no effect"


def _headline(findings: list[Finding], profile: Profile, reading: Reading | None) -> str:
    eased = [f for f in findings if f.stance == "ease" and f.can_choose]
    if reading is None:
        return f"{len(eased)} items can be eased; nothing is weighed yet, because {NO_READING}."
    cpu, ram = reading.mean("cpu_pct"), reading.mean("ram_pct")
    over = [
        f"{name} is at {value:.0f} % and may be at {ceiling:g} %"
        for name, value, ceiling in (("CPU", cpu, profile.ceilings.cpu_pct), ("RAM", ram, profile.ceilings.ram_pct))
        if value > ceiling
    ]
    state = " and ".join(over) if over else "CPU and RAM are under their ceilings"
    heavy = max((f for f in findings if f.stance in {"ease", "ask"}), key=lambda f: f.weight.heft, default=None)
    if heavy is None or heavy.weight.heft <= 0:
        return f"{state}; nothing here weighs that the profile does not need."
    return f"{state}; heaviest of what may go: {heavy.title}."


def is_system(consumer: str) -> bool:
    """Whether a consumer stands for the system itself."""
    return consumer == SYSTEM or consumer.startswith("system:")
