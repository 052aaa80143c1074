"""Exact states: what a setting is at one moment, typed, exact enough to be brought back to the
byte.

Each kind of state is a record that says all there is to say of it: its parts, what it looks like
where its setting can have had it, which of its parts are written on their own, and its part of the
undo script. Nobody else takes one apart or puts one together from texts. They use the standard
library only, in the language of Python 3.8, for they are sent with the hand; docs/FORMATS.md has
the records in JSON.
"""

from __future__ import annotations

import base64
import binascii
from dataclasses import dataclass, fields
from typing import Any, Callable, Dict, List

from lumtak.computers.hands.sent.script.shell import ScriptPart
from lumtak.computers.hands.sent.states.aside_states import KeptFile, RootAside, UserAside
from lumtak.computers.hands.sent.states.exact import STATE_KINDS, Exact
from lumtak.computers.hands.sent.states.root_states import (
    ClockPolicies,
    KernelValue,
    Profile,
    WirelessFile,
)
from lumtak.computers.hands.sent.states.swap_states import SwapAreas, swap_switch
from lumtak.computers.hands.sent.states.unit_links import UnitLinks, unit_name
from lumtak.computers.hands.sent.states.user_states import (
    Absent,
    ChannelKey,
    DesktopKey,
    File,
    InFolder,
    Link,
    Permission,
)
from lumtak.computers.hands.sent.states.watch_states import WatchFiles

__all__ = [
    "STATE_KINDS",
    "Absent",
    "ChannelKey",
    "ClockPolicies",
    "DesktopKey",
    "Exact",
    "File",
    "InFolder",
    "KeptFile",
    "KernelValue",
    "Link",
    "Permission",
    "Profile",
    "RootAside",
    "SwapAreas",
    "UnitLinks",
    "Unknown",
    "UserAside",
    "WatchFiles",
    "WirelessFile",
    "state_of",
    "swap_switch",
    "unit_name",
]


@dataclass(frozen=True)
class Unknown(Exact, kind="unknown"):
    """A record that is no state of a known kind.

    Damaged, of a newer Lumtak, or written by somebody else. It is kept, shown, and refused.
    """

    said: Any

    def problem(self, area: str, key: str) -> str:
        """See `Exact.problem`."""
        return self._problem(key)

    def _problem(self, key: str) -> str:
        return "its kind is not known, or a part of it is missing or cannot be read"

    def tests(self, part: ScriptPart) -> List[bytes]:
        """See `Exact.tests`; it is refused before."""
        return [b"false"]

    def bring(self, part: ScriptPart) -> List[bytes]:
        """See `Exact.bring`; it is refused before."""
        return [b"false"]


def state_of(said: Any) -> Exact:
    """The state that a document describes, as `msgspec.to_builtins` gives it.

    Raises:
        ValueError: it is none of a known kind.
    """
    kind = said.get("kind") if isinstance(said, dict) else None
    if not isinstance(kind, str) or kind not in STATE_KINDS:
        raise ValueError("its kind is not known")
    forms = {
        f.name: getattr(f.type, "__name__", f.type) for f in fields(STATE_KINDS[kind]) if f.init
    }
    odd = sorted(map(str, said.keys() ^ {"kind", *forms}))
    if odd:
        raise ValueError("its part %s is missing or unknown" % odd[0])
    return STATE_KINDS[kind](
        **{name: _read(str(form), said[name], name) for name, form in forms.items()}
    )


def _read(form: str, value: Any, name: str) -> Any:
    if form.startswith("Optional["):
        return None if value is None else _read(form[len("Optional[") : -1], value, name)
    if not _FORMS[form](value):
        raise ValueError("its part %s cannot be read" % name)
    if form == "bytes":
        try:
            return base64.b64decode(value, validate=True)
        except (binascii.Error, ValueError):
            raise ValueError("its part %s cannot be read" % name) from None
    return tuple(value) if form.startswith("Tuple") else value


def _is_text(value: Any) -> bool:
    return isinstance(value, str)


def _is_number(value: Any) -> bool:
    return type(value) is int


_FORMS: Dict[str, Callable[[Any], bool]] = {
    "str": _is_text,
    "bytes": _is_text,
    "int": _is_number,
    "bool": lambda value: isinstance(value, bool),
    "Mapping[str, str]": (
        lambda value: isinstance(value, dict) and all(map(_is_text, [*value, *value.values()]))
    ),
    "Tuple[str, ...]": lambda value: isinstance(value, (list, tuple)) and all(map(_is_text, value)),
    "Tuple[int, ...]": (
        lambda value: isinstance(value, (list, tuple)) and all(map(_is_number, value))
    ),
    "Any": bool,
}
"""What stands in JSON for a field of this form."""
