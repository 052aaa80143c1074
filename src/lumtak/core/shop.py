"""What a shop learns by itself: entries that somebody taught, and judgements that were wrong."""

import json
from collections.abc import Iterable
from typing import TYPE_CHECKING

import msgspec

from lumtak.core.catalogue import Better, Role
from lumtak.core.record import Record
from lumtak.core.text import capital

if TYPE_CHECKING:
    from lumtak.core.audit.records import Finding

FORMAT = 1


class Wrong(Record):
    """A finding that somebody said was wrong."""

    item: str
    """As AREA:KEY."""
    role: str
    stance: str
    why: str
    """In that person's words."""
    at: str
    by: str
    computer: str


class Export(Record):
    """A shop's own knowledge as one document, to be taken over by another shop."""

    format: int = FORMAT
    roles: tuple[Role, ...]
    wrong: tuple[Wrong, ...] = ()


def taught(finding: "Finding", title: str, stops: str, better: Better, where: str) -> Role:
    """The entry by which an item is known from now on.

    Args:
        finding: of which nothing was known.
        title: what it is for, as somebody typed it.
        stops: what stops without it, likewise.
        better: how it is best kept; keep leaves it alone.
        where: who taught it, when, and on which computer.
    """
    name = finding.key.removesuffix(".service").removesuffix(".timer")
    is_app = finding.area == "apps"
    return Role(
        name=f"own-{name}",
        title=title,
        does=f"{capital(title)}.",
        stops=stops,
        better=better,
        taught=where,
        units=() if is_app else (name,),
        apps=(name,) if is_app else (),
    )


def as_toml(roles: Iterable[Role]) -> str:
    """Roles as the TOML of docs/FORMATS.md; fields as they are by default are left out."""
    lines = [f"format = {FORMAT}"]
    for role in roles:
        lines += ["", "[[role]]"]
        for name, value in msgspec.structs.asdict(role).items():
            if value not in ("", False, ()) or name in {"name", "title", "does", "stops"}:
                # A JSON string, and a list of them, is one of TOML's too (TOML 1.0, strings).
                lines.append(f"{name} = {json.dumps(value, ensure_ascii=False)}")
    return "\n".join(lines) + "\n"
