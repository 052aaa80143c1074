"""What starts with the system or at login, by the files that say so: units, entries, jobs.

Sources: systemd.service(5), Exec lines; Desktop Entry Specification 1.5; crontab(5), cron(8).
"""

import posixpath
import re
from collections.abc import Iterator
from typing import NamedTuple

from lumtak.computers.hands.reach import Reach, names_at, text
from lumtak.computers.hands.sent.states.watch_states import SERVICE, TIMER
from lumtak.computers.hands.sent.table import is_own_content
from lumtak.computers.hands.sent.units.entries import entries_in
from lumtak.computers.hands.sent.units.resolving import Gap, Units, of_user
from lumtak.computers.hands.sent.units.syntax import parsed
from lumtak.computers.linux.upkeep.given import Given
from lumtak.computers.linux.watch import is_ours
from lumtak.core.text import plain

_CRON_FILES, _CRON_FOLDER = ("/etc/crontab",), "/etc/cron.d"
_CRON_SCRIPTS = ("/etc/cron.hourly", "/etc/cron.daily", "/etc/cron.weekly", "/etc/cron.monthly")
SPOOL = "/var/spool/cron/crontabs"
_CRON_LINE = re.compile(
    r"(?m)^[ \t]*(?:@[a-z]+|(?:[0-9*][^\s=]*[ \t]+){4}[^\s=]+)[ \t]+(.{1,4096})$"
)
KINDS = (".service", ".timer", ".socket", ".path", ".mount", ".swap")
MOST_UNITS = 20_000


class Starting(NamedTuple):
    """A file that says what is started."""

    path: str
    what: str
    """service, timer, login entry, scheduled job."""
    commands: tuple[str, ...]
    as_root: bool
    """Whether it belongs to the whole system, so that root would be expected."""
    ours: bool = False
    """Whether Lumtak left it."""


class Found(NamedTuple):
    """All that starts, and what of it could not be seen."""

    starts: tuple[Starting, ...]
    gaps: tuple[str, ...]
    """A sentence each."""


def all_that_start(given: Given) -> Found:
    """Of the system and of the user."""
    own, theirs, user = given.hands.own, given.hands.user, given.user
    system = Units(own)
    users = Units(theirs, of_user(user.config_home, user.data_home, f"/run/user/{user.uid}"))
    found = [*_units(system, as_root=True), *_units(users, as_root=False)]
    if is_ours(theirs, user):
        found = [s for s in found if posixpath.basename(s.path) not in {SERVICE, TIMER}]
    gaps = [*system.gaps, *users.gaps]
    folders = [(own, f"{folder}/autostart") for folder in user.config_dirs]
    for hand, folder in (*folders, (theirs, f"{user.config_home}/autostart")):
        entries, gap = entries_in(hand, folder)
        found += [_entry(path, content) for path, content in entries]
        gaps += [gap] if gap else []
    found += _jobs(own, given)
    return Found(tuple(found), tuple(plain(gap.in_words, 300) for gap in gaps))


def _units(units: Units, *, as_root: bool) -> Iterator[Starting]:
    """Every unit that runs something, with its drop-ins; instances that are switched on too."""
    names = [*units.all(KINDS), *(n for n in units.switches() if n.endswith(KINDS))]
    for name in list(dict.fromkeys(names))[:MOST_UNITS]:
        unit = units.find(name)
        what = "timer" if name.endswith(".timer") else "service"
        path = unit.fragment or next(iter(unit.dropins), "")
        if unit.name != name or not path:
            continue  # another name of a unit that has its own
        ours = is_own_content(path, units.content(path)) and not unit.dropins
        yield Starting(path, what, tuple(unit.commands), as_root, ours)
    if len(names) > MOST_UNITS:
        units.gaps.append(Gap("the folders of units", "", MOST_UNITS, len(names)))


def _entry(path: str, content: bytes) -> Starting:
    said = parsed([text(content)])
    return Starting(path, "login entry", tuple(said.get(("Desktop Entry", "Exec"), ())), False)


def _jobs(hand: Reach, given: Given) -> list[Starting]:
    """Of cron: the system's files name the user before the command, a user's own do not."""
    found = []
    paths = [*_CRON_FILES, *(f"{_CRON_FOLDER}/{n}" for n in names_at(hand, _CRON_FOLDER))]
    for path in paths:
        data = given.read(path)
        commands = tuple(c.partition(" ")[2].strip() or c for c in _lines(data))
        if commands:
            found.append(Starting(path, "scheduled job", commands, as_root=True))
    for folder in _CRON_SCRIPTS:
        scripts = [f"{folder}/{n}" for n in names_at(hand, folder) if not n.startswith(".")]
        found += [Starting(path, "scheduled job", (path,), as_root=True) for path in scripts]
    for name in names_at(hand, SPOOL):
        if commands := tuple(_lines(given.read(f"{SPOOL}/{name}"))):
            path = f"{SPOOL}/{name}"
            found.append(Starting(path, "scheduled job", commands, as_root=name == "root"))
    return found


def _lines(data: str) -> list[str]:
    return [m.replace("\t", " ").strip() for m in _CRON_LINE.findall(data)]
