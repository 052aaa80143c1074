"""Taking a reading: samples at a steady pace, whatever the computer."""

import threading
from collections.abc import Callable
from dataclasses import dataclass

from lumtak.computers.protocol import Computer
from lumtak.core.facts import System
from lumtak.core.load import (
    Conditions,
    Ended,
    Reading,
    Sample,
    Snapshot,
    assemble,
    between,
    series_of,
    settle,
    skip_after_start,
)
from lumtak.core.means import half_width
from lumtak.errors import ComputerError, UsageError

SHORTEST_INTERVAL_S, LONGEST_INTERVAL_S = 0.2, 60.0
LONGEST_S = 24 * 3600.0
MEMORY_EVERY_S = 60.0

OnBegin = Callable[[Conditions], None]
"""Called with what a reading is taken under, before its first sample."""
OnSample = Callable[[Sample, int, int], None]
"""Called with the sample, how many there are, how many there will be."""


def conditions_of(system: System) -> Conditions:
    """The part of a computer's state that a reading has to carry."""
    return Conditions(
        boot_id=system.boot_id,
        session_id=system.session_id,
        uptime_s=system.uptime_s,
        since_login_s=system.since_login_s,
        power_source=system.power_source,
        power_plan=system.power_plan,
        user=system.user,
        users=system.users,
        temperature_c=system.temperature_c,
    )


@dataclass(frozen=True, slots=True, kw_only=True)
class Precision:
    """When a reading may end by itself: both means are that sure."""

    cpu_pct: float = 1.0
    """Half the 95 % interval of the mean, percentage points."""
    ram_pct: float = 1.0
    fewest: int = 120
    """Samples before it is asked for the first time."""
    every: int = 10
    """Samples from question to question."""
    in_a_row: int = 3
    """So often in a row the answer has to be yes."""
    most_s: float = 300.0

    def asks(self, count: int) -> bool:
        """Whether it is asked after so many samples."""
        return count >= self.fewest and (count - self.fewest) % self.every == 0

    def reached(self, samples: list[Sample], conditions: Conditions) -> bool:
        """Whether the samples after the transient are sure enough."""
        start, settled = settle([s.cpu_pct for s in samples], skip_after_start(samples, conditions))
        kept = samples[start:]
        return (
            settled
            and self.sure(series_of(kept, "cpu_pct"), self.cpu_pct)
            and self.sure(series_of(kept, "ram_pct"), self.ram_pct)
        )

    @staticmethod
    def sure(values: list[float], precision: float) -> bool:
        """Whether the mean is that sure, and both halves agree to half of it, so that no drift is
        taken for calm.
        """
        middle = len(values) // 2
        first, second = sum(values[:middle]) / middle, sum(values[middle:]) / (len(values) - middle)
        return abs(first - second) <= precision / 2 and half_width(values) <= precision


@dataclass(slots=True)
class _Window:
    """What was read so far."""

    conditions: Conditions

    snapshots: list[Snapshot]
    samples: list[Sample]
    count: int
    """Samples that there will be, at most."""
    late: int = 0
    missed: int = 0
    ended: Ended = "complete"


def take_reading(
    computer: Computer,
    *,
    seconds: float | None = None,
    interval_s: float = 1.0,
    precision: Precision | None = None,
    on_begin: OnBegin | None = None,
    on_sample: OnSample | None = None,
    stop: threading.Event | None = None,
) -> Reading:
    """A reading of this computer.

    Args:
        computer: what is read.
        seconds: length of the window; None: until both means are as sure as `precision` asks, or
            its longest time.
        interval_s: from sample to sample, 0.2 to 60 s.
        precision: when to end by itself; counts only without `seconds`.
        on_begin: told under which conditions it is taken.
        on_sample: told about each sample.
        stop: ends the reading early; what was read so far counts.

    Samples that come late keep their true length; those that were missed are counted and left out,
    never invented. Consumers' memory is dear to look at, so it is taken at both ends of the window
    and once a minute. When the computer goes away in the middle, what was read so far is the
    reading, and says so.

    Raises:
        UsageError: the window or the interval makes no sense, or it was stopped before the first
            sample. ComputerError: it cannot be read at all.
    """
    rule = precision or Precision()
    length = rule.most_s if seconds is None else seconds
    if not SHORTEST_INTERVAL_S <= interval_s <= LONGEST_INTERVAL_S:
        raise UsageError(
            f"An interval of {interval_s:g} s is not possible.", "Choose from 0.2 to 60 s."
        )
    if not interval_s <= length <= LONGEST_S:
        raise UsageError(
            f"A reading of {length:g} s is not possible.",
            f"Choose from one interval ({interval_s:g} s) to a day.",
        )
    half_width([0.0, 1.0])  # loads what it needs now, not in the middle of the window
    taken_at = computer.clock.wall().isoformat(timespec="seconds")
    conditions = conditions_of(computer.about.system())
    if on_begin:
        on_begin(conditions)
    window = _Window(
        conditions, [computer.load.sample(memory=True)], [], round(length / interval_s)
    )
    _fill(computer, window, interval_s, rule if seconds is None else None, on_sample, stop)
    if not window.samples:
        raise UsageError(
            "The reading was stopped before its first sample.",
            "Let it run for a few seconds at least.",
        )
    if window.ended != "lost" and len(window.snapshots) < 2:
        window.snapshots.append(computer.load.sample(memory=True))
    return assemble(
        computer=computer.address,
        identity=computer.identity,
        taken_at=taken_at,
        interval_s=interval_s,
        snapshots=window.snapshots,
        samples=window.samples,
        ended=window.ended,
        conditions=conditions,
        late=window.late,
        missed=window.missed,
        times={} if window.ended == "lost" else computer.about.times(),
    )


def _fill(
    computer: Computer,
    window: _Window,
    interval_s: float,
    rule: Precision | None,
    on_sample: OnSample | None,
    stop: threading.Event | None,
) -> None:
    """Take samples until the window is full, sure enough, stopped or lost."""
    start = last = window.snapshots[0]
    due = start.at_s
    looked_s = start.at_s
    sure = 0
    while len(window.samples) < window.count:
        due += interval_s
        computer.clock.wait(due - computer.clock.now_s(), stop)
        if stop is not None and stop.is_set():
            window.ended = "stopped"
            return
        look = len(window.samples) == window.count - 1 or due - looked_s >= MEMORY_EVERY_S
        try:
            now = computer.load.sample(memory=look)
        except ComputerError:
            if not window.samples:
                raise
            window.ended = "lost"
            return
        window.samples.append(between(last, now, start.at_s))
        last = now
        if look:
            window.snapshots.append(now)
            looked_s = now.at_s
        if now.at_s - due > interval_s / 2:
            missed = int((now.at_s - due) / interval_s)
            window.late += 1
            window.missed += missed
            window.count -= missed
            due += missed * interval_s
        if on_sample:
            on_sample(window.samples[-1], len(window.samples), window.count)
        if rule and rule.asks(len(window.samples)):
            sure = sure + 1 if rule.reached(window.samples, window.conditions) else 0
            if sure >= rule.in_a_row:
                window.ended = "precise"
                return
