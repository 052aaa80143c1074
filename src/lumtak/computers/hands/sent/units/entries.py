"""Login entries of a folder, and what of it was not seen. Source: XDG Autostart Specification 0.5.

Sent with the hand: the standard library only, in the language of Python 3.8.
"""

from __future__ import annotations

from typing import Any, List, Optional, Tuple

from lumtak.computers.hands.sent.units.resolving import Gap

ENDING = ".desktop"
MOST_ENTRIES, MOST_OF_ONE = 5000, 1 << 16


def is_entry(name: str) -> bool:
    """Whether a file of this name is a login entry."""
    return name.endswith(ENDING) and name != ENDING and "/" not in name and "\0" not in name


def names_in(hand: Any, folder: str) -> Tuple[List[str], Optional[Gap]]:
    """(names of the entries of a folder, what of it was not seen)."""
    try:
        listed = hand.listing(folder)
    except (FileNotFoundError, NotADirectoryError):
        return [], None
    except OSError as error:
        return [], Gap(folder, (error.strerror or str(error)).lower())
    names = [n for n in listed["names"] if is_entry(n)]
    unlisted = listed["whole"] - len(listed["names"])
    gap = None
    if unlisted or len(names) > MOST_ENTRIES:
        looked = min(len(names), MOST_ENTRIES)
        gap = Gap(folder, "it holds too many names", looked, len(names) + unlisted)
    return names[:MOST_ENTRIES], gap


def entries_in(hand: Any, folder: str) -> Tuple[List[Tuple[str, bytes]], Optional[Gap]]:
    """(place and content of each entry of a folder, what of it was not seen)."""
    names, gap = names_in(hand, folder)
    paths = ["%s/%s" % (folder, name) for name in names]
    held = hand.read_many(paths, MOST_OF_ONE)
    return [(path, data) for path, data in zip(paths, held) if data is not None], gap
