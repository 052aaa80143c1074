"""The desktop that counts, the settings that it keeps, and what they are called.

What runs counts, and not what is installed besides: a desktop may ship the window manager of
another, whose settings are for nothing then.
"""

import re
import tomllib
from collections.abc import Mapping, Sequence
from functools import lru_cache
from importlib.resources import files
from typing import ClassVar, NamedTuple

from lumtak.computers.hands.desktop_data import DESKTOPS
from lumtak.computers.hands.desktops import Desktop, Key
from lumtak.computers.hands.reach import Reach, text, text_at
from lumtak.computers.hands.whose import User
from lumtak.computers.linux.adapter import Adapter, Look
from lumtak.computers.linux.closely import uid_of
from lumtak.computers.linux.hardware import sessions
from lumtak.core.facts import Fixed, Item, Setting
from lumtak.core.setting import Area, SettingRef, Shows
from lumtak.core.text import number, plain
from lumtak.errors import ComputerError

_COMPILED = tuple(
    f"{d}/glib-2.0/schemas/gschemas.compiled" for d in ("/usr/local/share", "/usr/share")
)
"""What glib-compile-schemas(1) makes of all schemas: their names stand in it as they are."""
_MOST_COMPILED = 1 << 24
_ANY = "*"
_UNTOLD = {"", "default", "custom", "x11", "wayland"}
"""Names of sessions that say nothing of the desktop."""
LONGEST_S = 86_400
ODD = "it holds a value of another kind than Lumtak knows; set it by hand"
LOCKED = "the administrator keeps it as it is for everybody"


class Words(NamedTuple):
    """What a setting of a desktop is."""

    title: str
    role: str = ""
    part_of: str = ""


@lru_cache(maxsize=1)
def words() -> dict[str, Words]:
    """What the settings of desktops are, by their keys."""
    said = (files("lumtak") / "data" / "effects.toml").read_text(encoding="utf-8")
    return {key: Words(**more) for key, more in tomllib.loads(said).items()}


# -- which desktop counts --------------------------------------------------------------------------


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


class Kept(NamedTuple):
    """What the desktop that counts keeps here."""

    keys: tuple[Key, ...]
    unknown: str = ""
    """The desktop that runs, where nothing is known of it."""


def kept_here(hand: Reach, user: User) -> Kept:
    """The keys that count, the first of each setting; of what goes with any desktop, all."""
    compiled = b""
    if hand.live:
        compiled = b"".join(data for data in hand.read_many(_COMPILED, _MOST_COMPILED) if data)
    here = {d.names: _here(hand, d, compiled) for d in DESKTOPS}
    used = desktops_of(hand, user)
    counts = _counting(used, here)
    found: dict[tuple[str, str], Key] = {}
    for names in (*counts, (_ANY,)):
        for key in here[names]:
            found.setdefault((key.area, key.setting), key)
    if _is_wayland(hand, user):  # where nothing is shown without it, it is no choice
        found.pop(("effects", "compositing"), None)
    return Kept(tuple(found.values()), "" if counts else ":".join(used))


def _counting(
    used: Sequence[str], here: Mapping[tuple[str, ...], Sequence[Key]]
) -> list[tuple[str, ...]]:
    """The desktop that runs; where nobody tells, the first that is here at all."""
    own = [names for names in here if names != (_ANY,)]
    if used:
        return [names for names in own if not set(names).isdisjoint(used)][:1]
    return [names for names in own if here[names]][:1]


def _here(hand: Reach, desktop: Desktop, compiled: bytes) -> list[Key]:
    """The keys of a desktop whose places are on this computer."""
    known: dict[tuple[str, ...], bool] = {}
    found = []
    for key, files_there in desktop.here.items():
        asked = files_there or (key.at,)
        if asked not in known:
            known[asked] = (
                key.at.encode() in compiled
                if key.store == "gsettings"
                else any(hand.exists(path) for path in asked)
            )
        if known[asked]:
            found.append(key)
    return found


def _is_wayland(hand: Reach, user: User) -> bool:
    return [s.get("TYPE") for s in sessions(hand, user.uid) or []][-1:] == ["wayland"]


class DesktopAdapter(Adapter):
    """Settings that one kind of store keeps of the desktop that counts."""

    area: ClassVar[Area] = "effects"
    store: ClassVar[str]

    def has(self, ref: SettingRef) -> bool:
        """Whether such a store keeps this setting here."""
        return super().has(ref) and any(k.setting == ref.key for k in self.keys())

    def keys(self, look: Look | None = None) -> list[Key]:
        """What such a store keeps here."""
        asked = (self._hand, self._user)
        kept = kept_here(*asked) if look is None else look.once(kept_here, *asked)
        return [k for k in kept.keys if (k.area, k.store) == (self.area, self.store)]

    def key_of(self, ref: SettingRef) -> Key:
        """The key that keeps a setting.

        Raises:
            ComputerError: none does.
        """
        found = next((k for k in self.keys() if k.setting == ref.key), None)
        if found is None:
            raise ComputerError(
                f"{plain(ref.key)} is no setting of this desktop.", "Audit the computer again."
            )
        return found


# -- the user's session ----------------------------------------------------------------------------

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


# -- values and their texts ------------------------------------------------------------------------


def value_of(key: Key, raw: str) -> str | None:
    """The value of what a store has; None where that is nothing.

    Of a number the seconds; of what is none its text.
    """
    if not raw:
        return None
    if key.is_number:
        units = number(raw.removeprefix("uint32 ").removeprefix("int32 "))
        return raw if units is None else str(units * key.each_s)
    return "off" if raw == key.off else "on"


def raw_of(key: Key, ref: SettingRef, value: str | None, default: str = "") -> str:
    """What a store is to have for a value; nothing where it is to be unset.

    Args:
        key: keeps it.
        ref: the setting.
        value: wanted.
        default: the store's text while nothing is stored: a list that is on has no other.

    Raises:
        ComputerError: it cannot have it.
    """
    if value is None:
        return ""
    if not key.is_number:
        on = key.on or default
        if value == "on" and not on:
            raise ComputerError(
                f"{ref} has nothing to be switched on.", "Add it in the desktop's own settings."
            )
        return key.off if value == "off" else on
    seconds = number(value)
    if seconds is None or seconds % key.each_s:
        raise ComputerError(
            f"{ref} cannot be {plain(value)}.",
            f"Give seconds, in steps of {key.each_s}; 0 is never.",
        )
    units = seconds // key.each_s
    return f"uint32 {units}" if key.kind == "u" and key.store == "gsettings" else str(units)


_SHAPES = {
    "b": r"true|false",
    "i": r"-?\d{1,10}",
    "u": r"(?:uint32 )?\d{1,10}",
    "d": r"-?\d{1,10}(?:\.\d{1,20})?",
    "as": r"@as \[\]|\[.*\]",
}


def is_odd(key: Key, raw: str) -> bool:
    """Whether a store has something of another kind than its key is."""
    return bool(raw) and re.fullmatch(_SHAPES.get(key.kind, r".*"), raw) is None


def item_of(key: Key, raw: str, default: str, *, note: str, shows: Shows, fixed: str = "") -> Item:
    """The item of a setting.

    Args:
        key: keeps it.
        raw: what the store has; empty where it is unset.
        default: what counts while it is unset, as the store has it; empty where nobody tells.
        note: where it stands.
        shows: when a change shows.
        fixed: why it cannot be changed; empty where it can.
    """
    said = words()[key.setting]
    value, otherwise = value_of(key, raw), value_of(key, default) or ""
    why = fixed or (ODD if is_odd(key, raw) else "")
    area: Area = "power" if key.area == "power" else "effects"
    setting = (
        Setting(lowest=0, highest=LONGEST_S, shows=shows)
        if key.is_number
        else Setting(values=("on", "off"), shows=shows)
    )
    return Item(
        area=area,
        key=key.setting,
        title=said.title,
        origin="system",
        role=said.role,
        part_of=said.part_of,
        value=None if value is None else plain(value, 100),
        default=plain(otherwise, 100),
        running=(value or otherwise) != "off",
        setting=Fixed(needed=why) if why else setting,
        note=plain(note + (f"; unset counts as {otherwise}" if otherwise else ""), 300),
    )
