"""Kinds of arguments and answers, with their bounds.

Sent with the hand: the standard library only, in the language of Python 3.8.
"""

from __future__ import annotations

import math
import re
from typing import Any, Dict, List, Optional, Tuple

MOST_PATH, MOST_NAME = 32_768, 255


class Kind:
    """What a value has to be."""

    annotation = "Any"
    """As a type of Python, for whoever asks."""

    def why_not(self, value: Any) -> str:
        """Why this is no such value, as a clause; empty where it is one."""
        raise NotImplementedError

    def in_words(self) -> str:
        """For a person who reads the table."""
        raise NotImplementedError


class Text(Kind):
    """A text without NUL."""

    annotation = "str"

    def __init__(self, most: int, pattern: str = "", words: str = "") -> None:
        self._most, self._words = most, words
        self._pattern = re.compile(pattern, re.DOTALL) if pattern else None

    def why_not(self, value: Any) -> str:
        """See `Kind`."""
        if not isinstance(value, str):
            return "is no text"
        if "\0" in value:
            return "holds a NUL"
        if len(value) > self._most:
            return "is longer than %d letters" % self._most
        if self._pattern is not None and self._pattern.fullmatch(value) is None:
            return "is no %s" % (self._words or "such text")
        return ""

    def in_words(self) -> str:
        """See `Kind`."""
        return self._words or "text of up to %d letters" % self._most


def path(empty: bool = False) -> Text:
    """A whole path; or nothing, where that may be."""
    words = "whole path" + (", or nothing" if empty else "")
    return Text(MOST_PATH, r"(?:/.*)?" if empty else r"/.*", words)


def name() -> Text:
    """A name in a folder."""
    return Text(MOST_NAME, r"(?!\.{1,2}\Z)[^/]+", "name in a folder")


class Number(Kind):
    """A whole number within bounds."""

    annotation = "int"

    def __init__(self, lowest: int, highest: int) -> None:
        self._lowest, self._highest = lowest, highest

    def why_not(self, value: Any) -> str:
        """See `Kind`."""
        fits = type(value) is int and self._lowest <= value <= self._highest
        return "" if fits else "is no number from %d to %d" % (self._lowest, self._highest)

    def in_words(self) -> str:
        """See `Kind`."""
        return "%s to %s" % (format(self._lowest, ","), format(self._highest, ","))


class Seconds(Kind):
    """A number of seconds, or another measured one, within bounds."""

    annotation = "float"

    def __init__(self, lowest: float, highest: float) -> None:
        self._lowest, self._highest = lowest, highest

    def why_not(self, value: Any) -> str:
        """See `Kind`."""
        fits = type(value) in (int, float) and math.isfinite(value)
        fits = fits and self._lowest <= value <= self._highest
        return "" if fits else "is no number from %g to %g" % (self._lowest, self._highest)

    def in_words(self) -> str:
        """See `Kind`."""
        return "%g to %g" % (self._lowest, self._highest)


class Switch(Kind):
    """Yes or no."""

    annotation = "bool"

    def why_not(self, value: Any) -> str:
        """See `Kind`."""
        return "" if isinstance(value, bool) else "is neither yes nor no"

    def in_words(self) -> str:
        """See `Kind`."""
        return "yes or no"


class Bytes(Kind):
    """So many bytes at most."""

    annotation = "bytes"

    def __init__(self, most: int) -> None:
        self._most = most

    def why_not(self, value: Any) -> str:
        """See `Kind`."""
        fits = isinstance(value, bytes) and len(value) <= self._most
        return "" if fits else "is not bytes, %d at most" % self._most

    def in_words(self) -> str:
        """See `Kind`."""
        return "up to %s bytes" % format(self._most, ",")


class Nothing(Kind):
    """No value."""

    annotation = "None"

    def why_not(self, value: Any) -> str:
        """See `Kind`."""
        return "" if value is None else "is something"

    def in_words(self) -> str:
        """See `Kind`."""
        return "nothing"


class Choice(Kind):
    """One of a few words."""

    annotation = "str"

    def __init__(self, *words: str) -> None:
        self._words = words

    def why_not(self, value: Any) -> str:
        """See `Kind`."""
        fits = isinstance(value, str) and value in self._words
        return "" if fits else "is none of %s" % ", ".join(self._words)

    def in_words(self) -> str:
        """See `Kind`."""
        return " or ".join(self._words)


class Maybe(Kind):
    """A value, or none."""

    def __init__(self, kind: Kind) -> None:
        self._kind = kind
        self.annotation = kind.annotation + " | None"

    def why_not(self, value: Any) -> str:
        """See `Kind`."""
        return "" if value is None else self._kind.why_not(value)

    def in_words(self) -> str:
        """See `Kind`."""
        return self._kind.in_words() + ", or nothing"


class Either(Kind):
    """A value of one of several kinds."""

    def __init__(self, *kinds: Kind) -> None:
        self._kinds = kinds
        self.annotation = " | ".join(dict.fromkeys(k.annotation for k in kinds))

    def why_not(self, value: Any) -> str:
        """See `Kind`."""
        whys = [kind.why_not(value) for kind in self._kinds]
        return "" if "" in whys else whys[0]

    def in_words(self) -> str:
        """See `Kind`."""
        return ", or ".join(kind.in_words() for kind in self._kinds)


class Many(Kind):
    """A list."""

    def __init__(self, kind: Kind, most: int, least: int = 0) -> None:
        self._kind, self._most, self._least = kind, most, least
        self.annotation = "list[%s]" % kind.annotation

    def why_not(self, value: Any) -> str:
        """See `Kind`."""
        if not isinstance(value, (list, tuple)) or not self._least <= len(value) <= self._most:
            return "is no list of %d to %d" % (self._least, self._most)
        why_not = self._kind.why_not
        for one in value:
            why = why_not(one)
            if why:
                return "holds something that " + why
        return ""

    def in_words(self) -> str:
        """See `Kind`."""
        least = "%d to " % self._least if self._least else "up to "
        return "%s%s of: %s" % (least, format(self._most, ","), self._kind.in_words())


class Row(Kind):
    """A list of values of different kinds, in order."""

    annotation = "list[Any]"

    def __init__(self, *kinds: Kind) -> None:
        self._kinds = kinds

    def why_not(self, value: Any) -> str:
        """See `Kind`."""
        if not isinstance(value, (list, tuple)) or len(value) != len(self._kinds):
            return "is no row of %d" % len(self._kinds)
        return next((w for k, v in zip(self._kinds, value) for w in [k.why_not(v)] if w), "")

    def in_words(self) -> str:
        """See `Kind`."""
        return "[%s]" % "; ".join(kind.in_words() for kind in self._kinds)


class Named(Kind):
    """Values by names of whoever gives them."""

    def __init__(self, kind: Kind, most: int, key: Optional[Kind] = None) -> None:
        self._kind, self._most, self._key = kind, most, key or Text(MOST_PATH)
        self.annotation = "dict[str, %s]" % kind.annotation

    def why_not(self, value: Any) -> str:
        """See `Kind`."""
        if not isinstance(value, dict) or len(value) > self._most:
            return "is no table of up to %d" % self._most
        for key, one in value.items():
            why = self._key.why_not(key) or self._kind.why_not(one)
            if why:
                return "holds something that " + why
        return ""

    def in_words(self) -> str:
        """See `Kind`."""
        return "up to %s by name: %s" % (format(self._most, ","), self._kind.in_words())


class Record(Kind):
    """Values by names that are known; every one of them is there, and no other."""

    annotation = "dict[str, Any]"

    def __init__(self, **kinds: Kind) -> None:
        self._kinds: Dict[str, Kind] = kinds

    def why_not(self, value: Any) -> str:
        """See `Kind`."""
        if not isinstance(value, dict) or value.keys() != self._kinds.keys():
            return "has not the parts %s" % ", ".join(sorted(self._kinds))
        for key, kind in self._kinds.items():
            why = kind.why_not(value[key])
            if why:
                return "%s of it %s" % (key, why)
        return ""

    def in_words(self) -> str:
        """See `Kind`."""
        return "; ".join("%s: %s" % (k, kind.in_words()) for k, kind in self._kinds.items())


class Document(Kind):
    """A document of JSON, so large and deep at most; who takes it checks what is in it."""

    annotation = "dict[str, Any]"

    def __init__(self, most: int, words: str) -> None:
        self._most, self._words = most, words

    def why_not(self, value: Any) -> str:
        """See `Kind`."""
        if not isinstance(value, dict):
            return "is no document"
        left = self._most
        todo: List[Tuple[Any, int]] = [(value, 0)]
        while todo:
            one, depth = todo.pop()
            left -= len(one) if isinstance(one, (str, bytes)) else 8
            if left < 0 or depth > 8:
                return "is too large for a document"
            if isinstance(one, dict):
                todo += [(k, depth + 1) for k in one] + [(v, depth + 1) for v in one.values()]
            elif isinstance(one, (list, tuple)):
                todo += [(v, depth + 1) for v in one]
        return ""

    def in_words(self) -> str:
        """See `Kind`."""
        return "%s (a document of up to %s letters)" % (self._words, format(self._most, ","))
