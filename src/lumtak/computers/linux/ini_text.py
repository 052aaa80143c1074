"""One value in a file of groups and keys, every other byte left as it is.

As desktops write such files: a group may stand in several parts, of a key given twice the last
counts, and a mark after a name ([$i]) says that nobody may change it.
"""

import re
from typing import NamedTuple


class Place(NamedTuple):
    """Where a value stands in a file, or would."""

    start: int
    end: int
    """Of the value; equal where there is none."""
    before: bytes
    after: bytes
    """What is written around a value that is not there yet."""
    there: bool
    locked: bool = False
    """Whether a mark says that nobody may change it."""


def value_in(data: bytes, place: Place) -> str:
    """What stands there; empty where nothing does."""
    return data[place.start : place.end].decode("utf-8", "replace") if place.there else ""


def with_value(data: bytes, place: Place, value: str) -> bytes:
    """The same bytes with this value.

    Where the key was not there, it is added at the least surprising place.
    """
    return data[: place.start] + place.before + value.encode() + place.after + data[place.end :]


_LOCKED = b"[$i]"


def find(data: bytes, group: str, name: str) -> Place:
    """Where a key of a group stands."""
    header, wanted = b"[%s]" % group.encode(), name.encode()
    inside, locked, at = False, False, 0
    below: int | None = None
    found: Place | None = None
    for line in re.findall(rb"[^\n]*\n|[^\n]+", data):
        words = line.strip()
        if words.startswith(b"["):
            inside = words.removesuffix(_LOCKED) == header
            locked = inside and words != header
            if inside:
                below = at + len(line)
        elif inside and b"=" in line:
            key, _, rest = line.partition(b"=")
            if key.strip().removesuffix(_LOCKED) == wanted:
                start = at + len(line) - len(rest.lstrip(b" \t"))
                marked = locked or key.strip() != wanted
                found = Place(start, start + len(rest.strip()), b"", b"", there=True, locked=marked)
        at += len(line)
    if found is not None:
        return found
    if below is not None:
        gap = b"" if data[:below].endswith(b"\n") else b"\n"
        return Place(below, below, gap + wanted + b"=", b"\n", there=False, locked=locked)
    gap = _blank_line_after(data)
    return Place(at, at, gap + header + b"\n" + wanted + b"=", b"\n", there=False)


def without(data: bytes, group: str, name: str) -> bytes:
    """The same bytes without this key, wherever it stands."""
    while (place := find(data, group, name)).there:
        start = data.rfind(b"\n", 0, place.start) + 1
        end = data.find(b"\n", place.end) + 1 or len(data)
        data = data[:start] + data[end:]
    return data


def _blank_line_after(data: bytes) -> bytes:
    """What a new group needs before it, so that a blank line parts it from what is there."""
    if not data or data.endswith(b"\n\n"):
        return b""
    return b"\n" if data.endswith(b"\n") else b"\n\n"
