"""The session of a user: which desktop it is, its processes, its display and bus."""

from collections.abc import Sequence

from lumtak.computers.hands.reach import Reach, text, text_at
from lumtak.computers.hands.sent.desktop.desktop_data import DESKTOPS
from lumtak.computers.hands.whose import User
from lumtak.computers.linux.closely import uid_of
from lumtak.computers.linux.hardware import sessions
from lumtak.computers.linux.ini_text import find, value_in

_UNTOLD = {"", "default", "custom", "x11", "wayland"}
"""Names of sessions that say nothing of the desktop."""


def desktops_of(hand: Reach, user: User) -> list[str]:
    """Names of the desktop of the user's newest session, as it calls itself, or else of the one
    that ran last; none where nobody tells.
    """
    newest = (sessions(hand, user.uid) or [])[-1:]
    running = [d for s in newest for d in s.get("DESKTOP", "").split(":")]
    told = _telling(running) or list(user.desktops) or _telling(_last(hand, user))
    return list(dict.fromkeys(map(_registered, told)))


def _telling(names: Sequence[str]) -> list[str]:
    return [name for name in names if name.lower() not in _UNTOLD]


def _last(hand: Reach, user: User) -> list[str]:
    """The session that the user chose last, as AccountsService keeps it: root may see that."""
    data = text_at(hand, f"/var/lib/AccountsService/users/{user.name}").encode()
    named = (value_in(data, find(data, "User", key)) for key in ("Session", "XSession"))
    return [name for name in named if name][:1]


def _registered(name: str) -> str:
    """The registered name of a desktop that a session names."""
    wanted = name.lower()
    for desktop in DESKTOPS:
        if own := next((n for n in desktop.names if n.lower() == wanted), ""):
            return own
        if wanted in desktop.sessions:
            return desktop.names[0]
    return name


def is_wayland(hand: Reach, user: User) -> bool:
    """Whether the newest session is one of Wayland."""
    return [s.get("TYPE") for s in sessions(hand, user.uid) or []][-1:] == ["wayland"]


_NAMES = ("DISPLAY", "XAUTHORITY", "DBUS_SESSION_BUS_ADDRESS")
_MOST_ENVIRONMENT = 1 << 17


def process_of(hand: Reach, user: User, names: Sequence[str]) -> int | None:
    """A process of the user's with one of these names; the newest where there are several."""
    found = [
        int(pid)
        for pid in hand.names("/proc")
        if pid.isdigit() and text_at(hand, f"/proc/{pid}/comm") in names
    ]
    mine = [pid for pid in found if uid_of(hand, pid) == user.uid]
    return max(mine, default=None)


def environment_of(of_user: Reach, pid: int) -> dict[str, str]:
    """Where the display and the bus of a process are, as it was started; proc(5), environ.

    Read as the user, and believed for what is done as the user only.
    """
    try:
        data = of_user.read(f"/proc/{pid}/environ", _MOST_ENVIRONMENT)
    except OSError:
        return {}
    said = dict(line.partition("=")[::2] for line in text(data).split("\0"))
    return {name: value for name in _NAMES if (value := said.get(name, "")) and value.isprintable()}
