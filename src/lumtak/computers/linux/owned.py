"""The owner's own files on a Linux computer, looked through by the user's hand."""

import threading
from collections.abc import Callable
from typing import Any

import msgspec

from lumtak.computers.hands.aside_states import OWN_NOTES
from lumtak.computers.hands.reach import Reach, reason_of
from lumtak.computers.hands.whose import User
from lumtak.computers.hands.words import escaped
from lumtak.core.owned import Comparing, CopiesFound, CopyGroup
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


def _found(top: str, said: dict[str, Any]) -> CopiesFound:
    groups = [
        CopyGroup(
            bytes=float(group["size"]),
            count=int(group["count"]),
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
