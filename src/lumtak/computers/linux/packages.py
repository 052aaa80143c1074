"""Which package brought an item, and what the package says of itself.

Read from the package manager's own lists, without starting it.

Sources: dpkg(1), FILES: info/*.list holds the paths of a package, status what is known of each
(deb-control(5)).
"""

import re
from collections.abc import Mapping, Sequence
from typing import NamedTuple

import msgspec

from lumtak.computers.hands.reach import Reach, names_at, text
from lumtak.core.catalogue import Catalogue
from lumtak.core.facts import Evidence, Item, Origin
from lumtak.core.text import plain

_INFO, _STATUS = "/var/lib/dpkg/info", "/var/lib/dpkg/status"
_ENDING = ".list"
_MOST_LISTS = 20_000
_MOST_STATUS = 1 << 25
_DEFINES = re.compile(
    rb"(?m)^((?:/usr)?/lib/systemd/(?:system|user)/[^/\n]+|/etc/xdg/autostart/[^/\n]+)$"
)
"""Files that define an item: units, units of the user, login entries."""
_ESSENTIAL = re.compile(r"(?m)^(?:Priority: (?:required|important)|Essential: yes)$")
"""Every system has it; Debian Policy, 2.5 and 3.8."""
_NETWORK = re.compile(
    r"(?m)^Section: (?:[\w-]+/)?(?:comm|database|httpd|mail|net|news|video|sound|web|php)$"
)
_GATHERS = re.compile(r"(?m)^Section: (?:[\w-]+/)?(?:metapackages|tasks)$")
"""Names other packages and is nothing itself; the same policy."""
_NEEDS = re.compile(r"(?m)^(?:Pre-)?Depends: (.*(?:\n .*)*)$")
_SERVER = re.compile(r"(?i)\b(?:server|daemon)\b(?!-| for (?:the )?(?:desktop|session))")
"""Of a network section, and a server by its summary; Debian Policy, 2.4."""
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


def with_packages(
    hand: Reach,
    items: Sequence[Item],
    paths: Mapping[str, str],
    owners: Mapping[str, str],
    catalogue: Catalogue,
) -> list[Item]:
    """The items with the package that brought them, what that says of itself, and the role that
    follows from it.

    Where there is no such package manager they stay as they are.

    Args:
        hand: of the computer.
        items: of any kind.
        paths: the file that defines an item, by its consumer.
        owners: from `owners_of_files`.
        catalogue: knows packages.
    """
    if not owners:
        return list(items)
    brought = {c: owners.get(path.removeprefix("/usr"), "") for c, path in paths.items()}
    told = _told(hand, set(brought.values()))
    return [_packaged(i, brought.get(i.consumer, ""), told, catalogue) for i in items]


def owners_of_files(hand: Reach) -> dict[str, str]:
    """The package of each file that defines an item; /usr before a path left out.

    Nothing where there is no such package manager.
    """
    lists = [n for n in names_at(hand, _INFO) if n.endswith(_ENDING)][:_MOST_LISTS]
    owners: dict[str, str] = {}
    for name, data in zip(lists, hand.read_many([f"{_INFO}/{n}" for n in lists]), strict=True):
        # Most packages hold none: a plain search passes them over ten times as fast.
        if data and (b"/lib/systemd/" in data or b"/etc/xdg/autostart/" in data):
            package = name.removesuffix(_ENDING).partition(":")[0]
            found = (text(path).removeprefix("/usr") for path in _DEFINES.findall(data))
            owners.update(dict.fromkeys(found, package))
    return owners


class _About(NamedTuple):
    """What a package says of itself."""

    summary: str
    evidence: tuple[Evidence, ...]
    """What follows from its fields for an item of which nothing else is known."""
    stood_on_by: tuple[str, ...] = ()
    """Packages of other projects that are here and need it."""


def _told(hand: Reach, packages: set[str]) -> dict[str, _About]:
    """What these packages say of themselves."""
    try:
        status = text(hand.read(_STATUS, _MOST_STATUS))
    except OSError:
        return {}
    found: dict[str, _About] = {}
    sources: dict[str, str] = {}
    standing: dict[str, set[str]] = {}
    for about in status.split("\n\n"):
        name = about.removeprefix("Package: ").partition("\n")[0]
        source = re.search(r"(?m)^Source: (\S+)", about)
        sources[name] = source[1] if source else name
        if name in packages:
            said = re.search(r"(?m)^Description: (.*)$", about)
            summary = said[1] if said else ""
            found.setdefault(name, _About(summary, _evidence(about, summary)))
        for needed in _needed(about) & packages:
            standing.setdefault(needed, set()).add(name)
    for name, on_it in standing.items():
        others = sorted(n for n in on_it if sources[n] != sources.get(name))
        if name in found:
            found[name] = found[name]._replace(stood_on_by=tuple(map(plain, others)))
    return found


def _needed(about: str) -> set[str]:
    """Packages without which an installed one cannot be; where several would do, none of them."""
    if _GATHERS.search(about) or "\nStatus: install ok installed\n" not in about:
        return set()
    clauses = ",".join(_NEEDS.findall(about)).split(",")
    return {c.split("(")[0].strip().partition(":")[0] for c in clauses if "|" not in c}


def _evidence(about: str, summary: str) -> tuple[Evidence, ...]:
    found: list[Evidence] = []
    if _ESSENTIAL.search(about):
        found.append("essential")
    if _NETWORK.search(about) and _SERVER.search(summary):
        found.append("server")
    return tuple(found)


def _packaged(item: Item, package: str, told: dict[str, _About], catalogue: Catalogue) -> Item:
    if not package:
        return item
    role = catalogue.role_with(item.area, item.key, package, item.role)
    about = told.get(package, _About("", ()))
    summary = plain(about.summary)
    note = f"{item.note} (package {plain(package)}: {summary})" if summary else item.note
    origin: Origin = "system" if package in _SYSTEM_PACKAGES else "package"
    return msgspec.structs.replace(
        item,
        package=plain(package),
        note=note,
        origin=origin,
        role=role,
        evidence=(*item.evidence, *about.evidence),
        stood_on_by=about.stood_on_by,
    )
