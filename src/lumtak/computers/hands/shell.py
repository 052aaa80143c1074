"""Words and bytes as POSIX shell takes them, whatever they hold (POSIX.1-2017, Shell Command Language)."""

from __future__ import annotations

import re


def quoted(text: str) -> bytes:
    """One shell word, whatever it holds."""
    return b"'" + text.encode("utf-8", "surrogateescape").replace(b"'", b"'\\''") + b"'"


def prints(name: str, data: bytes) -> bytes:
    """A shell function that prints exactly these bytes, a line of them each time."""
    lines = [b"    printf '%s'" % _format(line) for line in re.findall(rb"[^\n]*\n|[^\n]+", data)] or [b"    :"]
    return b"%s() {\n%s\n}" % (name.encode(), b"\n".join(lines))


def _format(data: bytes) -> bytes:
    """Bytes as a printf format: printable ASCII stands for itself, the rest in octal."""
    out = bytearray()
    for place, byte in enumerate(data):
        char = bytes([byte])
        if char == b"\n":
            out += b"\\n"
        elif char in b"%\\":
            out += char * 2
        elif char in b"'$`" or not 0x20 <= byte < 0x7F or (char == b"-" and place == 0):
            out += b"\\%03o" % byte
        else:
            out += char
    return bytes(out)
