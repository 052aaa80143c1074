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

from lumtak.computers.hands.reach import Reach
from lumtak.computers.hands.sent.desktop.desktop_data import DESKTOPS
from lumtak.computers.hands.sent.desktop.desktops import Desktop, Key
from lumtak.computers.hands.whose import User
from lumtak.computers.linux.adapter import Adapter, Look
from lumtak.computers.linux.in_force import Display, display_of, said_of, settled
from lumtak.computers.linux.session import desktops_of, is_wayland
from lumtak.core.facts import Fixed, Item, Setting
from lumtak.core.profile import LONGEST_IDLE_S
from lumtak.core.setting import IN_FORCE, Area, SettingRef, Shows
from lumtak.core.text import number, plain
from lumtak.errors import ComputerError

_COMPILED = tuple(
    f"{d}/glib-2.0/schemas/gschemas.compiled" for d in ("/usr/local/share", "/usr/share")
)
"""What glib-compile-schemas(1) makes of all schemas: their names stand in it as they are."""
_MOST_COMPILED = 1 << 24
_ANY = "*"
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
    if is_wayland(hand, user):  # where nothing is shown without it, it is no choice
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


class DesktopAdapter(Adapter):
    """Settings that one kind of store keeps of the desktop that counts."""

    area: ClassVar[Area] = "effects"
    store: ClassVar[str]

    def has(self, ref: SettingRef) -> bool:
        """Whether such a store keeps this setting here."""
        if not super().has(ref) or ref.key not in words():
            return False
        return any(k.setting == ref.key for k in self.keys())

    def keys(self, look: Look | None = None) -> list[Key]:
        """What such a store keeps here."""
        asked = (self._hand, self._user)
        kept = kept_here(*asked) if look is None else look.once(kept_here, *asked)
        return [k for k in kept.keys if (k.area, k.store) == (self.area, self.store)]

    def counting(self, key: Key) -> str:
        """The value that counts now: what is stored, else the default.

        Empty where nobody tells, and of what the desktop reads at login only.
        """
        del key
        return ""

    def display(self, look: Look) -> Display:
        """What the user's display says, asked once a look."""
        return look.once(display_of, self._hand, self._of_user, self._user)

    def in_force(self, ref: SettingRef) -> str:
        """See `Adapter.in_force`; what shows at the next login is in force from then on."""
        key = self.key_of(ref)
        wanted = self.counting(key) if key.force else ""
        if not wanted:
            return ""
        asked = self._hand, self._of_user, self._user
        return settled(key, wanted, lambda: display_of(*asked))

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


_AREAS: dict[str, Area] = {"power": "power", "effects": "effects", "storage": "storage"}
_MOST_DAYS = 3650


def item_of(
    key: Key,
    raw: str,
    default: str,
    *,
    note: str,
    shows: Shows,
    fixed: str = "",
    display: Display = "",
) -> Item:
    """The item of a setting.

    Args:
        key: keeps it.
        raw: what the store has; empty where it is unset.
        default: what counts while it is unset, as the store has it; empty where nobody tells.
        note: where it stands.
        shows: when a change shows.
        fixed: why it cannot be changed; empty where it can.
        display: what the user's display says.
    """
    said = words()[key.setting]
    value, otherwise = value_of(key, raw), value_of(key, default) or ""
    why = fixed or (ODD if is_odd(key, raw) else "")
    counts = value or otherwise
    idle = _idle(key, counts, display) if value or counts == "on" else ""
    notes = [note, f"unset counts as {otherwise}" if otherwise else "", idle]
    area = _AREAS[key.area]
    return Item(
        area=area,
        key=key.setting,
        title=said.title,
        origin="system",
        role=said.role,
        part_of=said.part_of,
        value=None if value is None else plain(value, 100),
        default=plain(otherwise, 100),
        running=counts != "off" and not idle,
        setting=Fixed(needed=why) if why else _setting(key, shows),
        note=plain("; ".join(filter(None, notes)), 300),
    )


def _setting(key: Key, shows: Shows) -> Setting:
    if key.area == "storage" and key.is_number:
        return Setting(lowest=0, highest=_MOST_DAYS, shows=shows)
    if key.is_number:
        return Setting(lowest=0, highest=LONGEST_IDLE_S, shows=shows)
    return Setting(values=("on", "off"), shows=shows)


def _idle(key: Key, wanted: str, display: Display) -> str:
    """That what is stored does nothing, where the display itself says so; empty else."""
    said = "" if isinstance(display, str) else said_of(key, wanted, display)
    return "" if said == IN_FORCE else said
