"""Installed programs: what they hold of the disk, what needs them, when they were last used."""

from collections.abc import Iterable, Sequence
from typing import Literal

from lumtak.core.record import Figure, NotMeasured, Record, known
from lumtak.core.text import plain
from lumtak.core.units import counted, ram

Manager = Literal["dpkg", "rpm", "flatpak", "snap"]
_NAMED = 12


class Installed(Record):
    """A program, as its package manager has it."""

    name: str
    """As the package manager knows it; unique with it."""
    manager: Manager
    title: str
    """What it says of itself."""
    version: str = ""
    arch: str = ""
    bytes: Figure = NotMeasured(not_measured="the package manager does not say")
    only: tuple[str, ...] = ()
    """Packages that came because it needed them, and that nothing else needs."""
    only_bytes: float = 0.0
    takes: tuple[str, ...] = ()
    """What cannot be without it, and would go with it."""
    auto: bool = False
    """Whether it came only because others needed it."""
    installed_on: str = ""
    """The day on which it was installed or last updated; empty where that is not known."""
    used_days: Figure = NotMeasured(not_measured="nothing noted when it was last used")
    used_by: str = ""
    """How that is known, as a clause."""
    unused: bool = False
    """Whether it was not started since it came or was updated, so many days ago."""
    starts: tuple[str, ...] = ()
    """What of it starts by itself, by title."""
    why_not: str = ""
    """Why it cannot be chosen, as a sentence; empty where it can."""
    command: str = ""
    """Its package manager's own command that removes it."""

    @property
    def whole_bytes(self) -> float:
        """With what only it needs."""
        return known(self.bytes) + self.only_bytes


class Programs(Record):
    """Everything installed."""

    found: tuple[Installed, ...]
    gaps: tuple[str, ...] = ()
    """What could not be read, a sentence each."""

    def find(self, name: str) -> Installed | None:
        """The one of this name."""
        return next((p for p in self.found if p.name == name), None)


class Removal(Record):
    """What removing some programs would do: looked at before, and shown."""

    names: tuple[str, ...]
    """All that go."""
    bytes: float
    lonely: tuple[str, ...] = ()
    """What nothing needs any more then; it stays unless it is chosen too."""
    lonely_bytes: float = 0.0
    command: str
    """That does it."""
    again: tuple[str, ...] = ()
    """Commands that install the same again."""
    why_not: str = ""
    """Why it is not done, as a sentence."""

    def in_words(self) -> str:
        """What goes, and what stays."""
        said = f"{', '.join(map(plain, self.names[:_NAMED]))}"
        more = len(self.names) - _NAMED
        said += f" and {more} more" if more > 0 else ""
        said += f": {ram(self.bytes)}. Configuration and files of the owner stay."
        if self.lonely:
            some = ", ".join(map(plain, self.lonely[:_NAMED]))
            said += (
                f" {counted(len(self.lonely), 'package')} that nothing needs any more then"
                f" ({ram(self.lonely_bytes)}) stay, unless named too: {some}."
            )
        return said


def used_in_words(program: Installed) -> str:
    """When it was last used."""
    days = program.used_days
    if isinstance(days, NotMeasured):
        return "use not known"
    if days < 1:
        ago = "today"
    elif days < 60:
        ago = f"{counted(round(days), 'day')} ago"
    elif days < 730:
        ago = f"{round(days / 30.4)} months ago"
    else:
        ago = f"{round(days / 365.25)} years ago"
    return f"unused; came {ago}" if program.unused else f"used {ago}"


def removal(programs: Programs, names: Sequence[str]) -> Removal:
    """What removing these would do.

    Args:
        programs: as they are.
        names: chosen, of dpkg.
    """
    wanted = list(dict.fromkeys(names))
    mine = [p for p in programs.found if p.name in set(wanted)]
    others = {o for p in mine for o in p.only} - set(wanted)
    lonely = [p for p in programs.found if p.name in others and not p.why_not]
    return Removal(
        names=tuple(wanted),
        bytes=sum(known(p.bytes) for p in mine),
        lonely=tuple(sorted(p.name for p in lonely)),
        lonely_bytes=sum(known(p.bytes) for p in lonely),
        command=f"dpkg --remove {' '.join(wanted)}",
        again=_again(mine),
        why_not=_why_not(mine, wanted),
    )


def _why_not(mine: Sequence[Installed], wanted: Sequence[str]) -> str:
    """Why these are not removed, as a sentence; empty where they are."""
    here = {p.name for p in mine}
    for name in wanted:
        if name not in here:
            return f"{plain(name, 80)} is not installed."
    for one in mine:
        if one.why_not:
            return one.why_not
    along = sorted({t for p in mine for t in p.takes} - here)
    if not along:
        return ""
    some = ", ".join(map(plain, along[:_NAMED]))
    more = f" and {len(along) - _NAMED} more" if len(along) > _NAMED else ""
    return f"It would take along what was not chosen: {some}{more}."


def _again(found: Iterable[Installed]) -> tuple[str, ...]:
    """The list that reinstalls, as commands."""
    mine = list(found)
    words = " ".join(f"{p.name}={p.version}" for p in mine if p.version)
    auto = " ".join(p.name for p in mine if p.auto)
    return (
        *((f"apt-get install {words}",) if words else ()),
        *((f"apt-mark auto {auto}",) if auto else ()),
    )
