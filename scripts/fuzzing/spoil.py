"""Ways to spoil a document: bytes, lines, and the values of JSON."""

import json
import random
from collections.abc import Callable, Sequence
from typing import Any

NASTY_TEXT = (
    "\x1b]0;owned\x07", "\x1b[2J", "\x9b31m", "\u009b2J", "\u202eteg\u202c", "\u2066x\u2069", "\0",
    "\r\n", "\u2028", "\ud7ff\ue000", "\U000e0041", "\ufeff",
    "[bold red]markup[/]", "{}", "{0.__class__}", "%s%n", "..", "../../etc/passwd", "/dev/zero",
    "a" * 300, "-" * 70, "'; DROP TABLE job; --",
    "=cmd|' /C calc'!A0", "${HOME}", "$(reboot)", "`id`", "\\", "\\x41", "\\", "é", "\u65e5\u672c",
    "", " ", ":", "=", "::", "a:b=c=d", "🜂",
)  # fmt: skip
NASTY_NUMBERS = (
    0, -1, 1, 2**31, 2**32, 2**53 + 1, 2**63 - 1, 2**63, 2**64, 10**18, 10**19, -(10**19), 0.5,
    -0.0, 5e-324, 1e-300, 1e17, 1e18, 1e100, 1.7e308, -1.7e308,
)  # fmt: skip
NASTY_BYTES = (
    b"\0", b"\xff\xfe", b"\x1b[31m", b"\x1b]52;c;aGk=\x07", b"\xc2\x9b2J", b"\x9b", b"\xe2\x80\xae",
    b"\r", b"\n\n\n", b"\t", b"\\", b'"', b"'", b"[", b"]", b"{", b"}", b"=", b":", b",",
    b"NaN", b"Infinity", b"-1", b"0", b"1e309", b"99999999999999999999999999", b"9" * 5000,
    b"[" * 600, b"{" * 600, b'{"a":' * 300, b"a." * 20000, b"\n" * 16000, b" " * 20000, b"#" * 5000,
    b'"""', b"'''", b"&lt;", b"<!ENTITY x 'y'>", b"]]>", b"%", b"%i%u%f", b"$HOME", b"\xed\xa0\x80",
    b"\xf4\x90\x80\x80",
)  # fmt: skip


def bytes_of(chance: random.Random, data: bytes) -> bytes:
    """The document with a few of its bytes spoiled."""
    for _ in range(chance.choice((1, 1, 2, 3, 8))):
        at = chance.randrange(len(data) + 1)
        to = min(len(data), at + chance.choice((1, 1, 2, 4, 16, 64, 512)))
        match chance.randrange(7):
            case 0:
                data = data[:at] + bytes([chance.randrange(256)]) + data[at + 1 :]
            case 1:
                data = data[:at] + data[to:]
            case 2:
                data = data[:at] + data[at:to] * chance.choice((2, 3, 50)) + data[to:]
            case 3 | 4:
                data = data[:at] + chance.choice(NASTY_BYTES) + data[at:]
            case 5:
                data = data[:at] + chance.choice(NASTY_BYTES) + data[to:]
            case _:
                data = data[:at] if chance.random() < 0.3 else data
    return data


def lines_of(chance: random.Random, data: bytes) -> bytes:
    """The document with a few of its lines spoiled."""
    lines = data.split(b"\n")
    for _ in range(chance.choice((1, 1, 2, 4))):
        at = chance.randrange(len(lines))
        line = lines[at]
        head, mark, value = line.partition(b"=")
        match chance.randrange(8):
            case 0:
                del lines[at]
                lines = lines or [b""]
            case 1:
                lines.insert(at, line)
            case 2:
                lines.insert(at, lines[chance.randrange(len(lines))])
            case 3:
                lines[at] = head + mark + chance.choice(NASTY_BYTES)
            case 4:
                lines[at] = head + mark + chance.choice(NASTY_TEXT).encode("utf-8", "surrogatepass")
            case 5:
                lines[at] = (
                    chance.choice(NASTY_TEXT).encode("utf-8", "surrogatepass") + mark + value
                )
            case 6:
                lines[at] = head + mark + str(chance.choice(NASTY_NUMBERS)).encode()
            case _:
                lines[at:at] = [line] * chance.choice((10, 1000))
    return b"\n".join(lines)


def fields_of(chance: random.Random, data: bytes) -> bytes:
    """A table in text, of white space or commas, with a few of its fields spoiled."""
    lines = data.split(b"\n")
    for _ in range(chance.choice((1, 1, 2, 5))):
        at = chance.randrange(len(lines))
        comma = b"," in lines[at]
        fields = lines[at].split(b"," if comma else None)
        if not fields:
            continue
        place = chance.randrange(len(fields))
        match chance.randrange(4):
            case 0:
                del fields[place]
            case 1:
                fields[place] = chance.choice(NASTY_BYTES)
            case 2:
                fields[place] = str(chance.choice(NASTY_NUMBERS)).encode()
            case _:
                fields.insert(place, fields[place])
        lines[at] = (b"," if comma else b" ").join(fields)
    return b"\n".join(lines)


def any_of(chance: random.Random, data: bytes) -> bytes:
    """A text, spoiled in one of the ways."""
    ways: Sequence[Callable[[random.Random, bytes], bytes]] = (
        bytes_of,
        lines_of,
        lines_of,
        fields_of,
    )
    return chance.choice(ways)(chance, data)


def json_of(chance: random.Random, data: bytes) -> bytes:
    """A JSON document with a few values spoiled; one time in six its bytes."""
    if chance.random() < 1 / 6:
        return bytes_of(chance, data)
    try:
        document = json.loads(data)
    except ValueError:  # spoiled before
        return bytes_of(chance, data)
    places = list(_places(document))
    for _ in range(chance.choice((1, 1, 1, 2, 4)) if places else 0):
        _spoil(chance, *chance.choice(places))
    return json.dumps(document, ensure_ascii=chance.random() < 0.5).encode("utf-8", "surrogatepass")


def _places(document: Any):
    """(container, key) of every value."""
    todo = [document]
    while todo:
        value = todo.pop()
        keys = (
            value
            if isinstance(value, dict)
            else range(len(value))
            if isinstance(value, list)
            else ()
        )
        for key in keys:
            yield value, key
            todo.append(value[key])


def _spoil(chance: random.Random, container: Any, key: Any) -> None:
    """Another value, or none.

    Half of the time one of the same kind, so that it comes past the first look.
    """
    try:
        held = container[key]
    except (KeyError, IndexError):  # an earlier change took it
        return
    if chance.random() < 1 / 2:
        container[key] = _alike(chance, held)
    elif isinstance(container, dict) and chance.random() < 1 / 3:
        del container[key]
        if chance.random() < 1 / 2:
            container[chance.choice((*NASTY_TEXT, *container))] = held
    else:
        text, number = chance.choice(NASTY_TEXT), chance.choice(NASTY_NUMBERS)
        others = (
            number,
            text,
            text * 100,
            text * 5000,
            None,
            True,
            False,
            [],
            {},
            {"not_measured": text},
        )
        container[key] = chance.choice(others)


def _alike(chance: random.Random, held: Any) -> Any:
    if isinstance(held, str):
        return chance.choice(NASTY_TEXT) + (held if chance.random() < 0.3 else "")
    if isinstance(held, list):
        return chance.choice(([], held * 3, held[:1], [held]))
    if isinstance(held, dict):
        return chance.choice(({}, {**held, chance.choice(NASTY_TEXT): 1}, [held]))
    return chance.choice(NASTY_NUMBERS)
