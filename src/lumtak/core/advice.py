"""Common advice about slow computers, graded, each with the mechanism that bears it out or refutes
it.
"""

from collections.abc import Iterable
from typing import Literal

import msgspec

from lumtak.core.audit import Finding
from lumtak.core.record import Record
from lumtak.core.toml import read_toml
from lumtak.errors import BadFileError

FORMAT = 1
Grade = Literal["no effect", "harmful", "depends"]


class Advice(Record):
    """One piece of advice."""

    name: str
    claim: str
    """As it is given."""
    verdict: Grade
    why: str
    """The mechanism."""
    instead: str
    """What to do."""
    words: tuple[str, ...] = ()
    """By which it is found, besides those in its text; role:NAME and AREA:KEY name what it is
    about."""


class _File(Record):
    format: int
    advice: tuple[Advice, ...]


def load_advice(text: str, path: str) -> tuple[Advice, ...]:
    """The advice in a TOML document.

    Raises:
        BadFileError: it does not fit the format.
    """
    document = read_toml(text, path)
    try:
        file = msgspec.convert(document, _File)
    except msgspec.ValidationError as error:
        raise BadFileError(path, f"this is no collection of advice: {error}.") from error
    if file.format != FORMAT:
        raise BadFileError(
            path, f"format {file.format} is not known here; this Lumtak reads format {FORMAT}."
        )
    return file.advice


def search(advice: Iterable[Advice], word: str) -> tuple[Advice, ...]:
    """Those in which the word stands: by name or by words first, then anywhere in the text."""
    low = word.lower()
    near = [a for a in advice if low in a.name or any(low in w for w in a.words)]
    far = [a for a in advice if a not in near and low in f"{a.claim} {a.why} {a.instead}".lower()]
    return (*near, *far)


def for_item(advice: Iterable[Advice], finding: Finding) -> tuple[Advice, ...]:
    """The advice that names this item among its words: by role, by address."""
    names = {f"role:{finding.role}", f"{finding.area}:{finding.key}"}
    return tuple(a for a in advice if names.intersection(a.words))
