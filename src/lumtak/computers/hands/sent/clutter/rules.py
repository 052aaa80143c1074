"""A class of clutter as a hand knows it, and a piece of one.

Sent with the hand: the language of Python 3.8.
"""

from __future__ import annotations

from typing import NamedTuple, Tuple

OWN_NOTES = "/lumtak-aside"
"""Ends the folder in which it is noted what a user set aside."""
FIRST_PERSON = 1000
"""Numbers of users below this are the system's; login.defs(5), UID_MIN."""


class Rule(NamedTuple):
    """What is in a class of clutter; data/clutter.toml has the rest of it, for people."""

    name: str
    whose: str
    """"user", "system" (root's hand acts), or "tool": a program of the system owns it, and nothing
    is pulled from under that."""
    where: Tuple[str, ...]
    """Folders; $CACHE, $DATA and $HOME are the user's."""
    age_days: int
    """Younger is left, by the time of the last change."""
    names: str = ""
    """Pattern of the names of files that are in it; empty for all."""
    flat: bool = False
    """Whether folders below are left alone."""
    trash: bool = False
    """Whether it is a trash, whose age is that of each throwing away; XDG Trash Specification."""
    cap_pct: float = 0.0
    """Of the volume: what a trash holds above it, the oldest first, is in the class whatever its
    age; 0 for no cap."""
    kernels: bool = False
    """Whether what belongs to the kernel that runs is left."""


class Piece(NamedTuple):
    """What is moved at once."""

    place: str
    kind: str
    """"f", "l" or "d" for a file, a link, a folder with all that is in it."""
    inode: int
    folder_inode: int
    device: int
    changed_ns: int
    folder_changed_ns: int
    bytes: int
    files: int
