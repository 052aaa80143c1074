"""Actions: what cannot be put back, and so is never part of a plan.

Asked for each time, with what may be lost.
"""

from typing import Literal

from lumtak.core.catalogue import Catalogue
from lumtak.core.facts import Facts, Item, Process
from lumtak.core.record import Record
from lumtak.core.text import plain
from lumtak.core.units import counted, ram

Way = Literal["asked", "forced"]
"""Asked to end by itself; ended without being asked."""


class Action(Record):
    """One action, as it is kept with the job."""

    at: str
    """The computer's clock."""
    kind: Literal["end a process", "empty", "remove", "trim", "repair", "gather"] = "end a process"
    """empty: what was set aside was deleted for good; remove: programs were removed; trim:
    solid-state disks were told what is free; repair: packages were unpacked once more; gather:
    files were put together."""
    target: str
    """What it was done to, for a person."""
    pid: int = 0
    consumer: str
    """Whom a process belonged to; the address of what was emptied; the first of the programs."""
    way: Way = "asked"
    ended: bool
    """Whether it was done."""
    files: int = 0
    """That were deleted, and the bytes that became free by that."""
    bytes: float = 0.0
    refused: bool = False
    """Whether the computer would not do it: then the process was not even asked."""
    packages: tuple[str, ...] = ()
    """That are gone, of programs."""
    again: tuple[str, ...] = ()
    """Commands that install the same again."""
    note: str = ""
    """Why it did not work, where it did not; for a person."""

    def in_words(self) -> str:
        """One sentence."""
        if self.kind != "end a process":
            return f"{self._done()}."
        done = (
            "it ended" if self.ended else f"it did not end{': ' + self.note if self.note else ''}"
        )
        how = "was asked to end" if self.way == "asked" else "was forced to end"
        return f"{self.target} (process {self.pid}) {how}; {done}."

    def _done(self) -> str:
        """What was done once, as a clause."""
        why = self.note.rstrip(". ")
        match self.kind:
            case "empty":
                size = f"{counted(self.files, 'file')}, {ram(self.bytes)}"
                if self.note:
                    return f"{self.target} was emptied in part: {size}; stays: {self.note}"
                return f"{self.target} was emptied: {size}"
            case "remove" if self.packages:
                return f"{self.target}: removed: {', '.join(self.packages)}, {ram(self.bytes)}"
            case "remove":
                return f"{self.target}: nothing was removed. {why}".rstrip(". ")
            case "repair":
                unpacked = "unpacked once more" if self.packages else "not unpacked"
                unpacked += f". {why}" if why else ""
                return f"{self.target}: {unpacked}"
            case "trim":
                told = f"told that {ram(self.bytes)} are free" if self.ended else f"not told. {why}"
                return f"The disk of {self.target} was {told}"
        return f"{self.target}: {why}"


class Running(Record):
    """A process as a technician looks at it before ending it."""

    process: Process
    title: str
    """Of the item it belongs to, else its own name."""
    cpu_pct: float
    """Of the whole computer, over the seconds it was looked at."""
    ram_bytes: int
    """Resident."""
    why_not: str = ""
    """Why it is never ended, as a clause; empty when it can be."""
    loses: str
    """What may be lost with it."""
    comes_back: str
    """What starts it again, as a sentence."""
    closely: tuple[tuple[str, str], ...] = ()
    """(name, value) of what was seen when it was looked at closely: its command, user, what started
    it, its folder."""


def running(process: Process, cpu_pct: float, facts: Facts, catalogue: Catalogue) -> Running:
    """The process with what ending it would mean."""
    item = next((i for i in facts.items if i.consumer == process.consumer), None)
    role = catalogue.find((item.role if item else "") or catalogue.role_of(process.name))
    why_not = process.untouchable
    if not why_not and role is not None and role.guarded and process.system:
        why_not = f"it is guarded: {role.title.lower()}"
    loses = "What it has not saved is lost."
    if role is not None:
        loses += f" Until it runs again, without it: {role.stops.rstrip('.')}."
    return Running(
        process=process,
        title=plain(item.title if item else process.name, 60),
        cpu_pct=cpu_pct,
        ram_bytes=process.rss_bytes,
        why_not=why_not,
        loses=loses,
        comes_back=_comes_back(item),
    )


def _comes_back(item: Item | None) -> str:
    if item is None:
        return "What starts it is not known, so it may come back."
    match item.area, item.value:
        case "services", "auto":
            return "It comes back with the system, or when something restarts it."
        case "services", "demand":
            return "It comes back when it is asked for."
        case "apps", "on" if item.at_login:
            return "It comes back at the next login; the audit can switch that off."
    return "Nothing that Lumtak knows of starts it again."
