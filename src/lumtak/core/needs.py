"""Who depends on whom: three graphs that are never mixed.

- *stops with*: what stops when this stops (hard needs only).
- *starts through*: what may start this, though it is off (another unit that wants it, a socket, a
bus name, a timer, ...). - *works through*: what this cannot work without; from roles that are
needed to the items that fill them.

An item is known by its key within its area, and by its aliases. A need that no item fills is kept
as missing.
"""

from collections import deque
from collections.abc import Iterable

from lumtak.core.facts import Item, Trigger
from lumtak.core.setting import SettingRef

STANDS_STILL = frozenset({"off", "manual"})
"""Values with which an item does not run by itself."""
_PATH_MOST = 4


class Graphs:
    """The graphs of one computer's items; built in one pass, walked when asked.

    Args:
        items: of all areas.
    """

    def __init__(self, items: Iterable[Item]) -> None:
        self.items: dict[str, Item] = {}
        self._names: dict[str, str] = {}
        for item in items:
            self.items[item.consumer] = item
        # Aliases come after all keys: a key of its own always wins over another unit's alias.
        for item in self.items.values():
            for alias in item.aliases:
                self._names.setdefault(f"{item.area}:{alias}", item.consumer)
        self._needs: dict[str, tuple[str, ...]] = {}
        self._needed_by: dict[str, list[str]] = {}
        for consumer, item in self.items.items():
            needs = tuple(dict.fromkeys(self.name_of(item.area, key) for key in item.needs))
            self._needs[consumer] = needs
            for need in needs:
                self._needed_by.setdefault(need, []).append(consumer)

    def name_of(self, area: str, key: str) -> str:
        """The consumer that goes by this key or alias; AREA:KEY itself where nobody does."""
        name = f"{area}:{key}"
        return name if name in self.items else self._names.get(name, name)

    def ref(self, consumer: str) -> SettingRef:
        """The setting of an item that is there."""
        return self.items[consumer].ref

    def title(self, consumer: str) -> str:
        """For a person."""
        return self.items[consumer].title if consumer in self.items else consumer.partition(":")[2]

    # -- stops with --------------------------------------------------------------------------------

    def stops_with(self, consumer: str, most: int | None = None) -> tuple[str, ...]:
        """What stops when this stops, nearest first; cycles are walked once."""
        return _walk(consumer, self._needed_by, most)

    # -- works through -----------------------------------------------------------------------------

    def works_through(self, consumer: str) -> tuple[str, ...]:
        """What this cannot work without, nearest first."""
        return tuple(n for n in _walk(consumer, self._needs) if n in self.items)

    def missing(self, consumer: str) -> tuple[str, ...]:
        """Needs of this one that nothing here fills."""
        return tuple(n for n in self._needs.get(consumer, ()) if n not in self.items)

    def carriers(self, roots: Iterable[str]) -> dict[str, tuple[str, ...]]:
        """What the roots cannot work without, with a path.

        (root, ..., itself), in the middle the nearest few. Linear in the graph.
        """
        parents: dict[str, str] = {}
        root_of = {root: root for root in roots}
        queue = deque(root_of)
        while queue:
            here = queue.popleft()
            for need in self._needs.get(here, ()):
                if need in self.items and need not in root_of:
                    root_of[need], parents[need] = root_of[here], here
                    queue.append(need)
        return {consumer: self._path(consumer, parents, root_of[consumer]) for consumer in parents}

    @staticmethod
    def _path(consumer: str, parents: dict[str, str], root: str) -> tuple[str, ...]:
        path = [consumer]
        while path[-1] != root and len(path) <= _PATH_MOST:
            path.append(parents[path[-1]])
        if path[-1] != root:
            path.append(root)
        return tuple(reversed(path))

    def path_in_words(self, path: tuple[str, ...]) -> str:
        """The root of a path of `carriers`, with what stands between it and the end.

        "Printing (through Spool)".
        """
        root, *between = (self.title(c) for c in path[:-1])
        return root + (f" (through {', '.join(between)})" if between else "")

    # -- starts through ----------------------------------------------------------------------------

    def chain(self, consumer: str) -> tuple[tuple[str, Trigger], ...]:
        """What started this, step by step.

        (who, by what), from itself to what nothing else starts; a cycle ends it.
        """
        steps: list[tuple[str, Trigger]] = []
        seen = {consumer}
        here = consumer
        while (item := self.items.get(here)) is not None and item.triggers:
            trigger = next(
                (t for t in item.triggers if self.source_of(here, t) not in seen), item.triggers[0]
            )
            steps.append((here, trigger))
            source = self.source_of(here, trigger)
            if source in seen or source not in self.items:
                break
            seen.add(source)
            here = source
        return tuple(steps)

    def source_of(self, consumer: str, trigger: Trigger) -> str:
        """The item that a trigger of this one stands for; empty where it is none."""
        area = trigger.area or consumer.partition(":")[0]
        return self.name_of(area, trigger.by) if trigger.by else ""

    def starters(self, consumer: str) -> tuple[str, ...]:
        """The items in that chain other than itself, nearest first."""
        sources = (self.source_of(who, trigger) for who, trigger in self.chain(consumer))
        return tuple(s for s in dict.fromkeys(sources) if s in self.items and s != consumer)

    def chain_in_words(self, consumer: str) -> str:
        """For a person: "wanted by Weather post, which a timer (quarter-hour) starts, which starts
        with the system".
        """
        return ", which ".join(
            self.trigger_in_words(trigger) for _, trigger in self.chain(consumer)
        )

    def trigger_in_words(self, trigger: Trigger) -> str:
        """One step, as a clause."""
        name = (
            self.title(self.name_of(trigger.area or "services", trigger.by)) if trigger.by else ""
        )
        words = {
            "system": "starts with the system",
            "login": "starts at login",
            "wants": f"is started by {name}",
            "socket": f"is started by a connection to {trigger.by}",
            "bus": f"is started by a call to the bus name {trigger.by}",
            "timer": f"is started by the timer {trigger.by}",
            "path": f"is started by a change of {trigger.by}",
            "device": f"is started when {trigger.by} is plugged in",
            "app": f"is started by {name}",
            "session script": f"is started by the session script {trigger.by}",
            "hand": "was started by hand",
        }
        return words[trigger.kind]

    def comes_back_by(self, consumer: str) -> tuple[Trigger, ...]:
        """What may start it although it does not start with the system or the login."""
        item = self.items.get(consumer)
        return (
            tuple(t for t in item.triggers if t.kind not in {"system", "login", "hand"})
            if item
            else ()
        )


def _walk(
    start: str, edges: dict[str, list[str]] | dict[str, tuple[str, ...]], most: int | None = None
) -> tuple[str, ...]:
    found: dict[str, None] = {}
    queue = deque([start])
    while queue and (most is None or len(found) < most):
        for key in edges.get(queue.popleft(), ()):
            if key != start and key not in found:
                found[key] = None
                queue.append(key)
    return tuple(found)[:most]
