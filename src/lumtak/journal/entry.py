"""What the journal knows of one change, and of one plan."""

import hashlib
from functools import lru_cache
from typing import Any, Literal, TypeVar

import msgspec

from lumtak.computers.recorded import recorded_state
from lumtak.core.record import UNREADABLE, FileName, Record
from lumtak.core.setting import Change, SettingRef, Shows, State
from lumtak.errors import NewerError
from lumtak.journal.migrate import migrated

FORMAT = 6
"""Of records; docs/FORMATS.md says what each number brought."""

Stage = Literal[
    "intent",
    "written",
    "verified",
    "undoing",
    "undone",
    "not done",
    "failed",
    "conflict",
    "emptied",
]
"""intent: about to be written. written: written, not read back. verified: read back as wanted.
undoing: about to be put back. undone: put back. not done: interrupted before the write. failed:
refused, and as before. conflict: needs a look. emptied: what it set aside was deleted on somebody's
word, so that it cannot be put back any more."""

OPEN: tuple[Stage, ...] = ("intent", "written", "verified", "undoing", "conflict")
"""Stages of changes that are not put back."""
ENDED_WORDS: dict[Stage, str] = {
    "undone": "put back",
    "emptied": "emptied",
    "failed": "refused, as before",
    "not done": "was not done",
}
"""Of those that are not open, for a person."""
UNFINISHED: tuple[Stage, ...] = ("intent", "written", "undoing")


class Moment(Record):
    """When something was written to a computer: its clock, start and login."""

    at: str
    boot_id: str
    session_id: str | None


class Entry(Record):
    """One change in the journal."""

    format: int = FORMAT
    id: int
    """Its place in the journal, which no other change ever has."""
    number: int = 0
    """What people call it: short, and no other change that stands on the computer has it, nor one
    that stands on a sheet; see `numbers.lowest_free`."""
    trial: int = 0
    """Number of the trial that it is a flip of; 0 where it is of none."""
    plan: int = 0
    """Number of the plan it was part of; 0 where that is not known any more."""
    turn: int = 0
    """How often this record was written anew: of two copies, the one with more is the newer."""
    computer: FileName
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
    """What putting it back restores: `before`, unless an older change of the same setting was put
    back since."""
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
    """For a person; nothing depends on it."""
    force: str = ""
    """Whether what was stored showed in the thing itself: `IN_FORCE`, or why not; empty where
    nothing could be seen."""
    taken_over_by: int = 0
    """The newer change of the same setting that restores what this one would; 0 where there is
    none."""
    script_made: int = 0
    """How many folders were made for the undo script when this was changed."""
    rescued: bool = False
    """Whether it comes from a second copy that the database did not bear out: somebody else may
    have written it."""
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
        """The state in which it was to be left.

        As read back, or as foreseen where it never was read back so.
        """
        return (
            self.after
            if self.after is not None and self.after.value == self.value
            else self.expected
        )

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
    computer: FileName
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


class _Head(Record, forbid_unknown_fields=False):
    """What every version of a record has."""

    format: int = 1


# A journal is gone through several times for each thing that is done, and records never change.
@lru_cache(maxsize=4096)
def unsealed(document: object, checksum: object, kind: type[_T]) -> _T | None:
    """The record of a document, brought to this version's form; None when the document is damaged.

    Raises:
        NewerError: it is whole, and a newer Lumtak wrote it.
    """
    if not isinstance(document, bytes) or hashlib.sha256(document).hexdigest() != checksum:
        return None
    try:
        written = msgspec.json.decode(document, type=_Head).format
        if written < 1:
            return None
        if written > FORMAT:
            raise NewerError("A record of the journal", written, FORMAT)
        if written == FORMAT or kind is not Entry:
            return msgspec.json.decode(document, type=kind, dec_hook=_exact)
        record = migrated(msgspec.json.decode(document, type=dict[str, Any]), written, FORMAT)
        return msgspec.convert(record, kind, dec_hook=_exact)
    except UNREADABLE:
        return None


def _exact(kind: type, said: Any) -> Any:  # noqa: ANN401 - a hook of msgspec's; exact states are all that it is asked for
    del kind
    return recorded_state(said)
