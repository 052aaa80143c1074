"""Plain desktops described by the names of what is on them, which ship with Lumtak.

What an entry of knowledge changes is tried on them, and on the computers of the casebook.
"""

import csv
from collections.abc import Iterator
from importlib.resources import files
from typing import NamedTuple

from lumtak.core.catalogue import Catalogue
from lumtak.core.known import known
from lumtak.core.profile import Profile
from lumtak.core.setting import SettingRef, parse_ref
from lumtak.core.stance import Stance
from lumtak.work.data_folder import DataFolder
from lumtak.work.knowledge import shipped_catalogue


class Described(NamedTuple):
    """An item and where it is found."""

    ref: SettingRef
    package: str
    places: tuple[str, ...]
    """Desktops, or names of computers."""


class Difference(NamedTuple):
    """What is said of an item otherwise than before."""

    item: str
    places: tuple[str, ...]
    role_before: str
    role: str
    stance_before: Stance
    stance: Stance


def described() -> tuple[Described, ...]:
    """The items of plain desktops; scripts/desktops.py made the list."""
    text = (files("lumtak") / "data" / "described.csv").read_text(encoding="utf-8")
    return tuple(
        Described(parse_ref(row["item"]), row["package"], tuple(row["desktops"].split()))
        for row in csv.DictReader(text.splitlines())
    )


def differences(
    data_folder: DataFolder, catalogue: Catalogue, profile: Profile
) -> Iterator[Difference]:
    """What this catalogue says otherwise than what ships with Lumtak.

    Of described desktops, and of the computers in the casebook.
    """
    before = shipped_catalogue()
    for item in (*described(), *_of_casebook(data_folder)):
        old = known(item.ref, item.package, profile, before)
        new = known(item.ref, item.package, profile, catalogue)
        if (old.role, old.stance) != (new.role, new.stance):
            yield Difference(str(item.ref), item.places, old.role, new.role, old.stance, new.stance)


def _of_casebook(data_folder: DataFolder) -> list[Described]:
    found: dict[SettingRef, Described] = {}
    for heading in data_folder.casebook.jobs():
        facts = data_folder.casebook.job(heading.id).facts
        for item in facts.items if facts else ():
            if item.area in {"services", "apps"}:
                old = found.get(item.ref)
                places = (*old.places, heading.computer_name) if old else (heading.computer_name,)
                found[item.ref] = Described(item.ref, item.package, tuple(dict.fromkeys(places)))
    return list(found.values())
