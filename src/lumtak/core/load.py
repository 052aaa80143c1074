"""Readings: what was sampled over a window, and how it settled."""

from typing import Literal

import msgspec

from lumtak.core.record import Figure, NotMeasured, Record

FORMAT = 1
SYSTEM = "system:rest"
"""The consumer of what no item owns: kernel, session, desktop."""


def consumer_name(key: str) -> str:
    """A consumer's name for people, where no item gives it a title."""
    return key.split(":", 1)[-1].removeprefix("process/")


class Memory(Record):
    """What a consumer holds in RAM (and swap), and how that was found out."""

    ram_bytes: float
    how: str
    """For example "proportional" or "resident minus shared"."""


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


class Sample(Record):
    """What happened between two instants. Percentages are of the whole computer, Lumtak's own cost left out."""

    t_s: float
    """Seconds since the reading began, at the end of the sample."""
    length_s: float
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
    own_pct: float
    consumers: dict[str, float]
    """CPU percentage a consumer; what adds up to less than cpu_pct is unattributed."""


class Conditions(Record):
    """Under what a reading was taken."""

    boot_id: str
    session_id: str | NotMeasured
    uptime_s: float
    since_login_s: Figure
    power_source: str
    power_plan: str | NotMeasured
    user: str


class ConsumerLoad(Record):
    """What one consumer cost over the settled part of a reading."""

    key: str
    cpu_pct: float
    cpu_se_pct: float
    """Standard error of the mean, from batch means."""
    ram_bytes: Figure
    ram_how: str = ""


Ended = Literal["complete", "stopped", "lost"]
"""Ran its full length; stopped by hand; the computer went away in the middle."""


class Reading(Record):
    """Samples in a window with their conditions; what `lumtak read` writes."""

    format: int = FORMAT
    computer: str
    identity: str
    taken_at: str
    """ISO 8601, UTC, when it began."""
    interval_s: float
    cores: int
    ram_total_bytes: int
    ended: Ended
    samples: tuple[Sample, ...]
    settled_from: int
    """Index of the first sample after the transient."""
    settled: bool
    """False: it was still settling when it ended, so its figures are doubtful."""
    consumers: tuple[ConsumerLoad, ...]
    conditions: Conditions
    late: int = 0
    """Samples that came more than half an interval late; their true length is in length_s."""

    @property
    def kept(self) -> tuple[Sample, ...]:
        """The samples after the transient."""
        return self.samples[self.settled_from :]

    def mean(self, column: str) -> float:
        """The mean of a numeric column over the settled samples, each weighed by its length."""
        length = sum(s.length_s for s in self.kept)
        return sum(float(getattr(s, column)) * s.length_s for s in self.kept) / length if length else 0.0

    def consumer(self, key: str) -> ConsumerLoad | None:
        """What this consumer cost, if it was seen."""
        return next((c for c in self.consumers if c.key == key), None)


COLUMNS = tuple(f for f in Sample.__struct_fields__ if f != "consumers")
"""The numeric columns of a sample, in the order of a CSV file."""


def between(first: Snapshot, second: Snapshot, start_s: float) -> Sample:
    """The sample between two snapshots of one computer.

    CPU load = 1 - (idle + iowait + steal) / all, as a share of the whole computer. Work = busy core-seconds per
    second times the mean clock ratio of both ends. Lumtak's own share is subtracted from both and reported beside.
    """
    length = max(second.at_s - first.at_s, 1e-9)
    total = max(second.total_s - first.total_s, 1e-9)
    own = max(0.0, second.own_cpu_s - first.own_cpu_s)
    busy = max(0.0, second.busy_s - first.busy_s - own)
    ratio_a, ratio_b = first.clock_ratio, second.clock_ratio
    work: Figure
    if isinstance(ratio_a, NotMeasured):
        work = ratio_a
    elif isinstance(ratio_b, NotMeasured):
        work = ratio_b
    else:
        work = busy / length * (ratio_a + ratio_b) / 2
    used = second.ram_used_bytes - second.own_ram_bytes
    return Sample(
        t_s=second.at_s - start_s,
        length_s=length,
        cpu_pct=100 * busy / total,
        iowait_pct=100 * max(0.0, second.iowait_s - first.iowait_s) / total,
        steal_pct=100 * max(0.0, second.steal_s - first.steal_s) / total,
        work=work,
        ram_used_bytes=used,
        ram_pct=100 * used / second.ram_total_bytes,
        cache_bytes=second.cache_bytes,
        swap_used_bytes=second.swap_used_bytes,
        swap_in_bytes=second.swap_in_bytes - first.swap_in_bytes,
        swap_out_bytes=second.swap_out_bytes - first.swap_out_bytes,
        own_pct=100 * own / total,
        consumers={
            key: 100 * delta / total
            for key, value in second.cpu_s.items()
            if (delta := value - first.cpu_s.get(key, value)) > 0
        },
    )


def settle(values: list[float], batch: int = 5) -> tuple[int, bool]:
    """Where the transient ends, and whether it did.

    MSER-5 (White 1997; White, Cobb and Spratt 2000): batch the series by five, and cut where the standard error of what
    remains is least, searching the first half only. A least value at the end of that search means that the series never
    settled. Fewer than four batches are too few to judge: nothing is cut, and the series counts as not settled.

    Returns:
        (index of the first sample kept, whether the series settled).
    """
    means = [sum(values[i : i + batch]) / batch for i in range(0, len(values) - batch + 1, batch)]
    if len(means) < 4:
        return 0, False
    scores = []
    for cut in range(len(means) // 2 + 1):
        rest = means[cut:]
        centre = sum(rest) / len(rest)
        scores.append(sum((m - centre) ** 2 for m in rest) / len(rest) ** 2)
    best = min(range(len(scores)), key=scores.__getitem__)
    return best * batch, best < len(scores) - 1


def batch_error(values: list[float], batches: int = 6) -> float:
    """Standard error of the mean of an autocorrelated series, from batch means.

    Fewer values than two a batch give the plain standard error, which is too small when values depend on each other.
    """
    if len(values) < 2:
        return 0.0
    size = len(values) // batches
    if size >= 2:
        values = [sum(values[i * size : (i + 1) * size]) / size for i in range(batches)]
    centre = sum(values) / len(values)
    return float((sum((v - centre) ** 2 for v in values) / (len(values) - 1) / len(values)) ** 0.5)


def assemble(
    *,
    computer: str,
    identity: str,
    taken_at: str,
    interval_s: float,
    snapshots: tuple[Snapshot, Snapshot],
    samples: list[Sample],
    ended: Ended,
    conditions: Conditions,
    late: int,
) -> Reading:
    """The reading from its samples and the snapshots (with memory) at both ends of the window."""
    cut, settled = settle([s.cpu_pct for s in samples])
    kept = samples[cut:]
    keys = {key for s in kept for key in s.consumers}
    for snapshot in snapshots:
        keys |= snapshot.memory.keys()
    return Reading(
        computer=computer,
        identity=identity,
        taken_at=taken_at,
        interval_s=interval_s,
        cores=snapshots[1].cores,
        ram_total_bytes=snapshots[1].ram_total_bytes,
        ended=ended,
        samples=tuple(samples),
        settled_from=cut,
        settled=settled,
        consumers=tuple(sorted((_cost(key, kept, snapshots) for key in keys), key=lambda c: (-c.cpu_pct, c.key))),
        conditions=conditions,
        late=late,
    )


def _cost(key: str, kept: list[Sample], ends: tuple[Snapshot, Snapshot]) -> ConsumerLoad:
    shares = [s.consumers.get(key, 0.0) for s in kept]
    seen = [m for snapshot in ends if (m := snapshot.memory.get(key)) is not None]
    memory: Figure = NotMeasured(not_measured="it was not running when the window began or ended")
    if seen:
        memory = seen[-1].ram_bytes if len(seen) == 1 else (seen[0].ram_bytes + seen[1].ram_bytes) / 2
    return ConsumerLoad(
        key=key,
        cpu_pct=sum(shares) / len(shares) if shares else 0.0,
        cpu_se_pct=batch_error(shares),
        ram_bytes=memory,
        ram_how=seen[-1].how if seen else "",
    )


def to_json(reading: Reading) -> bytes:
    """The reading as the versioned JSON of docs/FORMATS.md."""
    return msgspec.json.format(msgspec.json.encode(reading), indent=1) + b"\n"
