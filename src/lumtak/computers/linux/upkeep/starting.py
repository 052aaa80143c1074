"""What starts with the system or at login, by the files that say so: units, entries, jobs.

Sources: systemd.service(5), Exec lines; Desktop Entry Specification 1.5; crontab(5), cron(8).
"""

import posixpath
import re
from typing import NamedTuple

from lumtak.computers.hands.reach import Reach, names_at, text
from lumtak.computers.hands.sent.states.watch_states import SERVICE, TIMER
from lumtak.computers.hands.sent.table import is_own_content
from lumtak.computers.linux.upkeep.given import Given
from lumtak.computers.linux.watch import is_ours

_OLD_UNITS = "/lib/systemd/system"
_UNITS_OF_SYSTEM = (
    "/etc/systemd/system",
    "/usr/local/lib/systemd/system",
    "/usr/lib/systemd/system",
    _OLD_UNITS,
)
_UNITS_OF_ALL = ("/etc/systemd/user", "/usr/lib/systemd/user")
_CRON_FILES, _CRON_FOLDER = ("/etc/crontab",), "/etc/cron.d"
_CRON_SCRIPTS = ("/etc/cron.hourly", "/etc/cron.daily", "/etc/cron.weekly", "/etc/cron.monthly")
SPOOL = "/var/spool/cron/crontabs"
_EXEC = re.compile(
    r"(?m)^Exec(?:Start|StartPre|StartPost|Stop|Reload)?\s*=\s*[-@:+!|]*(.{1,4096})$"
)
_CRON_LINE = re.compile(
    r"(?m)^[ \t]*(?:@[a-z]+|(?:[0-9*][^\s=]*[ \t]+){4}[^\s=]+)[ \t]+(.{1,4096})$"
)
_MOST_OF_ONE, _MOST_FILES = 1 << 16, 3000


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


def all_that_start(given: Given) -> list[Starting]:
    """Of the system and of the user."""
    own, theirs, user = given.hands.own, given.hands.user, given.user
    found = []
    for folder in _UNITS_OF_SYSTEM:
        if folder != _OLD_UNITS or own.link("/lib") is None:  # else it is the one before
            found += _units(own, folder, as_root=True)
    for folder in _UNITS_OF_ALL:
        found += _units(own, folder, as_root=False)
    for folder in (f"{user.config_home}/systemd/user", f"{user.data_home}/systemd/user"):
        found += _units(theirs, folder, as_root=False)
    if is_ours(theirs, user):
        found = [s for s in found if posixpath.basename(s.path) not in {SERVICE, TIMER}]
    for folder in user.config_dirs:
        found += _files(own, f"{folder}/autostart", ".desktop", "login entry", as_root=False)
    found += _files(
        theirs, f"{user.config_home}/autostart", ".desktop", "login entry", as_root=False
    )
    return found + _jobs(own, given)


def _units(hand: Reach, folder: str, *, as_root: bool) -> list[Starting]:
    return _files(hand, folder, ".service", "service", as_root=as_root) + _files(
        hand, folder, ".timer", "timer", as_root=as_root
    )


def _files(hand: Reach, folder: str, ending: str, what: str, *, as_root: bool) -> list[Starting]:
    names = [n for n in names_at(hand, folder) if n.endswith(ending)][:_MOST_FILES]
    paths = [f"{folder}/{n}" for n in names if hand.link(f"{folder}/{n}") is None]
    found = []
    for path, data in zip(paths, hand.read_many(paths, _MOST_OF_ONE), strict=True):
        commands = tuple(m.strip() for m in _EXEC.findall(text(data or b"")))
        ours = is_own_content(path, data or b"")
        found.append(Starting(path, what, commands, as_root, ours))
    return found


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
