"""Visual effects of GSettings desktops: the chosen user's own settings, where unset is a value of its own."""

from collections.abc import Sequence
from typing import NamedTuple

from lumtak.computers.hands.reach import Reach, text
from lumtak.computers.hands.whose import User
from lumtak.computers.linux.effect_files import EffectFiles
from lumtak.computers.linux.known_states import check_kind, unfit
from lumtak.core.facts import Fixed, Gap, Item, Setting
from lumtak.core.setting import SettingRef, State
from lumtak.core.text import plain
from lumtak.errors import ComputerError

_COMPILED = tuple(f"{d}/glib-2.0/schemas/gschemas.compiled" for d in ("/usr/local/share", "/usr/share"))
"""What glib-compile-schemas(1) makes of all schemas: their names stand in it as they are."""
_MOST_COMPILED = 1 << 24
_PROFILE = "/etc/dconf/profile/user"
_TITLES = {
    "animations": "Animations",
    "compositing": "Window compositing",
    "cursor-blinking": "Blinking cursor",
    "event-sounds": "Sounds of events",
    "smooth-fonts": "Smooth fonts",
    "thumbnails": "Thumbnails",
}


class Key(NamedTuple):
    """One key of a schema, and what it holds for on and off (GVariant text)."""

    effect: str
    schema: str
    key: str
    on: str = "true"
    off: str = "false"

    @property
    def path(self) -> str:
        """Its place in dconf: schemas here have the path of their name."""
        return f"/{self.schema.replace('.', '/')}/{self.key}".replace("/org/mate/Marco/", "/org/mate/marco/")


FAMILIES: tuple[tuple[Key, ...], ...] = (
    (
        Key("animations", "org.cinnamon", "desktop-effects"),
        Key("cursor-blinking", "org.cinnamon.desktop.interface", "cursor-blink"),
        Key("event-sounds", "org.cinnamon.desktop.sound", "event-sounds"),
        Key("smooth-fonts", "org.cinnamon.settings-daemon.plugins.xsettings", "antialiasing", "'grayscale'", "'none'"),
        Key("thumbnails", "org.cinnamon.desktop.thumbnailers", "disable-all", "false", "true"),
    ),
    (
        Key("animations", "org.mate.interface", "enable-animations"),
        Key("compositing", "org.mate.Marco.general", "compositing-manager"),
        Key("cursor-blinking", "org.mate.interface", "cursor-blink"),
        Key("event-sounds", "org.mate.sound", "event-sounds"),
        Key("smooth-fonts", "org.mate.font-rendering", "antialiasing", "'grayscale'", "'none'"),
        Key("thumbnails", "org.mate.thumbnailers", "disable-all", "false", "true"),
    ),
    (
        Key("animations", "org.gnome.desktop.interface", "enable-animations"),
        Key("cursor-blinking", "org.gnome.desktop.interface", "cursor-blink"),
        Key("event-sounds", "org.gnome.desktop.sound", "event-sounds"),
        Key("smooth-fonts", "org.gnome.desktop.interface", "font-antialiasing", "'grayscale'", "'none'"),
        Key("thumbnails", "org.gnome.desktop.thumbnailers", "disable-all", "false", "true"),
    ),
)
"""Three families of desktops; the first whose schemas are there counts."""


class Effects:
    """Effects of one user's desktop.

    Args:
        hand: of the computer.
        user: whose settings.
        of_user: that user's hand.
    """

    def __init__(self, hand: Reach, user: User, of_user: Reach) -> None:
        self._hand = hand
        self._user = user
        self._of_user = of_user
        self._files = EffectFiles(hand, user, of_user)

    def items(self) -> tuple[list[Item], list[Gap]]:
        """(items, what could not be read)."""
        keys, kept = self._keys(), self._files.items()
        if kept:
            return kept, []
        if not keys:
            why = "no desktop is here whose effects this version knows"
            return [], [
                Gap(
                    area="effects",
                    reason=why,
                    needed="one of the five families of desktops that docs/ARCHITECTURE.md names",
                )
            ]
        try:
            stored = self._stored()
        except OSError as error:
            why = f"what {self._user.name} set cannot be told from what is the default: {plain(str(error), 120)}"
            return [], [Gap(area="effects", reason=why, needed="the program dconf")]
        items = []
        for key in keys:
            raw = stored.get(key.path, "")
            items.append(
                Item(
                    area="effects",
                    key=key.effect,
                    title=_TITLES[key.effect],
                    origin="system",
                    value=_value(key, raw),
                    running=_value(key, raw) != "off",
                    setting=Setting(values=("on", "off")) if raw in {"", key.on, key.off} or key.on[0] == "'" else _ODD,
                    note=f"{key.schema} {key.key}",
                )
            )
        return items, []

    def _keys(self) -> Sequence[Key]:
        if not self._hand.live:
            return ()
        compiled = b"".join(data for data in self._hand.read_many(_COMPILED, _MOST_COMPILED) if data)
        for family in FAMILIES:
            if family[0].schema.encode() in compiled:
                return [key for key in family if key.schema.encode() in compiled]
        return ()

    def _stored(self) -> dict[str, str]:
        """What the user set, by its place in dconf; what is not here is unset. dconf(1), dump; dconf(7), profiles."""
        stored: dict[str, str] = {}
        if not self._of_user.exists(f"{self._user.config_home}/dconf/user") and not self._hand.exists(_PROFILE):
            return stored  # nothing was ever stored, and no profile keeps it elsewhere
        folder = ""
        for line in text(self._of_user.run(("dconf", "dump", "/"), bus=self._user.bus)).splitlines():
            if line.startswith("[") and line.endswith("]"):
                folder = line[1:-1].strip("/")
            elif "=" in line:
                name, _, value = line.partition("=")
                stored[f"/{folder}/{name}" if folder else f"/{name}"] = value.strip()
        return stored

    # -- the setting --------------------------------------------------------------------------------------------------

    def _key(self, ref: SettingRef) -> Key:
        key = next((k for k in self._keys() if k.effect == ref.key), None)
        if key is None:
            raise ComputerError(f"{plain(ref.key)} is no effect of this desktop.", "Audit the computer again.")
        return key

    def read(self, ref: SettingRef) -> State:
        """On, off or unset, with the stored text or the file exactly."""
        if self._files.has(ref):
            return self._files.read(ref)
        key = self._key(ref)
        try:
            raw = self._stored().get(key.path, "")
        except OSError as error:
            raise ComputerError(
                f"{ref} cannot be read: {plain(str(error), 200)}.", "See whether dconf is there."
            ) from error
        return State(value=_value(key, raw), exact=_exact(key, raw))

    def foresee(self, ref: SettingRef, state: State) -> State:
        """The stored text as it will be."""
        if self._files.has(ref):
            return self._files.foresee(ref, state)
        key = self._key(ref)
        if state.exact is not None:
            check_kind(ref, state, ("gsettings",), f"the desktop that is here keeps it in {key.schema}")
            if state.exact["schema"] != key.schema:
                raise unfit(
                    ref,
                    f"it was kept in {state.exact['schema']}, and the desktop that is here keeps it in {key.schema}",
                )
            return state
        raw = "" if state.value is None else key.off if state.value == "off" else key.on
        return State(value=state.value, exact=_exact(key, raw))

    def write(self, ref: SettingRef, state: State) -> None:
        """Set, or unset."""
        if self._files.has(ref):
            self._files.write(ref, state)
            return
        exact = self.foresee(ref, state).exact or {}
        try:
            if exact["raw"]:
                self._of_user.run(("gsettings", "set", exact["schema"], exact["key"], exact["raw"]), bus=self._user.bus)
            else:
                self._of_user.run(("gsettings", "reset", exact["schema"], exact["key"]), bus=self._user.bus)
        except OSError as error:
            raise ComputerError(f"{ref} was refused: {plain(str(error), 200)}.", "Nothing was changed.") from error


_ODD = Fixed(needed="it holds a value that is neither on nor off; set it by hand")


def _value(key: Key, raw: str) -> str | None:
    if not raw:
        return None
    return "off" if raw == key.off else "on"


def _exact(key: Key, raw: str) -> dict[str, str]:
    return {"kind": "gsettings", "schema": key.schema, "key": key.key, "path": key.path, "raw": raw}
