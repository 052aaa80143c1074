r"""Names of files that are no text, as text and back.

A byte that is not UTF-8, or a control character, stands as \xNN.

Two upper-case hexadecimal digits tell it from the escapes of systemd, whose digits are lower case.
A backslash is escaped only where it would be taken for the beginning of an escape, so that every
other name stays as it is.
"""

import re

_ODD = re.compile(r"[\x00-\x1f\x7f\udc80-\udcff]|\\(?=x(?:[0189A-F][0-9A-F]|7F|5C))")
_ESCAPE = re.compile(r"\\x([0189A-F][0-9A-F]|7F|5C)")


def escaped(name: str) -> str:
    """A name as the system gives it (undecodable bytes as lone surrogates; PEP 383), as text that
    can be shown, typed and stored.
    """
    return _ODD.sub(lambda m: f"\\x{m[0].encode('utf-8', 'surrogateescape')[0]:02X}", name)


def unescaped(text: str) -> str:
    """The name again; what holds no escape is its own name."""
    if "\\x" not in text:
        return text
    whole = _ESCAPE.sub(
        lambda m: chr(int(m[1], 16) + (0xDC00 if int(m[1], 16) >= 0x80 else 0)), text
    )
    return whole.encode("utf-8", "surrogateescape").decode("utf-8", "surrogateescape")
