"""Names that come from a computer are text.

Nothing in them reaches a terminal or a file as a command.
"""

import unicodedata

_LONGEST = 200
_DIGITS = 20


def plain(text: str, longest: int = _LONGEST) -> str:
    r"""The text on one line, with control characters made visible and its length bounded.

    C0 controls become their Unicode control pictures (U+2400 block); other controls, format
    characters (bidirectional overrides among them), line separators and lone surrogates become
    U+FFFD. Markup needs no change here: screens and documents take the result as text, never as
    markup.
    """
    if len(text) <= longest and text.isprintable():  # none of those is printable
        return text
    cut = text if len(text) <= longest else text[: longest - 1] + "…"
    return "".join(_visible(char) for char in cut)


def _visible(char: str) -> str:
    code = ord(char)
    if code < 0x20:
        return chr(0x2400 + code)
    if code == 0x7F:
        return "\u2421"
    if unicodedata.category(char) in {"Cc", "Cf", "Cs", "Co", "Cn", "Zl", "Zp"}:
        return "\ufffd"
    return char


def capital(words: str) -> str:
    """The same words at the beginning of a sentence."""
    return f"{words[:1].upper()}{words[1:]}"


def number(said: str | bytes | None) -> int | None:
    """A counter as a kernel writes it, in decimal digits.

    None where it is none, or longer than 64 bits ever are.
    """
    return (
        int(said) if said and len(said) <= _DIGITS and said.isascii() and said.isdigit() else None
    )


def harmless(text: str) -> str:
    """Lines of text for a terminal.

    Line ends and tabs stay, everything else that a terminal could obey is made visible.
    """
    if text.isascii() and text.replace("\n", "").replace("\t", "").isprintable():
        return text
    return "".join(char if char in "\n\t" else _visible(char) for char in text)


def harmless_json(document: bytes) -> bytes:
    """A JSON document in UTF-8 that says the same, without characters that a terminal or an editor
    could obey: they stand as escapes.
    """
    if document.isascii():
        return document
    return "".join(_escaped(char) for char in document.decode("utf-8", "surrogatepass")).encode()


def _escaped(char: str) -> str:
    if char.isascii() or _visible(char) == char:
        return char
    code = ord(char)
    if code < 0x10000:
        return f"\\u{code:04x}"
    return f"\\u{0xD800 + ((code - 0x10000) >> 10):04x}\\u{0xDC00 + ((code - 0x10000) & 0x3FF):04x}"
