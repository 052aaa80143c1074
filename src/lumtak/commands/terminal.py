"""The one place through which the command line speaks.

Nothing that it was told can give orders to a terminal.
"""

import re
import sys
from io import TextIOWrapper
from typing import TextIO

from lumtak.core.text import harmless


class Harmless(TextIOWrapper):
    """A stream of text in which whatever a terminal could obey is made visible."""

    def write(self, text: str) -> int:
        """The text, made visible."""
        super().write(harmless(text))
        return len(text)

    def order(self, text: str) -> None:
        """What Lumtak itself tells the terminal to do."""
        super().write(text)


def _harmless(stream: TextIO) -> TextIO:
    stream.flush()
    return Harmless(
        stream.buffer,
        encoding=stream.encoding,
        errors="backslashreplace",
        line_buffering=stream.isatty(),
        write_through=stream is sys.stderr,
    )


def make_harmless() -> None:
    """Both streams are from here on."""
    sys.stdout, sys.stderr = _harmless(sys.stdout), _harmless(sys.stderr)


def begin_line() -> None:
    """The line on standard error is written anew."""
    if isinstance(sys.stderr, Harmless):
        sys.stderr.order("\r\x1b[K")


def in_plain_words(message: str) -> str:
    """What is wrong with the words of a command, without those of a programmer."""
    for pattern, words in _PLAIN:
        message = re.sub(pattern, words, message)
    return message


_PLAIN = (
    (r"'([^']*)' is not a valid (?:float|integer)(?: range)?", r"“\1” is no number"),
    (r"(\S+) is not in the range (\S+?)<=?x<=?(\S+?)(?=\.|$)", r"\1 is not from \2 to \3"),
    (r"(\S+) is not in the range x>=(\S+?)(?=\.|$)", r"\1 is less than \2"),
    (r"(\S+) is not in the range x<=(\S+?)(?=\.|$)", r"\1 is more than \2"),
)
