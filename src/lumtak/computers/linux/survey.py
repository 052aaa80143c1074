"""The volume of a Linux computer looked through, with what each class of clutter holds."""

import threading
from collections.abc import Callable, Iterator
from typing import Any, NamedTuple

import msgspec

from lumtak.computers.clutter import shipped
from lumtak.computers.hands.reach import Reach, reason_of
from lumtak.computers.hands.sent.files.walking import AGES_DAYS
from lumtak.computers.hands.sent.files.words import escaped
from lumtak.computers.hands.whose import Hands, User
from lumtak.core.clutter import Age, Clutter, Looked, Sums, Survey
from lumtak.core.record import MOST_MEASURED
from lumtak.errors import ComputerError, StoppedError

_AGES = (
    *(f"more than {days} days ago" for days in reversed(AGES_DAYS)),
    f"in the last {AGES_DAYS[0]} days",
    "in the future, by its date",
)
_MOST = 5000


class Wanted(NamedTuple):
    """What is looked through."""

    identity: str
    """Of the computer."""
    at: str
    """Its clock."""
    top: str
    """A folder on the volume."""


def survey(
    hands: Hands,
    user: User,
    wanted: Wanted,
    on_progress: Callable[[Looked], None],
    stop: threading.Event,
) -> Survey:
    """See `About.survey`.

    Raises:
        StoppedError: it was told to stop; ComputerError: the volume cannot be looked through.
    """
    searching: Reach = hands.searching or hands.own
    try:
        room = searching.space(wanted.top)
        inodes = searching.inodes(wanted.top)
        found: dict[str, Any] = {}
        for part in _until(stop, searching.survey(wanted.top, [user.home])):
            found = part.get("ended", {})
            if not found:
                done, size, where = _told(part)
                on_progress(Looked(done=done, whole=inodes, bytes=size, at=escaped(where)))
        piles = []
        for clutter in shipped().values() if wanted.top == "/" else ():
            if stop.is_set():
                raise StoppedError("Looking through the disk")
            on_progress(Looked(done=inodes, whole=inodes, bytes=0, at=clutter.title))
            piles += _sums(hands, searching, clutter)
        return _survey(found, wanted, room, piles)
    except (OSError, msgspec.ValidationError, TypeError, ValueError) as error:
        raise ComputerError(
            f"The disk cannot be looked through: {reason_of(error)}.", "Try again."
        ) from error
    finally:
        hands.end_searching()


def _until(stop: threading.Event, parts: Iterator[dict[str, Any]]) -> Iterator[dict[str, Any]]:
    for part in parts:
        if stop.is_set():
            raise StoppedError("Looking through the disk")
        yield part


def _told(part: dict[str, Any]) -> tuple[int, int, str]:
    match part:
        case {"inodes": int() as done, "bytes": int() as size, "at": str() as where}:
            return done, size, where
    raise ValueError("the hand says what is no progress")


def _sums(hands: Hands, searching: Reach, clutter: Clutter) -> list[Sums]:
    """What a class holds; nothing where its places are not there."""
    if clutter.whose == "tool":
        told = searching.tool_holds(clutter.name).get("places", [])
        return [
            Sums(
                clutter=clutter.name,
                bytes=size,
                files=files,
                all_bytes=size,
                left={"cannot be read": unread} if unread else {},
                place=place,
            )
            for place, size, files, unread in told
        ]
    # What is the user's is looked at as the user, in folders that nobody else may look into.
    hand = hands.user if clutter.whose == "user" else searching
    told = hand.aside_look(clutter.name, clutter.name, (), (), ())
    for name in ("sha256", "handle", "pieces"):
        told.pop(name)
    told["oldest_at"] = told.pop("oldest", 0)
    told.pop("all_files", None)
    sums = msgspec.convert({"clutter": clutter.name, **told}, Sums)
    return [sums] if sums.all_bytes or sums.left else []


def _survey(found: dict[str, Any], wanted: Wanted, room: list[int], piles: list[Sums]) -> Survey:
    """The record of what a hand says, each part held against what it can be."""

    def text(path: object) -> str:
        return escaped(path)[:_MOST] if isinstance(path, str) else ""

    made = {
        "identity": wanted.identity,
        "at": wanted.at,
        "top": escaped(wanted.top),
        **dict(zip(("total_bytes", "free_bytes", "reserved_bytes"), room, strict=True)),
        "seen_bytes": found["bytes"],
        "inodes": found["inodes"],
        "parts": {text(name): sums[0] for name, sums in found["parts"].items()},
        "largest": [
            {"path": text(p), "bytes": size, "changed_at": when}
            for size, p, when in found["largest"]
        ],
        **{
            name: [
                {"path": text(p), "bytes": size, "files": files} for size, p, files in found[name]
            ]
            for name in ("folders", "hollow")
        },
        "unread": found["unread"],
        "unread_named": [text(p) for p in found["unread_named"]],
        "elsewhere": [text(p) for p in found["elsewhere"]],
        "vanished": found["vanished"],
    }
    ages = [
        Age(since=since, bytes=size, files=files)
        for since, (size, files) in zip(_AGES, found["ages"], strict=True)
    ]
    survey = msgspec.convert(made, Survey)
    if not 0 <= survey.seen_bytes <= MOST_MEASURED:
        raise ValueError("the hand says a size that no disk has")
    return msgspec.structs.replace(survey, ages=tuple(ages), piles=tuple(piles))
