"""A plan: chosen changes in a safe order, what they should save, what is owed afterwards."""

from collections.abc import Iterable, Mapping
from types import MappingProxyType

from lumtak.core.audit import Audit, Finding
from lumtak.core.audit.rules import by_evidence
from lumtak.core.catalogue import Catalogue
from lumtak.core.facts import RUNS_LUMTAK, Facts, Fixed, Item, Setting, lumtaks
from lumtak.core.needs import STANDS_STILL, Graphs
from lumtak.core.record import NotMeasured, Record, known
from lumtak.core.setting import LATENESS, UNSET_WORD, Change, SettingRef, Shows, latest
from lumtak.core.text import plain
from lumtak.errors import UnknownNameError, UsageError

_NOTHING: Mapping[SettingRef, str] = MappingProxyType({})


class Step(Record):
    """One change of a plan."""

    change: Change
    title: str
    before: str
    """The value now, as a word."""
    shows: Shows
    saves_cpu_pct: float
    saves_cpu_se_pct: float
    saves_ram_bytes: float
    aside_bytes: float = 0.0
    """Of the disk, that it sets aside; free only once that is emptied."""
    projected: str
    """Where the figures come from, or why there are none."""
    stops: tuple[str, ...]
    """Titles of what stops with it, and the function lost."""
    brings: tuple[str, ...] = ()
    """Addresses of what goes with it, though it has no setting of its own."""


class Plan(Record):
    """Chosen changes, in the order in which they are applied."""

    steps: tuple[Step, ...] = ()
    owed: Shows = "now"
    """The most that is owed when all is applied."""

    @property
    def saves_cpu(self) -> tuple[float, float]:
        """(percentage points, uncertainty): costs summed, uncertainty in quadrature."""
        return (
            sum(s.saves_cpu_pct for s in self.steps),
            sum(s.saves_cpu_se_pct**2 for s in self.steps) ** 0.5,
        )

    @property
    def saves_ram_bytes(self) -> float:
        """Bytes; shared memory is not in the items' figures, so nothing is counted twice."""
        return sum(s.saves_ram_bytes for s in self.steps)

    @property
    def unprojected(self) -> tuple[Step, ...]:
        """Steps whose saving could not be told beforehand."""
        return tuple(
            s
            for s in self.steps
            if s.projected and not (s.saves_cpu_pct or s.saves_ram_bytes or s.aside_bytes)
        )

    @property
    def aside_bytes(self) -> float:
        """Of the disk, that is set aside; free once it is emptied."""
        return sum(s.aside_bytes for s in self.steps)


def find_item(facts: Facts, ref: SettingRef) -> Item:
    """The item at this address.

    Raises:
        UnknownNameError: the computer has none; with the nearest.
    """
    item = facts.find(ref)
    if item is not None:
        return item
    keys = [str(i.ref) for i in facts.items if i.area == ref.area] or [
        str(i.ref) for i in facts.items
    ]
    raise UnknownNameError(
        f"setting on {facts.name}",
        plain(str(ref)),
        (plain(k) for k in keys),
        f"`lumtak audit {facts.address}` lists them.",
    )


def guards(facts: Facts, catalogue: Catalogue) -> dict[SettingRef, str]:
    """What is never changed on this computer, with the reason.

    Guarded roles, and what they cannot work without.
    """
    graphs = Graphs(facts.items)
    running = lumtaks(facts)
    here = {i.ref: RUNS_LUMTAK for i in facts.items if i.consumer in running}
    roots = {
        i.consumer: role for i in facts.items if (role := catalogue.find(i.role)) and role.guarded
    }
    here |= {
        i.ref: why.rstrip(".")
        for i in facts.items
        if (why := by_evidence(i, catalogue.find(i.role)))
    }
    found = here | {graphs.ref(c): f"without it {role.stops}" for c, role in roots.items()}
    for consumer, path in graphs.carriers(roots).items():
        words = f"{graphs.path_in_words(path)} cannot work without it"
        found.setdefault(graphs.ref(consumer), words)
    return found


def check_change(
    facts: Facts, change: Change, guarded: Mapping[SettingRef, str] = _NOTHING
) -> Change:
    """The change with its address as the computer knows it.

    Raises:
        UnknownNameError: the computer has no such setting; UsageError: it cannot be changed, the
            value does not fit, or it
            is guarded.
    """
    item = find_item(facts, change.ref)
    if item.ref in guarded:
        raise UsageError(
            f"{plain(str(item.ref))} is guarded and is never changed:"
            f" {plain(guarded[item.ref], 300)}.",
            "Choose another item.",
        )
    if isinstance(item.setting, Fixed):
        raise UsageError(
            f"{plain(str(item.ref))} cannot be changed by Lumtak on {facts.name}.",
            f"Needed: {item.setting.needed}",
        )
    problem = item.setting.problem_with(change.value)
    if problem:
        raise UsageError(
            f"{plain(str(item.ref))} cannot be {plain(change.value or UNSET_WORD)}:", problem
        )
    return Change(ref=item.ref, value=change.value)


def check_changes(
    facts: Facts, changes: Iterable[Change], guarded: Mapping[SettingRef, str]
) -> list[Change]:
    """The changes in a safe order.

    What others depend on comes after its dependents, what needs a restart comes last.

    Within that, settings that touch the same thing follow one another.

    Raises:
        UsageError: a change is guarded or not possible, or two changes contradict each other.
    """
    graphs = Graphs(facts.items)
    chosen: dict[SettingRef, Change] = {}
    for raw in changes:
        change = check_change(facts, raw, guarded)
        other = chosen.get(change.ref)
        if other and other.value != change.value:
            raise UsageError(
                f"{plain(str(other))} and {plain(str(change))} contradict each other.",
                "Choose one of them.",
            )
        chosen[change.ref] = change
    for change in chosen.values():
        _refuse_without_needs(graphs, change, chosen)

    def place(change: Change) -> tuple[int, int, SettingRef]:
        return LATENESS[_shows(facts, change)], len(graphs.stops_with(str(change.ref))), change.ref

    return _together(facts, graphs, sorted(chosen.values(), key=place))


def _refuse_without_needs(graphs: Graphs, change: Change, chosen: dict[SettingRef, Change]) -> None:
    """What is to run cannot lose in the same plan what it needs."""
    if change.value in STANDS_STILL:
        return
    for need in graphs.works_through(str(change.ref)):
        other = chosen.get(graphs.ref(need))
        if other is not None and other.value == "off":
            raise UsageError(
                f"{plain(str(change))} and {plain(str(other))} contradict each other: the first"
                " cannot work without the second.",
                "Choose one of them.",
            )


def _together(facts: Facts, graphs: Graphs, ordered: list[Change]) -> list[Change]:
    """The same order, but settings that touch one thing stand together.

    Each moves up to the last of its kind, unless a dependent of it stands between, or one of them
    shows later than the other.
    """
    result: list[Change] = []
    for change in ordered:
        place = len(result)
        touches = find_item(facts, change.ref).touches
        dependents = {graphs.ref(c) for c in graphs.stops_with(str(change.ref))}
        # Only what is moved past has to allow it, so the search ends at the first that does not.
        for i in reversed(range(len(result))) if touches else ():
            if result[i].ref in dependents or _shows(facts, result[i]) != _shows(facts, change):
                break
            if find_item(facts, result[i].ref).touches == touches:
                place = i + 1
                break
        result.insert(place, change)
    return result


def _shows(facts: Facts, change: Change) -> Shows:
    setting = find_item(facts, change.ref).setting
    return setting.shows if isinstance(setting, Setting) else "now"


def make_plan(facts: Facts, found: Audit, changes: Iterable[Change]) -> Plan:
    """The plan of these changes.

    Raises:
        UsageError: a change is guarded or not possible, or two changes contradict each other.
    """
    guarded = {f.ref: f.reason.rstrip(".") for f in found.findings if f.stance == "guarded"}
    steps = [_step(facts, found, change) for change in check_changes(facts, changes, guarded)]
    return Plan(steps=tuple(steps), owed=latest(s.shows for s in steps))


def _step(facts: Facts, found: Audit, change: Change) -> Step:
    finding = found.find(change.ref)
    if finding is None:
        raise UsageError(
            f"{plain(str(change.ref))} is not in this audit.", "Audit the computer again."
        )
    # A plan or a rule saves something too, but a baseline cannot tell how much.
    lightens = change.value in {"off", "manual", "demand"}
    brought = [b for b in map(found.by_consumer.get, finding.brings) if b]
    # A change that does not lighten saves nothing that the baseline could tell.
    weights = [f.weight for f in (finding, *brought)] if lightens else []
    return Step(
        change=change,
        title=finding.title,
        before=finding.value,
        shows=_shows(facts, change),
        saves_cpu_pct=sum((known(w.cpu_pct) for w in weights), 0.0),
        saves_cpu_se_pct=sum((w.cpu_se_pct**2 for w in weights), 0.0) ** 0.5,
        saves_ram_bytes=sum((known(w.ram_bytes) for w in weights), 0.0),
        aside_bytes=known(finding.weight.disk_bytes) if finding.pile else 0.0,
        projected=_projected(finding, brought),
        stops=_stops(facts, finding) if lightens or finding.pile else (),
        brings=finding.brings,
    )


def _projected(finding: Finding, brought: list[Finding]) -> str:
    """Where the figures come from, or why there are none."""
    weight = finding.weight
    if isinstance(weight.cpu_pct, NotMeasured) and isinstance(weight.ram_bytes, NotMeasured):
        return f"not projected: {weight.source}"
    return weight.source + (f", with {', '.join(b.title for b in brought)}" if brought else "")


def _stops(facts: Facts, finding: Finding) -> tuple[str, ...]:
    titles = {item.key: item.title for item in facts.items if item.area == finding.area}
    stopped = tuple(titles[key] for key in finding.stops_with if key in titles)
    return (*stopped, finding.stops) if finding.stops else stopped
