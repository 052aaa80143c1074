"""Faults of a simulated computer, switched on by its address.

`sim:NAME?fault=KIND[:AREA:KEY][,...]`.
"""

import zlib
from typing import Literal, get_args

from lumtak.core.record import Record
from lumtak.core.setting import parse_ref
from lumtak.errors import UnknownNameError, UsageError

FaultKind = Literal["refuse", "revert", "respawn", "locked", "powercut", "slow"]
FAULT_KINDS: tuple[FaultKind, ...] = get_args(FaultKind)

SLOW_S = 20.0
"""How long a write takes with `slow`."""
LOCKED_S = 60.0
"""For how long after the first try a setting stays locked."""
REVERT_S = 60.0
"""After how long a setting goes back by itself."""
RESPAWN_S = 30.0
"""After how long a service that was stopped runs again."""
_ONE_IN = 3


class Fault(Record):
    """One fault."""

    kind: FaultKind
    address: str = ""
    """The setting it hits; empty: one setting in three, always the same ones."""

    def hits(self, address: str) -> bool:
        """Whether it hits this setting."""
        if self.kind in {"slow", "powercut"} and not self.address:
            return True
        if self.address:
            return self.address == address
        return zlib.crc32(f"{self.kind} {address}".encode()) % _ONE_IN == 0


def split_address(text: str) -> tuple[str, tuple[Fault, ...]]:
    """(address without faults, faults).

    Raises:
        UsageError: the form is wrong; UnknownNameError: there is no such fault.
    """
    address, mark, query = text.partition("?")
    if not mark:
        return address, ()
    key, _, value = query.partition("=")
    if key != "fault" or not value or not address.startswith("sim:"):
        raise UsageError(
            f"“{text}” is no computer's address.",
            "Faults of a simulated computer are switched on by sim:NAME?fault=KIND[:AREA:KEY];"
            f" kinds: {', '.join(FAULT_KINDS)}.",
        )
    return address, tuple(_fault(part) for part in value.split(","))


def _fault(text: str) -> Fault:
    kind, _, address = text.partition(":")
    if kind not in FAULT_KINDS:
        raise UnknownNameError("fault", kind, FAULT_KINDS, f"There are {', '.join(FAULT_KINDS)}.")
    return Fault(kind=kind, address=str(parse_ref(address)) if address else "")
