"""For any running process, the chain that started it.

From itself to a unit, timer, socket, login entry, session or hand.
"""

from lumtak.core.facts import UNLISTED, Facts, Item, Process, Trigger
from lumtak.core.needs import Graphs
from lumtak.core.record import Record
from lumtak.core.text import plain

_LONGEST = 40
_NOT_SEEN = "what started it has ended, or is not to be seen"
_SHELLS = {"bash", "sh", "dash", "zsh", "fish", "ksh"}


class Cause(Record):
    """One step of the chain."""

    pid: int | None
    """None where the step is an item and no process."""
    address: str
    """Of the item it belongs to; empty where it belongs to none."""
    words: str
    """For a person, as a clause."""


def causes(process: Process, facts: Facts) -> tuple[Cause, ...]:
    """Parents up to the first that an item accounts for, then what starts that item.

    A process whose parent has ended hangs under the first process (or its session's), so what
    started it is said not to be known.
    """
    graphs = Graphs(facts.items)
    by_pid = {p.pid: p for p in facts.processes}
    steps: list[Cause] = []
    here, seen = process, {process.pid}
    while not _accounted(here, graphs):
        parent = by_pid.get(here.parent)
        if parent is None or parent.pid in seen or len(steps) > _LONGEST:
            nobody = here.parent in {0, 1} or parent is None
            return (*steps, _step(_NOT_SEEN if nobody else "a cycle"))
        steps.append(_started_from(parent, graphs))
        seen.add(parent.pid)
        here = parent
    return (*steps, *_what_starts(graphs.items[here.consumer], graphs))


def _step(words: str, address: str = "") -> Cause:
    """A step that is no process."""
    return Cause(pid=None, address=address, words=words)


def _started_from(parent: Process, graphs: Graphs) -> Cause:
    by_hand = "by hand or by a script " if parent.name in _SHELLS else ""
    return Cause(
        pid=parent.pid,
        address=parent.consumer if parent.consumer in graphs.items else "",
        words=f"started {by_hand}from {plain(parent.name, 40)} (process {parent.pid})",
    )


def _what_starts(item: Item, graphs: Graphs) -> list[Cause]:
    """The item itself, and what starts it, step by step."""
    title = plain(item.title, 60)
    steps = [_step(f"belongs to {title} ({item.consumer})", item.consumer)]
    for who, trigger in graphs.chain(item.consumer):
        source = graphs.source_of(who, trigger)
        words = plain(graphs.trigger_in_words(trigger), 160)
        steps.append(_step(words, source if source in graphs.items else ""))
    if item.started_by and not item.triggers:
        steps.append(_step(plain(item.started_by, 160)))
    return steps


def starter_of(process: Process, processes: dict[int, Process], listed: set[str]) -> Trigger | None:
    """The nearest parent that an item accounts for, as a trigger; None where there is none."""
    here, seen = process, {process.pid}
    while (parent := processes.get(here.parent)) is not None and parent.pid not in seen:
        if parent.consumer in listed:
            area, _, key = parent.consumer.partition(":")
            return (
                Trigger(kind="wants", by=key, area="services")
                if area == "services"
                else Trigger(kind="app", by=key, area="apps")
            )
        seen.add(parent.pid)
        here = parent
    return None


def _accounted(process: Process, graphs: Graphs) -> bool:
    """Whether an item with a life of its own accounts for it.

    Not one that merely names a program that runs.
    """
    item = graphs.items.get(process.consumer)
    return item is not None and (not item.consumer.startswith(UNLISTED) or bool(item.triggers))
