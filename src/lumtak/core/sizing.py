"""Memory as its sum, the size of swap by three rules, and what emptying the cache would do."""

from typing import Literal

from lumtak.core.facts import Facts
from lumtak.core.reading import Reading
from lumtak.core.record import NotMeasured, Record
from lumtak.core.units import MIB, ram

_MARGIN = 1.25
_SPACE_KEPT = 0.10
Rule = Literal["shop", "hibernation", "measured"]


class MemoryPart(Record):
    """A part of the memory; the parts sum to the total."""

    name: str
    size_bytes: float
    note: str = ""


class SwapSize(Record):
    """One rule's answer."""

    rule: Rule
    mib: tuple[int, int] | NotMeasured
    """(initial, most), or why the rule has no answer here."""
    arithmetic: str
    bounded: str = ""
    """How free space bounds it; empty when it does not."""


def memory_parts(facts: Facts, reading: Reading) -> tuple[MemoryPart, ...]:
    """Programs, shared memory, unattributed, cache and free, from the reading's means.

    They sum to the total.
    """
    total = float(reading.ram_total_bytes)
    used, cache = reading.mean("ram_used_bytes"), reading.mean("cache_bytes")
    counted = sum(
        c.ram_bytes for c in reading.consumers if not isinstance(c.ram_bytes, NotMeasured)
    )
    counted = min(counted, used)
    shared = facts.memory.shared_bytes
    rest = used - counted
    common = min(rest, shared) if not isinstance(shared, NotMeasured) else 0.0
    parts = [
        MemoryPart(
            name="programs and services",
            size_bytes=counted,
            note="what each holds alone, as the ledger shows it",
        )
    ]
    if not isinstance(shared, NotMeasured):
        parts.append(
            MemoryPart(
                name="shared",
                size_bytes=common,
                note="held by several at once, and files kept in memory",
            )
        )
    parts += [
        MemoryPart(
            name="unattributed",
            size_bytes=rest - common,
            note="the kernel, and what could not be told apart",
        ),
        MemoryPart(
            name="cache", size_bytes=cache, note="no load: given back as soon as a program asks"
        ),
        MemoryPart(name="free", size_bytes=max(0.0, total - used - cache)),
    ]
    return tuple(parts)


def swap_sizes(facts: Facts, reading: Reading | None) -> tuple[SwapSize, ...]:
    """Three rules side by side.

    The shop's (1.5 and 3 times the RAM), for hibernation, and from the most that was promised.
    """
    ram_mib = round(facts.hardware.ram_bytes / MIB)
    free = facts.space.free_bytes
    free_mib = None if isinstance(free, NotMeasured) else int(free / MIB * (1 - _SPACE_KEPT))
    memory = facts.memory
    now_mib = round(memory.swap_total_bytes / MIB)
    room = None if free_mib is None else free_mib + now_mib
    shop = _bounded(
        "shop",
        (round(1.5 * ram_mib), 3 * ram_mib),
        f"1.5 × {ram_mib} MiB and 3 × {ram_mib} MiB",
        room,
    )
    if not memory.hibernates:
        hibernation = SwapSize(
            rule="hibernation",
            mib=NotMeasured(not_measured="this computer does not hibernate"),
            arithmetic="not needed where the memory is never saved to disk",
        )
    else:
        hibernation = _bounded(
            "hibernation", (ram_mib, ram_mib), f"the whole RAM, {ram_mib} MiB, must fit", room
        )
    return shop, hibernation, _measured(facts, reading, ram_mib, room)


def _measured(facts: Facts, reading: Reading | None, ram_mib: int, room: int | None) -> SwapSize:
    peak: float | None = None
    source = "the most that was promised to programs"
    if not isinstance(facts.memory.commit_peak_bytes, NotMeasured):
        peak = facts.memory.commit_peak_bytes / MIB
    elif reading is not None:
        peak = max((s.ram_used_bytes + s.swap_used_bytes for s in reading.kept), default=0.0) / MIB
        source = "the most in use in the reading, swap included"
    if peak is None:
        missing = NotMeasured(not_measured="no reading was taken; take a baseline first")
        return SwapSize(rule="measured", mib=missing, arithmetic="peak × 1.25 − RAM")
    need = max(0, round(peak * _MARGIN) - ram_mib)
    arithmetic = (
        f"{source}, {peak:.0f} MiB × {_MARGIN:g} = {peak * _MARGIN:.0f} MiB, minus {ram_mib}"
        " MiB RAM"
    )
    return _bounded("measured", (need, need), arithmetic, room)


def _bounded(rule: Rule, mib: tuple[int, int], arithmetic: str, room: int | None) -> SwapSize:
    if room is None or mib[1] <= room:
        return SwapSize(rule=rule, mib=mib, arithmetic=arithmetic)
    bound = (
        f"only {room} MiB of the volume can be given ({100 * _SPACE_KEPT:.0f} % of what is free"
        " stays free)"
    )
    return SwapSize(rule=rule, mib=(min(mib[0], room), room), arithmetic=arithmetic, bounded=bound)


def emptying_the_cache(reading: Reading) -> str:
    """What emptying the cache would do on this computer."""
    cache = reading.mean("cache_bytes")
    return (
        f"{ram(cache)} of cache would turn into free memory, and the load would be the same: a"
        " program that asks for memory gets it from the cache at once. What was in it is read from"
        " the disk again, so everything is slower until it has refilled."
    )
