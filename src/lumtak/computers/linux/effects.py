"""Settings of desktops that keep them by schemas.

The chosen user's own, where unset is a value of its own.
"""

from lumtak.computers.hands.reach import reason_of, text
from lumtak.computers.hands.sent.desktop.desktops import Key
from lumtak.computers.hands.sent.states.states import DesktopKey
from lumtak.computers.linux.adapter import Listed, Look, unfit
from lumtak.computers.linux.desktop import (
    LOCKED,
    DesktopAdapter,
    item_of,
    kept_here,
    raw_of,
    value_of,
)
from lumtak.computers.linux.in_force import Display
from lumtak.computers.linux.schemas import PROFILE, Shipped, shipped_keys
from lumtak.computers.linux.session import desktops_of
from lumtak.core.facts import Gap, Item
from lumtak.core.setting import SettingRef, State
from lumtak.core.text import plain
from lumtak.errors import NOT_KNOWN_NOW, ComputerError

_PROGRAMS = ("dconf", "gsettings")


class DesktopEffects(DesktopAdapter):
    """Effects of one user's desktop that its settings service stores."""

    store = "gsettings"
    kinds = (DesktopKey,)

    def items(self, look: Look) -> Listed:
        """What the desktop that is here stores."""
        keys = self.keys(look)
        if not keys:
            return Listed(gaps=self._nothing_known(look))
        if gap := self._why_not():
            return Listed(gaps=[gap])
        try:
            stored = look.once(self._stored)
        except OSError as error:
            what = f"what {self._user.name} set cannot be told from what is the default"
            why = f"{what}: {reason_of(error)}"
            return Listed(gaps=[Gap(area=self.area, reason=why, needed="the program dconf")])
        used = look.once(desktops_of, self._hand, self._user)
        shipped = shipped_keys(self._hand, keys, used)
        # Where the schemas' own files are here, they say which keys there are.
        here = [k for k in keys if k in shipped] if shipped else keys
        display = self.display(look) if any(k.force for k in here) else ""
        return Listed([_item(k, stored.get(k.path, ""), shipped.get(k), display) for k in here])

    def counting(self, key: Key) -> str:
        """See `DesktopAdapter.counting`."""
        shipped = self._shipped(key)
        default = value_of(key, shipped.default) if shipped else None
        return value_of(key, self._stored().get(key.path, "")) or default or ""

    def _shipped(self, key: Key) -> Shipped | None:
        used = desktops_of(self._hand, self._user)
        return shipped_keys(self._hand, [key], used).get(key)

    def _nothing_known(self, look: Look) -> list[Gap]:
        kept = look.once(kept_here, self._hand, self._user)
        if self.area != "effects" or any(k.area == "effects" for k in kept.keys):
            return []
        why = "no desktop is here whose effects this version knows"
        if kept.unknown:
            why = f"of the desktop {plain(kept.unknown, 60)}, which runs, no settings are known"
        return [Gap(area="effects", reason=why, needed="one of the desktops of docs/EFFECTS.md")]

    def _why_not(self) -> Gap | None:
        for name in _PROGRAMS:
            if not any(self._hand.exists(f"{folder}/{name}") for folder in ("/usr/bin", "/bin")):
                return Gap(
                    area=self.area,
                    reason=f"what {self._user.name} set cannot be read or changed",
                    needed=f"the programs {' and '.join(_PROGRAMS)}",
                )
        return None

    def _stored(self) -> dict[str, str]:
        """What the user set, by its place in dconf; what is not here is unset.

        Dconf(1), dump.
        """
        stored: dict[str, str] = {}
        if not self._of_user.exists(f"{self._user.config_home}/dconf/user") and not (
            self._hand.exists(PROFILE)
        ):
            return stored  # nothing was ever stored, and no profile keeps it elsewhere
        folder = ""
        for line in text(
            self._of_user.run(("dconf", "dump", "/"), bus=self._user.bus)
        ).splitlines():
            if line.startswith("[") and line.endswith("]"):
                folder = line[1:-1].strip("/")
            elif "=" in line:
                name, _, value = line.partition("=")
                stored[f"/{folder}/{name}" if folder else f"/{name}"] = value.strip()
        return stored

    # -- the setting -------------------------------------------------------------------------------

    def read(self, ref: SettingRef) -> State:
        """The value or unset, with the stored text exactly."""
        key = self.key_of(ref)
        try:
            raw = self._stored().get(key.path, "")
        except OSError as error:
            raise ComputerError(
                f"{ref} cannot be read: {reason_of(error)}.", "See whether dconf is there."
            ) from error
        return State(value=value_of(key, raw), exact=_state(key, raw))

    def foresee(self, ref: SettingRef, value: str | None) -> State:
        """The stored text as it will be."""
        key = self.key_of(ref)
        default = ""
        if value == "on" and not key.on:
            shipped = self._shipped(key)
            default = shipped.default if shipped and value_of(key, shipped.default) == "on" else ""
        return State(value=value, exact=_state(key, raw_of(key, ref, value, default)))

    def accept(self, ref: SettingRef, exact: DesktopKey) -> None:
        """See `Adapter.accept`: the desktop that is here keeps it in the same place."""
        key = self.key_of(ref)
        if exact != _state(key, exact.raw):
            said = f"{exact.schema} {exact.key}"
            raise unfit(
                ref,
                f"it was kept in {said}, and the desktop that is here keeps it in {key.at}"
                f" {key.name}",
            )

    def write(self, ref: SettingRef, exact: DesktopKey) -> None:
        """Set, or unset."""
        words = (
            ("set", exact.schema, exact.key, exact.raw)
            if exact.raw
            else ("reset", exact.schema, exact.key)
        )
        try:
            self._of_user.run(("gsettings", *words), bus=self._user.bus)
        except OSError as error:
            raise ComputerError(f"{ref} was refused: {reason_of(error)}.", NOT_KNOWN_NOW) from error


class DesktopIdle(DesktopEffects):
    """What such a desktop does when nobody does anything: dimming, screen, sleep."""

    area = "power"


class DesktopUpkeep(DesktopEffects):
    """How such a desktop keeps trash and temporary files small by itself."""

    area = "storage"


def _item(key: Key, raw: str, shipped: Shipped | None, display: Display) -> Item:
    default = shipped.default if shipped else ""
    note = f"{key.at} {key.name}"
    return item_of(
        key,
        raw,
        default,
        note=note,
        shows="now",
        fixed=_why_fixed(key, shipped),
        display=display,
    )


def _why_fixed(key: Key, shipped: Shipped | None) -> str:
    """Why this schema lets nobody change it, or not as Lumtak knows it; empty where it does."""
    if shipped is None:
        return ""
    if shipped.path != key.path:
        return f"its schema here keeps it in {plain(shipped.path, 120)}"
    if shipped.kind != key.kind:
        return f"its schema here has it as {plain(shipped.kind, 20)}, and Lumtak as {key.kind}"
    return LOCKED if shipped.locked else ""


def _state(key: Key, raw: str) -> DesktopKey:
    return DesktopKey(key.at, key.name, key.path, raw)
