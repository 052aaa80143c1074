"""What stands on a sheet, in the language in which it is handed over."""

from collections.abc import Iterable
from typing import Literal

from lumtak.core.record import Record

Kind = Literal[
    "better", "partly", "not better", "worse", "nothing to gain", "unchanged", "put back", "open"
]  # fmt: skip
"""partly: better, and what holds the computer back still does. unchanged: nothing was changed,
though something could be. open: there is no reading that counts."""


class Line(Record):
    """A sentence, or several."""

    words: str
    command: str = ""
    """What is to be typed, under the words."""
    numbers: str = ""
    """Of the changes that it is about: "4", "2, 7"."""


def lines_of(words: Iterable[str]) -> tuple[Line, ...]:
    """A line for each sentence that says something."""
    return tuple(Line(words=w) for w in words if w)


class Part(Record):
    """A heading and what stands under it."""

    head: str
    lines: tuple[Line, ...]
    pictured: bool = False
    """Whether the small picture stands under it."""
    left_out: str = ""
    """What there was no room for, as a sentence; empty where all of it stands here."""


class Bar(Record):
    """A figure before and after, for the small picture."""

    title: str
    before: float
    after: float
    before_words: str
    after_words: str


class Sheet(Record):
    """One page for the owner."""

    kind: Kind
    language: str
    """As BCP 47 has it."""
    title: str
    """What came of it, in a sentence."""
    shop: tuple[str, ...]
    """Lines of who did the work."""
    about: tuple[str, ...]
    """Whose computer, which visit, what was agreed."""
    parts: tuple[Part, ...]
    bars: tuple[Bar, ...]
    bars_head: tuple[str, str]
    """The words for before and after."""
    signs: tuple[str, str]
    """Under the lines for signatures."""
    foot: str
    """Where this comes from."""
    numbers: tuple[int, ...]
    """Of all changes that it tells of; once it is saved or printed, no other change gets one."""
