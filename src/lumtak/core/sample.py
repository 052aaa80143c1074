"""Samples: what happened on a computer between two instants, from its counters."""

from collections.abc import Sequence
from typing import Literal

from lumtak.core.means import weighed
from lumtak.core.record import Figure, NotMeasured, Positive, Record

Resource = Literal["cpu", "memory", "io"]
SYSTEM = "system:rest"
"""The consumer of what no item owns: kernel, session, desktop."""
LUMTAK = "system:lumtak"
"""What Lumtak itself starts, and the shell and terminal that it was started from, where nothing
else accounts for those."""
_NAMES = {LUMTAK: "Lumtak's helpers, and the shell it runs in"}


def consumer_name(key: str) -> str:
    """A consumer's name for people, where no item gives it a title."""
    return _NAMES.get(key) or key.split(":", 1)[-1].removeprefix("process/")


def is_system(consumer: str) -> bool:
    """Whether a consumer stands for the system itself."""
    return consumer.startswith("system:")


class Memory(Record):
    """What a consumer holds in RAM (and swap), and how that was found out."""

    ram_bytes: float
    how: str
    """For a person: "proportional", "resident minus shared"."""
    shared_split: bool = True
    """Whether memory that programs share was divided among them; else it was left out."""


class Snapshot(Record):
    """Counters and gauges of a computer at one instant; a sample is the difference of two."""

    at_s: float
    """On the computer's monotonic clock."""
    cores: int
    busy_s: float
    """Core-seconds not idle, not waiting for I/O, not stolen, since some fixed instant."""
    iowait_s: float
    steal_s: float
    total_s: float
    """Core-seconds of every kind."""
    clock_ratio: Figure
    """The clock against nominal, as a mean over the cores."""
    disk_busy_s: Figure
    """For how long the system's disk had something to do, since some fixed instant."""
    stalled_s: dict[Resource, Figure]
    """For how long at least one task waited for a resource (pressure stall information, "some"),
    since some fixed instant."""
    ram_total_bytes: int
    ram_used_bytes: float
    """Total minus available."""
    cache_bytes: float
    """Available minus free: given back when asked for, so it is not load."""
    swap_used_bytes: float
    swap_in_bytes: float
    """Since some fixed instant."""
    swap_out_bytes: float
    cpu_s: dict[str, float]
    """Core-seconds a consumer, since some fixed instant; never falls."""
    memory: dict[str, Memory] = {}
    """A consumer's memory; empty when it was not asked for."""
    own_cpu_s: float = 0.0
    """Lumtak's own core-seconds, included in busy_s."""
    own_ram_bytes: float = 0.0
    """Lumtak's own memory, included in ram_used_bytes."""
    own_disk_s: float = 0.0
    """For how long the disk had to do with what Lumtak tried, included in disk_busy_s, iowait_s and
    stalled_s."""


class Sample(Record):
    """What happened between two instants.

    Percentages are of the whole computer, Lumtak's own cost left out.
    """

    t_s: float
    """Seconds since the reading began, at the end of the sample."""
    length_s: Positive
    cpu_pct: float
    iowait_pct: float
    steal_pct: float
    work: Figure
    """Busy core-seconds per second at the nominal clock: what a power plan cannot fake."""
    ram_used_bytes: float
    ram_pct: float
    cache_bytes: float
    swap_used_bytes: float
    swap_in_bytes: float
    swap_out_bytes: float
    clock_ratio: Figure
    disk_busy_pct: Figure
    """Share of the time for which the system's disk had something to do."""
    pressure_cpu_pct: Figure
    """Share of the time for which at least one task waited for a processor."""
    pressure_memory_pct: Figure
    pressure_io_pct: Figure
    own_pct: float
    consumers: dict[str, float]
    """CPU percentage a consumer; what adds up to less than cpu_pct is unattributed."""


def series_of(samples: Sequence[Sample], column: str) -> list[float]:
    """A numeric column of samples; see `Reading.series`."""
    return weighed([float(getattr(s, column)) for s in samples], [s.length_s for s in samples])


COLUMNS = tuple(f for f in Sample.__struct_fields__ if f != "consumers")
"""The numeric columns of a sample, in the order of a CSV file."""


def between(first: Snapshot, second: Snapshot, start_s: float) -> Sample:
    """The sample between two snapshots of one computer.

    CPU load = 1 - (idle + iowait + steal) / all, as a share of the whole computer. Work = busy
    core-seconds per second times the mean clock ratio of both ends. Lumtak's own share is
    subtracted from both and reported beside.
    """
    # A clock that stands still between two looks must not divide by zero.
    length = max(second.at_s - first.at_s, 1e-9)
    total = max(second.total_s - first.total_s, 1e-9)
    own = max(0.0, second.own_cpu_s - first.own_cpu_s)
    # Counters of processes that ended meanwhile can make the difference negative.
    busy = max(0.0, second.busy_s - first.busy_s - own)
    ratio_a, ratio_b = first.clock_ratio, second.clock_ratio
    ratio: Figure
    if isinstance(ratio_a, NotMeasured):
        ratio = ratio_a
    else:
        ratio = ratio_b if isinstance(ratio_b, NotMeasured) else (ratio_a + ratio_b) / 2
    own_disk = max(0.0, second.own_disk_s - first.own_disk_s)
    used = second.ram_used_bytes - second.own_ram_bytes
    return Sample(
        t_s=second.at_s - start_s,
        length_s=length,
        cpu_pct=100 * busy / total,
        iowait_pct=100 * max(0.0, second.iowait_s - first.iowait_s - own_disk) / total,
        steal_pct=100 * max(0.0, second.steal_s - first.steal_s) / total,
        work=ratio if isinstance(ratio, NotMeasured) else busy / length * ratio,
        ram_used_bytes=used,
        ram_pct=100 * used / second.ram_total_bytes,
        cache_bytes=second.cache_bytes,
        swap_used_bytes=second.swap_used_bytes,
        swap_in_bytes=second.swap_in_bytes - first.swap_in_bytes,
        swap_out_bytes=second.swap_out_bytes - first.swap_out_bytes,
        clock_ratio=ratio,
        disk_busy_pct=_share(first.disk_busy_s, second.disk_busy_s, length, own_disk),
        pressure_cpu_pct=_share(first.stalled_s["cpu"], second.stalled_s["cpu"], length),
        pressure_memory_pct=_share(first.stalled_s["memory"], second.stalled_s["memory"], length),
        pressure_io_pct=_share(first.stalled_s["io"], second.stalled_s["io"], length, own_disk),
        own_pct=100 * own / total,
        consumers={
            key: 100 * delta / total
            for key, value in second.cpu_s.items()
            # Who was not there at first has begun in between: what it used before that is not
            # known.
            if (delta := value - first.cpu_s.get(key, value)) > 0
        },
    )


def _share(first: Figure, second: Figure, length: float, own: float = 0.0) -> Figure:
    """A counter of seconds as a percentage of the time, as far as it is known; without `own`."""
    if isinstance(first, NotMeasured) or isinstance(second, NotMeasured):
        return second if isinstance(second, NotMeasured) else first
    return min(100.0, 100 * max(0.0, second - first - own) / length)
