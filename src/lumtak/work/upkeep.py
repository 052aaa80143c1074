"""Upkeep of a computer: its tasks run, what they found is kept, and when each is due."""

import contextlib
import hashlib
import threading
import time
from collections.abc import Callable, Collection, Sequence
from pathlib import Path
from typing import TypeVar

import msgspec

from lumtak.computers.protocol import Computer
from lumtak.core.profile import Profile
from lumtak.core.record import Record
from lumtak.core.units import counted, ram
from lumtak.core.upkeep.tasks import (
    TASK_NAMES,
    TASKS,
    Found,
    Partial,
    Result,
    TaskName,
    named,
    not_possible,
)
from lumtak.errors import BadFileError, LumtakError, StoppedError
from lumtak.formats.readings import decode_file
from lumtak.storage import forget_file, read_handed_in
from lumtak.work.data_folder import DataFolder
from lumtak.work.quiet import is_read, wait_until_not_read

_LARGEST = 1 << 26
_R = TypeVar("_R", Result, Partial)
_KEEP_S = 2.0
"""From one time that it is kept how far a task is to the next."""
WAITS = "waits for a reading to end"
OnProgress = Callable[[Partial, str], None]
"""Told how far a task is, and what it waits for; empty where it is at work."""


class _ReadingBegan(Exception):  # noqa: N818 - no error: the task goes on afterwards
    """A reading of the same computer is taken: it has the computer for itself."""


class Explained(Record):
    """What the owner explained of what was found; it is shown, and no longer asked about."""

    format: int = 1
    marks: tuple[str, ...] = ()
    """Of each thing: the SHA-256 of what it is and why it was told."""


def run_task(
    data_folder: DataFolder,
    computer: Computer,
    task: TaskName,
    *,
    profile: Profile | None = None,
    top: str = "",
    anew: bool = False,
    on_progress: OnProgress = lambda _partial, _waits: None,
    stop: threading.Event | None = None,
) -> Result:
    """A task is done, and what it found is kept. One that was stopped goes on where it was.

    Args:
        data_folder: where it is kept.
        computer: whose upkeep.
        task: its name.
        profile: that says how much space has to be free; only for that.
        top: a folder that is looked through in place of the task's own.
        anew: whether to begin again although it was stopped in the middle.
        on_progress: told about four times a second.
        stop: pauses it.

    Raises:
        StoppedError: it was told to stop; how far it was is kept.
        ComputerError: it could not be brought to its end.
    """
    data_folder.writable()
    stop = stop or threading.Event()
    begun = None if anew else paused(data_folder, computer.identity, task)
    if begun is None or begun.top != top:
        now = computer.clock.wall().isoformat(timespec="seconds")
        begun = Partial(task=task, top=top, begun_at=now)
    keeper = _Keeper(data_folder, computer.identity, begun, on_progress, stop)
    while True:
        if is_read(computer.identity):
            on_progress(keeper.partial, WAITS)
            wait_until_not_read(computer.identity, stop)
        if stop.is_set():
            keeper.keep()
            raise StoppedError(*_paused_words(task))
        try:
            result = _done(data_folder, computer, keeper, profile)
        except _ReadingBegan:
            continue
        except LumtakError:
            keeper.keep()
            raise
        data_folder.keep_document(_place(data_folder, computer.identity, task), result)
        forget_file(_place(data_folder, computer.identity, f"{task}.paused"))
        return result


def _paused_words(task: TaskName) -> tuple[str, str]:
    title = TASKS[task].title
    return f"The task “{title}”", "It goes on from there when it is started again."


class _Keeper:
    """Keeps how far a task is, and ends it where it has to."""

    def __init__(
        self,
        data_folder: DataFolder,
        identity: str,
        begun: Partial,
        on_progress: OnProgress,
        stop: threading.Event,
    ) -> None:
        self._data_folder, self._identity = data_folder, identity
        self._on_progress, self._stop = on_progress, stop
        self.partial = begun
        self._kept_at = time.monotonic()

    def tell(self, partial: Partial) -> None:
        """How far it is.

        Raises:
            StoppedError: somebody stopped it; _ReadingBegan: a reading is taken.
        """
        self.partial = partial
        self._on_progress(partial, "")
        if self._stop.is_set():
            raise StoppedError(*_paused_words(partial.task))
        if is_read(self._identity):
            raise _ReadingBegan
        if time.monotonic() - self._kept_at > _KEEP_S:
            self.keep()

    def keep(self) -> None:
        """It can be gone on with from here, also after a power cut."""
        self._kept_at = time.monotonic()
        if self.partial.after:
            place = _place(self._data_folder, self._identity, f"{self.partial.task}.paused")
            self._data_folder.keep_document(place, self.partial)


def _done(
    data_folder: DataFolder, computer: Computer, keeper: _Keeper, profile: Profile | None
) -> Result:
    begun = keeper.partial
    if begun.task == "drift":
        return _drift(data_folder, computer)
    if begun.task == "space":
        return _space(computer, profile)
    return computer.about.upkeep(begun, keeper.tell)


def _drift(data_folder: DataFolder, computer: Computer) -> Result:
    """Whether settings are as they were left."""
    from lumtak.journal.drift import drift

    at = computer.clock.wall().isoformat(timespec="seconds")
    stands = drift(data_folder.journal, computer)
    if not stands:
        return Result(task="drift", at=at, state="fine", says="Nothing was ever changed here.")
    moved = [d for d in stands if d.standing != "as left"]
    said = f"{counted(len(stands), 'changed setting')} held against the journal: "
    said += (
        f"{len(moved)} not as left ({named([d.entry.title for d in moved])})."
        if moved
        else ("all as they were left.")
    )
    return Result(
        task="drift",
        at=at,
        state="found" if moved else "fine",
        says=said,
        found=tuple(
            Found(
                kind="look", what=str(d.entry.ref), why=f"{d.standing}: {d.now}", of=d.entry.title
            )
            for d in moved
        ),
        found_count=len(moved),
        mend=(f"lumtak drift {computer.address}",) if moved else (),
    )


def _space(computer: Computer, profile: Profile | None) -> Result:
    """Whether so much is free as the profile asks for."""
    from lumtak.core.floor import TIGHT_FREE, floor_bytes
    from lumtak.core.record import NotMeasured

    at = computer.clock.wall().isoformat(timespec="seconds")
    space = computer.about.space()
    if isinstance(space.free_bytes, NotMeasured) or isinstance(space.total_bytes, NotMeasured):
        return not_possible("space", at, "the volume cannot be looked at")
    total = float(space.total_bytes)
    floor = TIGHT_FREE * total if profile is None else floor_bytes(profile, total)
    short = floor - float(space.free_bytes)
    said = (
        f"{ram(space.free_bytes)} of {ram(space.total_bytes)} free; {ram(floor)} is to stay free."
    )
    return Result(
        task="space",
        at=at,
        state="found" if short > 0 else "fine",
        says=said,
        found=(
            (Found(kind="look", what="the system's volume", why=f"{ram(short)} too little free"),)
            if short > 0
            else ()
        ),
        found_count=int(short > 0),
        mend=(f"lumtak storage {computer.address}",) if short > 0 else (),
    )


# -- what is kept ----------------------------------------------------------------------------------


def _place(data_folder: DataFolder, identity: str, name: str) -> Path:
    return data_folder.home / "upkeep" / identity / f"{name}.json"


def last_result(data_folder: DataFolder, identity: str, task: TaskName) -> Result | None:
    """What a task found last; None where it never ran, or its file is none."""
    return _read(_place(data_folder, identity, task), Result, task)


def paused(data_folder: DataFolder, identity: str, task: TaskName) -> Partial | None:
    """Where a task was stopped; None where it was not."""
    return _read(_place(data_folder, identity, f"{task}.paused"), Partial, task)


def give_up(data_folder: DataFolder, identity: str, task: TaskName) -> None:
    """What a task found before it was stopped is forgotten: it begins anew."""
    data_folder.writable()
    forget_file(_place(data_folder, identity, f"{task}.paused"))


def _read(path: Path, kind: type[_R], task: TaskName) -> _R | None:
    if not path.exists():
        return None
    try:
        data = read_handed_in(path, _LARGEST, "task of upkeep")
        found = decode_file(data, path, kind, "task of upkeep", 1, "Run it again.")
    except BadFileError:
        return None
    return found if found.task == task else None


# -- what the owner explained ----------------------------------------------------------------------


def mark_of(found: Found) -> str:
    """Tells one thing that was found from all others."""
    said = repr((found.kind, found.what, found.why, found.of))
    return hashlib.sha256(said.encode("utf-8", "surrogatepass")).hexdigest()


def explained(data_folder: DataFolder, identity: str) -> frozenset[str]:
    """Marks of what the owner explained on this computer."""
    path = _place(data_folder, identity, "explained")
    if path.exists():
        with contextlib.suppress(BadFileError):
            data = read_handed_in(path, _LARGEST, "list")
            return frozenset(decode_file(data, path, Explained, "list", 1, "Explain again.").marks)
    return frozenset()


def explain(data_folder: DataFolder, identity: str, found: Sequence[Found]) -> None:
    """The owner explained these: they are asked about no more."""
    marks = explained(data_folder, identity) | {mark_of(f) for f in found}
    path = _place(data_folder, identity, "explained")
    data_folder.keep_document(path, Explained(marks=tuple(sorted(marks))))


def without_explained(result: Result, known: Collection[str]) -> Result:
    """What was found, less what the owner explained: these marks."""
    left = tuple(f for f in result.found if mark_of(f) not in known)
    fewer = len(result.found) - len(left)
    if not fewer:
        return result
    count = sum(f.counts for f in left)
    note = f"{counted(fewer, 'thing')} more, which the owner explained."
    return msgspec.structs.replace(
        result,
        found=left,
        found_count=max(0, result.found_count - fewer),
        state="found" if count or result.task != "odd" else "fine",
        notes=(*result.notes, note),
    )


def all_results(data_folder: DataFolder, identity: str) -> dict[TaskName, Result]:
    """What each task found last, of those that ever ran."""
    found = {t: last_result(data_folder, identity, t) for t in TASK_NAMES}
    known = explained(data_folder, identity)
    return {t: without_explained(r, known) for t, r in found.items() if r is not None}
