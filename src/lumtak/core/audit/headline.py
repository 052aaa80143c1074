"""The sentence above an audit: where the computer stands, and what weighs most of what may go."""

from lumtak.core.audit.records import Finding
from lumtak.core.audit.rules import PREFETCH
from lumtak.core.audit.weighing import NO_READING
from lumtak.core.bottleneck import Bottleneck, memory_troubles
from lumtak.core.profile import Profile
from lumtak.core.reading import Reading
from lumtak.core.units import counted

_MAY_GO = {"ease", "ask"}


def headline(
    findings: list[Finding], profile: Profile, reading: Reading | None, found: Bottleneck | None
) -> str:
    """One sentence, or two where no setting will do."""
    eased = [f for f in findings if f.stance == "ease" and f.can_choose]
    if reading is None or found is None:
        return (
            f"{counted(len(eased), 'item')} can be eased; nothing is weighed yet, because"
            f" {NO_READING}."
        )
    parts = [_where_it_stands(profile, reading, found), _what_weighs(findings, eased, found)]
    tail = f" {found.not_by_settings}" if found.not_by_settings else ""
    return "; ".join(p for p in parts if p) + "." + tail


def _where_it_stands(profile: Profile, reading: Reading, found: Bottleneck) -> str:
    """CPU and RAM against their ceilings; before that what holds it back, where that says more."""
    over = [
        f"{name} is at {value:.0f} %, the ceiling is {ceiling:g} %"
        for name, value, ceiling in (
            ("CPU", reading.mean("cpu_pct"), profile.ceilings.cpu_pct),
            ("RAM", reading.mean("ram_pct"), profile.ceilings.ram_pct),
        )
        if value > ceiling
    ]
    state = "; ".join(over) if over else "CPU and RAM are under their ceilings"
    # Memory over its ceiling says by itself what holds the computer back.
    says_more = found.kind in {"disk", "clock"}
    if found.kind == "memory":
        says_more = not over or bool(memory_troubles(reading))
    if not says_more:
        return state
    back = found.in_words()
    return f"{back[:1].upper()}{back[1:]}; {state}"


def _what_weighs(findings: list[Finding], eased: list[Finding], found: Bottleneck) -> str:
    """The heaviest of what may go; a plan or a rule first where clock or disk hold it back."""
    plans = [f for f in eased if _is_plan(f)]
    if found.kind in {"clock", "disk"} and plans:
        first = plans[0]
        return f"first of what may go: {first.title} ({first.value} → {first.proposal})"
    may_go = [f for f in findings if f.stance in _MAY_GO]
    heavy = max(may_go, key=lambda f: f.weight.heft, default=None)
    if heavy is not None and heavy.weight.heft > 0:
        cause = f", which {heavy.started_by}" if heavy.fixed and heavy.started_by else ""
        return f"biggest item you can switch off: {heavy.title}{cause}"
    return "" if plans else "nothing to gain: nothing here weighs that the profile does not need"


def _is_plan(finding: Finding) -> bool:
    """Whether it has no load of its own, and decides about that of others."""
    return finding.area in {"power", "memory"} or finding.role == PREFETCH
