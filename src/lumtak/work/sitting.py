"""Deciding together: what lies before the owner, what they say, and setting it aside."""

import threading
from collections.abc import Callable, Iterable
from pathlib import Path

import msgspec

from lumtak.core.deciding import Decided, Elsewhere, Thing, index_of, latest, same_thing
from lumtak.core.floor import floor_bytes
from lumtak.core.owned import CopyGroup
from lumtak.core.plan import check_changes, guards
from lumtak.core.record import Record, known
from lumtak.formats.surveys import kept
from lumtak.journal import Outcome, apply_changes
from lumtak.work.open_job import OpenJob
from lumtak.work.owned import (
    Choice,
    kept_copies,
    look_for_copies,
    needing_yes,
    things_of,
    to_choose,
    to_set_aside_as_said,
    with_held,
    with_said,
    write_list,
)
from lumtak.work.storage import known_facts
from lumtak.work.surveys import look_through_all

_LEAST_COPY = 1 << 20


class Sitting(Record):
    """What lies before the owner: their things, what may be an only copy, the room on the disk."""

    things: tuple[Thing, ...]
    groups: tuple[CopyGroup, ...]
    by_name: dict[str, list[CopyGroup]]
    """The groups by each of the names in them."""
    alone: dict[str, tuple[tuple[str, str], ...]]
    """What takes a yes of its own, by path, with what of it may be an only copy."""
    total_bytes: float
    free_bytes: float
    floor_bytes: float
    now: float
    """By the computer's clock, seconds since 1970."""


def sit_down(
    open_job: OpenJob, on_progress: Callable[[str], None], stop: threading.Event
) -> Sitting:
    """Everything for deciding together; looks through disk and copies where nobody did yet.

    Raises:
        StoppedError: it was told to stop; ComputerError: the disk cannot be looked through.
    """
    folder, computer = open_job.data_folder, open_job.computer
    simulated = computer.address.startswith("sim:")
    if not simulated and not kept(folder.surveys, computer.identity, 1):
        look_through_all(folder, computer, lambda d: on_progress(f"{d.done} looked at"), stop)
    groups = kept_copies(folder, computer)
    if not groups:
        look_for_copies(
            folder,
            computer,
            "",
            _LEAST_COPY,
            lambda d: on_progress(f"{d.what} for copies: {d.files} files"),
            stop,
        )
        groups = kept_copies(folder, computer)
    found = things_of(folder, computer, groups)
    space = computer.about.space()
    total = known(space.total_bytes)
    return Sitting(
        things=tuple(found),
        groups=tuple(groups),
        by_name=index_of(groups),
        alone=needing_yes(computer, [thing.path for thing in found]),
        total_bytes=total,
        free_bytes=known(space.free_bytes),
        floor_bytes=floor_bytes(open_job.job.profile, total),
        now=computer.clock.wall().timestamp(),
    )


def say(open_job: OpenJob, said: Iterable[Decided]) -> None:
    """Kept with the job; of one thing the latest counts."""
    open_job.keep(decided=with_said(open_job.job, said).decided)


def say_marks(open_job: OpenJob, found: Iterable[Thing]) -> None:
    """What was said to go has the marks of these, where it is still so and they are the same."""
    said = latest(open_job.job.decided)
    mine = [(said[t.path], t.mark) for t in found if t.path in said]
    say(
        open_job,
        tuple(
            msgspec.structs.replace(one, mark=mark)
            for one, mark in mine
            if one.decision == "aside" and same_thing(one.mark, mark)
        ),
    )


def unsay(open_job: OpenJob, path: str, before: Decided | None) -> None:
    """Of one thing counts what was said before."""
    now = {**latest(open_job.job.decided)}
    now.pop(path, None)
    if before is not None:
        now[path] = before
    open_job.keep(decided=tuple(now.values()))


def set_aside_as_said(open_job: OpenJob, elsewhere: Elsewhere) -> list[Outcome]:
    """What the owner said is to go is set aside; whether it exists elsewhere is kept with that.

    Raises:
        UsageError: nothing is to go.
    """
    folder, computer = open_job.data_folder, open_job.computer
    decided = latest(open_job.job.decided)
    choice = to_set_aside_as_said(folder, computer, known_facts(folder, computer), decided)
    open_job.keep(decided=with_held(open_job.job, choice.keys, elsewhere).decided)
    return _carried_out(open_job, choice)


def set_aside_found(open_job: OpenJob, path: str) -> list[Outcome]:
    """One thing that a task of upkeep found goes on the owner's word: moved, not deleted.

    Raises:
        UsageError: nothing would stay of something of which there are copies.
    """
    folder, computer = open_job.data_folder, open_job.computer
    choice = to_choose(folder, computer, known_facts(folder, computer), [path])
    return _carried_out(open_job, choice)


def _carried_out(open_job: OpenJob, choice: Choice) -> list[Outcome]:
    folder, facts = open_job.data_folder, choice.facts
    ordered = check_changes(facts, choice.changes, guards(facts, folder.catalogue))
    return apply_changes(folder.journal, open_job.computer, facts, ordered, job=open_job.job.id)


def write_lists(open_job: OpenJob, sitting: Sitting, folder: Path) -> list[Path]:
    """The same in both forms, named by the job; gives where they stand.

    Raises:
        StorageError: they cannot be written.
    """
    decided, job = latest(open_job.job.decided), open_job.job
    paths = [folder / f"{job.id}-files.{ending}" for ending in ("pdf", "csv")]
    for path in paths:
        write_list(open_job.computer, sitting.things, decided, path)
    return paths
