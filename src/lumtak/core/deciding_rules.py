"""Rules that a person types: which of the owner's files are meant."""

import re
from collections.abc import Callable, Iterable

from lumtak.core.deciding import Thing
from lumtak.core.owned import KINDS
from lumtak.core.units import GIB, MIB
from lumtak.errors import UsageError

_DAY_S = 86_400
_SIZE = re.compile(r"([<>])([0-9]*\.?[0-9]+)([mg]?)")
_AGE = re.compile(r"older>([0-9]+)")
RULES = (
    "Words of a rule: a kind (film, picture, music, document, archive, program, mail, disk-image,"
    " folder), a size (>500m, <2g), older>365 (days), in:PATH, copies; anything else stands in the"
    " path."
)


def by_rule(found: Iterable[Thing], words: str, now: float) -> list[Thing]:
    """The things that a rule means: all of its words have to hold.

    Raises:
        UsageError: there is no word, or one cannot be understood.
    """
    tests = [_test(word, now) for word in words.split()]
    if not tests:
        raise UsageError("A rule without a word would mean everything.", RULES)
    return [thing for thing in found if all(test(thing) for test in tests)]


def _test(word: str, now: float) -> Callable[[Thing], bool]:
    lower = word.lower()
    kind = lower.replace("-", " ")
    if kind in KINDS or kind == "folder":
        return lambda t: t.kind == kind
    if size := _SIZE.fullmatch(lower):
        limit = float(size[2]) * (GIB if size[3] == "g" else MIB)
        return (lambda t: t.bytes > limit) if size[1] == ">" else (lambda t: t.bytes < limit)
    if age := _AGE.fullmatch(lower):
        # What has no known age is not older than anything.
        return lambda t: 0 < t.changed_at < now - int(age[1]) * _DAY_S
    if lower.startswith(("<", ">", "older")):
        raise UsageError(f"“{word[:40]}” is no size and no age.", RULES)
    if lower == "copies":
        return lambda t: bool(t.copies)
    if lower.startswith("in:"):
        folder = word[3:].rstrip("/") + "/"
        return lambda t: t.path.startswith(folder)
    return lambda t: lower in t.path.lower()
