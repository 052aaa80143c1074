"""Which package brought a unit file, and what the package says of itself.

Read from the package manager's own lists, without starting it.

Sources: dpkg(1), FILES: info/*.list holds the paths of a package, status what is known of each
(deb-control(5)).
"""

import posixpath
import re

import msgspec

from lumtak.computers.hands.reach import Reach, names_at, text
from lumtak.core.facts import Item, Origin
from lumtak.core.text import plain

_INFO, _STATUS = "/var/lib/dpkg/info", "/var/lib/dpkg/status"
_ENDING = ".list"
_MOST_LISTS = 20_000
_MOST_STATUS = 1 << 25
_UNITS = re.compile(rb"(?m)^(?:/usr)?/lib/systemd/system/([^/\n]+)$")
_SYSTEM_PACKAGES = {
    "systemd",
    "udev",
    "dbus",
    "util-linux",
    "init-system-helpers",
    "procps",
    "kmod",
    "login",
}


def with_packages(hand: Reach, items: list[Item], paths: dict[str, str]) -> list[Item]:
    """The items with the package that brought their unit file, and what the package says of itself.

    Where there is no such package manager they stay as they are.

    Args:
        hand: of the computer.
        items: services and timers.
        paths: the unit file of each by key.
    """
    lists = [n for n in names_at(hand, _INFO) if n.endswith(_ENDING)][:_MOST_LISTS]
    owners: dict[str, str] = {}
    for name, data in zip(lists, hand.read_many([f"{_INFO}/{n}" for n in lists]), strict=True):
        if data and b"/lib/systemd/system/" in data:
            package = name.removesuffix(_ENDING).partition(":")[0]
            owners.update((text(unit), package) for unit in _UNITS.findall(data))
    if not owners:
        return items
    brought = {
        key: owners.get(posixpath.basename(path), "")
        for key, path in paths.items()
        if "/lib/systemd/" in path
    }
    summaries = _summaries(hand, set(brought.values()))
    return [_packaged(item, brought.get(item.key, ""), summaries) for item in items]


def _summaries(hand: Reach, packages: set[str]) -> dict[str, str]:
    """The first line of what these packages say of themselves."""
    try:
        status = text(hand.read(_STATUS, _MOST_STATUS))
    except OSError:
        return {}
    found: dict[str, str] = {}
    for about in status.split("\n\n"):
        name = about.removeprefix("Package: ").partition("\n")[0]
        if name in packages and (said := re.search(r"(?m)^Description: (.*)$", about)):
            found.setdefault(name, said[1])
    return found


def _packaged(item: Item, package: str, summaries: dict[str, str]) -> Item:
    if not package:
        return item
    summary = plain(summaries.get(package, ""))
    note = f"{item.note} (package {plain(package)}: {summary})" if summary else item.note
    origin: Origin = "system" if package in _SYSTEM_PACKAGES else "package"
    return msgspec.structs.replace(item, package=plain(package), note=note, origin=origin)
