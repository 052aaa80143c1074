"""The three lines above an audit.

What holds the computer back, what is over its ceiling, what to do first.
"""

from collections.abc import Collection, Iterable, Sequence
from typing import NamedTuple

from lumtak.core.audit.records import Finding
from lumtak.core.audit.rules import PREFETCH
from lumtak.core.audit.weighing import NO_READING
from lumtak.core.bottleneck import Bottleneck
from lumtak.core.facts import Sign
from lumtak.core.floor import Room
from lumtak.core.profile import Profile
from lumtak.core.reading import Reading
from lumtak.core.record import NotMeasured, known
from lumtak.core.setting import SettingRef
from lumtak.core.stance import MAY_CHANGE, PROPOSED
from lumtak.core.text import plain
from lumtak.core.units import counted, percent, ram

NOTHING_TO_GAIN = "Nothing to gain: nothing here has a load that the profile does not need."


class Headline(NamedTuple):
    """Where a computer stands, in three lines."""

    lines: tuple[str, ...]
    first: str = ""
    """The consumer that the last line names; empty where it names none."""


def headline(
    findings: Iterable[Finding],
    profile: Profile,
    reading: Reading | None,
    found: Bottleneck | None,
    standing: Collection[SettingRef] = (),
    room: Room | None = None,
    signs: Sequence[Sign] = (),
) -> Headline:
    """The three lines.

    Args:
        findings: of the audit.
        profile: gives the ceilings.
        reading: by which the load is told; None where there is none yet.
        found: what holds the computer back by that reading.
        standing: what is changed already, so that it is not proposed again.
        room: the system's volume against its floor.
        signs: of the computer; where data may be lost, that comes before any other advice.
    """
    grave = "; ".join(f"{s.name} {s.says}" for s in signs if s.grave)
    left = [f for f in findings if f.ref not in standing]
    proposed = [f for f in left if f.stance in PROPOSED and f.can_choose]
    if reading is None or found is None:
        all_the_same = f"{counted(len(proposed), 'item')} can be eased or set all the same."
        last = f"First of all: {plain(grave, 300)}." if grave else all_the_same
        return Headline((f"Nothing is measured yet: {NO_READING}.", last))
    words, first = _what_first(left, proposed, found)
    if grave:
        words, first = f"First of all: {plain(grave, 300)}.", ""
    return Headline((found.in_words(), over_the_ceilings(profile, reading, room), words), first)


def over_the_ceilings(profile: Profile, reading: Reading, room: Room | None = None) -> str:
    """CPU and RAM against their ceilings, and free space against its floor."""
    over = [
        f"{name} is at {value:.0f} %, the ceiling is {ceiling:g} %"
        for name, value, ceiling in (
            ("RAM", reading.mean("ram_pct"), profile.ceilings.ram_pct),
            ("CPU", reading.mean("cpu_pct"), profile.ceilings.cpu_pct),
        )
        if value > ceiling
    ]
    if room is not None and room.is_short:
        over.append(f"{ram(room.free_bytes)} are free, {ram(room.floor_bytes)} should be")
    return f"{'; '.join(over)}." if over else "CPU and RAM are under their ceilings."


def _what_first(left: list[Finding], proposed: list[Finding], found: Bottleneck) -> tuple[str, str]:
    """(what to do first, the item it is about).

    A plan or a rule first where clock or disk hold the computer back, else the heaviest.
    """
    plans = [f for f in proposed if _is_plan(f)]
    heavy = _heaviest(f for f in left if not f.pile)
    if plans and (heavy is None or found.kind in {"clock", "disk"}):
        first = plans[0]
        return f"First: set {first.title} ({first.value} → {first.proposal}).", first.consumer
    if heavy is None:
        return _clutter_first(left)
    if heavy.stance == "ask":
        return f"First ask the owner about {heavy.title} ({_costs(heavy)}).", heavy.consumer
    return _ease_first(heavy, {f.consumer: f for f in left})


def _heaviest(findings: Iterable[Finding]) -> Finding | None:
    """The heaviest of what may be changed."""
    heavy = (f for f in findings if f.stance in MAY_CHANGE and f.weight.heft > 0)
    return max(heavy, key=lambda f: f.weight.heft, default=None)


def _clutter_first(left: list[Finding]) -> tuple[str, str]:
    """Where no load can be eased, space may."""
    heavy = _heaviest(f for f in left if f.pile)
    if heavy is None:
        return NOTHING_TO_GAIN, ""
    held = ram(known(heavy.weight.disk_bytes))
    if heavy.stance == "ask":
        return f"First ask the owner about {heavy.title} ({held} of the disk).", heavy.consumer
    if heavy.pile and heavy.pile.command:
        words = f"First: empty {heavy.title} ({held} of the disk) by {heavy.pile.command}."
        return words, heavy.consumer
    return f"First: set aside {heavy.title} ({held} of the disk).", heavy.consumer


def _ease_first(heavy: Finding, left: dict[str, Finding]) -> tuple[str, str]:
    """What is eased through what starts it is named with that."""
    starter = next((f for s in heavy.starters if (f := left.get(s)) and f.can_choose), None)
    if heavy.can_choose or starter is None:
        return f"First: {heavy.stance} {heavy.title} ({_costs(heavy)}).", heavy.consumer
    words = f"First: {starter.stance} {starter.title}, which starts {heavy.title}"
    return f"{words} ({_costs(heavy)}).", starter.consumer


def _costs(finding: Finding) -> str:
    """Memory and CPU of an item, as far as they were measured."""
    weight = finding.weight
    memory = "" if isinstance(weight.ram_bytes, NotMeasured) else ram(weight.ram_bytes)
    cpu = "" if isinstance(weight.cpu_pct, NotMeasured) else f"{percent(weight.cpu_pct)} of the CPU"
    return ", ".join(filter(None, (memory, cpu)))


def _is_plan(finding: Finding) -> bool:
    """Whether it has no load of its own, and decides about that of others."""
    return finding.area in {"power", "memory"} or finding.role == PREFETCH
