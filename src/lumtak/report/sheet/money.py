"""What no setting mends: what it would take, and the figure that says so."""

from lumtak.core.audit import Audit
from lumtak.core.bottleneck import memory_troubles
from lumtak.core.facts import Facts
from lumtak.core.reading import Reading
from lumtak.core.record import NotMeasured
from lumtak.core.units import GIB
from lumtak.report.content import Content
from lumtak.report.tongue import Tongue

_SIZES_GIB = (2, 4, 8, 16, 32, 64, 128)
_FULL_PCT, _HOT_C = 90.0, 90.0


def money(content: Content, tongue: Tongue) -> list[str]:
    """Sentences, what data may be lost by first."""
    facts = content.facts
    if facts is None:
        return []
    reading = content.after or content.before
    found = [*_failing(facts, content, tongue)]
    if reading is not None:
        found += [*_memory(content, reading, tongue), *_disk(content, reading, tongue)]
    found += _room(content, tongue)
    found += [*_battery(facts, tongue), *_heat(reading, tongue)]
    return found


def _failing(facts: Facts, content: Content, tongue: Tongue) -> list[str]:
    grave = any(s.grave for s in facts.signs)
    failing = any(r.of_kind("failing") for r in content.upkeep)
    if not grave and not failing:
        return []
    return [
        tongue.say(
            "A new disk, before anything else: this one reports faults. Save your files now."
        )
    ]


def _memory(content: Content, reading: Reading, tongue: Tongue) -> list[str]:
    """More memory, where what is left in use is over the ceiling and hurts."""
    used, total = reading.mean("ram_used_bytes"), reading.ram_total_bytes
    share = content.profile.ceilings.ram_pct / 100
    hurts = bool(memory_troubles(reading)) or reading.mean("ram_pct") > _FULL_PCT
    if used <= share * total or not hurts:
        return []
    wanted = used / share / GIB
    size = next((s for s in _SIZES_GIB if s >= wanted), None)
    if size is None:
        return []
    return [
        tongue.say(
            "More memory: {size} GiB instead of {now}. {used} of it are in use while nobody works,"
            " and no setting changes that.",
            size=tongue.number(size),
            now=tongue.size(total),
            used=tongue.size(used),
        )
    ]


def _disk(content: Content, reading: Reading, tongue: Tongue) -> list[str]:
    """A solid-state disk, where a spinning one holds the computer back."""
    limit = content.limits[-1] if content.limits else None
    spinning = content.facts is not None and content.facts.hardware.disk == "spinning"
    if limit is None or limit.kind != "disk" or not spinning:
        return []
    return [
        tongue.say(
            "A solid-state disk instead of the spinning one: the processor still waits for the disk"
            " {share} of the time, and no setting changes that.",
            share=tongue.percent(reading.mean("iowait_pct")),
        )
    ]


def _room(content: Content, tongue: Tongue) -> list[str]:
    """A larger disk, where all that may go would not bring enough."""
    audit: Audit | None = content.audit
    room = audit.room if audit is not None else None
    if room is None or not room.is_short:
        return []
    can = room.free_bytes + room.held_bytes + room.aside_bytes + room.tool_bytes
    if can >= room.floor_bytes:
        return []
    return [
        tongue.say(
            "A larger disk, or fewer files on it: {free} of {total} are free, and with all that"
            " may go it would be {can}; {floor} should be.",
            free=tongue.size(room.free_bytes),
            total=tongue.size(room.total_bytes),
            can=tongue.size(can),
            floor=tongue.size(room.floor_bytes),
        )
    ]


def _battery(facts: Facts, tongue: Tongue) -> list[str]:
    worn = [s.worn_pct for s in facts.signs if s.worn_pct is not None]
    return [
        tongue.say(
            "A new battery: this one holds only {share} of what it held when it was new.",
            share=tongue.percent(share),
        )
        for share in worn
    ]


def _heat(reading: Reading | None, tongue: Tongue) -> list[str]:
    celsius = NotMeasured(not_measured="") if reading is None else reading.conditions.temperature_c
    if isinstance(celsius, NotMeasured) or celsius < _HOT_C:
        return []
    return [
        tongue.say(
            "Cleaning of the fan: at {celsius} °C the processor slows itself down.",
            celsius=tongue.number(celsius),
        )
    ]
