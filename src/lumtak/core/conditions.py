"""What differs between the conditions of two readings, as far as their comparison needs it."""

from collections.abc import Iterable

from lumtak.core.reading import Conditions, Reading
from lumtak.core.record import NotMeasured, Record, known
from lumtak.core.sample import consumer_name
from lumtak.core.settling import RECENT_S
from lumtak.core.text import plain
from lumtak.core.units import ram, signed

_RECORDER_PCT = 2.0
_WARMER_C = 15.0
_MOVED_PCT = 0.5
_SAME_CLOCK = 0.05
"""Clocks that differ by less are the same: a percentage then differs by less than that too."""


def pace_changed(before: Reading, after: Reading) -> str:
    """Why percentages of the CPU are no measure between these readings, as a clause.

    Empty where they are.

    A percentage is of what the processor could do at its clock: where that is another one, the same
    work is another percentage.
    """
    if plans := _plans_differ(before.conditions, after.conditions):
        return f"the power plan was {plans}"
    one, other = before.figure("clock_ratio"), after.figure("clock_ratio")
    if (
        isinstance(one, NotMeasured)
        or isinstance(other, NotMeasured)
        or abs(other - one) <= _SAME_CLOCK * max(one, other)
    ):
        return ""
    return (
        f"the clock ran at {100 * one:.0f} % of its nominal rate before and at {100 * other:.0f} %"
        " after"
    )


def mismatches(before: Reading, after: Reading, changed: Iterable[str] = ()) -> tuple[str, ...]:
    """A sentence each for what makes the readings less comparable.

    Args:
        before: the one.
        after: the other.
        changed: consumers that were changed in between on purpose, so that their absence is no
            surprise.
    """
    a, b = before.conditions, after.conditions
    found = []
    if before.identity != after.identity:
        found.append("The readings are of two different computers.")
    if a.power_source != b.power_source:
        found.append(f"Before it ran on {a.power_source}, after on {b.power_source}.")
    if plans := _plans_differ(a, b):
        found.append(f"The power plan was {plans}: compare the work, not the percentage.")
    if a.user != b.user:
        found.append(f"Before it was {plain(a.user)}'s session, after {plain(b.user)}'s.")
    found += _logged_in(a, b)
    short, long = sorted((a.uptime_s, b.uptime_s))
    if short < RECENT_S and long > 4 * short + 60:
        found.append("One reading began within five minutes of a restart, the other long after.")
    found += _warmer(a, b)
    found += _in_one_only(before, after, set(changed))
    named = (("before", before), ("after", after))
    found += [f"The reading {name} never settled." for name, r in named if not r.settled]
    return tuple(found)


def _plans_differ(a: Conditions, b: Conditions) -> str:
    """Which was before and which after; empty where they are the same, or one is not known."""
    if not isinstance(a.power_plan, str) or not isinstance(b.power_plan, str):
        return ""
    if a.power_plan == b.power_plan:
        return ""
    return f"{plain(a.power_plan)} before and {plain(b.power_plan)} after"


def _logged_in(a: Conditions, b: Conditions) -> list[str]:
    if isinstance(a.users, NotMeasured) or isinstance(b.users, NotMeasured) or a.users == b.users:
        return []
    names = [", ".join(plain(u, 30) for u in users) or "nobody" for users in (a.users, b.users)]
    return [f"Logged in were {names[0]} before, and {names[1]} after."]


def _warmer(a: Conditions, b: Conditions) -> list[str]:
    if isinstance(a.temperature_c, NotMeasured) or isinstance(b.temperature_c, NotMeasured):
        return []
    by_c = b.temperature_c - a.temperature_c
    if abs(by_c) <= _WARMER_C:
        return []
    how = "warmer" if by_c > 0 else "cooler"
    return [f"It was {abs(by_c):.0f} °C {how} after than before; heat slows the clock."]


def _in_one_only(before: Reading, after: Reading, changed: set[str]) -> list[str]:
    """Programs that weighed in one reading and did not run in the other.

    A recorder, an update, a visitor.
    """
    found = []
    for one, other, words in (
        (before, after, "before, and did not run after"),
        (after, before, "after, and did not run before"),
    ):
        seen = {
            c.key
            for c in other.consumers
            if c.cpu_pct > 0 or not isinstance(c.ram_bytes, NotMeasured)
        }
        found += [
            f"{plain(consumer_name(c.key), 60)} took {c.cpu_pct:.1f} % of the CPU {words}."
            for c in one.consumers
            if c.cpu_pct >= _RECORDER_PCT and c.key not in seen and c.key not in changed
        ]
    return found


class Mover(Record):
    """A consumer that weighs more or less than before."""

    key: str
    cpu_pct: float
    """After minus before; 0 where it was not seen."""
    ram_bytes: float


def movers(before: Reading, after: Reading, most: int = 5) -> tuple[Mover, ...]:
    """The consumers whose cost changed most, heaviest change first.

    Changes under 0.5 points of CPU and 0.5 % of RAM are left out.
    """
    total = after.ram_total_bytes
    found = []
    for key in sorted({c.key for r in (before, after) for c in r.consumers}):
        a, b = before.consumer(key), after.consumer(key)
        cpu = (b.cpu_pct if b else 0.0) - (a.cpu_pct if a else 0.0)
        memory = (known(b.ram_bytes) if b else 0.0) - (known(a.ram_bytes) if a else 0.0)
        if abs(cpu) >= _MOVED_PCT or abs(memory) >= _MOVED_PCT / 100 * total:
            found.append(Mover(key=key, cpu_pct=cpu, ram_bytes=memory))
    found.sort(key=lambda m: -(abs(m.cpu_pct) + 100 * abs(m.ram_bytes) / total))
    return tuple(found[:most])


def mover_in_words(mover: Mover, title: str = "") -> str:
    """One line: the name, points of CPU, memory."""
    name = plain(title or consumer_name(mover.key), 60)
    return (
        f"{name} {signed(mover.cpu_pct)} points of CPU,"
        f" {'+' if mover.ram_bytes > 0 else ''}{ram(mover.ram_bytes)}"
    )
