"""Who cannot work without whom."""

from collections.abc import Iterable

from lumtak.core.facts import Item
from lumtak.core.setting import SettingRef

STANDS_STILL = frozenset({"off", "manual"})
"""Values with which an item does not run by itself."""


def stops_with(ref: SettingRef, items: Iterable[Item]) -> tuple[str, ...]:
    """Keys of the items that stop when this one stops, nearest first; cycles are walked once."""
    dependents: dict[str, list[str]] = {}
    for item in items:
        if item.area == ref.area:
            for need in item.needs:
                dependents.setdefault(need, []).append(item.key)
    return _walk(ref.key, dependents)


def works_through(ref: SettingRef, items: Iterable[Item]) -> tuple[str, ...]:
    """Keys of the items that this one cannot work without, nearest first; cycles are walked once."""
    return _walk(ref.key, {item.key: list(item.needs) for item in items if item.area == ref.area})


def _walk(start: str, edges: dict[str, list[str]]) -> tuple[str, ...]:
    seen = [start]
    for key in seen:  # grows while it is walked
        seen.extend(n for n in dict.fromkeys(edges.get(key, ())) if n not in seen)
    return tuple(seen[1:])
