"""What is opened by its path, to be read: the one place of a hand that does so.

`make check` sees to that. What is changed is named by a descriptor of its folder.

Sent with the hand: the standard library only, in the language of Python 3.8.
"""

from __future__ import annotations

import os
from typing import Iterator, List

from lumtak.computers.hands.sent.files.kernel import FOLDER


def open_folder(place: str, follow: bool = True) -> int:
    """A descriptor of a folder, whose path was judged before.

    Args:
        place: of it.
        follow: whether it may be a link.
    """
    return os.open(place, FOLDER & ~os.O_NOFOLLOW if follow else FOLDER)


def open_file(place: str, follow: bool = False) -> int:
    """A descriptor of a file, never of a link unless that is wanted; nothing is waited for."""
    flags = os.O_RDONLY | os.O_CLOEXEC | os.O_NONBLOCK
    return os.open(place, flags if follow else flags | os.O_NOFOLLOW)


def names_in(place: str) -> List[str]:
    """The names in a folder; a link leads on."""
    return os.listdir(place)


def lines_of(place: str) -> Iterator[bytes]:
    """The lines of a file, such as one that the kernel makes.

    Raises:
        OSError: it cannot be read.
    """
    with open(place, "rb") as lines:
        yield from lines
