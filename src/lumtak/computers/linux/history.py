"""Since when an item is here, and when it was last used, as far as anything tells.

Sources: dpkg's log (dpkg(1), --log) and lists; systemd's times of a unit
(org.freedesktop.systemd1); what the user opened with which
program (Desktop Bookmark Specification, recently-used.xbel).
"""

import contextlib
import posixpath
import re
import shlex
from collections.abc import Iterable
from datetime import UTC, date, datetime
from urllib.parse import unquote_to_bytes, urlsplit
from xml.etree import ElementTree as ET

from lumtak.computers.hands.reach import Reach, reason_of, text, text_at
from lumtak.computers.hands.sent.files.words import escaped
from lumtak.computers.hands.whose import User
from lumtak.computers.linux.units import blocks
from lumtak.core.facts import Item
from lumtak.core.text import plain

_INFO, _LOGS = "/var/lib/dpkg/info", ("/var/log/dpkg.log", "/var/log/dpkg.log.1")
_MOST_LOG, _MOST_OPENED = 1 << 24, 1 << 22
_TIMES = "InactiveExitTimestampMonotonic,InactiveEnterTimestampMonotonic"
_BOOKMARK = "{http://www.freedesktop.org/standards/desktop-bookmarks}application"
_DAY_S = 86400.0


def history(
    hand: Reach, of_user: Reach, user: User, item: Item, uptime_s: float
) -> tuple[str, ...]:
    """Lines about one item, for people.

    Args:
        hand: of the computer.
        of_user: the user's.
        user: whose.
        item: a service or an app.
        uptime_s: seconds since the computer started.
    """
    return (_installed(hand, item.package), _used(hand, of_user, user, item, uptime_s))


def _installed(hand: Reach, package: str) -> str:
    if not package:
        return "since when it is here is not known: no package brought it"
    line = re.compile(rf"(?m)^(\d{{4}}-\d\d-\d\d) \S+ install {re.escape(package)}(?::\S+)? ")
    dates = [d for log in _LOGS for d in line.findall(text_at(hand, log, _MOST_LOG))]
    if dates:
        return f"installed on {max(dates)}, as the package manager noted"
    try:
        for rows in hand.walk(_INFO):
            for path, _, _, changed in rows:
                if re.fullmatch(rf"{re.escape(package)}(?::\w+)?\.list", posixpath.basename(path)):
                    day = datetime.fromtimestamp(changed, UTC).date().isoformat()
                    return f"installed by {day}, or before: that is when its package last changed"
    except OSError as error:
        return f"since when it is here is not known, it cannot be read: {reason_of(error)}"
    return "since when it is here is not known: the package manager kept no note"


def _used(hand: Reach, of_user: Reach, user: User, item: Item, uptime_s: float) -> str:
    if item.area == "services":
        return _started(hand, item, uptime_s)
    if opened := _opened(of_user, user, item):
        return f"last opened a file on {opened}, as the desktop noted"
    return "when it was last used is not known: nothing noted it"


def _started(hand: Reach, item: Item, uptime_s: float) -> str:
    unit = item.key if item.key.endswith(".timer") else f"{item.key}.service"
    try:
        shown = hand.run(
            ("systemctl", "show", "--no-pager", f"--property=Id,{_TIMES}", "--", unit), partly=True
        )
    except OSError:
        return "when it last started is not known: systemd does not answer"
    fields = next(iter(blocks(text(shown))), {})
    began, ended = (int(fields.get(n) or 0) / 1e6 for n in _TIMES.split(","))
    if not began:
        return f"has not started since the computer did, {_ago(uptime_s)}"
    since = f"last started {_ago(max(0.0, uptime_s - began))}"
    return f"{since}, and ended {_ago(max(0.0, uptime_s - ended))}" if ended > began else since


def _ago(seconds: float) -> str:
    days = int(seconds // _DAY_S)
    if days:
        return f"{days} day{'s' if days > 1 else ''} ago"
    hours = int(seconds // 3600)
    return f"{hours} hour{'s' if hours > 1 else ''} ago" if hours else "within the last hour"


def _opened(of_user: Reach, user: User, item: Item) -> str:
    """The day on which the user last opened a file with it; empty where nothing tells."""
    days = [day for names, day in _bookmarks(of_user, user) if not names.isdisjoint(_names(item))]
    return plain(max(days)) if days else ""


def _names(item: Item) -> set[str]:
    return {item.title.casefold(), item.key.rpartition("/")[2].casefold()}


def last_opened(of_user: Reach, user: User) -> dict[str, str]:
    """The day on which the user last opened a file, by its path, as the desktop noted."""
    root = _noted(of_user, user)
    found: dict[str, str] = {}
    for one in root.iter("bookmark") if root is not None else ():
        url = urlsplit(one.get("href", ""))
        day = re.match(r"\d{4}-\d\d-\d\d", one.get("visited") or one.get("modified") or "")
        if url.scheme == "file" and day:
            path = escaped(unquote_to_bytes(url.path).decode("utf-8", "surrogateescape"))
            found[path] = max(day[0], found.get(path, ""))
    return found


def _noted(of_user: Reach, user: User) -> ET.Element | None:
    try:
        data = of_user.read(posixpath.join(user.data_home, "recently-used.xbel"), _MOST_OPENED)
        # What grows while it is read stands in no such file; the rest is bounded by its size.
        return ET.fromstring(b"" if b"<!" in data else data)  # noqa: S314
    except (OSError, ET.ParseError):
        return None


def _bookmarks(of_user: Reach, user: User) -> list[tuple[set[str], str]]:
    """(names of a program, a day on which the user opened a file with it), as the desktop noted."""
    root = _noted(of_user, user)
    return [
        ({app.get("name", "").casefold(), _program(app.get("exec", ""))}, day[0])
        for app in (root.iter(_BOOKMARK) if root is not None else ())
        if (day := re.match(r"\d{4}-\d\d-\d\d", app.get("modified", "")))
    ]


def used_days(of_user: Reach, user: User, items: Iterable[Item], today: date) -> dict[str, float]:
    """Days since the user last opened a file with an app, by consumer; those that nothing tells of
    are left out.
    """
    noted = _bookmarks(of_user, user)
    found: dict[str, float] = {}
    for item in items:
        days = [
            d for names, d in noted if item.area == "apps" and not names.isdisjoint(_names(item))
        ]
        with contextlib.suppress(ValueError):  # no day of any calendar
            if days:
                found[item.consumer] = float((today - date.fromisoformat(max(days))).days)
    return found


def _program(command: str) -> str:
    """The name of the program in a command of a bookmark, which stands in quotation marks."""
    try:
        words = shlex.split(command.strip("'"))
    except ValueError:
        words = []
    return posixpath.basename(words[0]).casefold() if words else ""


def opened_with(of_user: Reach, user: User) -> dict[str, str]:
    """The day on which the user last opened a file with a program, by a name of it."""
    found: dict[str, str] = {}
    for names, day in _bookmarks(of_user, user):
        for name in names - {""}:
            with contextlib.suppress(ValueError):
                date.fromisoformat(day)
                found[name] = max(day, found.get(name, ""))
    return found
