"""What Lumtak knows about roles: what they are for, what stops without them, and who fills them."""

import fnmatch
import re
from collections.abc import Iterable
from typing import Literal

import msgspec

from lumtak.core.record import Record
from lumtak.core.toml import read_toml
from lumtak.errors import BadFileError

FORMAT = 1
Better = Literal["off", "demand", "manual", "keep"]
Evidence = Literal["expected", "depends"]
_REMEMBERED = 50_000


class Role(Record):
    """A function that an item fills."""

    name: str
    title: str
    does: str
    """What it does, one plain sentence."""
    stops: str
    """What stops working without it, as a clause."""
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
    match: tuple[str, ...] = ()
    """Shell patterns of the names by which it is known: keys and aliases of items, names of
    programs."""


class CatalogueFile(Record):
    """A catalogue as it stands in a file."""

    format: int
    role: tuple[Role, ...]


class Catalogue:
    """All roles, in the order in which their patterns are tried.

    Args:
        roles: the first one that fits wins; guarded roles are tried before all others.
        problems: what was wrong with the files, a sentence each.
    """

    def __init__(self, roles: Iterable[Role], problems: Iterable[str] = ()) -> None:
        self.role = tuple(sorted(roles, key=lambda r: not r.guarded))
        self.problems = tuple(problems)
        self._by_name = {role.name: role for role in self.role}
        patterns = [(pattern, role.name) for role in self.role for pattern in role.match]
        self._names = [name for _, name in patterns]
        self._pattern = re.compile(
            "|".join(f"({fnmatch.translate(p)})" for p, _ in patterns) or r"(?!)"
        )
        self._known: dict[str, str] = {}

    def find(self, name: str) -> Role | None:
        """The role of this name."""
        return self._by_name.get(name)

    def role_of(self, *names: str) -> str:
        """The name of the first role one of whose patterns fits one of the names.

        Empty when none does.
        """
        best = min((self._place(name) for name in names if name), default=len(self._names))
        return self._names[best] if best < len(self._names) else ""

    def _place(self, name: str) -> int:
        """Number of the first pattern that fits; remembered, since names come again and again."""
        low = name.lower()
        known = self._known.get(low)
        if known is None:
            found = self._pattern.match(low)
            known = str(found.lastindex - 1 if found and found.lastindex else len(self._names))
            if len(self._known) < _REMEMBERED:
                self._known[low] = known
        return int(known)

    def extended(self, more: Iterable[Role], path: str) -> "Catalogue":
        """With roles of another file, which are tried first; a guard stays a guard.

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
            taken = [p for p in role.match if not role.guarded and self._guards(p)]
            problems += [
                f"{path}: the pattern {p} of {role.name} also fits what is guarded"
                f" ({self._guards(p)}); there the guard wins."
                for p in taken
            ]
            kept.append(role)
        names = {role.name for role in kept}
        return Catalogue([*kept, *(r for r in self.role if r.name not in names)], problems)

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
