"""Taking a reading: samples at a steady pace, whatever the computer."""

import threading
from collections.abc import Callable

from lumtak.computers.protocol import Computer
from lumtak.core.facts import System
from lumtak.core.load import Conditions, Ended, Reading, Sample, Snapshot, assemble, between
from lumtak.errors import ComputerError, UsageError

SHORTEST_INTERVAL_S, LONGEST_INTERVAL_S = 0.2, 60.0
LONGEST_S = 24 * 3600.0

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
    )


def take_reading(
    computer: Computer,
    *,
    seconds: float = 60.0,
    interval_s: float = 1.0,
    on_sample: OnSample | None = None,
    stop: threading.Event | None = None,
) -> Reading:
    """A reading of this computer.

    Samples that come late keep their true length; those that were missed are left out, never invented. When the computer
    goes away in the middle, or `stop` is set, what was read so far is the reading, and says so.

    Raises:
        UsageError: the window or the interval makes no sense, or it was stopped before the first sample.
        ComputerError: it cannot be read at all.
    """
    if not SHORTEST_INTERVAL_S <= interval_s <= LONGEST_INTERVAL_S:
        raise UsageError(f"An interval of {interval_s:g} s is not possible.", "Choose from 0.2 to 60 s.")
    if not interval_s <= seconds <= LONGEST_S:
        raise UsageError(
            f"A reading of {seconds:g} s is not possible.", f"Choose from one interval ({interval_s:g} s) to a day."
        )
    count = round(seconds / interval_s)
    taken_at = computer.wall().isoformat(timespec="seconds")
    conditions = conditions_of(computer.system())
    first = last = computer.sample(memory=True)
    samples: list[Sample] = []
    ended: Ended = "complete"
    late, due = 0, first.at_s
    while len(samples) < count:
        due += interval_s
        computer.wait(due - computer.now_s(), stop)
        if stop is not None and stop.is_set():
            ended = "stopped"
            break
        try:
            now = computer.sample(memory=len(samples) == count - 1)
        except ComputerError:
            if not samples:
                raise
            ended = "lost"
            break
        samples.append(between(last, now, first.at_s))
        last = now
        if now.at_s - due > interval_s / 2:
            late += 1
            missed = int((now.at_s - due) / interval_s)
            due += missed * interval_s
            count -= missed
        if on_sample:
            on_sample(samples[-1], len(samples), count)
    if not samples:
        raise UsageError("The reading was stopped before its first sample.", "Let it run for a few seconds at least.")
    return assemble(
        computer=computer.address,
        identity=computer.identity,
        taken_at=taken_at,
        interval_s=interval_s,
        snapshots=(first, _with_memory(computer, last, ended)),
        samples=samples,
        ended=ended,
        conditions=conditions,
        late=late,
    )


def _with_memory(computer: Computer, last: Snapshot, ended: Ended) -> Snapshot:
    """The end of the window with each consumer's memory, where the window ended before it was asked for."""
    if last.memory or ended == "lost":
        return last
    return computer.sample(memory=True)
