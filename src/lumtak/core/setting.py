"""Settings by address, and changes of them: `AREA:KEY=VALUE`."""

from collections.abc import Iterable
from typing import Any, Literal, Protocol, get_args, runtime_checkable

from lumtak.core.record import Record
from lumtak.core.text import plain
from lumtak.errors import UnknownNameError, UsageError

Area = Literal["services", "apps", "effects", "power", "memory", "storage", "upkeep"]
AREAS: tuple[Area, ...] = get_args(Area)
AREA_TITLES: dict[Area, str] = {
    "services": "services",
    "apps": "background apps",
    "effects": "visual effects and the desktop",
    "power": "power plan",
    "memory": "memory",
    "storage": "storage",
    "upkeep": "upkeep",
}

Shows = Literal["now", "login", "restart"]
"""When a change shows: at once, after a new login, after a restart."""

LATENESS: dict[Shows, int] = {"now": 0, "login": 1, "restart": 2}


def latest(shows: Iterable[Shows]) -> Shows:
    """When the last of several changes shows; at once where there are none."""
    return max(shows, key=LATENESS.__getitem__, default="now")


SHOWS_WORDS: dict[Shows, str] = {
    "now": "takes effect immediately",
    "login": "takes effect after a new login",
    "restart": "takes effect after a restart",
}

OWED_WORDS: dict[Shows, str] = {
    "now": "All changes take effect immediately.",
    "login": "Some changes take effect only after a new login.",
    "restart": "Some changes take effect only after a restart.",
}

UNSET_WORD = "unset"


def without(value: str | None, stops: str) -> tuple[str, str]:
    """(label, words) of what is lost with a value; both empty where nothing is told.

    What starts on demand loses nothing: it starts when it is asked for.
    """
    if not stops:
        return "", ""
    if value == "aside":
        return "set aside", stops
    if value == "demand":
        return "on demand", f"starts when asked for; until then {stops}"
    return ("until started" if value == "manual" else "without it"), stops


class SettingRef(Record, order=True):
    """The address of one setting on a computer."""

    area: Area
    key: str

    def __str__(self) -> str:
        return f"{self.area}:{self.key}"

    def __hash__(self) -> int:
        return hash((self.area, self.key))


@runtime_checkable
class Exact(Protocol):
    """What tells a state from others of the same value, and all that is needed to bring it back.

    The kinds of computers have their own.
    """

    @property
    def kind(self) -> str:
        """Which of them it is."""
        ...

    def between(self, one: Any, other: Any) -> bool:  # noqa: ANN401 - of whatever kind
        """Whether a write from the one to the other was interrupted half-way."""
        ...


class State(Record):
    """What a setting is at one moment, exact enough to be brought back."""

    value: str | None
    """The value as a word or a number in text; None means unset, which is a value of its own."""
    exact: Exact | None = None
    """None where the value says it all."""

    def same_as(self, other: "State") -> bool:
        """Whether both are the same state: the value, and the exact form where both know it."""
        if self.value != other.value:
            return False
        return self.exact is None or other.exact is None or self.exact == other.exact

    def between(self, one: "State", other: "State") -> bool:
        """Whether a write from the one to the other was interrupted half-way.

        Each part is as in one of them, and all else is equal.
        """
        if self.exact is None or one.exact is None or other.exact is None:
            return False
        return self.exact.between(one.exact, other.exact)

    @property
    def word(self) -> str:
        """The value for a person."""
        return UNSET_WORD if self.value is None else plain(self.value)


class Change(Record):
    """A setting and the value it is to have."""

    ref: SettingRef
    value: str | None

    def __str__(self) -> str:
        return f"{self.ref}={UNSET_WORD if self.value is None else self.value}"


IN_FORCE = "in force"


def not_in_force(why: str) -> str:
    """What is said of a value that is stored and does nothing."""
    return f"stored, not in force: {why}"


def parse_ref(text: str) -> SettingRef:
    """The address in `AREA:KEY`, split at the first colon.

    Raises:
        UsageError: the form is wrong; UnknownNameError: there is no such area.
    """
    area, colon, key = text.partition(":")
    if not colon or not key:
        raise UsageError(
            f"“{plain(text)}” is not a setting's address.",
            "An address is AREA:KEY, for example apps:tide-feed; `lumtak audit COMPUTER` lists"
            " them.",
        )
    if area not in AREAS:
        raise UnknownNameError("area", plain(area), AREAS, f"The areas are {', '.join(AREAS)}.")
    return SettingRef(area=area, key=key)


def parse_change(text: str) -> Change:
    """The change in `AREA:KEY=VALUE`, split at the first colon and the last equals sign.

    Raises:
        UsageError: the form is wrong; UnknownNameError: there is no such area.
    """
    address, equals, value = text.rpartition("=")
    if not equals or not value:
        raise UsageError(
            f"“{plain(text)}” is not a change.",
            "A change is AREA:KEY=VALUE, for example apps:tide-feed=off.",
        )
    return Change(ref=parse_ref(address), value=None if value == UNSET_WORD else value)
