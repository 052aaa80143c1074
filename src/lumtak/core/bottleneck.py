"""What holds a computer back.

Memory, disk, clock, processor or nothing, with the figures that say so.
"""

from typing import Literal

from lumtak.core.facts import Facts
from lumtak.core.floor import room_of
from lumtak.core.profile import Profile
from lumtak.core.reading import Reading
from lumtak.core.record import NotMeasured, Record
from lumtak.core.units import GIB, MIB, ram, took

Limit = Literal["memory", "disk", "clock", "processor", "nothing"]

_SWAP_MIB_S = 1.0
_STALLED_PCT = 5.0
_FULL_PCT = 90.0
_DISK_BUSY_PCT = 35.0
_IOWAIT_PCT = 10.0
_SLOW_READ_S = 0.005
"""A program's start reads a hundred times and more: half a second and more of waiting."""
_SLOW_CLOCK = 0.75
_MOST_GIB = 1e6
_STEPS_GIB = (2, 4, 8, 16, 32, 64, 128)


class Bottleneck(Record):
    """The one thing that holds it back."""

    kind: Limit
    figures: tuple[str, ...]
    """What says so."""
    not_by_settings: str = ""
    """A sentence about what no setting will fix, and what would; empty where settings may do."""

    by_ceiling: bool = False
    """Whether nothing says so but a ceiling that is not kept, which is told by itself."""

    def in_words(self) -> str:
        """A sentence for a headline."""
        if self.kind == "nothing":
            return "Nothing holds this computer back at idle."
        figures = "" if self.by_ceiling else f" ({', '.join(self.figures)})"
        return f"The {self.kind} holds this computer back{figures}."


def find_bottleneck(
    facts: Facts,
    profile: Profile,
    reading: Reading,
    eased: tuple[float, float] | None,
    read_s: float | None = None,
) -> Bottleneck:
    """The first of memory, disk, clock, processor whose figures are beyond what an idle computer
    shows.

    Args:
        facts: of the computer.
        profile: gives the ceilings and the space that is to be free.
        reading: at idle.
        eased: (CPU percentage points, bytes of RAM) that all eased changes would save together;
            None where nobody asks what would be left then.
        read_s: how long one read from the disk takes, where what people wait for counts too.
    """
    memory, disk = _memory(reading), _disk(facts, reading, read_s)
    lasting = "" if eased is None else _lasting(facts, profile, reading, eased)
    if memory:
        return Bottleneck(kind="memory", figures=memory, not_by_settings=lasting)
    if disk:
        return Bottleneck(
            kind="disk", figures=disk, not_by_settings=f"{_disk_hardware(facts)} {lasting}".strip()
        )
    cpu = reading.mean("cpu_pct")
    clock = _mean(reading, "clock_ratio")
    if (
        clock is not None
        and clock < _SLOW_CLOCK
        and cpu > profile.ceilings.cpu_pct
        and _held_down(facts, profile)
    ):
        figures = (
            f"the clock is at {100 * clock:.0f} % of its nominal rate",
            f"CPU load {cpu:.0f} %",
        )
        return Bottleneck(
            kind="clock", figures=figures, not_by_settings=f"{_heat(facts)} {lasting}".strip()
        )
    if cpu > profile.ceilings.cpu_pct:
        figure = f"CPU load {cpu:.0f} % where {profile.ceilings.cpu_pct:g} % is the ceiling"
        return Bottleneck(
            kind="processor", figures=(figure,), not_by_settings=lasting, by_ceiling=True
        )
    if reading.mean("ram_pct") > profile.ceilings.ram_pct:
        figure = (
            f"{reading.mean('ram_pct'):.0f} % of the RAM in use where {profile.ceilings.ram_pct:g}"
            " % is the ceiling"
        )
        return Bottleneck(
            kind="memory", figures=(figure,), not_by_settings=lasting, by_ceiling=True
        )
    return Bottleneck(kind="nothing", figures=(), not_by_settings=lasting)


def _mean(reading: Reading, column: str) -> float | None:
    figure = reading.figure(column)
    return None if isinstance(figure, NotMeasured) else figure


def memory_troubles(reading: Reading) -> tuple[str, ...]:
    """What says that memory is short, other than how full it is."""
    seconds = sum(s.length_s for s in reading.kept) or 1.0
    swap = sum(s.swap_in_bytes + s.swap_out_bytes for s in reading.kept) / seconds / MIB
    stalled = _mean(reading, "pressure_memory_pct")
    figures = []
    if swap > _SWAP_MIB_S:
        figures.append(f"{swap:.0f} MiB/s go to swap and back")
    if stalled is not None and stalled > _STALLED_PCT:
        figures.append(f"programs wait for memory {stalled:.0f} % of the time")
    return tuple(figures)


def _memory(reading: Reading) -> tuple[str, ...]:
    used = reading.mean("ram_pct")
    full = (f"{used:.0f} % of the RAM is in use",) if used > _FULL_PCT else ()
    return memory_troubles(reading) + full


def _disk(facts: Facts, reading: Reading, read_s: float | None) -> tuple[str, ...]:
    busy, wait = _mean(reading, "disk_busy_pct"), reading.mean("iowait_pct")
    figures = []
    if read_s is not None and read_s > _SLOW_READ_S:
        figures.append(f"one read from it takes {took(read_s)}")
    if busy is not None and busy > _DISK_BUSY_PCT:
        figures.append(f"the disk is busy {busy:.0f} % of the time")
    if wait > _IOWAIT_PCT:
        figures.append(f"processors wait for it {wait:.0f} % of the time")
    if figures and facts.hardware.disk == "spinning":
        figures.append("it is a spinning one")
    return tuple(figures)


def _held_down(facts: Facts, profile: Profile) -> bool:
    """Whether something holds the clock down.

    Heat, or a plan other than the one the profile wants.
    """
    system = facts.system
    wanted = profile.power.battery if system.power_source == "battery" else profile.power.mains
    return bool(_heat(facts)) or (wanted is not None and system.power_plan != wanted)


def _heat(facts: Facts) -> str:
    celsius = facts.system.temperature_c
    if isinstance(celsius, NotMeasured) or celsius < 90:
        return ""
    return (
        f"Settings will not fix this: at {celsius:.0f} °C the processor slows itself down; clean"
        " the fans and renew the paste."
    )


def _disk_hardware(facts: Facts) -> str:
    if facts.hardware.disk != "spinning":
        return ""
    return (
        "Settings will not fix this for good: a solid-state disk in place of the spinning one"
        " would."
    )


def _lasting(facts: Facts, profile: Profile, reading: Reading, eased: tuple[float, float]) -> str:
    """What stays wrong when everything that may be eased is eased."""
    parts = []
    left = reading.mean("ram_used_bytes") - eased[1]
    allowed = profile.ceilings.ram_pct / 100 * reading.ram_total_bytes
    if left > allowed:
        # A ceiling of next to nothing asks for more memory than there is a number for.
        wanted = min(left / (profile.ceilings.ram_pct / 100) / GIB, _MOST_GIB)
        size = next((s for s in _STEPS_GIB if s >= wanted), round(wanted))
        parts.append(
            f"Settings will not fix this: with everything eased {ram(left)} stay in use, and"
            f" {ram(allowed)} is the ceiling of {ram(reading.ram_total_bytes)}; {size} GiB of RAM"
            " would."
        )
    room = room_of(facts, profile)
    if room is not None and room.is_short:
        parts.append(room.in_words())
    return " ".join(parts)
