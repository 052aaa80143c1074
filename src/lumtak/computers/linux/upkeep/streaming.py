"""Tasks that go through many files: what a hand tells meanwhile, kept so that it can be gone on
with.
"""

import time
from collections.abc import Callable, Iterator
from typing import Any

import msgspec

from lumtak.computers.hands.reach import reason_of
from lumtak.computers.hands.sent.files.words import escaped
from lumtak.core.record import Record
from lumtak.core.upkeep.tasks import Found, Partial
from lumtak.errors import ComputerError

Tell = Callable[[Partial], None]
"""Told how far a task is; ends it by raising."""
_MOST, _LONGEST = 4000, 2000


class _Part(Record):
    """What a hand says about four times a second; relative to where it began."""

    after: str
    files: int
    bytes: int
    whole_files: int = 0
    whole_bytes: int = 0
    counts: dict[str, int]
    found: list[tuple[str, str, str, str]]
    ended: dict[str, Any] | None = None


def streamed(
    parts: Iterator[dict[str, Any]], begun: Partial, tell: Tell, what: str
) -> tuple[Partial, dict[str, Any]]:
    """(all that was found, what was said at the end).

    Args:
        parts: of a hand.
        begun: where it goes on.
        tell: told about each part.
        what: cannot be done, for the error.

    Raises:
        ComputerError: it could not be brought to its end, or what was said is nothing of that kind.
    """
    done, started = begun, time.monotonic()
    try:
        for part in parts:
            said = msgspec.convert(part, _Part)
            done = _gone_on(begun, done, said, time.monotonic() - started)
            tell(done)
            if said.ended is not None:
                return done, said.ended
    except (OSError, msgspec.ValidationError) as error:
        raise ComputerError(
            f"{what}: {reason_of(error)}.", "What was found so far is kept; go on with it later."
        ) from error
    raise ComputerError(f"{what}: it ended too early.", "Go on with it later.")


def _gone_on(begun: Partial, done: Partial, said: _Part, spent_s: float) -> Partial:
    counts = {
        n[:40]: begun.counts.get(n, 0) + said.counts.get(n, 0)
        for n in sorted({*begun.counts, *list(said.counts)[:20]})
    }
    fresh = tuple(
        Found(
            kind=kind[:20],
            what=escaped(what)[:_LONGEST],
            of=escaped(of)[:200],
            why=escaped(why)[:400],
        )
        for kind, what, of, why in said.found[: _MOST - len(done.found)]
    )
    return msgspec.structs.replace(
        done,
        spent_s=begun.spent_s + spent_s,
        after=escaped(said.after) or done.after,
        files=begun.files + said.files,
        bytes=begun.bytes + float(said.bytes),
        whole_files=begun.files + said.whole_files if said.whole_files else 0,
        whole_bytes=begun.bytes + float(said.whole_bytes) if said.whole_bytes else 0.0,
        counts=counts,
        found=done.found + fresh,
    )
