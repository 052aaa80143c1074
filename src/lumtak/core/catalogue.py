"""What Lumtak knows about roles: what they are for, what stops without them, and who fills them."""

import fnmatch
import tomllib
from typing import Literal

import msgspec

from lumtak.core.record import Record
from lumtak.errors import BadFileError

Better = Literal["off", "demand", "manual"]


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
    """How it is best kept where the profile does not need it."""
    match: tuple[str, ...] = ()
    """Shell patterns of the names by which it is known: keys of items, names of programs."""


class Catalogue(Record):
    """All roles by name."""

    format: int
    role: tuple[Role, ...]

    def find(self, name: str) -> Role | None:
        """The role of this name."""
        return next((role for role in self.role if role.name == name), None)

    def role_of(self, *names: str) -> str:
        """The name of the first role one of whose patterns fits one of the names; empty when none does."""
        for role in self.role:
            for pattern in role.match:
                if any(fnmatch.fnmatchcase(name.lower(), pattern) for name in names if name):
                    return role.name
        return ""


def load_catalogue(text: str, path: str) -> Catalogue:
    """The catalogue in a TOML document.

    Raises:
        BadFileError: it does not fit the format.
    """
    try:
        return msgspec.convert(tomllib.loads(text), Catalogue)
    except (tomllib.TOMLDecodeError, msgspec.ValidationError) as error:
        raise BadFileError(path, f"this is no catalogue: {error}.") from error
