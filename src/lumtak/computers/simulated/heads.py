"""Which simulated computers there are, and what stands at the head of their descriptions."""

from functools import cache
from importlib.resources import files

from lumtak.core.felt import Complaint
from lumtak.core.record import Record
from lumtak.errors import UnknownNameError

FIRST = "drawing-bench"
"""The computer to begin with."""


@cache
def fleet() -> tuple[str, ...]:
    """Names of the computers that ship with Lumtak, the one to begin with first."""
    folder = files("lumtak") / "data" / "fleet"
    names = [
        entry.name.removesuffix(".toml")
        for entry in folder.iterdir()
        if entry.name.endswith(".toml")
    ]
    return tuple(sorted(names, key=lambda name: (name != FIRST, name)))


class Head(Record):
    """What stands at the head of a description, before all its tables."""

    title: str
    about: str
    profile: str
    """The one that was made for it."""
    complaint: Complaint
    told: str
    """The same in its owner's words."""


@cache
def head_of(name: str) -> Head:
    """The head of one computer's description.

    All that a list of computers takes, and a hundredth of the whole.

    Raises:
        UnknownNameError: there is none of this name.
    """
    import tomllib

    head = tomllib.loads(written(name).partition("\n[")[0])
    return Head(**{name: head[name] for name in Head.__struct_fields__})


def written(name: str) -> str:
    """The description of a computer, as it is written.

    Raises:
        UnknownNameError: there is none of this name.
    """
    if name not in fleet():
        raise UnknownNameError(
            "simulated computer", name, fleet(), f"There are {', '.join(fleet())}."
        )
    return (files("lumtak") / "data" / "fleet" / f"{name}.toml").read_text(encoding="utf-8")
