"""Where desktops keep their settings: what a key of one of their stores is.

One file of the standard library, in the language of Python 3.8, for it is sent with the hand;
`desktop_data` holds the keys themselves.
"""

from __future__ import annotations

from typing import NamedTuple

SWITCH, NUMBER = "b", "iu"
"""Kinds of keys, by the letters of GVariant."""


class Key(NamedTuple):
    """One key of a store, and what it holds for a value of its setting."""

    area: str
    setting: str
    """Its address is area and setting."""
    store: str
    """Which kind keeps it: gsettings (schemas, in dconf), xfconf (channels), ini (files)."""
    at: str
    """The schema, the channel, or the file under the user's configuration folder."""
    under: str
    """The folder in dconf that the schema's own file names; the group of a file; empty in a
    channel."""
    name: str
    """Of the key; of a property from the channel downwards, with its slashes."""
    kind: str = SWITCH
    """b, s, i, u, d or as (GVariant)."""
    on: str = "true"
    off: str = "false"
    """As the store has it; in dconf GVariant text. Of a list, any other is on."""
    default: str = ""
    """What counts while nothing is stored, where the store itself does not tell."""
    each_s: int = 1
    """Of a number: the seconds that one of the store's units is."""
    force: str = ""
    """Where the display server tells what is in force: a setting of the XSETTINGS manager, or
    _NET_WM_CM for whoever composes."""

    @property
    def path(self) -> str:
        """Its place in dconf."""
        return self.under + self.name

    @property
    def is_number(self) -> bool:
        """Whether it is a number (of seconds; of storage, of days), and no switch."""
        return self.area != "effects" and self.kind in NUMBER

    def fits(self, raw: str) -> bool:
        """Whether this is what Lumtak would store there, or may have found there."""
        return (
            len(raw) <= MOST_TEXT and raw.isprintable() and not raw.startswith("-")
        ) or raw == "-1"


MOST_TEXT = 1 << 16


class Desktop(NamedTuple):
    """A desktop, or several that keep their settings in the same places."""

    names: tuple[str, ...]
    """What they call themselves (Desktop Menu Specification, registered names); a star for what
    goes with any."""
    sessions: tuple[str, ...]
    """What their sessions are called besides."""
    here: dict[Key, tuple[str, ...]]
    """Every key, with the files of which one says that its place counts here; of a schema its own
    file says so."""


OLD_PATHS: dict[str, str] = {
    "/org/mate/interface/enable-animations": "/org/mate/desktop/interface/enable-animations",
    "/org/mate/interface/cursor-blink": "/org/mate/desktop/interface/cursor-blink",
    "/org/mate/sound/event-sounds": "/org/mate/desktop/sound/event-sounds",
    "/org/mate/font-rendering/antialiasing": "/org/mate/desktop/font-rendering/antialiasing",
    "/org/mate/thumbnailers/disable-all": "/org/mate/desktop/thumbnailers/disable-all",
}
"""Where Lumtak 0.1 took them to be, as its journals have it."""
