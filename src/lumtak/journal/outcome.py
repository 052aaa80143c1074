"""What became of a change, forth or back."""

from collections.abc import Callable
from typing import Literal

from lumtak.computers.protocol import Computer
from lumtak.core.record import NotMeasured, Record
from lumtak.core.setting import IN_FORCE, Change, SettingRef, State, not_in_force
from lumtak.errors import ComputerError
from lumtak.journal.entry import Moment

Result = Literal["done", "as it was", "failed", "conflict", "not tried"]
"""done: written and read back (or put back). as it was: there was nothing to do."""


class Outcome(Record):
    """What became of one change."""

    change: Change
    title: str
    id: int | None = None
    """Its place in the journal; None when it never got there."""
    number: int | None = None
    """What people call it, likewise."""
    before: str
    after: str
    """Read back, as a word."""
    result: Result
    note: str = ""
    force: str = ""
    """Whether what is stored is in force, as it was seen; empty where nothing could be."""
    unseen: bool = False
    """Whether it waits for a person to look at all that its record would write."""


def with_force(computer: Computer, ref: SettingRef, note: str = "") -> tuple[str, str]:
    """(the note, which says too where what is stored does nothing; whether it is in force).

    The latter is empty where nothing can be seen.
    """
    try:
        force = computer.settings.in_force(ref)
    except ComputerError as error:
        force = not_in_force(f"it cannot be asked: {error.message}")
    return "; ".join(filter(None, (note, "" if force == IN_FORCE else force))), force


OnStep = Callable[[Outcome], None]


def nothing(_: object) -> None:
    """For whoever does not want to be told."""


def word(state: State | None) -> str:
    """A state for a person; a question mark where nobody knows."""
    return "?" if state is None else state.word


def moment(computer: Computer) -> Moment:
    """The computer's clock, start and login now."""
    session = computer.clock.session_id()
    return Moment(
        at=clock(computer),
        boot_id=computer.clock.boot_id(),
        session_id=None if isinstance(session, NotMeasured) else session,
    )


def clock(computer: Computer) -> str:
    """The computer's clock, to the second."""
    return computer.clock.wall().isoformat(timespec="seconds")
