"""Visual effects of GSettings desktops.

The chosen user's own settings, where unset is a value of its own.
"""

from collections.abc import Sequence

from lumtak.computers.hands.desktops import FAMILIES, Key
from lumtak.computers.hands.reach import text
from lumtak.computers.hands.states import DesktopKey
from lumtak.computers.linux.adapter import Adapter, Listed, Look, unfit
from lumtak.computers.linux.effect_files import file_keys
from lumtak.computers.linux.hardware import desktops_of
from lumtak.computers.linux.schemas import Shipped, shipped_keys
from lumtak.core.facts import Fixed, Gap, Item, Setting
from lumtak.core.setting import SettingRef, State
from lumtak.core.text import plain
from lumtak.errors import ComputerError

_COMPILED = tuple(
    f"{d}/glib-2.0/schemas/gschemas.compiled" for d in ("/usr/local/share", "/usr/share")
)
"""What glib-compile-schemas(1) makes of all schemas: their names stand in it as they are."""
_MOST_COMPILED = 1 << 24
_PROFILE = "/etc/dconf/profile/user"
_PROGRAMS = ("dconf", "gsettings")
_TITLES = {
    "animations": "Animations",
    "background-fade": "Fading of the background",
    "compositing": "Window compositing",
    "cursor-blinking": "Blinking cursor",
    "dialog-effects": "Effects of dialogs",
    "event-sounds": "Sounds of events",
    "image-thumbnails": "Thumbnails of pictures",
    "menu-effects": "Effects of menus",
    "moving-windows": "Windows shown while they move",
    "smooth-fonts": "Smooth fonts",
    "start-effect": "Effect at the start",
    "thumbnails": "Thumbnails",
    "workspace-effects": "Effects of workspaces",
}


class DesktopEffects(Adapter):
    """Effects of one user's desktop that its settings service stores."""

    area = "effects"
    kinds = (DesktopKey,)

    def has(self, ref: SettingRef) -> bool:
        """Whether the desktop that is here stores this effect."""
        return super().has(ref) and any(key.effect == ref.key for key in self._keys())

    def items(self, look: Look) -> Listed:
        """What the desktop that is here stores.

        Where desktops keep effects in files, those count alone.
        """
        used = look.once(desktops_of, self._hand, self._user)
        keys = self._keys(used)
        if look.once(file_keys, self._hand, self._user):
            return Listed()
        if not keys:
            why = "no desktop is here whose effects this version knows"
            needed = "one of the five families of desktops that docs/ARCHITECTURE.md names"
            return Listed(gaps=[Gap(area="effects", reason=why, needed=needed)])
        if not all(
            any(self._hand.exists(f"{folder}/{name}") for folder in ("/usr/bin", "/bin"))
            for name in _PROGRAMS
        ):
            why = f"what {self._user.name} set cannot be read or changed"
            return Listed(
                gaps=[
                    Gap(
                        area="effects", reason=why, needed=f"the programs {' and '.join(_PROGRAMS)}"
                    )
                ]
            )
        try:
            stored = self._stored()
        except OSError as error:
            why = (
                f"what {self._user.name} set cannot be told from what is the default:"
                f" {plain(str(error), 120)}"
            )
            return Listed(gaps=[Gap(area="effects", reason=why, needed="the program dconf")])
        shipped = shipped_keys(self._hand, keys, used)
        # Where the schemas' own files are here, they say which keys there are.
        here = [k for k in keys if k in shipped] if shipped else keys
        return Listed([_item(k, stored.get(k.path, ""), shipped.get(k)) for k in here])

    def _keys(self, used: Sequence[str] | None = None) -> Sequence[Key]:
        """What the desktop that is here stores.

        Args:
            used: from `desktops_of`, where that was asked already.
        """
        if not self._hand.live:
            return ()
        compiled = b"".join(
            data for data in self._hand.read_many(_COMPILED, _MOST_COMPILED) if data
        )
        there = [f for f in FAMILIES if f.keys[0].schema.encode() in compiled]
        used = desktops_of(self._hand, self._user) if used is None else used
        # What runs counts, and not what is installed besides.
        family = next(
            (f for f in there if not set(f.desktops).isdisjoint(used)), next(iter(there), None)
        )
        keys = family.keys if family else ()
        return [key for key in keys if key.schema.encode() in compiled]

    def _stored(self) -> dict[str, str]:
        """What the user set, by its place in dconf; what is not here is unset.

        Dconf(1), dump; dconf(7), profiles.
        """
        stored: dict[str, str] = {}
        if not self._of_user.exists(
            f"{self._user.config_home}/dconf/user"
        ) and not self._hand.exists(_PROFILE):
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

    def _key(self, ref: SettingRef) -> Key:
        key = next((k for k in self._keys() if k.effect == ref.key), None)
        if key is None:
            raise ComputerError(
                f"{plain(ref.key)} is no effect of this desktop.", "Audit the computer again."
            )
        return key

    def read(self, ref: SettingRef) -> State:
        """On, off or unset, with the stored text exactly."""
        key = self._key(ref)
        try:
            raw = self._stored().get(key.path, "")
        except OSError as error:
            raise ComputerError(
                f"{ref} cannot be read: {plain(str(error), 200)}.", "See whether dconf is there."
            ) from error
        return State(value=_value(key, raw), exact=_state(key, raw))

    def foresee(self, ref: SettingRef, value: str | None) -> State:
        """The stored text as it will be."""
        key = self._key(ref)
        return State(
            value=value,
            exact=_state(key, "" if value is None else key.off if value == "off" else key.on),
        )

    def accept(self, ref: SettingRef, exact: DesktopKey) -> None:
        """See `Adapter.accept`: the desktop that is here keeps it in the same place."""
        key = self._key(ref)
        if exact != _state(key, exact.raw):
            said = f"{exact.schema} {exact.key}"
            raise unfit(
                ref,
                f"it was kept in {said}, and the desktop that is here keeps it in {key.schema}"
                f" {key.key}",
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
            raise ComputerError(
                f"{ref} was refused: {plain(str(error), 200)}.", "Nothing was changed."
            ) from error


def _item(key: Key, raw: str, shipped: Shipped | None) -> Item:
    value = _value(key, raw)
    default = (_value(key, shipped.default) or "") if shipped else ""
    fits = raw in {"", key.on, key.off} or key.on[0] == "'"
    setting: Setting | Fixed = Setting(values=("on", "off")) if fits else _ODD
    if shipped and shipped.path != key.path:
        setting = Fixed(needed=f"its schema here keeps it in {plain(shipped.path, 120)}")
    return Item(
        area="effects",
        key=key.effect,
        title=_TITLES[key.effect],
        origin="system",
        value=value,
        default=default,
        running=(value or default) != "off",
        setting=setting,
        note=f"{key.schema} {key.key}" + (f"; unset counts as {default}" if default else ""),
    )


_ODD = Fixed(needed="it holds a value that is neither on nor off; set it by hand")


def _value(key: Key, raw: str) -> str | None:
    if not raw:
        return None
    return "off" if raw == key.off else "on"


def _state(key: Key, raw: str) -> DesktopKey:
    return DesktopKey(key.schema, key.key, key.path, raw)
