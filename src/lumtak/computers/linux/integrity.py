"""The files of a Debian computer held against what its package database recorded."""

import threading
from collections.abc import Callable
from typing import Any

import msgspec

from lumtak.computers.hands.packages import STATUS
from lumtak.computers.hands.reach import Reach, reason_of
from lumtak.computers.hands.whose import Hands
from lumtak.computers.hands.words import escaped
from lumtak.core.record import Record
from lumtak.core.upkeep import Checked, Damage, Integrity
from lumtak.errors import ComputerError, StoppedError

_MOST = 2000


class _Counts(Record):
    found: int
    config: int
    strangers: int


class _Said(Record):
    """What a hand says at the end."""

    files: int
    bytes: int
    found: list[tuple[str, str, str]]
    config: list[tuple[str, str, str]]
    strangers: list[str]
    counts: _Counts
    unread: int
    left_out: int
    without: list[str]
    broken: str


def integrity(
    hands: Hands, at: str, on_progress: Callable[[Checked], None], stop: threading.Event
) -> Integrity:
    """See `About.integrity`.

    Raises:
        StoppedError: it was told to stop; ComputerError: nothing is recorded here, or it cannot be
            read.
    """
    hand: Reach = hands.searching or hands.own
    if not hands.own.exists(STATUS):
        raise ComputerError(
            "No package database here records what files should hold.",
            "This check knows dpkg's; others are not read yet.",
        )
    try:
        ended: dict[str, Any] = {}
        for part in hand.integrity():
            if stop.is_set():
                raise StoppedError("The check of the system's files")
            ended = part.get("ended", {})
            if not ended:
                on_progress(
                    Checked(
                        files=part["files"],
                        bytes=part["bytes"],
                        whole_bytes=part["whole"],
                        at=escaped(part["at"])[:_MOST],
                    )
                )
        return _found(msgspec.convert(ended, _Said), at)
    except (OSError, msgspec.ValidationError, LookupError, TypeError, AttributeError) as error:
        raise ComputerError(
            f"The system's files cannot be checked: {reason_of(error)}.", "Try again."
        ) from error
    finally:
        hands.end_searching()


def _found(said: _Said, at: str) -> Integrity:
    def damages(told: list[tuple[str, str, str]]) -> tuple[Damage, ...]:
        return tuple(
            Damage(path=escaped(path)[:_MOST], package=escaped(package)[:200], why=why[:60])
            for path, package, why in told[:_MOST]
        )

    return Integrity(
        at=at,
        files=said.files,
        bytes=float(said.bytes),
        damaged=damages(said.found),
        damaged_count=said.counts.found,
        configured=damages(said.config),
        configured_count=said.counts.config,
        strangers=tuple(escaped(path)[:_MOST] for path in said.strangers[:_MOST]),
        strangers_count=said.counts.strangers,
        unread=said.unread,
        left_out=said.left_out,
        without=tuple(escaped(name)[:200] for name in said.without[:_MOST]),
        broken=escaped(said.broken)[:400],
    )
