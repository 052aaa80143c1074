"""The owner's own files on a Linux computer, looked through by the user's hand."""

import re
import threading
from collections.abc import Callable, Mapping, Sequence
from typing import Any

import msgspec

from lumtak.computers.hands.reach import Reach, reason_of, text_at
from lumtak.computers.hands.sent.clutter.rules import OWN_NOTES
from lumtak.computers.hands.sent.files.words import escaped, unescaped
from lumtak.computers.hands.whose import User
from lumtak.core.deciding import Content, OnlyCopies, Seen
from lumtak.core.owned import Comparing, CopiesFound, CopyGroup
from lumtak.core.record import Record
from lumtak.errors import ComputerError, StoppedError

_MOST = 20_000


def copies(
    hand: Reach,
    user: User,
    top: str,
    least_bytes: int,
    on_progress: Callable[[Comparing], None],
    stop: threading.Event,
) -> CopiesFound:
    """See `About.copies`.

    Raises:
        StoppedError: it was told to stop; ComputerError: the folder cannot be looked through.
    """
    passed = [user.data_home + OWN_NOTES]
    parts = hand.copies(top, least_bytes, passed)
    try:
        ended: dict[str, Any] = {}
        for part in parts:
            if stop.is_set():
                raise StoppedError("The search for copies")
            ended = part.get("ended", {})
            if not ended:
                on_progress(
                    Comparing(
                        what=part["what"],
                        files=part["files"],
                        bytes=part["bytes"],
                        whole_bytes=part["whole"],
                    )
                )
        return _found(top, ended)
    except (OSError, msgspec.ValidationError, LookupError, TypeError, AttributeError) as error:
        raise ComputerError(
            f"{escaped(top)[:200]} cannot be looked through: {reason_of(error)}.",
            "Name another folder with --folder.",
        ) from error


class _Beside(Record):
    """What a hand says of the same content elsewhere."""

    found: list[tuple[str, list[str]]]
    left: int


def beside(hand: Reach, paths: Sequence[str]) -> CopiesFound:
    """See `About.beside`."""
    said = None
    try:
        for part in hand.beside([unescaped(p) for p in paths]):
            if "ended" in part:
                said = msgspec.convert(part["ended"], _Beside)
    except (OSError, msgspec.ValidationError, TypeError) as error:
        raise ComputerError(
            f"It cannot be told where else the same stands: {reason_of(error)}.",
            "Nothing was changed.",
        ) from error
    if said is None:
        raise ComputerError("The search for copies did not come to its end.", "Try again.")
    groups = [
        CopyGroup(
            bytes=0.0,
            copies=tuple((escaped(p)[:_MOST],) for p in (path, *others)),
            count=1 + len(others),
        )
        for path, others in said.found
    ]
    return CopiesFound(top="", groups=tuple(groups), frees_bytes=0.0, files=0, left=said.left)


def _found(top: str, said: dict[str, Any]) -> CopiesFound:
    groups = [
        CopyGroup(
            bytes=float(group["size"]),
            count=int(group["count"]),
            frees=float(group["frees"]),
            sure=bool(group["sure"]),
            copies=tuple(
                tuple(escaped(path)[:_MOST] for path in names) for names in group["copies"]
            ),
        )
        for group in said["groups"]
    ]
    return CopiesFound(
        top=escaped(top),
        groups=tuple(groups),
        frees_bytes=float(said["frees"]),
        files=int(said["files"]),
        unread=int(said["unread"]),
        changed=int(said["changed"]),
        left=int(said["left"]),
        more_groups=int(said["more_groups"]),
    )


class _Lone(Record):
    """What a hand says of only copies."""

    found: list[tuple[str, str]]
    unread: int
    whole: bool


def only_copies(hand: Reach, paths: Sequence[str]) -> OnlyCopies:
    """See `About.only_copies`."""
    try:
        said = msgspec.convert(hand.only_copies([unescaped(p) for p in paths]), _Lone)
    except (OSError, msgspec.ValidationError) as error:
        raise ComputerError(
            f"It cannot be told what of this is an only copy: {reason_of(error)}.",
            "Nothing was changed.",
        ) from error
    found = tuple((what[:40], escaped(path)[:_MOST]) for what, path in said.found)
    return OnlyCopies(found=found, unread=said.unread, whole=said.whole)


def folders(hand: Reach, user: User) -> dict[str, str]:
    """The user's home, and where they keep downloads (xdg-user-dirs, user-dirs.dirs)."""
    said = text_at(hand, f"{user.config_home}/user-dirs.dirs")
    named = re.search(r'(?m)^XDG_DOWNLOAD_DIR="(\$HOME)?(/[^"\n]*)"$', said)
    downloads = f"{user.home if named[1] else ''}{named[2]}" if named else ""
    return {"home": user.home, "downloads": downloads.rstrip("/") or f"{user.home}/Downloads"}


_AT_ONCE = 20_000


def standing(
    hand: Reach, paths: Sequence[str], content: Mapping[str, Content] | None = None
) -> dict[str, Seen]:
    """See `About.standing`."""
    found: dict[str, Seen] = {}
    wanted = content or {}
    try:
        for at in range(0, len(paths), _AT_ONCE):
            some = paths[at : at + _AT_ONCE]
            told = hand.marks([(unescaped(path), int(wanted.get(path, 0))) for path in some])
            for path, one in zip(some, told, strict=True):
                if one is not None:
                    found[path] = Seen(mark=one[0], bytes=float(one[1]), changed_at=int(one[2]))
    except (OSError, ValueError, TypeError, OverflowError, LookupError) as error:
        raise ComputerError(
            f"It cannot be told what still stands: {reason_of(error)}.", "Nothing was changed."
        ) from error
    return found
