"""The tasks of upkeep: what each does, what it costs while it runs, and what came of it."""

from typing import Literal, get_args

from lumtak.core.record import Record
from lumtak.core.text import plain
from lumtak.core.units import counted, ram

TaskName = Literal[
    "disks",
    "integrity",
    "odd",
    "unwanted",
    "updates",
    "fragments",
    "stopping",
    "drift",
    "space",
]
"""In the order in which they are shown: what may end a computer comes first."""
TASK_NAMES: tuple[TaskName, ...] = get_args(TaskName)
_NAMED = 5


class Task(Record):
    """One task."""

    name: TaskName
    title: str
    about: str
    """What it does, one sentence."""
    cost: str
    """While it runs, as a clause."""
    reads_files: bool = False
    """Whether it reads many files: it can be paused, and goes on where it was."""


_READS = "reads the disk in what time other programs leave it"
_BRIEF = "a second or two, hardly any load"
TASKS: dict[str, Task] = {
    t.name: t
    for t in (
        Task(
            name="disks",
            title="Disks and file systems",
            about=(
                "Whether a disk is failing or a file system has found errors, when solid-state"
                " disks were last told what is free, when file systems were last checked."
            ),
            cost=_BRIEF,
        ),
        Task(
            name="integrity",
            title="The system's files",
            about="Whether each is as the package brought it.",
            cost=_READS,
            reads_files=True,
        ),
        Task(
            name="odd",
            title="What starts from odd places",
            about=(
                "What starts with the system or at login from where programs do not belong, login"
                " keys and scheduled jobs that no package brought."
            ),
            cost=_BRIEF,
        ),
        Task(
            name="unwanted",
            title="Unwanted programs",
            about="The user's files, looked at by the scanner that runs on the computer.",
            cost=_READS + "; the scanner takes a part of the processor",
            reads_files=True,
        ),
        Task(
            name="updates",
            title="Updates",
            about="How many wait, by the lists that the package manager has; nothing is fetched.",
            cost=_BRIEF,
        ),
        Task(
            name="fragments",
            title="Fragmentation",
            about="In how many pieces the user's large files lie on the disk.",
            cost=_READS,
            reads_files=True,
        ),
        Task(
            name="stopping",
            title="Start and stop",
            about=(
                "How long the boot menu waits, how long services may take to stop, what held up"
                " the last shutdown."
            ),
            cost=_BRIEF,
        ),
        Task(
            name="drift",
            title="Settings as they were left",
            about="Whether what was changed is still as Lumtak left it.",
            cost=_BRIEF,
        ),
        Task(
            name="space",
            title="Free space",
            about="Whether so much is free as the profile asks for.",
            cost=_BRIEF,
        ),
    )
}
"""By name, in the same order."""
GRAVE = frozenset({"failing", "damaged", "finding"})
"""Kinds of what is found that make a command end with 3."""


class Found(Record):
    """One thing that a task found."""

    kind: str
    """failing, damaged, finding, look, waits, setting; configured and stranger are only told."""
    what: str
    """A path, a disk, a package, a unit."""
    why: str
    """As a clause: "changed"."""
    of: str = ""
    """The package it belongs to; empty for none."""
    advice: str = ""
    """What can be done, a sentence; empty where it goes without saying."""

    @property
    def counts(self) -> bool:
        """Whether it is something to look at, and not only told."""
        return self.kind not in {"configured", "stranger", "setting"}


State = Literal["fine", "found", "not possible"]


class Result(Record):
    """What came of a task when it last ran."""

    format: int = 1
    task: TaskName
    at: str
    """The computer's clock when it ended."""
    took_s: float = 0.0
    """That it was at work, pauses left out."""
    state: State
    says: str
    """A few sentences."""
    found: tuple[Found, ...] = ()
    """Of very many not each is named."""
    found_count: int = 0
    """All of them that are something to look at."""
    notes: tuple[str, ...] = ()
    """What could not be looked at, and what else is to be known, a sentence each."""
    mend: tuple[str, ...] = ()
    """What puts it right: commands and steps, for a person to do."""

    @property
    def is_grave(self) -> bool:
        """Whether something is damaged, failing or unwanted."""
        return any(f.kind in GRAVE for f in self.found)

    def of_kind(self, kind: str) -> tuple[Found, ...]:
        """What was found of one kind."""
        return tuple(f for f in self.found if f.kind == kind)


class Partial(Record):
    """A task that is not through: where it is, and what it found so far. It goes on from there."""

    format: int = 1
    task: TaskName
    top: str = ""
    """The folder that is looked through; empty where the task has its own."""
    begun_at: str
    spent_s: float = 0.0
    after: str = ""
    """The last file that is done."""
    files: int = 0
    bytes: float = 0.0
    whole_files: int = 0
    """0 where that is not known."""
    whole_bytes: float = 0.0
    counts: dict[str, int] = {}
    found: tuple[Found, ...] = ()

    @property
    def share(self) -> float:
        """Of the whole, 0 to 1; 0 where that is not known."""
        if self.whole_bytes:
            return min(1.0, self.bytes / self.whole_bytes)
        return min(1.0, self.files / self.whole_files) if self.whole_files else 0.0

    def in_words(self) -> str:
        """How far it is."""
        if self.whole_bytes:
            return f"{100 * self.share:.0f} % of {ram(self.whole_bytes)}"
        if self.whole_files:
            return f"{self.files:,} of {counted(self.whole_files, 'file')}"
        return counted(self.files, "file")


def not_possible(task: TaskName, at: str, why: str, instead: str = "") -> Result:
    """A task that cannot be done on this computer, and why.

    Args:
        task: its name.
        at: the computer's clock.
        why: a clause.
        instead: what a person can do, a sentence.
    """
    says = f"Not possible here: {plain(why, 300)}."
    return Result(
        task=task, at=at, state="not possible", says=says, mend=(instead,) if instead else ()
    )


def named(names: tuple[str, ...] | list[str], most: int = _NAMED) -> str:
    """The first of them, and how many more."""
    more = f" and {len(names) - most:,} more" if len(names) > most else ""
    return ", ".join(plain(n, 60) for n in names[:most]) + more


def standing(result: Result | None, begun: Partial | None, *, is_due: bool) -> str:
    """How a task stands, in few words: never, due, paused, fine, found something, not possible."""
    if begun is not None:
        return "paused"
    if result is not None and result.state == "not possible":
        return "not possible"
    if is_due:
        return "due" if result is not None else "never run, due"
    if result is None:
        return "never run"
    return "fine" if result.state == "fine" else f"found {result.found_count:,}"
