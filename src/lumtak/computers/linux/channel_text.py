"""One property in the file of a channel, every other byte left as it is.

As the keeper of channels writes such files: properties within properties, a line each.
"""

import re
from collections.abc import Iterator

from lumtak.computers.linux.ini_text import Place

_TAG = re.compile(rb"<(/?)property\b([^<>]*)>[ \t]*\n?")
_EMPTY = (
    '<?xml version="1.0" encoding="UTF-8"?>\n\n<channel name="{channel}"'
    ' version="1.0">\n</channel>\n'
)


def empty_file(channel: str) -> bytes:
    """The file of a channel that holds nothing."""
    return _EMPTY.format(channel=channel).encode()


def find(data: bytes, name: str, kind: str) -> Place:
    """Where a property stands, in the one that holds it or in the channel itself, or would.

    One of the same name elsewhere is another.

    Args:
        data: of the file.
        name: from the channel downwards: /general/use_compositing.
        kind: that is written where it is not there yet: bool, int, string, double.
    """
    wanted = [part.encode() for part in name.strip("/").split("/")]
    holders: list[re.Match[bytes]] = []
    for path, tag in _opened(data):
        if path == wanted and (value := _attribute(tag[2], b"value"))[1] >= 0:
            start = tag.start(2) + value[1]
            return Place(start, start + len(value[0]), b"", b"", there=True)
        if len(path) == len(holders) + 1 < len(wanted) and path == wanted[: len(path)]:
            holders.append(tag)
    return _new(data, wanted, kind, holders)


def without(data: bytes, name: str) -> bytes:
    """The same bytes without this property, and its line where it has one of its own."""
    place = find(data, name, "")
    if not place.there:
        return data
    start = data.rfind(b"<", 0, place.start)
    end = data.index(b">", place.end) + 1
    if not data[:end].endswith(b"/>"):
        end = data.index(b">", end) + 1
    line = data.rfind(b"\n", 0, start) + 1
    if not data[line:start].strip() and data[end : end + 1] == b"\n":
        start, end = line, end + 1
    return data[:start] + data[end:]


def others(data: bytes, name: str) -> list[tuple[bytes, ...]]:
    """All other properties with a value, from the channel downwards: what two files have in common
    that differ in this one alone.
    """
    wanted = [part.encode() for part in name.strip("/").split("/")]
    found = []
    for path, tag in _opened(data):
        value, at = _attribute(tag[2], b"value")
        if at >= 0 and path != wanted:
            found.append((*path, _attribute(tag[2], b"type")[0], value))
    return found


def _opened(data: bytes) -> Iterator[tuple[list[bytes], re.Match[bytes]]]:
    """(names from the channel downwards, tag) of every property that is opened, in their order."""
    inside: list[bytes] = []
    for tag in _TAG.finditer(data):
        if tag[1]:
            del inside[-1:]
            continue
        path = [*inside, _attribute(tag[2], b"name")[0]]
        yield path, tag
        if not tag[2].endswith(b"/"):
            inside = path


def locked_for(data: bytes, name: str, user: str) -> bool:
    """Whether the administrator's file of a channel lets this user not change it."""
    tags = re.findall(rb"<channel\b([^<>]*)>", data)
    place = find(data, name, "")
    if place.there:
        tags.append(data[data.rfind(b"<", 0, place.start) : data.find(b">", place.end)])
    said = b";".join(_attribute(tag, b"locked")[0] for tag in tags).split(b";")
    return b"*" in said or user.encode() in said


def _attribute(words: bytes, name: bytes) -> tuple[bytes, int]:
    """(value, where it begins) of an attribute; nothing, and -1 where there is none."""
    found = re.search(rb'\b%s="([^"]*)"' % name, words)
    return (found[1], found.start(1)) if found else (b"", -1)


def _new(data: bytes, wanted: list[bytes], kind: str, holders: list[re.Match[bytes]]) -> Place:
    """Where a property is added.

    First in the innermost of those that are to hold it, the others of which are made.
    """
    missing = wanted[len(holders) : -1]
    deep = len(holders) + 1
    opening = b"".join(
        b'%s<property name="%s" type="empty">\n' % (b"  " * (deep + n), name)
        for n, name in enumerate(missing)
    )
    closing = b"".join(
        b"%s</property>\n" % (b"  " * (deep + n)) for n in reversed(range(len(missing)))
    )
    indent = b"  " * (deep + len(missing))
    line = b'%s<property name="%s" type="%s" value="' % (indent, wanted[-1], kind.encode())
    before, after = opening + line, b'"/>\n' + closing
    if not holders:
        end = data.rfind(b"</channel>") if b"</channel>" in data else len(data)
        return Place(end, end, before, after, there=False)
    inner = holders[-1]
    if inner[2].endswith(b"/"):  # it is there, and holds nothing
        shut = after + b"  " * (deep - 1) + b"</property>"
        return Place(inner.end(2) - 1, inner.end(2) + 1, b">\n" + before, shut, there=False)
    return Place(inner.end(), inner.end(), before, after, there=False)
