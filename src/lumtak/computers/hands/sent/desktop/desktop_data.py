"""The keys of every desktop, from a file each: data/desktops/*.toml.

A hand is sent what stands here as text of Python (`as_code`), and none of this file.
"""

import tomllib
from importlib.resources import files
from typing import Any

from lumtak.computers.hands.sent.desktop.desktops import Desktop, Key


def _desktop(said: dict[str, Any]) -> Desktop:
    """A desktop from its file.

    Raises:
        KeyError, TypeError: it has not the form of docs/FORMATS.md.
    """
    here: dict[Key, tuple[str, ...]] = {}
    for place in said["place"]:
        at = place["store"], place["at"], place.get("under", "")
        for area in ("effects", "power", "storage"):
            for setting, more in place.get(area, {}).items():
                here[Key(area, setting, *at, **more)] = tuple(place.get("here", ()))
    return Desktop(tuple(said["names"]), tuple(said["sessions"]), here)


def _shipped() -> tuple[Desktop, ...]:
    """By their ranks."""
    folder = files("lumtak") / "data" / "desktops"
    said = [tomllib.loads(file.read_text(encoding="utf-8")) for file in folder.iterdir()]
    return tuple(map(_desktop, sorted(said, key=lambda desktop: int(desktop["rank"]))))


DESKTOPS: tuple[Desktop, ...] = _shipped()
KEYS: tuple[Key, ...] = tuple(key for desktop in DESKTOPS for key in desktop.here)


def as_code() -> str:
    """This module as a hand gets it."""
    imported = "from lumtak.computers.hands.sent.desktop.desktops import Desktop, Key\n"
    keys = "KEYS = tuple(key for desktop in DESKTOPS for key in desktop.here)\n"
    return f"{imported}DESKTOPS = {DESKTOPS!r}\n{keys}"
