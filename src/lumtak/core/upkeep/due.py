"""When each task is due, in days."""

from collections.abc import Iterable
from typing import Literal

from lumtak.core.profile import Profile, Rhythm
from lumtak.core.record import Record
from lumtak.core.upkeep.tasks import TASK_NAMES, TASKS, TaskName

Recurring = TaskName | Literal["audit"]
RHYTHMS: dict[Rhythm, tuple[int, int]] = {
    "weekly": (0, 7),
    "monthly": (1, 0),
    "quarterly": (3, 0),
    "half-yearly": (6, 0),
}
"""Months and days from one time to the next."""
_AUDIT = "The whole audit anew"


class Due(Record):
    """A task of upkeep of one computer, and the day on which it is due."""

    identity: str
    address: str
    computer: str
    task: Recurring
    title: str
    every: Rhythm
    last: str = ""
    """The day on which it was last done; empty where it never was."""
    day: str
    """YYYY-MM-DD."""
    is_due: bool
    note: str = ""

    def in_words(self) -> str:
        """What is to be done, and by what command."""
        how = f"lumtak audit {self.address}"
        if self.task != "audit":
            how = f"lumtak upkeep {self.address} {self.task}"
        return f"{self.computer}: {self.title[0].lower()}{self.title[1:]} ({how})"


def rhythms_of(profile: Profile) -> dict[Recurring, Rhythm]:
    """How often each task is to be done, of those that the profile names."""
    names: tuple[Recurring, ...] = (*TASK_NAMES, "audit")
    named = {name: getattr(profile.upkeep, name) for name in names}
    return {name: every for name, every in named.items() if every is not None}


def title_of(task: Recurring) -> str:
    """For people."""
    return _AUDIT if task == "audit" else TASKS[task].title


def shortest(rhythms: Iterable[Rhythm]) -> Rhythm:
    """The shortest of these; monthly where there are none."""
    order: list[Rhythm] = ["weekly", "monthly", "quarterly", "half-yearly"]
    return min(rhythms, key=order.index, default="monthly")
