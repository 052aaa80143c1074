"""The session of a user: which desktop it is, its processes, its display and bus."""

from collections.abc import Sequence

from lumtak.computers.hands.desktop_data import DESKTOPS
from lumtak.computers.hands.reach import Reach, text, text_at
from lumtak.computers.hands.whose import User
from lumtak.computers.linux.closely import uid_of
from lumtak.computers.linux.hardware import sessions

_UNTOLD = {"", "default", "custom", "x11", "wayland"}
"""Names of sessions that say nothing of the desktop."""


def desktops_of(hand: Reach, user: User) -> list[str]:
    """Names of the desktop of the user's newest session, as it calls itself; none where nobody
    tells.
    """
    newest = (sessions(hand, user.uid) or [])[-1:]
    told = [d for s in newest for d in s.get("DESKTOP", "").split(":") if d.lower() not in _UNTOLD]
    return list(dict.fromkeys(map(_registered, told or user.desktops)))


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
