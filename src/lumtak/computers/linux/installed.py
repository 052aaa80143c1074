"""Programs that are installed on a Linux computer, by the databases of their package managers.

Sources: dpkg(1) and deb-control(5); rpm(8), --queryformat; flatpak(1) and snap(8), FILES.
"""

import posixpath
import re
from collections.abc import Sequence
from datetime import UTC, datetime
from typing import NamedTuple

import msgspec

from lumtak.computers.hands.reach import Reach, names_at, reason_of, text, text_at
from lumtak.computers.hands.sent.system.packages import (
    GREETER,
    INFO,
    MARKS,
    MOST_STATUS,
    STATUS,
    Package,
    Packages,
    carries,
    list_names,
)
from lumtak.computers.hands.whose import User
from lumtak.computers.linux.desktop_entry import read_entry
from lumtak.computers.linux.history import opened_with
from lumtak.core.facts import Item
from lumtak.core.installed import Installed, Programs
from lumtak.core.record import NotMeasured
from lumtak.core.text import capital, plain
from lumtak.errors import ComputerError

_REHEARSAL_S, _APT = 60.0, "/etc/apt/apt.conf.d"
_DAY_S, _AFTER_S = 86_400.0, 120.0
"""Unpacking goes on for a moment after a file came."""
_PROGRAM = re.compile(r"(?:/usr)?/(?:s?bin|games)/[^/]+|/opt/.+/[^/]+")
_MENU = re.compile(r"/usr/share/applications/[^/]+\.desktop")
_MOST_STARTED, _SUMMARY, _TOLD = 24, 80, 20
_FORM = r"%{NAME}\t%{VERSION}-%{RELEASE}\t%{ARCH}\t%{SIZE}\t%{INSTALLTIME}\t%{SUMMARY}\n"
_RPM = ("rpm", "--query", "--all", "--queryformat", _FORM)


UNUSED = "none of its programs was read since it came or was updated"


class _Files(NamedTuple):
    """What the list of a package's files tells."""

    programs: tuple[str, ...]
    entries: tuple[str, ...]
    own: str
    """What of the system's own it brings; empty for nothing."""


def installed(
    hand: Reach, of_user: Reach, user: User, items: Sequence[Item], now: float
) -> Programs:
    """See `About.installed`.

    Args:
        hand: of the computer.
        of_user: the user's.
        user: whose notes tell when something was used.
        items: of the computer: what starts by itself.
        now: seconds since 1970.
    """
    found: list[Installed] = []
    gaps: list[str] = []
    for ask in (_of_dpkg, _of_rpm, _of_flatpak, _of_snap):
        try:
            more, why = ask(hand, of_user, user, now)
        except OSError as error:
            more, why = [], f"{ask.__name__.removeprefix('_of_')}: {reason_of(error)}"
        found += more
        gaps += [capital(f"{why}.")] if why else []
    starts: dict[str, list[str]] = {}
    for item in items:
        if item.package and item.area in {"services", "apps"}:
            starts.setdefault(item.package, []).append(item.title)
    made = [msgspec.structs.replace(p, starts=tuple(starts.get(p.name, ())[:_TOLD])) for p in found]
    made.sort(key=lambda p: (-p.whole_bytes, p.name))
    return Programs(found=tuple(made), gaps=tuple(gaps))


# -- dpkg ------------------------------------------------------------------------------------------


def _of_dpkg(hand: Reach, of_user: Reach, user: User, now: float) -> tuple[list[Installed], str]:
    if not hand.exists(STATUS):
        return [], ""
    marks = text_at(hand, MARKS, MOST_STATUS)
    said = [data or b"" for data in hand.read_many([f"{_APT}/{n}" for n in names_at(hand, _APT)])]
    status = text(hand.read(STATUS, MOST_STATUS))
    known = Packages(status, marks + "\n" if marks else "", text(b"\n".join(said)))
    mine = list(known.all.values())
    told = _Told(
        known,
        _files_of(hand, mine, text_at(hand, GREETER).encode()),
        _came(hand),
        text_at(hand, "/proc/sys/kernel/osrelease"),
        _Used(hand, of_user, user, now),
    )
    return [_program(package, told) for package in mine], known.broken


class _Told(NamedTuple):
    """What is known of packages."""

    known: Packages
    files: dict[str, _Files]
    came: dict[str, float]
    release: str
    used: "_Used"


def _program(package: Package, told: _Told) -> Installed:
    known, key = told.known, package.key
    takes = sorted(known.would_go([key]) - {key})
    only = sorted(known.only_for([key, *takes]))
    days, how = told.used.of(told.files.get(key))
    came = told.came.get(package.name) or told.came.get(f"{package.name}:{package.arch}")
    why = _why_not([key, *takes], told)
    size = package.bytes
    return Installed(
        name=key,
        manager="dpkg",
        title=plain(package.summary or package.name, _SUMMARY),
        version=plain(package.version, 100),
        arch=plain(package.arch, 20),
        bytes=float(size) if size >= 0 else NotMeasured(not_measured="its package does not say"),
        only=tuple(only),
        only_bytes=float(sum(max(0, known.all[o].bytes) for o in only)),
        takes=tuple(takes),
        auto=key in known.auto,
        installed_on=_day(came),
        used_days=days,
        used_by=how,
        unused=how == UNUSED,
        why_not=capital(f"{plain(why, 400)}.") if why else "",
        command=f"dpkg --remove {key}",
    )


def _why_not(keys: list[str], told: _Told) -> str:
    """Why a package cannot be chosen, as a clause, with what would go with it."""
    if why := told.known.why_not(keys, told.release):
        return why
    own = next(
        (told.files[key].own for key in keys if key in told.files and told.files[key].own), ""
    )
    along = f" (with {', '.join(keys[1:_TOLD])})" if len(keys) > 1 else ""
    return f"it brings {own}, which the system or its desktop needs{along}" if own else ""


def _day(seconds: float | None) -> str:
    return f"{datetime.fromtimestamp(seconds, UTC):%Y-%m-%d}" if seconds else ""


def _came(hand: Reach) -> dict[str, float]:
    """When the list of a package's files was written, by its name."""
    found: dict[str, float] = {}
    for rows in hand.walk(INFO):
        for path, _, _, changed in rows:
            folder, name = posixpath.split(path)
            if folder == INFO and name.endswith(".list"):
                found[name.removesuffix(".list")] = float(changed)
    return found


def _files_of(hand: Reach, packages: Sequence[Package], greeter: bytes) -> dict[str, _Files]:
    """What each package brought, by its key."""
    here = set(names_at(hand, INFO))
    named = []
    for package in packages:
        there = [n for n in list_names(package) if posixpath.basename(n) in here]
        named += [(package.key, path) for path in there[:1]]
    found: dict[str, _Files] = {}
    for at in range(0, len(named), 500):
        part = named[at : at + 500]
        for (key, _), data in zip(part, hand.read_many([p for _, p in part], 1 << 24), strict=True):
            found[key] = _read(data or b"", greeter)
    return found


def _read(data: bytes, greeter: bytes) -> _Files:
    lines = text(data).splitlines()
    programs = tuple(filter(_PROGRAM.fullmatch, lines))[:_MOST_STARTED]
    entries = tuple(filter(_MENU.fullmatch, lines))[:_MOST_STARTED]
    return _Files(programs, entries, carries(data, greeter))


class _Used:
    """When programs were last used, and how that is known."""

    def __init__(self, hand: Reach, of_user: Reach, user: User, now: float) -> None:
        self._hand, self._now = hand, now
        self._opened = opened_with(of_user, user)

    def of(self, files: _Files | None) -> tuple[float | NotMeasured, str]:
        """(days since then, how it is known); not known where nothing tells."""
        if files is None or not (files.programs or files.entries):
            return NotMeasured(not_measured="it has no program of its own"), ""
        days = self._by_desktop(files)
        if days is not None:
            return days, "the desktop noted a file that was opened with it"
        return self._by_times(files)

    def _by_desktop(self, files: _Files) -> float | None:
        names = {posixpath.basename(p).casefold() for p in files.programs}
        for data in self._hand.read_many(list(files.entries)) if files.entries else ():
            names.add(read_entry(data or b"").get("Name", "").casefold())
        seen = [day for name, day in self._opened.items() if name in names]
        if not seen:
            return None
        at = datetime.fromisoformat(f"{max(seen)}T12:00:00+00:00").timestamp()
        return max(0.0, (self._now - at) // _DAY_S)

    def _by_times(self, files: _Files) -> tuple[float | NotMeasured, str]:
        told = self._hand.times_of(list(files.programs))
        times = [t for t in told if t is not None and t[0] >= 0]
        if not times:
            return NotMeasured(not_measured="this disk keeps no times of reading"), ""
        read, came = max(t[0] for t in times), max(t[1] for t in times)
        if read > came + _AFTER_S:
            return max(0.0, (self._now - read) // _DAY_S), (
                "a program of it was last read then: started, or only looked at"
            )
        return max(0.0, (self._now - came) // _DAY_S), UNUSED


# -- others: shown, each with its own command ------------------------------------------------------

_NOT_OURS = "Lumtak removes packages of dpkg only; its own command does it."


def _of_rpm(hand: Reach, of_user: Reach, user: User, now: float) -> tuple[list[Installed], str]:
    del of_user, user, now
    if not (
        hand.live and (names_at(hand, "/var/lib/rpm") or names_at(hand, "/usr/lib/sysimage/rpm"))
    ):
        return [], ""
    found = []
    for line in text(hand.run(_RPM, 60.0)).splitlines():
        cells = line.split("\t")
        if len(cells) == 6 and cells[3].isdigit():
            name, version, arch, size, came, title = cells
            found.append(
                Installed(
                    name=plain(name, 100), manager="rpm", title=plain(title, _SUMMARY),
                    version=plain(version, 60), arch=plain(arch, 20), bytes=float(size),
                    installed_on=_day(float(came)) if came.isdigit() else "",
                    why_not=_NOT_OURS, command=f"rpm --erase {plain(name, 100)}",
                )
            )  # fmt: skip
    return found, ""


def _of_flatpak(hand: Reach, of_user: Reach, user: User, now: float) -> tuple[list[Installed], str]:
    del now
    found = []
    for reach, top in ((hand, "/var/lib/flatpak/app"), (of_user, f"{user.data_home}/flatpak/app")):
        for name in names_at(reach, top):
            size = _held(reach, f"{top}/{name}")
            found.append(
                Installed(
                    name=plain(name, 100), manager="flatpak", title=plain(name, _SUMMARY),
                    bytes=size, why_not=_NOT_OURS, command=f"flatpak uninstall {plain(name, 100)}",
                )
            )  # fmt: skip
    return found, ""


def _held(hand: Reach, folder: str) -> float:
    return float(sum(row[2] for rows in hand.walk(folder) for row in rows))


def _of_snap(hand: Reach, of_user: Reach, user: User, now: float) -> tuple[list[Installed], str]:
    del of_user, user, now
    sizes: dict[str, float] = {}
    top = "/var/lib/snapd/snaps"
    for rows in hand.walk(top) if hand.exists(top) else ():
        for path, _, size, _ in rows:
            name = posixpath.basename(path)
            if name.endswith(".snap"):
                package = name.rpartition("_")[0]
                sizes[package] = sizes.get(package, 0.0) + size
    return [
        Installed(
            name=plain(name, 100), manager="snap", title=plain(name, _SUMMARY), bytes=size,
            why_not=_NOT_OURS, command=f"snap remove {plain(name, 100)}",
        )
        for name, size in sizes.items()
    ], ""  # fmt: skip


def rehearse(hand: Reach, names: Sequence[str]) -> None:
    """See `About.rehearse`; dpkg(1), --simulate."""
    try:
        hand.run(("dpkg", "--simulate", "--remove", "--", *names), _REHEARSAL_S)
    except OSError as error:
        raise ComputerError(
            f"The package manager would not remove {', '.join(map(plain, names))[:300]}:"
            f" {reason_of(error)}.",
            "Nothing was removed.",
        ) from error
