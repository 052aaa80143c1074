"""What the owner decides about their own files: keep, set aside, later; never for them.

A *thing* is a file or a folder of theirs. Of files of the same content at least one always stays.
"""

import posixpath
from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from itertools import islice
from typing import Literal

from lumtak.core.clutter import Survey
from lumtak.core.owned import Chosen, CopyGroup, Kind, kind_of
from lumtak.core.record import Record
from lumtak.core.text import plain
from lumtak.errors import UsageError

Decision = Literal["keep", "aside", "later"]
Elsewhere = Literal["", "yes", "no", "not known"]
"""Whether a thing exists anywhere else, as its owner said; empty: nobody asked."""
DECISIONS: tuple[Decision, ...] = ("keep", "aside", "later")
IN_WORDS: dict[Decision, str] = {"keep": "keep", "aside": "set aside", "later": "later"}
_DAY_S = 86_400
_MOST_STAYING, _NAMED = 8, 3
_LOOSE = ("/.cache/", "/.local/share/Trash/", "/lumtak-aside/")
_LOOSE_TOPS = ("/tmp/", "/var/tmp/")  # noqa: S108 - names of places, nothing is written there
"""Below these nothing stays for sure."""


Content = Literal[1, 2]
"""How much of the content a mark has: three parts, or all (of more than 256 MiB, 1,024 parts)."""
CHANGED_SINCE = "changed since you decided"
_SAME = 5


class Seen(Record):
    """A file or folder as it stands now."""

    mark: str
    """By what it is told from another of its name: kind, volume, inode, size, time of the last
    change (of a folder what is in it), time of the status, and something of the content where that
    was asked for; with colons between."""
    bytes: float
    """That it takes on the disk."""
    changed_at: int
    """Seconds since 1970."""


def same_thing(then: str, now: str) -> bool:
    """Whether two marks are of the same, as far as can be told without its content."""
    return then.split(":")[:_SAME] == now.split(":")[:_SAME]


class Thing(Record):
    """A file or folder of the owner's, as it is shown to them."""

    path: str
    kind: Kind | Literal["folder"]
    bytes: float
    files: int = 1
    changed_at: int = 0
    """Seconds since 1970; 0 where that is not known."""
    opened: str = ""
    """The day on which it was last opened, as the desktop noted; empty where nothing tells."""
    copies: tuple[str, ...] = ()
    """Where else the same stands; of very many the first."""
    others: int = 0
    """How many copies there are besides."""
    mark: str = ""
    """See `Seen`; empty where nobody looked yet."""

    @property
    def folder(self) -> str:
        """That it stands in."""
        return posixpath.dirname(self.path) or "/"

    @property
    def group(self) -> tuple[str, str]:
        """With what it is shown together."""
        return self.folder, self.kind


class Decided(Record):
    """What the owner said of one thing."""

    path: str
    decision: Decision
    at: str
    """The computer's clock."""
    rule: str = ""
    """The rule that was typed; empty where it was said of this thing alone."""
    bytes: float = 0.0
    alone_agreed: bool = False
    """Whether a yes of its own was given, though it may be the only copy."""
    elsewhere: Elsewhere = ""
    held_as: str = ""
    """The key under which it was set aside."""
    mark: str = ""
    """By what it was told from another of its name when that was said; empty where an older Lumtak
    kept it."""

    def is_of(self, thing: Thing) -> bool:
        """Whether it was said of this, and not of another one of its name."""
        if not self.mark or not thing.mark:
            return not thing.mark or self.decision != "aside"
        return same_thing(self.mark, thing.mark)


class OnlyCopies(Record):
    """What may be the only copy of something, among things and below them."""

    found: tuple[tuple[str, str], ...] = ()
    """(what it is, where)."""
    unread: int = 0
    whole: bool = True
    """Whether everything was looked at."""

    def needing_yes(self, paths: Iterable[str]) -> dict[str, tuple[tuple[str, str], ...]]:
        """Those of these of which setting aside takes a yes of its own, with what of them, or below
        them, may be an only copy.
        """
        wanted = dict.fromkeys(paths, ())  # type: dict[str, tuple[tuple[str, str], ...]]
        found: dict[str, tuple[tuple[str, str], ...]] = {} if self.whole else wanted
        for what, at in self.found:
            for here in _upwards(at):
                if here in wanted:
                    found[here] = (*found.get(here, ()), (what, at))
        return found


def may_be_alone(alone: Sequence[tuple[str, str]], path: str) -> str:
    """What of a thing may be an only copy, to be said after its path; a sentence."""
    if not alone:
        return "may hold the only copy of something: not all of it could be looked at."
    named = ", ".join(what if at == path else f"{what} ({at})" for what, at in alone[:_NAMED])
    more = f" and {len(alone) - _NAMED} more" if len(alone) > _NAMED else ""
    return plain(f"may be the only copy: {named}{more}.", 600)


def things(
    survey: Survey, groups: Iterable[CopyGroup], home: str, opened: Mapping[str, str]
) -> list[Thing]:
    """What the owner may want to decide about: the largest of their files, copies, empty folders.

    Grouped by folder and kind, the groups that hold most first.

    Args:
        survey: of the volume.
        groups: of copies, as searches found them.
        home: of the owner.
        opened: days on which files were last opened, by path.
    """
    below = home.rstrip("/") + "/"
    made: dict[str, Thing] = {}
    for file in survey.largest:
        if file.path.startswith(below):
            made[file.path] = Thing(
                path=file.path, kind=kind_of(file.path), bytes=file.bytes,
                changed_at=file.changed_at, opened=opened.get(file.path, ""),
            )  # fmt: skip
    for group in (g for g in groups if g.count > 1):
        for path, others in _members(group):
            known = made.get(path)
            made[path] = Thing(
                path=path, kind=kind_of(path), bytes=group.bytes,
                changed_at=known.changed_at if known else 0,
                opened=opened.get(path, ""), copies=others, others=group.count - 1,
            )  # fmt: skip
    for folder in survey.hollow:
        if folder.path.startswith(below):
            made[folder.path] = Thing(
                path=folder.path, kind="folder", bytes=folder.bytes, files=folder.files
            )
    return in_groups(made.values())


def _members(group: CopyGroup) -> list[tuple[str, tuple[str, ...]]]:
    firsts = [names[0] for names in group.copies]
    some = firsts[: _MOST_STAYING + 1]
    return [(name, tuple(f for f in some if f != name)[:_MOST_STAYING]) for name in firsts]


def in_groups(found: Iterable[Thing]) -> list[Thing]:
    """By folder and kind, the groups that hold most first, the largest of each first; what programs
    keep in hidden folders comes last.
    """
    mine = list(found)
    sums: dict[tuple[str, str], float] = {}
    for thing in mine:
        sums[thing.group] = sums.get(thing.group, 0.0) + thing.bytes
    return sorted(mine, key=lambda t: ("/." in t.path, -sums[t.group], t.group, -t.bytes, t.path))


# -- of copies one stays ---------------------------------------------------------------------------


def _upwards(path: str) -> Iterator[str]:
    """It, and every folder that it stands in."""
    here = path
    while here.strip("/"):
        yield here
        here = posixpath.dirname(here)


def goes(path: str, going: Collection[str]) -> bool:
    """Whether it, or a folder that it stands in, goes."""
    return any(here in going for here in _upwards(path))


def is_loose(path: str) -> bool:
    """Whether nothing stays there for sure."""
    return path.startswith(_LOOSE_TOPS) or any(part in path for part in _LOOSE)


def _stays(path: str, going: Collection[str]) -> bool:
    return not is_loose(path) and not goes(path, going)


def chosen(paths: Sequence[str], groups: Iterable[CopyGroup]) -> Chosen:
    """What a person chose, with the copies that have to stay for it.

    Raises:
        UsageError: nothing would stay of some content.
    """
    going, kept = frozenset(paths), []
    for group in groups:
        names = [name for copy in group.copies for name in copy]
        leaving = [name for name in names if goes(name, going)]
        if not leaving:
            continue
        staying = list(islice((n for n in names if _stays(n, going)), _MOST_STAYING))
        if not staying:
            loose = (
                " Copies in temporary folders, caches, the trash and what is set aside do not"
                " count: nothing stays there for sure."
                if len(leaving) < len(names)
                else ""
            )
            raise UsageError(
                f"Nothing would stay of the content of {plain(leaving[0], 200)}, and one of its"
                f" copies always stays.{loose}",
                "Leave one of them out; a new search for copies knows what stands now.",
            )
        kept += [(name, tuple(staying)) for name in leaving]
    return Chosen(paths=tuple(paths), copies=tuple(kept))


def index_of(groups: Sequence[CopyGroup]) -> dict[str, list[CopyGroup]]:
    """The groups by each of the names in them."""
    found: dict[str, list[CopyGroup]] = {}
    for group in groups:
        for copy in group.copies:
            for name in copy:
                found.setdefault(name, []).append(group)
    return found


def stays_of_each(path: str, going: Collection[str], groups: Iterable[CopyGroup]) -> bool:
    """Whether something stays of the content of each of these groups where this goes too."""
    whole = {*going, path}
    return all(any(_stays(n, whole) for copy in g.copies for n in copy) for g in groups)


def about_it(path: str, groups: Iterable[CopyGroup]) -> list[CopyGroup]:
    """The groups of which this, or something below it, is one."""
    one = frozenset((path,))
    return [g for g in groups if any(goes(n, one) for copy in g.copies for n in copy)]


def leaving_one(
    found: Iterable[Thing], groups: Iterable[CopyGroup], going: Iterable[str] = ()
) -> list[Thing]:
    """What of it may go, without what goes already, and without one of each content of which
    nothing would stay: the one with the shortest way to it that is in no folder of downloads.

    Args:
        found: what is to go now.
        groups: of copies.
        going: paths that are to go already.
    """
    before = frozenset(going)
    mine = {thing.path: thing for thing in found if thing.path not in before}
    whole = mine.keys() | before
    for group in groups:
        stays = _to_stay([name for copy in group.copies for name in copy], mine, whole, before)
        for here in _upwards(stays):
            if mine.pop(here, None):
                whole.discard(here)
    return list(mine.values())


def _to_stay(
    names: Sequence[str], mine: Collection[str], whole: Collection[str], before: Collection[str]
) -> str:
    """Which of the names of a content is left; empty where one stays anyway, or none goes now."""
    if any(_stays(name, whole) for name in names):
        return ""
    leaving = [n for n in names if goes(n, mine) and not goes(n, before)]
    return min(
        leaving, key=lambda n: ("download" in n.lower(), n.count("/"), len(n), n), default=""
    )


def standing(groups: Iterable[CopyGroup], there: Collection[str]) -> list[CopyGroup]:
    """The groups with what still stands of them; of some only one is left, which has to stay."""
    found = []
    for group in groups:
        copies = [tuple(n for n in names if n in there) for names in group.copies]
        left = tuple(names for names in copies if names)
        if left:
            same = len(left) == len(group.copies)
            frees = group.frees if same else None
            found.append(CopyGroup(bytes=group.bytes, copies=left, count=len(left), frees=frees))
    return found


def lost_if_emptied(decided: Iterable[Decided], keys: Collection[str]) -> list[str]:
    """Paths of what is held under these keys and of which the owner did not say that it exists
    elsewhere; first what may be an only copy.
    """
    mine = [d for d in decided if d.held_as in keys and d.elsewhere != "yes"]
    return [d.path for d in sorted(mine, key=lambda d: not d.alone_agreed)]


def lost_in_words(lost: Sequence[str]) -> str:
    """What is said before it is deleted for good; empty for nothing."""
    if not lost:
        return ""
    more = f" and {len(lost) - _NAMED} more" if len(lost) > _NAMED else ""
    return plain(
        f"The owner did not say that these exist anywhere else: {', '.join(lost[:_NAMED])}{more}.",
        600,
    )


def latest(decided: Iterable[Decided]) -> dict[str, Decided]:
    """What counts of everything that was said, by path."""
    return {one.path: one for one in decided}


def undecided(found: Iterable[Thing], decided: Mapping[str, Decided]) -> list[Thing]:
    """What nothing was said about yet; so too where another one stands under that name now."""
    return [t for t in found if t.path not in decided or not decided[t.path].is_of(t)]


def to_go(
    decided: Mapping[str, Decided], found: Iterable[Thing]
) -> tuple[dict[str, Decided], tuple[str, ...]]:
    """(what is to be set aside and still stands as it was, by path; what is another one now)."""
    here = {t.path: t for t in found}
    said = {p: d for p, d in decided.items() if d.decision == "aside" and p in here}
    same = {p: d for p, d in said.items() if d.is_of(here[p])}
    return same, tuple(p for p in said if p not in same)


def put_off(found: Iterable[Thing], decided: Mapping[str, Decided]) -> list[Thing]:
    """What was left for later."""
    return [t for t in found if t.path in decided and decided[t.path].decision == "later"]


def sums(found: Iterable[Thing], decided: Mapping[str, Decided]) -> dict[Decision, list[float]]:
    """Bytes that each thing takes, by what was said of it."""
    made: dict[Decision, list[float]] = {}
    for thing in found:
        if thing.path in decided and decided[thing.path].is_of(thing):
            made.setdefault(decided[thing.path].decision, []).append(thing.bytes)
    return made
