"""Which package brought a unit file, and what the package says of itself."""

import contextlib

import msgspec

from lumtak.computers.hands.reach import Reach, text
from lumtak.core.facts import Item, Origin
from lumtak.core.text import plain

_MOST_PATHS = 400
_SYSTEM_PACKAGES = {"systemd", "udev", "dbus", "util-linux", "init-system-helpers", "procps", "kmod", "login"}


def with_packages(hand: Reach, items: list[Item], paths: dict[str, str]) -> list[Item]:
    """The items with the package that brought their unit file, and what the package says of itself; dpkg-query(1).

    Where there is no such package manager they stay as they are.
    """
    files = sorted({p for p in paths.values() if p.startswith(("/usr/lib/", "/lib/"))})[:_MOST_PATHS]
    if not files:
        return items
    owners: dict[str, str] = {}
    for file in [f for path in files for f in (path, path.removeprefix("/usr"))]:
        owners.setdefault(file, "")
    try:
        found = text(hand.run(("dpkg-query", "--search", "--", *owners), partly=True))
    except OSError:
        return items
    for line in found.splitlines():
        package, _, path = line.partition(": ")
        owners[path] = package.split(",")[0].split(":")[0]
    names = sorted({n for n in owners.values() if n})
    summaries: dict[str, str] = {}
    if names:
        query = ("dpkg-query", "--show", "--showformat=${Package}\\t${binary:Summary}\\n", "--", *names)
        with contextlib.suppress(OSError):  # the packages are known then, and nothing of what they are for
            shown = text(hand.run(query, partly=True))
            summaries = dict(line.split("\t", 1) for line in shown.splitlines() if "\t" in line)
    return [_packaged(item, paths.get(item.key, ""), owners, summaries) for item in items]


def _packaged(item: Item, path: str, owners: dict[str, str], summaries: dict[str, str]) -> Item:
    package = owners.get(path) or owners.get(path.removeprefix("/usr"), "")
    if not package:
        return item
    summary = plain(summaries.get(package, ""))
    note = f"{item.note} (package {plain(package)}: {summary})" if summary else item.note
    origin: Origin = "system" if package in _SYSTEM_PACKAGES else "package"
    return msgspec.structs.replace(item, package=plain(package), note=note, origin=origin)
