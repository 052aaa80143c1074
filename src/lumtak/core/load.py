"""Readings: what was sampled over a window, and how it settled."""

from collections.abc import Sequence
from typing import Annotated, Literal

import msgspec

from lumtak.core.means import mean, standard_error, weighed
from lumtak.core.record import (
    AtLeastOne,
    Figure,
    NotMeasured,
    Positive,
    Record,
    json_document,
    known,
)

FORMAT = 1
_GATE, _TAIL = 6.0, 10
_ROUNDING_S = 1e-6
_START_S, RECENT_S = 30.0, 300.0
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


class Conditions(Record):
    """Under what a reading was taken."""

    boot_id: str
    session_id: str | NotMeasured
    uptime_s: float
    since_login_s: Figure
    power_source: str
    power_plan: str | NotMeasured
    user: str
    users: tuple[str, ...] | NotMeasured
    """Everybody who is logged in."""
    temperature_c: Figure
    """The hottest sensor."""


class ConsumerLoad(Record):
    """What one consumer cost over the settled part of a reading."""

    key: str
    cpu_pct: float
    cpu_se_pct: float
    """Standard error of the mean: the larger of two ways; see `core.means`."""
    ram_bytes: Figure
    ram_how: str = ""
    """For a person."""
    ram_shared_split: bool = True
    """Whether memory that programs share was divided among them; else it was left out."""


Ended = Literal["complete", "precise", "stopped", "lost"]
"""Ran its full length; ended once the means were sure enough; stopped by hand; the computer went
away in the middle."""


class Reading(Record):
    """Samples in a window with their conditions; what `lumtak read` writes."""

    format: int = FORMAT
    computer: str
    identity: str
    taken_at: str
    """ISO 8601, UTC, when it began."""
    interval_s: Positive
    cores: AtLeastOne
    ram_total_bytes: AtLeastOne
    ended: Ended
    samples: Annotated[tuple[Sample, ...], msgspec.Meta(min_length=1)]
    settled_from: Annotated[int, msgspec.Meta(ge=0)]
    """Index of the first sample after the transient."""
    settled: bool
    """False: it was still settling when it ended, so its figures are doubtful."""
    consumers: tuple[ConsumerLoad, ...]
    conditions: Conditions
    late: int = 0
    """Samples that came more than half an interval late; their true length is in length_s."""
    missed: int = 0
    """Samples that were due while an earlier one was late: not taken, and not made up."""
    times: dict[str, Figure] = {}
    """Seconds by name: parts of the start that came before, the login, and how quickly the computer
    answered at the end."""

    @property
    def kept(self) -> tuple[Sample, ...]:
        """The samples after the transient; the last one where there are no others."""
        return self.samples[min(self.settled_from, len(self.samples) - 1) :]

    def mean(self, column: str) -> float:
        """The mean of a numeric column over the settled samples, each weighed by its length."""
        kept = self.kept
        return mean([float(getattr(s, column)) for s in kept], [s.length_s for s in kept])

    def figure(self, column: str) -> Figure:
        """The same, or why there is none, where a sample says so."""
        missing = next(
            (v for s in self.kept if isinstance(v := getattr(s, column), NotMeasured)), None
        )
        return self.mean(column) if missing is None else missing

    def series(self, column: str) -> list[float]:
        """A numeric column over the settled samples, for statistics.

        Its plain mean is the mean over time; see `means.weighed`.
        """
        return series_of(self.kept, column)

    def unattributed(self) -> tuple[float, float]:
        """(CPU percentage, RAM in bytes) that no consumer accounts for.

        Parts and this sum to the whole.
        """
        cpu = self.mean("cpu_pct") - sum(c.cpu_pct for c in self.consumers)
        return cpu, self.mean("ram_used_bytes") - sum(known(c.ram_bytes) for c in self.consumers)

    def consumer(self, key: str) -> ConsumerLoad | None:
        """What this consumer cost, if it was seen."""
        return next((c for c in self.consumers if c.key == key), None)


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
    length = max(second.at_s - first.at_s, 1e-9)
    total = max(second.total_s - first.total_s, 1e-9)
    own = max(0.0, second.own_cpu_s - first.own_cpu_s)
    busy = max(0.0, second.busy_s - first.busy_s - own)
    ratio_a, ratio_b = first.clock_ratio, second.clock_ratio
    ratio: Figure
    if isinstance(ratio_a, NotMeasured):
        ratio = ratio_a
    else:
        ratio = ratio_b if isinstance(ratio_b, NotMeasured) else (ratio_a + ratio_b) / 2
    used = second.ram_used_bytes - second.own_ram_bytes
    return Sample(
        t_s=second.at_s - start_s,
        length_s=length,
        cpu_pct=100 * busy / total,
        iowait_pct=100 * max(0.0, second.iowait_s - first.iowait_s) / total,
        steal_pct=100 * max(0.0, second.steal_s - first.steal_s) / total,
        work=ratio if isinstance(ratio, NotMeasured) else busy / length * ratio,
        ram_used_bytes=used,
        ram_pct=100 * used / second.ram_total_bytes,
        cache_bytes=second.cache_bytes,
        swap_used_bytes=second.swap_used_bytes,
        swap_in_bytes=second.swap_in_bytes - first.swap_in_bytes,
        swap_out_bytes=second.swap_out_bytes - first.swap_out_bytes,
        clock_ratio=ratio,
        disk_busy_pct=_share(first.disk_busy_s, second.disk_busy_s, length),
        pressure_cpu_pct=_share(first.stalled_s["cpu"], second.stalled_s["cpu"], length),
        pressure_memory_pct=_share(first.stalled_s["memory"], second.stalled_s["memory"], length),
        pressure_io_pct=_share(first.stalled_s["io"], second.stalled_s["io"], length),
        own_pct=100 * own / total,
        consumers={
            key: 100 * delta / total
            for key, value in second.cpu_s.items()
            if (delta := value - first.cpu_s.get(key, value)) > 0
        },
    )


def _share(first: Figure, second: Figure, length: float) -> Figure:
    """A counter of seconds as a percentage of the time, as far as it is known."""
    if isinstance(first, NotMeasured) or isinstance(second, NotMeasured):
        return second if isinstance(second, NotMeasured) else first
    return min(100.0, 100 * max(0.0, second - first) / length)


def settle(values: list[float], skip: int = 0, batch: int = 5) -> tuple[int, bool]:
    """Where the transient ends, and whether it did.

    MSER-5 (White 1997; White, Cobb and Spratt 2000): batch the series by five, and find the cut
    where the standard error of what remains is least, searching the first half only. On a series
    without a transient that rule still cuts, and makes what is left look steadier than it is. So
    nothing is cut unless the mean of what would go is more than six standard errors away from the
    rest, and then half as much again goes too (ten samples at least), for the tail of the
    transient; both were set by calibration. When the best cut is at the end of the search, and
    again so in what remains, the series never settled. Fewer than four batches are too few to
    judge: nothing is cut, and the series counts as not settled.

    Args:
        values: in order.
        skip: so many go in any case, because a transient is known to be there.
        batch: values a batch.

    Returns:
        (index of the first sample kept, at most half-way; whether the series settled).
    """
    skip = min(skip, len(values) // 2)
    best, last = _mser_cut(values[skip:], batch)
    if last == 0:
        return skip, False
    start = skip + best
    again, end = _mser_cut(values[start:], batch) if best == last else (0, 1)
    settled = again != end
    if best == 0 or not _stands_out(values[skip:start], values[start:]):
        return skip, settled
    return min(start + max(_TAIL, best // 2), len(values) // 2), settled


def skip_after_start(samples: list[Sample], conditions: Conditions) -> int:
    """How many samples go in any case.

    Those of the first half minute when a start or login was less than five minutes ago.
    """
    since = min(conditions.uptime_s, known(conditions.since_login_s, otherwise=conditions.uptime_s))
    return sum(s.t_s <= _START_S for s in samples) if since < RECENT_S else 0


def _mser_cut(values: list[float], batch: int) -> tuple[int, int]:
    """(best cut, last cut that was looked at), both in values.

    (0, 0) when there are fewer than four batches.
    """
    means = [sum(values[i : i + batch]) / batch for i in range(0, len(values) - batch + 1, batch)]
    if len(means) < 4:
        return 0, 0
    scores = _mser_scores(means)
    return min(range(len(scores)), key=scores.__getitem__) * batch, (len(scores) - 1) * batch


def _mser_scores(means: list[float]) -> list[float]:
    """The squared standard error of what remains after cutting 0, 1, 2, ...

    Batches, up to half; one pass from the end.
    """
    middle = sum(means) / len(means)
    total = squares = 0.0
    scores = []
    for count, value in enumerate(reversed(means), start=1):
        total += value - middle
        squares += (value - middle) ** 2
        if len(means) - count <= len(means) // 2:
            scores.append((squares - total * total / count) / count**2)
    return scores[::-1]


def _stands_out(head: list[float], rest: list[float]) -> bool:
    """Whether the head is no part of the same steady load.

    Its mean is more than six standard errors away.
    """
    error = standard_error(rest) * (1 + len(rest) / len(head)) ** 0.5
    return bool(abs(sum(head) / len(head) - sum(rest) / len(rest)) > _GATE * error)


def assemble(
    *,
    computer: str,
    identity: str,
    taken_at: str,
    interval_s: float,
    snapshots: list[Snapshot],
    samples: list[Sample],
    ended: Ended,
    conditions: Conditions,
    late: int,
    missed: int,
    times: dict[str, Figure],
) -> Reading:
    """The reading from its samples and the snapshots with memory.

    Both ends of the window, and some between.

    Memory that was looked at before the load settled says how far programs had started, so it does
    not count.
    """
    cut, settled = settle([s.cpu_pct for s in samples], skip_after_start(samples, conditions))
    kept = samples[cut:]
    settled_at_s = snapshots[0].at_s + (samples[cut - 1].t_s if cut else 0.0)
    looks = [
        s for s in snapshots if s.memory and s.at_s >= settled_at_s - _ROUNDING_S
    ] or snapshots[-1:]
    keys = {key for s in kept for key in s.consumers}
    for snapshot in looks:
        keys |= snapshot.memory.keys()
    return Reading(
        computer=computer,
        identity=identity,
        taken_at=taken_at,
        interval_s=interval_s,
        cores=snapshots[-1].cores,
        ram_total_bytes=snapshots[-1].ram_total_bytes,
        ended=ended,
        samples=tuple(samples),
        settled_from=cut,
        settled=settled,
        consumers=tuple(
            sorted((_cost(key, kept, looks) for key in keys), key=lambda c: (-c.cpu_pct, c.key))
        ),
        conditions=conditions,
        late=late,
        missed=missed,
        times=times,
    )


def _cost(key: str, kept: list[Sample], ends: list[Snapshot]) -> ConsumerLoad:
    shares = weighed([s.consumers.get(key, 0.0) for s in kept], [s.length_s for s in kept])
    seen = [m for snapshot in ends if (m := snapshot.memory.get(key)) is not None]
    memory: Figure = NotMeasured(not_measured="it was not running when memory was looked at")
    if seen:
        memory = sum(m.ram_bytes for m in seen) / len(seen)
    return ConsumerLoad(
        key=key,
        cpu_pct=sum(shares) / len(shares) if shares else 0.0,
        cpu_se_pct=standard_error(shares),
        ram_bytes=memory,
        ram_how=seen[-1].how if seen else "",
        ram_shared_split=seen[-1].shared_split if seen else True,
    )


def to_json(reading: Reading) -> bytes:
    """The reading as the versioned JSON of docs/FORMATS.md."""
    return json_document(reading)
