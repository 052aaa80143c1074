"""Where desktops that store their settings by schemas keep visual effects.

All that Lumtak sets there.

One file of the standard library, in the language of Python 3.8, for it is sent with the hand.
"""

from __future__ import annotations

from typing import NamedTuple


class Key(NamedTuple):
    """One key of a schema, and what it holds for on and off (GVariant text)."""

    effect: str
    schema: str
    folder: str
    """Where the schema's own file says that its keys stand in dconf; a name tells nothing of it."""
    key: str
    on: str = "true"
    off: str = "false"

    @property
    def path(self) -> str:
        """Its place in dconf."""
        return self.folder + self.key


class Family(NamedTuple):
    """A desktop, or several that keep their effects in the same places."""

    desktops: tuple[str, ...]
    """What they call themselves (Desktop Menu Specification, registered names)."""
    keys: tuple[Key, ...]


_CINNAMON, _MATE, _GNOME = "/org/cinnamon/", "/org/mate/desktop/", "/org/gnome/desktop/"
_SMOOTH = ("'grayscale'", "'none'")
_INVERTED = ("false", "true")
_THUMBNAILS = ("'local-only'", "'never'")

FAMILIES: tuple[Family, ...] = (
    Family(
        ("X-Cinnamon", "Cinnamon"),
        (
            Key("animations", "org.cinnamon", _CINNAMON, "desktop-effects"),
            Key("dialog-effects", "org.cinnamon", _CINNAMON, "desktop-effects-on-dialogs"),
            Key("menu-effects", "org.cinnamon", _CINNAMON, "desktop-effects-on-menus"),
            Key("workspace-effects", "org.cinnamon", _CINNAMON, "desktop-effects-workspace"),
            Key("start-effect", "org.cinnamon", _CINNAMON, "startup-animation"),
            Key(
                "cursor-blinking",
                "org.cinnamon.desktop.interface",
                _CINNAMON + "desktop/interface/",
                "cursor-blink",
            ),
            Key(
                "event-sounds",
                "org.cinnamon.desktop.sound",
                _CINNAMON + "desktop/sound/",
                "event-sounds",
            ),
            Key(
                "smooth-fonts",
                "org.cinnamon.settings-daemon.plugins.xsettings",
                _CINNAMON + "settings-daemon/plugins/xsettings/",
                "antialiasing",
                *_SMOOTH,
            ),
            Key(
                "thumbnails",
                "org.cinnamon.desktop.thumbnailers",
                _CINNAMON + "desktop/thumbnailers/",
                "disable-all",
                *_INVERTED,
            ),
            Key(
                "image-thumbnails",
                "org.nemo.preferences",
                "/org/nemo/preferences/",
                "show-image-thumbnails",
                *_THUMBNAILS,
            ),
            Key("background-fade", "org.nemo.desktop", "/org/nemo/desktop/", "background-fade"),
        ),
    ),
    Family(
        ("MATE",),
        (
            Key("animations", "org.mate.interface", _MATE + "interface/", "enable-animations"),
            Key(
                "compositing",
                "org.mate.Marco.general",
                "/org/mate/marco/general/",
                "compositing-manager",
            ),
            Key(
                "moving-windows",
                "org.mate.Marco.general",
                "/org/mate/marco/general/",
                "reduced-resources",
                *_INVERTED,
            ),
            Key("background-fade", "org.mate.background", _MATE + "background/", "background-fade"),
            Key("cursor-blinking", "org.mate.interface", _MATE + "interface/", "cursor-blink"),
            Key("event-sounds", "org.mate.sound", _MATE + "sound/", "event-sounds"),
            Key(
                "smooth-fonts",
                "org.mate.font-rendering",
                _MATE + "font-rendering/",
                "antialiasing",
                *_SMOOTH,
            ),
            Key(
                "thumbnails",
                "org.mate.thumbnailers",
                _MATE + "thumbnailers/",
                "disable-all",
                *_INVERTED,
            ),
            Key(
                "image-thumbnails",
                "org.mate.caja.preferences",
                "/org/mate/caja/preferences/",
                "show-image-thumbnails",
                *_THUMBNAILS,
            ),
        ),
    ),
    Family(
        ("GNOME", "GNOME-Classic", "GNOME-Flashback", "Unity", "Budgie"),
        (
            Key(
                "animations",
                "org.gnome.desktop.interface",
                _GNOME + "interface/",
                "enable-animations",
            ),
            Key(
                "cursor-blinking",
                "org.gnome.desktop.interface",
                _GNOME + "interface/",
                "cursor-blink",
            ),
            Key("event-sounds", "org.gnome.desktop.sound", _GNOME + "sound/", "event-sounds"),
            Key(
                "smooth-fonts",
                "org.gnome.desktop.interface",
                _GNOME + "interface/",
                "font-antialiasing",
                *_SMOOTH,
            ),
            Key(
                "thumbnails",
                "org.gnome.desktop.thumbnailers",
                _GNOME + "thumbnailers/",
                "disable-all",
                *_INVERTED,
            ),
            Key(
                "image-thumbnails",
                "org.gnome.nautilus.preferences",
                "/org/gnome/nautilus/preferences/",
                "show-image-thumbnails",
                *_THUMBNAILS,
            ),
        ),
    ),
)
"""The family whose desktop the user's session runs, else the first whose schemas are there."""

OLD_PATHS: dict[str, str] = {
    "/org/mate/interface/enable-animations": "/org/mate/desktop/interface/enable-animations",
    "/org/mate/interface/cursor-blink": "/org/mate/desktop/interface/cursor-blink",
    "/org/mate/sound/event-sounds": "/org/mate/desktop/sound/event-sounds",
    "/org/mate/font-rendering/antialiasing": "/org/mate/desktop/font-rendering/antialiasing",
    "/org/mate/thumbnailers/disable-all": "/org/mate/desktop/thumbnailers/disable-all",
}
"""Where Lumtak 0.1 took them to be, as its journals have it."""
