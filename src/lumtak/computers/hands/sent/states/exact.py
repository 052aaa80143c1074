"""What every kind of exact state has; `states` says what they are for."""

from __future__ import annotations

import base64
from abc import ABC, abstractmethod
from dataclasses import dataclass, field, fields
from typing import Any, ClassVar, Dict, List, Mapping, Optional, Tuple, Type

from lumtak.computers.hands.sent.script.shell import ScriptPart, beside, quoted
from lumtak.computers.hands.sent.table import is_own_content, is_switch

STATE_KINDS: Dict[str, Type[Exact]] = {}
"""Every kind of state by its name; defining one adds it."""


@dataclass(frozen=True)
class Exact(ABC):
    """An exact state.

    Two are the same where their fields are, those that only go along (`compare=False`) left out.
    """

    kind: str = field(default="", init=False, repr=False)
    areas: ClassVar[Tuple[str, ...]] = ()
    """Whose settings can be in such a state."""
    root: ClassVar[bool] = False
    """Whether it takes root to bring it back."""
    apart: ClassVar[Tuple[str, ...]] = ()
    """Fields whose parts are written on their own, one after the other; all else is written at
    once."""
    heads: ClassVar[Tuple[str, ...]] = ()
    """What its part of the undo script calls."""

    def __init_subclass__(cls, kind: str = "") -> None:
        cls.kind = kind
        if kind:
            STATE_KINDS[kind] = cls

    def __post_init__(self) -> None:
        object.__setattr__(self, "kind", type(self).kind)

    def said(self) -> Dict[str, Any]:
        """It as a document of JSON; docs/FORMATS.md."""
        found = {f.name: _as_json(getattr(self, f.name)) for f in fields(self) if f.init}
        return {"kind": self.kind, **found}

    # -- what it looks like ------------------------------------------------------------------------

    def problem(self, area: str, key: str) -> str:
        """Why this setting cannot have been in this state, as a clause; empty where it can."""
        if area not in self.areas:
            return "“%s” is no kind of state that %s have" % (self.kind, area)
        return self._problem(key)

    @abstractmethod
    def _problem(self, key: str) -> str:
        """The same, in an area of its own."""

    def by_hand(self) -> str:
        """What a person can type to bring it back, where Lumtak would not write it.

        Empty where nothing short does.
        """
        return ""

    # -- comparison --------------------------------------------------------------------------------

    def parts(self) -> Dict[Tuple[str, str], object]:
        """What is written on its own, by field and name."""
        found: Dict[Tuple[str, str], object] = {}
        for name in self.apart:
            held = getattr(self, name)
            if isinstance(held, Mapping):
                found.update({(name, key): value for key, value in held.items()})
            elif isinstance(held, tuple):
                found.update({(name, str(one)): True for one in held})
            else:
                found[name, ""] = held
        return found

    def _rest(self) -> List[object]:
        return [
            getattr(self, f.name) for f in fields(self) if f.compare and f.name not in self.apart
        ]

    def between(self, one: Exact, other: Exact) -> bool:
        """Whether a write from the one to the other was interrupted half-way.

        Each part is as in one of them, and all else is equal.
        """
        if (
            not type(self) is type(one) is type(other)
            or not self._rest() == one._rest() == other._rest()
        ):
            return False
        mine, first, second = self.parts(), one.parts(), other.parts()
        names = {*mine, *first, *second}
        return bool(names) and all(mine.get(n) in (first.get(n), second.get(n)) for n in names)

    def alike(self, other: Exact) -> bool:
        """Whether one script can tell the two from each other."""
        return type(self) is type(other)

    # -- its part of the undo script ---------------------------------------------------------------

    def places(self) -> List[str]:
        """Files and links of the system that a write of it touches."""
        return []

    def preface(self, part: ScriptPart) -> List[bytes]:
        """What stands before the tests: what an interrupted write left beside its places goes."""
        found = sorted({place for state in part.among for place in state.places()})
        return [
            (b"drop_switch %s" if is_switch(p) else b"drop %s") % quoted(beside(p)) for p in found
        ]

    @abstractmethod
    def tests(self, part: ScriptPart) -> List[bytes]:
        """The shell conditions that this state is there, one a part, in the same order for each of
        these states.

        Args:
            part: knows all states that it tells apart, this one included, and keeps the functions
                that its lines call.
        """

    @abstractmethod
    def bring(self, part: ScriptPart) -> List[bytes]:
        """The commands that bring this state back, each only where the one before succeeded."""

    def tidy(self) -> bytes:
        """What is cleared away afterwards, and where it is there already.

        Empty where nothing is.
        """
        return b""


class OfRoot(Exact):
    """A state that it takes root to bring about: root's hand looks at it and writes it by itself.

    `at` looks (names, link, read, exists, listing, is_active), `to` writes besides (own_put,
    own_link, own_remove, own_clear, units, set_kernel, ...); see `root.writing.Writing`.
    """

    root = True

    @abstractmethod
    def seen(self, at: Any) -> Optional[OfRoot]:
        """This state as root itself sees it; None where something else stands there."""

    def there(self, at: Any, was: OfRoot) -> OfRoot:
        """What a write of it would find, and might take away.

        Args:
            at: looks.
            was: what whoever asks says that stands.
        """
        return was

    @abstractmethod
    def write(self, to: Any, was: Exact) -> None:
        """It is there.

        Args:
            to: writes.
            was: the state that stood before.

        Raises:
            OSError: it was refused, or failed half-way.
        """

    def switches(self, before: Exact) -> List[Tuple[str, bool, bool]]:
        """(unit, whether it is taken off, whether it is put on) from the state before to this one;
        after it every other name by which it goes.
        """
        return []


def _as_json(value: Any) -> Any:
    if isinstance(value, bytes):
        return base64.b64encode(value).decode()
    if isinstance(value, Mapping):
        return dict(value)
    return list(value) if isinstance(value, tuple) else value


def own_file_problem(path: str, data: Optional[bytes]) -> str:
    """Why Lumtak would not write this there, as a clause; empty where it would."""
    fits = data is None or is_own_content(path, data)
    return "" if fits else "%s holds something else than what Lumtak writes there" % path


def link_test(path: str, target: Optional[str]) -> bytes:
    """The shell condition that a link leads there, or that there is none."""
    return (
        b"link_is %s %s" % (quoted(path), quoted(target))
        if target
        else b"link_gone %s" % quoted(path)
    )


def word(text: str) -> str:
    """A text as one word of a shell command."""
    return quoted(text).decode("utf-8", "replace")
