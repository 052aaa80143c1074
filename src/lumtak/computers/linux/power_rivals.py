"""Programs that set the power plan, and whether several of them do so against each other.

Recognised by what they own (the bus name of the profile service) or write (the kernel's files of
the clock, named in what their package brought), and by nothing else.
"""

import re
from collections.abc import Sequence

import msgspec

from lumtak.computers.hands.reach import Reach, text
from lumtak.computers.hands.sent.table import PROFILE_BUSES
from lumtak.core.facts import Item, Sign
from lumtak.core.text import plain

_WRITES = re.compile(rb"scaling_governor|energy_performance_preference|platform_profile")
_MAY_SET = {"", "power-keeper", "processor-balance", "desktop-power", "likely-power"}
"""Roles of items that may do so; of all others it is known what they do."""
_INFO = "/var/lib/dpkg/info"
_PLACES = re.compile(
    r"/(?:usr/)?(?:s?bin|lib|libexec|share)/(?!doc/|man/|locale/|icons/).+|/opt/.+"
)
_NO_PROGRAM = re.compile(r"\.(?:gz|png|svg|mo|html|md|txt|xml|policy|desktop|service|rules|h|pyi)$")
_MOST_FILES, _MOST_BYTES, _MOST_OF_ALL = 300, 1 << 21, 1 << 24
"""Of a package: files, bytes of one, bytes of all of them."""
_PLANS = ("mains", "battery")


def rivals(hand: Reach, items: Sequence[Item]) -> list[Item]:
    """Services that are on, or run, and set the plan; one of each package.

    Args:
        hand: of the computer.
        items: with their packages.
    """
    found: dict[str, Item] = {}
    written: dict[str, bool] = {}
    for item in filter(_may_set, items):
        if item.package and item.package not in written:
            written[item.package] = _writes(hand, item.package)
        owns = any(t.kind == "bus" and t.by in PROFILE_BUSES for t in item.triggers)
        if owns or written.get(item.package):
            found.setdefault(item.package or item.key, item)
    return list(found.values())


def _may_set(item: Item) -> bool:
    on = item.running or item.value == "auto"
    return item.area == "services" and item.role in _MAY_SET and on


def _writes(hand: Reach, package: str) -> bool:
    """Whether a program of this package names the kernel's files of the clock."""
    names = [f"{_INFO}/{package}.list", f"{_INFO}/{package}:amd64.list"]
    listed = next((text(data) for data in hand.read_many(names, _MOST_BYTES) if data), "")
    paths = [
        line
        for line in listed.splitlines()
        if _PLACES.fullmatch(line) and not _NO_PROGRAM.search(line)
    ]
    left = _MOST_OF_ALL
    for path in paths[:_MOST_FILES]:
        data = hand.read_many([path], min(left, _MOST_BYTES))[0] or b""
        if _WRITES.search(data):
            return True
        left -= len(data)
        if left <= 0:
            break
    return False


def against(found: Sequence[Item]) -> list[Sign]:
    """That several programs set the plan, by their names here; nothing where only one does."""
    if len(found) < 2:
        return []
    names = " and ".join(plain(i.key, 60) for i in found)
    says = f"is set by {names}, each over the other; let one of them do it, Lumtak touches neither"
    return [Sign(name="power plan", says=says)]


def with_rivals(items: Sequence[Item], found: Sequence[Item], signs: Sequence[Sign]) -> list[Item]:
    """The items, rivals marked, and beside the plan what speaks of it: rivals, wear, heat."""
    rivals_here = {i.consumer for i in found} if len(found) > 1 else set()
    notes = [f"{s.name} {s.says}" for s in signs if s.name in {"battery", "heat", "power plan"}]
    done = []
    for item in items:
        if item.consumer in rivals_here:
            done.append(msgspec.structs.replace(item, evidence=(*item.evidence, "rival")))
        elif item.area == "power" and item.key in _PLANS and notes:
            note = plain("; ".join([item.note, *notes]), 600)
            done.append(msgspec.structs.replace(item, note=note))
        else:
            done.append(item)
    return done
