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
    key: str
    on: str = "true"
    off: str = "false"

    @property
    def path(self) -> str:
        """Its place in dconf: schemas here have the path of their name."""
        return f"/{self.schema.replace('.', '/')}/{self.key}".replace(
            "/org/mate/Marco/", "/org/mate/marco/"
        )


FAMILIES: tuple[tuple[Key, ...], ...] = (
    (
        Key("animations", "org.cinnamon", "desktop-effects"),
        Key("cursor-blinking", "org.cinnamon.desktop.interface", "cursor-blink"),
        Key("event-sounds", "org.cinnamon.desktop.sound", "event-sounds"),
        Key(
            "smooth-fonts",
            "org.cinnamon.settings-daemon.plugins.xsettings",
            "antialiasing",
            "'grayscale'",
            "'none'",
        ),
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
        Key(
            "smooth-fonts",
            "org.gnome.desktop.interface",
            "font-antialiasing",
            "'grayscale'",
            "'none'",
        ),
        Key("thumbnails", "org.gnome.desktop.thumbnailers", "disable-all", "false", "true"),
    ),
)
"""Three families of desktops; the first whose schemas are there counts."""
