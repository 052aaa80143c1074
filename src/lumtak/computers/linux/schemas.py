"""What schemas of settings say of their keys: where each stands, and what it is while unset.

Sources: the XML that programs ship with their schemas, the overrides of a distribution
(glib-compile-schemas(1)), and what the administrator set or locked for everybody (dconf(7)).
"""

import re
from collections.abc import Collection, Sequence
from typing import NamedTuple
from xml.etree import ElementTree as ET

from lumtak.computers.hands.reach import Reach, names_at, text, text_at
from lumtak.computers.hands.sent.desktop.desktops import Key

_FOLDER = "/usr/share/glib-2.0/schemas"
_ENDING, _OVERRIDE = ".gschema.xml", ".gschema.override"
_MOST = 1 << 22


class Shipped(NamedTuple):
    """A key as its schema has it."""

    path: str
    """In dconf."""
    default: str
    """GVariant text, as the distribution overrides it for this desktop, and the administrator for
    everybody."""
    kind: str = "b"
    """Its type by the letters of GVariant; of a choice s."""
    locked: bool = False
    """Whether the administrator lets nobody change it."""


def shipped_keys(hand: Reach, keys: Sequence[Key], desktops: Collection[str]) -> dict[Key, Shipped]:
    """Those of the keys of which a schema says something here.

    Args:
        hand: of the computer.
        keys: to look for.
        desktops: names of the desktop that runs; an override may be for one of them alone.
    """
    begins = tuple({".".join(k.at.split(".")[:2]) for k in keys})
    said = {(s, k): at for data in _read(hand, _ENDING, begins) for s, k, *at in keys_in(data)}
    instead: dict[tuple[str, str], str] = {}
    for data in _read(hand, _OVERRIDE):
        instead |= _overridden(text(data), desktops)
    everybodys, locked = _administrators(hand)
    found = {}
    for key in keys:
        if where := said.get((key.at, key.name)):
            path, default, kind = where
            default = everybodys.get(path, instead.get((key.at, key.name), default))
            found[key] = Shipped(path, default, kind, path in locked)
    return found


_DCONF = "/etc/dconf"
PROFILE = f"{_DCONF}/profile/user"


def _administrators(hand: Reach) -> tuple[dict[str, str], set[str]]:
    """(values by place, places that are locked) that the administrator set for everybody.

    Of the databases that a user's profile names, the one named first counts.
    """
    profile = text_at(hand, PROFILE)
    values: dict[str, str] = {}
    locked: set[str] = set()
    for name in reversed(re.findall(r"(?m)^system-db:([\w-]{1,60})\s*$", profile)):
        folder = f"{_DCONF}/db/{name}.d"
        for data in _all_of(hand, folder):
            values |= {
                f"/{group}/{key}".replace("//", "/"): value
                for (group, key), value in _overridden(text(data), ()).items()
            }
        for data in _all_of(hand, f"{folder}/locks"):
            locked |= {line.strip() for line in text(data).splitlines()}
    return values, locked


def _all_of(hand: Reach, folder: str) -> list[bytes]:
    paths = [f"{folder}/{name}" for name in names_at(hand, folder)]
    return [data for data in hand.read_many(paths, _MOST) if data]


def _read(hand: Reach, ending: str, begins: tuple[str, ...] = ("",)) -> list[bytes]:
    """The files of this ending that can be read, in the order of their names."""
    names = sorted(n for n in names_at(hand, _FOLDER) if n.endswith(ending))
    paths = [f"{_FOLDER}/{n}" for n in names if n.startswith(begins)]
    return [data for data in hand.read_many(paths, _MOST) if data]


def keys_in(data: bytes) -> list[tuple[str, str, str, str, str]]:
    """(schema, key, place in dconf, default, type) of a file; nothing where it is no XML."""
    try:
        root = ET.fromstring(data)  # noqa: S314 - the system's own file, of a size that is bounded
    except ET.ParseError:
        return []
    return [
        (
            schema.get("id", ""),
            name,
            schema.get("path", "") + name,
            _default_of(key),
            key.get("type", "s"),
        )
        for schema in root.iter("schema")
        for key in schema.iter("key")
        if schema.get("path") and (name := key.get("name", ""))
    ]


def _default_of(key: ET.Element) -> str:
    return (key.findtext("default") or "").strip().replace('"', "'")


def _overridden(words: str, desktops: Collection[str]) -> dict[tuple[str, str], str]:
    """The defaults in a file of overrides, by schema and key; the last one counts."""
    found, schema = {}, ""
    for line in words.splitlines():
        if group := re.fullmatch(r"\[([^\]:]+)(?::([^\]]+))?\]", line.strip()):
            schema = group[1] if not group[2] or group[2] in desktops else ""
        elif schema and "=" in line:
            name, _, value = line.partition("=")
            found[schema, name.strip()] = value.strip().replace('"', "'")
    return found
