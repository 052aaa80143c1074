"""A quick look: what weighs now, without a profile and without a job."""

from typing import NamedTuple

from lumtak.core.facts import Facts
from lumtak.core.means import half_width
from lumtak.core.reading import ConsumerLoad, Reading
from lumtak.core.record import Figure, NotMeasured, Record, known
from lumtak.core.sample import consumer_name
from lumtak.core.text import plain
from lumtak.core.units import percent, ram

_HEAVIEST = 8


class Look(Record):
    """What was seen."""

    format: int = 1
    computer: str
    seconds: float
    cpu_pct: float
    cpu_doubt_pct: float
    """Half the 95 % interval of the mean, from batch means."""
    iowait_pct: float
    ram_used_bytes: float
    ram_total_bytes: int
    cache_bytes: float
    swap_used_bytes: float
    own_pct: float
    pressure_memory_pct: Figure
    services: tuple[ConsumerLoad, ...]
    """Heaviest first."""
    apps: tuple[ConsumerLoad, ...]
    unattributed_cpu_pct: float
    unattributed_ram_bytes: float
    titles: dict[str, str]
    limits: tuple[str, ...]
    """What these figures cannot say, a sentence each."""


def quick_look(facts: Facts, reading: Reading) -> Look:
    """The heaviest services and apps of a short reading."""
    total = reading.ram_total_bytes

    def heavy(prefix: str) -> tuple[ConsumerLoad, ...]:
        mine = [c for c in reading.consumers if c.key.startswith(prefix)]
        mine.sort(key=lambda c: -(c.cpu_pct + 100 * known(c.ram_bytes) / total))
        return tuple(mine[:_HEAVIEST])

    pressure = reading.samples[-1].pressure_memory_pct
    cpu, memory = reading.unattributed()
    return Look(
        computer=facts.address,
        seconds=sum(s.length_s for s in reading.samples),
        cpu_pct=reading.mean("cpu_pct"),
        cpu_doubt_pct=half_width(reading.series("cpu_pct")),
        iowait_pct=reading.mean("iowait_pct"),
        ram_used_bytes=reading.mean("ram_used_bytes"),
        ram_total_bytes=total,
        cache_bytes=reading.mean("cache_bytes"),
        swap_used_bytes=reading.mean("swap_used_bytes"),
        own_pct=reading.mean("own_pct"),
        pressure_memory_pct=(
            pressure if isinstance(pressure, NotMeasured) else reading.mean("pressure_memory_pct")
        ),
        services=heavy("services:"),
        apps=heavy("apps:"),
        unattributed_cpu_pct=cpu,
        unattributed_ram_bytes=memory,
        titles={i.consumer: i.title for i in facts.items},
        limits=_limits(facts, reading),
    )


def _limits(facts: Facts, reading: Reading) -> tuple[str, ...]:
    limits = ["Whether any of it is needed: that takes a workload profile (lumtak audit)."]
    if not reading.settled:
        limits.append(
            "What the load is at idle: it had not settled, or the look was too short to tell."
        )
    uptime = reading.conditions.uptime_s
    if uptime < 300:
        limits.append(f"What it is like in an hour: it was started {uptime:.0f} s ago.")
    limits += [
        f"Anything about {g.area}: {g.reason}."
        for g in facts.gaps
        if g.area in {"services", "apps"}
    ]
    if not all(c.ram_shared_split for c in reading.consumers):
        limits.append(
            "How memory that programs share is split: that may be read of one's own processes only;"
            " root sees all."
        )
    return tuple(limits)


class Row(NamedTuple):
    """One line of a quick look."""

    words: str
    is_head: bool = False


def look_in_words(found: Look) -> list[Row]:
    """Lines for a person."""
    lines = [
        (
            f"CPU    {percent(found.cpu_pct)} ± {found.cpu_doubt_pct:.1f} busy,"
            f" {percent(found.iowait_pct)} waiting for the disk"
        ),
        (
            f"RAM    {ram(found.ram_used_bytes)} of {ram(found.ram_total_bytes)} in use, swap"
            f" {ram(found.swap_used_bytes)}"
        ),
        (
            f"cache  {ram(found.cache_bytes)}, which is no load: it is given back when something"
            " asks for it"
        ),
        f"over {found.seconds:.0f} s; Lumtak itself took {percent(found.own_pct)}, left out",
    ]
    rows = [Row(line) for line in lines]
    for name, consumers in (("Heaviest services", found.services), ("Heaviest apps", found.apps)):
        seen = [f"  {_row(c, found.titles)}" for c in consumers] or ["  none seen"]
        rows += [Row(""), Row(name, is_head=True), *map(Row, seen)]
    rest = (
        f"{percent(found.unattributed_cpu_pct)} of the CPU and {ram(found.unattributed_ram_bytes)}"
    )
    rows += [
        Row(""),
        Row(f"Unattributed: {rest}"),
        Row(""),
        Row("What this cannot say", is_head=True),
    ]
    return rows + [Row(f"  {limit}") for limit in found.limits]


def _row(cost: ConsumerLoad, titles: dict[str, str]) -> str:
    memory = "not known" if isinstance(cost.ram_bytes, NotMeasured) else ram(cost.ram_bytes)
    return (
        f"{memory:>9}  {percent(cost.cpu_pct):>7} "
        f" {plain(titles.get(cost.key, consumer_name(cost.key)), 60)}"
    )
