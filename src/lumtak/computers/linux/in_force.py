"""Whether what is stored is in force: the display itself is asked, where it can tell."""

import time
from collections.abc import Callable
from typing import Any

from lumtak.computers.hands.reach import Reach, reason_of
from lumtak.computers.hands.sent.desktop.desktops import Key
from lumtak.computers.hands.whose import User
from lumtak.computers.linux.closely import uid_of
from lumtak.computers.linux.session import environment_of, is_wayland
from lumtak.core.setting import IN_FORCE, not_in_force
from lumtak.core.text import number, plain

_COMPOSER = "_NET_WM_CM"
_MOST_PROCESSES, _MOST_DISPLAYS = 500, 4
_SETTLES_S, _LOOK_S = 2.0, 0.05
"""What a desktop takes until a new value is in force."""

Display = dict[str, Any] | str
"""What the display of a user's session says, or why nothing can be said, as a clause; empty where
that is no news."""


def display_of(hand: Reach, of_user: Reach, user: User) -> Display:
    """Ask the display at which the user is logged in.

    Args:
        hand: of the computer.
        of_user: the user's, which alone may ask.
        user: whose session.
    """
    if not hand.live or is_wayland(hand, user):
        return ""  # there are no such servers in a folder, and Wayland tells nobody
    why = f"{plain(user.name, 60)} is not logged in at a display"
    for name, authority in displays_of(hand, of_user, user).items():
        try:
            return of_user.display(name, authority if of_user.exists(authority) else "")
        except OSError as error:
            why = f"the display {plain(name, 40)} cannot be asked: {reason_of(error)}"
    return why


def displays_of(hand: Reach, of_user: Reach, user: User) -> dict[str, str]:
    """The displays that processes of the user know, those of the newest first, each with its file
    of cookies.
    """
    pids = sorted((int(n) for n in hand.names("/proc") if n.isdigit()), reverse=True)
    found: dict[str, str] = {}
    for pid in pids[:_MOST_PROCESSES]:
        said = environment_of(of_user, pid) if uid_of(hand, pid) == user.uid else {}
        if (name := said.get("DISPLAY")) and len(found) < _MOST_DISPLAYS:
            found.setdefault(name, said.get("XAUTHORITY") or f"{user.home}/.Xauthority")
    return found


def said_of(key: Key, wanted: str, display: Display) -> str:
    """Whether a switch is in force; empty where that cannot be seen.

    Args:
        key: keeps it.
        wanted: on or off, as it is stored or counts while nothing is.
        display: from `display_of`.
    """
    if not key.force or wanted not in {"on", "off"}:
        return ""
    if isinstance(display, str):
        return not_in_force(display) if display else ""
    why = _composing(wanted, display) if key.force == _COMPOSER else _passed(key, wanted, display)
    return "" if why is None else not_in_force(why) if why else IN_FORCE


def _composing(wanted: str, display: dict[str, Any]) -> str:
    """Why compositing is not as it is wanted; empty where it is."""
    if display["composed"] == (wanted == "on"):
        return ""
    if wanted == "off":
        return "a program composes windows all the same"
    return "nothing composes windows" if display["managed"] else "no window manager runs"


def _passed(key: Key, wanted: str, display: dict[str, Any]) -> str | None:
    """Why programs are passed another value; empty where they are not, None where none is."""
    if not display["passed on"]:
        return "no program passes settings of the desktop on"
    value = number(str(display["settings"].get(key.force)))
    if value is None:
        return None
    now = "off" if value == 0 else "on"
    return "" if now == wanted else f"programs are told that it is {now}"


def settled(key: Key, wanted: str, ask: Callable[[], Display]) -> str:
    """What is said of a switch once the desktop has come to rest.

    Args:
        key: keeps it.
        wanted: on or off.
        ask: the display.
    """
    until = time.monotonic() + _SETTLES_S
    while True:
        display = ask()
        said = said_of(key, wanted, display)
        asleep = (
            isinstance(display, str)
            or not display["managed" if key.force == _COMPOSER else "passed on"]
        )
        if said in {"", IN_FORCE} or asleep or time.monotonic() >= until:
            return said
        time.sleep(_LOOK_S)
