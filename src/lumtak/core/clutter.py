"""Clutter: what may be set aside, by class, and what a class holds on a computer."""

from typing import Literal

import msgspec

from lumtak.core.record import Figure, NotMeasured, Record
from lumtak.core.toml import read_toml
from lumtak.core.units import counted, ram
from lumtak.errors import BadFileError

Disposal = Literal["ease", "short", "ask", "asked", "keep"]
"""What is proposed of a class: set it aside; only while space is short; ask the owner; only when
somebody asks for it; leave it."""
Sort = Literal["temporary", "cache", "leftovers", "trash", "own", "programs"]
"""To which part of the disk it counts."""
NOT_LOOKED_THROUGH = "the disk was not looked through yet"
PATH, CHOSEN = "path", "chosen"
"""The classes of what a person named: one thing, and several at once."""


class Clutter(Record):
    """A class of clutter, from data/clutter.toml."""

    name: str
    title: str
    whose: Literal["user", "system", "tool"]
    """A user's, the system's, or a program's of the system: nothing is pulled from under that."""
    where: tuple[str, ...]
    """By standard; $HOME, $CACHE and $DATA are the user's."""
    age_days: int
    """What was changed since is left."""
    sorts: Sort
    made_by: str
    without: str
    """What happens without it; a sentence."""
    standard: str
    """That says so."""
    stance: Disposal
    names: str = ""
    """Pattern of the names that are in it; empty for all."""
    flat: bool = False
    trash: bool = False
    cap_pct: float = 0.0
    """Of the volume; what a trash holds above it, the oldest first, is in the class too."""
    kernels: bool = False
    commands: dict[str, str] = {}
    """Of a tool's class: the command that empties a place."""


class _File(Record):
    format: int
    clutter: tuple[Clutter, ...] = msgspec.field(name="class")


def load_clutter(text: str, path: str) -> tuple[Clutter, ...]:
    """The classes of a document.

    Raises:
        BadFileError: it is none.
    """
    try:
        return msgspec.convert(read_toml(text, path), _File).clutter
    except msgspec.ValidationError as error:
        raise BadFileError(path, f"{error}.") from error


class Pile(Record):
    """What a class of clutter holds on a computer."""

    clutter: str
    """By the name of the class."""
    disposal: Disposal
    sorts: Sort
    made_by: str = ""
    without: str = ""
    age_days: int = 0
    command: str = ""
    """What empties it, where a program of the system owns it."""
    bytes: Figure = NotMeasured(not_measured=NOT_LOOKED_THROUGH)
    """That may be set aside, or were."""
    files: int = 0
    all_bytes: float = 0.0
    """With what is left."""
    left: dict[str, int] = {}
    """Files by the reason why they are left."""
    oldest_at: int = 0
    """When the oldest that may go was last changed; seconds since 1970, 0 for none."""
    looked_at: str = ""
    """When the disk was looked through for that, by the computer's clock."""
    held_at: int = 0
    """When it was set aside; 0 where it was not."""

    @property
    def left_in_words(self) -> str:
        """What is left, and why; empty where nothing is."""
        parts = [f"{counted(n, 'file')} {why}" for why, n in sorted(self.left.items())]
        return ", ".join(parts)


def age_in_words(since: int, now: float) -> str:
    """How old something is: "from 3 years ago"; empty where that is not known."""
    days = (now - since) / 86_400
    if not since or days < 1:
        return ""
    if days < 60:
        return f"up to {counted(round(days), 'day')} old"
    if days < 730:
        return f"up to {round(days / 30.4)} months old"
    return f"up to {round(days / 365.25)} years old"


class Sums(Record):
    """What was found of a class by looking through its places."""

    clutter: str
    bytes: float
    files: int
    all_bytes: float
    left: dict[str, int] = {}
    oldest_at: int = 0
    place: str = ""
    """Of a tool's class: the folder."""


class BigFile(Record):
    """One of the largest files."""

    path: str
    bytes: float
    changed_at: int
    """Seconds since 1970."""


class BigFolder(Record):
    """A folder, with all that is below it."""

    path: str
    bytes: float
    files: int


class Age(Record):
    """Files that were last changed within one span of time."""

    since: str
    bytes: float
    files: int


class Looked(Record):
    """How far looking through a volume is."""

    done: int
    """Files and folders."""
    whole: int
    """That the file system holds; 0 where it does not say."""
    bytes: float
    at: str
    """Where it is, as text."""


class Survey(Record):
    """A volume looked through: where the disk went. docs/FORMATS.md has the file's form."""

    format: int = 1
    identity: str
    """Of the computer."""
    at: str
    """The computer's clock."""
    top: str = "/"
    total_bytes: float
    free_bytes: float
    """To an ordinary user."""
    reserved_bytes: float = 0.0
    """Kept back by the file system: free to root alone."""
    seen_bytes: float
    """Allocated, in everything that was gone through."""
    inodes: int
    """Files and folders gone through."""
    parts: dict[str, float]
    """Bytes by what they belong to: system, programs, own, leftovers."""
    ages: tuple[Age, ...] = ()
    largest: tuple[BigFile, ...] = ()
    folders: tuple[BigFolder, ...] = ()
    """The largest."""
    hollow: tuple[BigFolder, ...] = ()
    """Of the owner's, with nothing or next to nothing in them; each with no such one around it."""
    piles: tuple[Sums, ...] = ()
    unread: int = 0
    """Folders that could not be looked into."""
    unread_named: tuple[str, ...] = ()
    elsewhere: tuple[str, ...] = ()
    """Where another volume begins, which was not gone into."""
    vanished: int = 0
    """What went while it was looked at."""

    @property
    def used_bytes(self) -> float:
        """As the file system counts, with what it keeps back."""
        return self.total_bytes - self.free_bytes

    @property
    def unseen_bytes(self) -> float:
        """That is used, and in no folder that was gone through."""
        return max(0.0, self.used_bytes - self.reserved_bytes - self.seen_bytes)


def volumes_of(survey: Survey, home: str) -> list[str]:
    """Where other volumes begin that hold something of whoever has this home: the one that it
    stands on, and those below it.

    Args:
        survey: of the system's volume.
        home: a folder.
    """
    own = home.rstrip("/") + "/"
    above = [p for p in survey.elsewhere if own.startswith(p.rstrip("/") + "/")]
    below = [p for p in survey.elsewhere if p.startswith(own)]
    return [*sorted(above, key=len)[-1:], *sorted(below)]


class Grown(Record):
    """A folder that holds more, or less, than at the last look."""

    path: str
    bytes: float
    """More than then; negative for less."""
    at_least: bool = False
    """Whether it was too small then to be kept, so that it may be more."""


def grown(before: Survey, now: Survey, most: int = 20) -> list[Grown]:
    """The folders that changed most between two looks, those left out that changed only by what one
    below them did.
    """
    found = _changes(before, now)
    below: dict[str, float] = {}
    for path, one in found.items():
        above = path.rpartition("/")[0] or "/"
        below[above] = below.get(above, 0.0) + (one.bytes if path != "/" else 0.0)
    told = [g for g in found.values() if abs(g.bytes - below.get(g.path, 0.0)) * 2 >= abs(g.bytes)]
    told.sort(key=lambda g: (-abs(g.bytes), g.path))
    return told[:most]


def _changes(before: Survey, now: Survey) -> dict[str, Grown]:
    """Every folder that is kept of one of them, and changed; by path."""
    then, here = ({f.path: f.bytes for f in s.folders} for s in (before, now))
    # What is not kept of a look was smaller than all that is.
    floors = [min(held.values(), default=0.0) for held in (then, here)]
    found = {}
    for path in {**then, **here}:
        sizes = [held.get(path, floor) for held, floor in zip((then, here), floors, strict=True)]
        more, unsure = sizes[1] - sizes[0], path not in then or path not in here
        if more and not (path not in then and more < 0) and not (path not in here and more > 0):
            found[path] = Grown(path=path, bytes=more, at_least=unsure)
    return found


def growth_in_words(before: Survey, now: Survey) -> str:
    """One sentence about what became of the volume since the last look."""
    more = now.used_bytes - before.used_bytes
    if abs(more) < 0.5 * 1024 * 1024:
        return f"As much is used as at the last look ({before.at[:10]})."
    word = "more" if more > 0 else "less"
    return f"{ram(abs(more))} {word} is used than at the last look ({before.at[:10]})."
