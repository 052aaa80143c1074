"""What the journal knows of one change, and of one plan."""

import hashlib
from typing import Literal, TypeVar

import msgspec

from lumtak.core.record import Record
from lumtak.core.setting import Change, SettingRef, Shows, State

Stage = Literal["intent", "written", "verified", "undoing", "undone", "not done", "failed", "conflict"]
"""intent: about to be written. written: written, not read back. verified: read back as wanted. undoing: about to be put back.
undone: put back. not done: interrupted before the write. failed: refused, and as before. conflict: needs a look."""

OPEN: tuple[Stage, ...] = ("intent", "written", "verified", "undoing", "conflict")
"""Stages of changes that are not put back."""
UNFINISHED: tuple[Stage, ...] = ("intent", "written", "undoing")


class Entry(Record):
    """One change in the journal."""

    format: int = 1
    id: int
    plan: int = 0
    """Number of the plan it was part of; 0 where that is not known any more."""
    turn: int = 0
    """How often this record was written anew: of two copies, the one with more is the newer."""
    computer: str
    """The computer's identity."""
    address: str
    user: str
    job: str
    ref: SettingRef
    title: str
    value: str | None
    """What it was to become."""
    before: State
    """What it was when it was changed."""
    restore: State
    """What putting it back restores: `before`, unless an older change of the same setting was put back since."""
    expected: State
    """What the computer was to have after the write, as exactly as could be told beforehand."""
    after: State | None = None
    """What was read back."""
    stage: Stage = "intent"
    shows: Shows
    boot_id: str
    """Of the last write to the computer, forth or back."""
    session_id: str | None
    note: str = ""
    begun_at: str
    stage_at: str
    seen_at: str = ""
    """When it was last seen as it was left; empty when it never was."""

    @property
    def is_open(self) -> bool:
        """Whether it is still to be put back."""
        return self.stage in OPEN

    @property
    def change(self) -> Change:
        """What was asked for."""
        return Change(ref=self.ref, value=self.value)

    @property
    def left(self) -> State:
        """The state in which it was to be left: as read back, or as foreseen where it never was read back so."""
        return self.after if self.after is not None and self.after.value == self.value else self.expected

    @property
    def known(self) -> tuple[State, ...]:
        """States that come from Lumtak's own write."""
        return (self.expected,) if self.after is None else (self.after, self.expected)

    @property
    def word(self) -> str:
        """What it was to become, for a person."""
        return State(value=self.value).word


class PlanRecord(Record):
    """Changes that were to be applied together."""

    format: int = 1
    id: int
    computer: str
    user: str
    job: str
    changes: tuple[Change, ...]
    """In their order."""
    titles: tuple[str, ...]
    begun_at: str


_T = TypeVar("_T", Entry, PlanRecord)


def sealed(record: Entry | PlanRecord) -> tuple[bytes, str]:
    """(document in JSON, its SHA-256 in hexadecimal)."""
    document = msgspec.json.encode(record)
    return document, hashlib.sha256(document).hexdigest()


def unsealed(document: bytes, checksum: str, kind: type[_T]) -> _T | None:
    """The record of a document; None when the document is damaged."""
    if hashlib.sha256(document).hexdigest() != checksum:
        return None
    try:
        return msgspec.json.decode(document, type=kind)
    except msgspec.MsgspecError:
        return None
