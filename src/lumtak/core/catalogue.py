"""What Lumtak knows about roles: what they are for, what stops without them, and who fills them."""

import fnmatch
import re
from collections.abc import Callable, Iterable
from typing import Literal

import msgspec

from lumtak.core.record import Record
from lumtak.core.toml import read_toml
from lumtak.errors import BadFileError

FORMAT = 1
Better = Literal["off", "demand", "manual", "keep"]
Evidence = Literal["expected", "depends"]
Serves = Literal["person", "others"]
Class = Literal["updates", "backup", "sync", "lock", "login", "remote", "printing"]
"""What an owner never loses by one “no”: security updates, copies of files, files kept in step, the
locked screen, logging in, being reached from afar, printing of others."""
CLASS_WORDS: dict[Class, str] = {
    "updates": "updates",
    "backup": "copies of files",
    "sync": "keeping files in step",
    "lock": "the locked screen",
    "login": "logging in",
    "remote": "reaching this computer from afar",
    "printing": "printing",
}
NO_ROLE = "none"
"""Of an item whose name says what its program is not: no name of it counts for anything."""
COPIES: frozenset[str] = frozenset({"backup", "sync"})
"""Without these, copies of the owner's data stop."""
_REMEMBERED = 50_000
_USER = "user/"


class Role(Record):
    """A function that an item fills."""

    name: str
    title: str
    does: str
    """What it does, one plain sentence."""
    stops: str
    """What stops working without it, as a clause: the consequence."""
    guarded: bool = False
    """Never chosen, by nobody."""
    better: Better = "off"
    """How it is best kept where the profile does not need it; keep: it is worth what it costs on
    any computer."""
    grade: Evidence = "expected"
    """How good the evidence is that easing it helps."""
    ask: str = ""
    """The question to put to the owner, where only they can know; empty where the profile
    decides."""
    serves: Serves = "person"
    """Whom it serves: whoever sits here, or others in the network too."""
    loses: Class | Literal[""] = ""
    """The class of what is lost without it, where that is one that is never lost unsaid."""
    notice: str = ""
    """What the owner would notice without it."""
    missed: Literal["", "nothing", "convenience", "function"] = ""
    """How much of it the owner would miss, where that is not what its other fields say."""
    likely: bool = False
    """Whether the name alone tells it: never “not needed” then, and never without a question."""
    taught: str = ""
    """Who taught it, when and where; empty where it ships with Lumtak."""
    packages: tuple[str, ...] = ()
    """Packages all of whose items fill it, where no unit or app of theirs is named elsewhere."""
    units: tuple[str, ...] = ()
    """Services and timers, by what `names_of` makes of their keys."""
    apps: tuple[str, ...] = ()
    """Login entries and units of the user, likewise."""
    programs: tuple[str, ...] = ()
    """Names of programs."""
    match: tuple[str, ...] = ()
    """Shell patterns of the names by which it is known where nothing above fits: keys and aliases
    of items, names of programs."""


class CatalogueFile(Record):
    """A catalogue as it stands in a file."""

    format: int
    role: tuple[Role, ...]


class Catalogue:
    """All roles, and by what they are known: package, unit or app, program, pattern.

    Args:
        roles: of two patterns that fit the first one wins; guarded roles are tried before others,
            what a name alone says after all others.
        problems: what was wrong with the files, a sentence each.
    """

    def __init__(self, roles: Iterable[Role], problems: Iterable[str] = ()) -> None:
        self.role = tuple(sorted(roles, key=lambda r: (r.likely, not r.guarded)))
        self.problems = tuple(problems)
        self._by_name = {role.name: role for role in self.role}
        self._packages = self._listed("packages")
        self._units, self._apps = self._listed("units"), self._listed("apps")
        self._programs = self._listed("programs")
        patterns = [(pattern, role.name) for role in self.role for pattern in role.match]
        self._names = [name for _, name in patterns]
        self._tests = [_test_of(pattern) for pattern, _ in patterns]
        self._known: dict[str, int | None] = {}

    def _listed(self, kind: str) -> dict[str, str]:
        """The role by each name of a list; of two roles that name the same, the first."""
        found: dict[str, str] = {}
        for role in self.role:
            for name in getattr(role, kind):
                found.setdefault(name.lower(), role.name)
        return found

    def role_for(self, area: str, key: str, *, package: str = "", names: Iterable[str] = ()) -> str:
        """The name of the role of an item; empty where nothing is known.

        Its own name first, then its package: a package may bring several things. A program or a
        pattern says less, since other things can be called so too.

        Args:
            area: of the item.
            key: of the item.
            package: that brought it; empty where that is not known.
            names: other names: its aliases, which rank below the key, and its program.
        """
        found = self.listed(area, key, package)
        return found or self.role_of(key.removeprefix(_USER), *names)

    def listed(self, area: str, key: str, package: str = "") -> str:
        """The role that names an item or its package; empty where none does."""
        own = self._apps if area == "apps" else self._units
        found = next((own[name] for name in names_of(key) if name in own), "")
        return found or self._packages.get(package.lower(), "")

    def find(self, name: str) -> Role | None:
        """The role of this name."""
        return self._by_name.get(name)

    def role_of(self, *names: str) -> str:
        """The name of the first role that a program or pattern of the names tells of.

        Empty when none does.
        """
        for name in names:
            if (low := name.lower()) in self._programs:
                return self._programs[low]
        places = [place for name in names if name and (place := self._place(name)) is not None]
        found = [self._names[place] for place in places]
        # A name alone says least: a pattern that fits an alias is worth more than that.
        sure = [name for name in found if not self._by_name[name].likely]
        return next(iter([*sure, *found]), "")

    def role_with(self, area: str, key: str, package: str, role: str) -> str:
        """The role of an item once its package is known.

        Args:
            area: of the item.
            key: of the item.
            package: that brought it.
            role: what is known of it without the package.
        """
        return self.listed(area, key, package) or role

    def _place(self, name: str) -> int | None:
        """Number of the first pattern that fits; remembered, since names come again and again."""
        low = name.lower()
        if low not in self._known:
            fitting = (place for place, fits in enumerate(self._tests) if fits(low))
            if len(self._known) >= _REMEMBERED:
                return next(fitting, None)
            self._known[low] = next(fitting, None)
        return self._known[low]

    def extended(self, more: Iterable[Role], path: str) -> "Catalogue":
        """With roles of another file, which are tried first; a guard stays a guard.

        What the file says of a role that is known replaces the words, and adds to the lists: one
        more pattern does not take away the others.

        A role that is guarded here and not guarded there, or a pattern that would take a name away
        from a guarded role, is reported in `problems`, and the guard wins.
        """
        problems, kept = list(self.problems), []
        for role in more:
            old = self.find(role.name)
            if old is not None and old.guarded and not role.guarded:
                problems.append(
                    f"{path}: the role {role.name} is guarded; the file cannot lift that, so its"
                    " entry is not used."
                )
                continue
            problems += self._taken(role, path)
            kept.append(role if old is None else _joined(role, old))
        names = {role.name for role in kept}
        return Catalogue([*kept, *(r for r in self.role if r.name not in names)], problems)

    def _taken(self, role: Role, path: str) -> list[str]:
        """A sentence for each pattern of a role that would take something from a guard."""
        taken = [p for p in role.match if not role.guarded and self._guards(p)]
        return [
            f"{path}: the pattern {p} of {role.name} also fits what is guarded"
            f" ({self._guards(p)}); there the guard wins."
            for p in taken
        ]

    def _guards(self, pattern: str) -> str:
        """The guarded role of which this pattern would take something."""
        bare = pattern.replace("*", "").replace("?", "")
        for role in self.role:
            if role.guarded and any(
                fnmatch.fnmatchcase(bare, p) or fnmatch.fnmatchcase(p.replace("*", ""), pattern)
                for p in role.match
            ):
                return role.name
        return ""


def names_of(key: str) -> list[str]:
    """The names by which an item can be listed, the closest first, in small letters.

    Of `user/a@b.service`: itself without the ending, its template `a@`, and both without `user/`;
    a timer goes by the name of what it starts too.
    """
    whole = key.lower().removesuffix(".service")
    names = [whole]
    for ending in (".timer", ".socket", ".path"):
        names += [whole.removesuffix(ending)] if whole.endswith(ending) else []
    names += [f"{name.partition('@')[0]}@" for name in names if "@" in name]
    names += [name.removeprefix(_USER) for name in names if name.startswith(_USER)]
    return list(dict.fromkeys(names))


def _test_of(pattern: str) -> Callable[[str], bool]:
    """What tells whether a name fits a shell pattern.

    Nearly all of them are a beginning, an end or a middle; those need no regular expression, and
    hundreds of regular expressions cost more to compile than a whole command may take.
    """
    bare = pattern.strip("*")
    if not bare or any(sign in bare for sign in "*?["):
        return lambda name: fnmatch.fnmatchcase(name, pattern)
    match pattern.startswith("*"), pattern.endswith("*"):
        case True, True:
            return lambda name: bare in name
        case True, False:
            return lambda name: name.endswith(bare)
        case False, True:
            return lambda name: name.startswith(bare)
    return lambda name: name == pattern


def _joined(role: Role, old: Role) -> Role:
    """A role with what the old one was known by besides."""
    lists = ("packages", "units", "apps", "programs", "match")
    both = {n: tuple(dict.fromkeys((*getattr(role, n), *getattr(old, n)))) for n in lists}
    return msgspec.structs.replace(role, **both)


def read_roles(text: str, path: str) -> tuple[Role, ...]:
    """The roles in a TOML document.

    Raises:
        BadFileError: it does not fit the format, or a role stands twice in it.
    """
    document = read_toml(text, path)
    try:
        file = msgspec.convert(document, CatalogueFile)
    except msgspec.ValidationError as error:
        place = re.search(r"role\[(\d+)\]", str(error))
        line = _line_of_role(text, int(place[1])) if place else None
        problem = str(error).replace("`", "").replace("Object", "it")
        raise BadFileError(path, f"this is no catalogue: {problem}.", line=line) from error
    if file.format != FORMAT:
        raise BadFileError(
            path, f"format {file.format} is not known here; this Lumtak reads format {FORMAT}."
        )
    seen: set[str] = set()
    for number, role in enumerate(file.role):
        if role.name in seen:
            raise BadFileError(
                path, f"the role {role.name} stands here twice.", line=_line_of_role(text, number)
            )
        seen.add(role.name)
    return file.role


def load_catalogue(text: str, path: str) -> Catalogue:
    """The catalogue in a TOML document.

    Raises:
        BadFileError: it does not fit the format.
    """
    return Catalogue(read_roles(text, path))


def _line_of_role(text: str, number: int) -> int | None:
    lines = [n for n, line in enumerate(text.splitlines(), start=1) if line.strip() == "[[role]]"]
    return lines[number] if number < len(lines) else None
