"""Taking a reading: samples at a steady pace, whatever the computer."""

import contextlib
import threading
from collections.abc import Callable, Generator
from dataclasses import dataclass
from datetime import datetime

from lumtak.computers.protocol import Clock, Computer, Life, Watch
from lumtak.core.facts import System
from lumtak.core.means import half_width
from lumtak.core.reading import ENDED_WORDS, WHOLE, Conditions, Ended, Reading
from lumtak.core.sample import Sample, Snapshot, between, series_of
from lumtak.core.window import Window
from lumtak.errors import ComputerError, UsageError
from lumtak.work.quiet import reading_of

SHORTEST_INTERVAL_S, LONGEST_INTERVAL_S = 0.2, 60.0
LONGEST_S = 24 * 3600.0
MEMORY_EVERY_S = 60.0
ASLEEP_S = 3.0
"""By so much more has the clock on the wall to go on in one interval: it is set by less."""

ROUND_S, LONGEST_ROUND_S, ROUNDS = 3.0, 60.0, 60
"""From one try of what the owner waits for to the next, at least and at most, and how many a
reading is to have."""
AWAY_S = 60.0
"""Who has not touched a computer for so long is away from it, and comes back when they do."""
OWN_TOUCH_S = 2.0
"""A key that Lumtak itself got may be noted so much later than Lumtak got it."""

Touched = Callable[[], float]
"""When Lumtak itself last got a key or a click, on the monotonic clock of this process."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Watched:
    """What is tried while a reading is taken, and who is nobody that comes back."""

    program: str = ""
    """The path of a large program whose start is tried too."""
    touched: Touched | None = None
    since_s: float | None = None
    """On the computer's monotonic clock: whoever touches it after that comes between, also who was
    not away from it; None where only who comes back does."""


WATCHED = Watched()
OnBegin = Callable[[Window], None]
"""Called with the window before its first sample: it holds the samples as they come."""
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

    def reached(self, window: Window) -> bool:
        """Whether the samples after the transient are sure enough."""
        start, settled = window.cut()
        kept = window.samples[start:]
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


def take_reading(
    computer: Computer,
    *,
    seconds: float | None = None,
    interval_s: float = 1.0,
    precision: Precision | None = None,
    on_begin: OnBegin | None = None,
    on_sample: OnSample | None = None,
    stop: threading.Event | None = None,
    watched: Watched | None = WATCHED,
) -> Reading:
    """A reading of this computer.

    Args:
        computer: what is read.
        seconds: length of the window; None: until both means are as sure as `precision` asks, or
            its longest time.
        interval_s: from sample to sample, 0.2 to 60 s.
        precision: when to end by itself; counts only without `seconds`.
        on_begin: given the window before its first sample.
        on_sample: told about each sample.
        stop: ends the reading early; what was read so far counts.
        watched: what is tried and seen meanwhile; None for nothing.

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
    _check_length(length, interval_s)
    half_width([0.0, 1.0])  # loads what it needs now, not in the middle of the window
    taken_at = computer.clock.wall().isoformat(timespec="seconds")
    conditions = conditions_of(computer.about.system())
    with reading_of(computer.identity), _watching(computer, length, watched) as seen:
        window = Window(conditions, computer.load.sample(memory=True))
        if on_begin:
            on_begin(window)
        count = round(length / interval_s)
        sampler = _Sampler(computer, window, interval_s=interval_s, count=count, seen=seen)
        sampler.run(rule if seconds is None else None, on_sample, stop)
    _check_any(window)
    if window.ended in {*WHOLE, "stopped"} and len(window.looks) < 2:
        window.looks.append(computer.load.sample(memory=True))
    lost = window.ended == "lost"
    return window.reading(
        computer=computer.address,
        identity=computer.identity,
        taken_at=taken_at,
        interval_s=interval_s,
        times={} if lost else computer.about.times(),
        starts=() if lost or watched is None else computer.about.starts(),
    )


@contextlib.contextmanager
def _watching(
    computer: Computer, length_s: float, watched: Watched | None
) -> Generator["_Seen", None, None]:
    """What is seen of people while a reading of so many seconds is taken."""
    if watched is None:
        yield _Seen(None, WATCHED)
        return
    every_s = min(max(ROUND_S, length_s / ROUNDS), LONGEST_ROUND_S)
    watch = computer.load.watch(every_s=every_s, program=watched.program)
    try:
        yield _Seen(watch, watched)
    finally:
        watch.close()


def _check_any(window: Window) -> None:
    if not window.samples:
        raise UsageError(
            f"The reading was {ENDED_WORDS.get(window.ended, 'stopped')} before its first sample"
            " counted.",
            "Take it again, and let it run for a few seconds at least.",
        )


def _check_length(length: float, interval_s: float) -> None:
    if not SHORTEST_INTERVAL_S <= interval_s <= LONGEST_INTERVAL_S:
        raise UsageError(
            f"An interval of {interval_s:g} s is not possible.", "Choose from 0.2 to 60 s."
        )
    if not interval_s <= length <= LONGEST_S:
        raise UsageError(
            f"A reading of {length:g} s is not possible.",
            f"Choose from one interval ({interval_s:g} s) to a day.",
        )


class _Seen:
    """What people do with the computer while it is read, held against what they did at first.

    Args:
        watch: sees them; None where nobody does.
        watched: who is nobody that comes between.
    """

    def __init__(self, watch: Watch | None, watched: Watched) -> None:
        self.watch = watch
        self._touched, self._since_s = watched.touched, watched.since_s
        self._last: tuple[float, Life] | None = None
        self.good_s = 0.0
        """When all was last as it had been."""

    def ended(self) -> Ended | None:
        """Why the reading has to end; None where nobody came between."""
        now = self.watch.life() if self.watch is not None else None
        if now is None or (self._last is not None and now[0] == self._last[0]):
            return None
        before, self._last = self._last, now
        ended = None if before is None else self._between(before, now)
        if self._used(now[1]):
            ended = "returned"
        if ended is None:
            self.good_s = now[0]
        return ended

    def _used(self, life: Life) -> bool:
        """Whether somebody touched it after it was to be left alone."""
        if self._since_s is None or life.touched_s is None:
            return False
        earliest_s, _ = life.touched_s
        return earliest_s > self._since_s and not self._own(earliest_s)

    def _between(self, before: tuple[float, Life], now: tuple[float, Life]) -> Ended | None:
        (then_s, was), (_, life) = before, now
        kinds: tuple[tuple[Ended, str, str], ...] = (
            ("power", was.power_source, life.power_source),
            ("lid", was.lid, life.lid),
            ("lock", was.locked, life.locked),
        )
        for ended, one, other in kinds:
            if one and other and one != other:
                return ended
        if was.sessions != life.sessions:
            return "login"
        if was.touched_s is None or life.touched_s is None:
            return None
        # A touch is told on the clock on the wall, which may be set a little meanwhile.
        (earliest_s, _), (_, latest_s) = life.touched_s, was.touched_s
        if earliest_s <= latest_s + ASLEEP_S:
            return None
        away = then_s - latest_s >= AWAY_S
        return "returned" if away and not self._own(earliest_s) else None

    def _own(self, at_s: float) -> bool:
        # Whoever types goes on typing: Lumtak was touched then or since.
        return self._touched is not None and self._touched() >= at_s - OWN_TOUCH_S


def slept(clock: Clock, then: tuple[datetime, float]) -> bool:
    """Whether the clock on the wall went on without the other, which stands still in sleep.

    Args:
        clock: of the computer.
        then: what both said before.
    """
    wall, clock_s = then
    return (clock.wall() - wall).total_seconds() - (clock.now_s() - clock_s) > ASLEEP_S


class _Sampler:
    """Samples at a steady pace until the window is full, sure enough, stopped or lost."""

    def __init__(
        self, computer: Computer, window: Window, *, interval_s: float, count: int, seen: _Seen
    ) -> None:
        self._computer, self._window = computer, window
        self._seen = seen
        self._interval_s, self._count = interval_s, count
        self._last = window.looks[0]
        self._due_s = self._looked_s = self._start_s = self._last.at_s
        self._then = computer.clock.wall(), computer.clock.now_s()

    def run(
        self, rule: Precision | None, on_sample: OnSample | None, stop: threading.Event | None
    ) -> None:
        """Until the end."""
        first = self._seen.ended()  # how it is at first
        if first is not None:
            self._window.ended = first
        sure = 0
        while self._window.ended == "complete" and len(self._window.samples) < self._count:
            if not self._step(stop):
                return
            done = len(self._window.samples)
            if on_sample:
                on_sample(self._window.samples[-1], done, self._count)
            if rule and rule.asks(done):
                sure = sure + 1 if rule.reached(self._window) else 0
                if sure >= rule.in_a_row:
                    self._window.ended = "precise"

    def _step(self, stop: threading.Event | None) -> bool:
        """Wait, look, note; whether there is another sample."""
        # From the last due time, not from now: otherwise lateness would add up to drift.
        self._due_s += self._interval_s
        clock = self._computer.clock
        clock.wait(self._due_s - clock.now_s(), stop)
        if stop is not None and stop.is_set():
            self._window.ended = "stopped"
            return False
        if self._slept():
            self._window.ended = "slept"
            return False
        now = self._snapshot()
        if now is None:
            self._window.ended = "lost"
            return False
        self._window.add(between(self._last, now, self._start_s))
        self._last = now
        self._catch_up(now.at_s)
        return self._undisturbed()

    def _undisturbed(self) -> bool:
        """Take what was tried meanwhile; whether nobody came between."""
        if self._seen.watch is not None:
            self._window.tries += self._seen.watch.tries()
        ended = self._seen.ended()
        if ended is not None:
            self._window.end_at(max(self._seen.good_s, self._start_s), ended)
        return ended is None

    def _slept(self) -> bool:
        """Whether the clock on the wall went on without the other, which stands still in sleep.

        The sample that it fell into is no load of anything, and what comes after is a start.
        """
        clock = self._computer.clock
        asleep = slept(clock, self._then)
        self._then = clock.wall(), clock.now_s()
        return asleep

    def _snapshot(self) -> Snapshot | None:
        """With memory at the end and now and then; None where the computer has gone away."""
        last_one = len(self._window.samples) == self._count - 1
        look = last_one or self._due_s - self._looked_s >= MEMORY_EVERY_S
        try:
            now = self._computer.load.sample(memory=look)
        except ComputerError:
            # Before the first sample there is nothing to keep, so the error is told.
            if not self._window.samples:
                raise
            return None
        if look:
            self._window.looks.append(now)
            self._looked_s = now.at_s
        return now

    def _catch_up(self, at_s: float) -> None:
        """Count what came late; what was missed meanwhile is left out, and not made up."""
        behind_s = at_s - self._due_s
        if behind_s <= self._interval_s / 2:
            return
        missed = int(behind_s / self._interval_s)
        self._window.late += 1
        self._window.missed += missed
        self._count -= missed
        self._due_s += missed * self._interval_s
