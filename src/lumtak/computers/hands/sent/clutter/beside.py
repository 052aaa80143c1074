"""Where else the same content stands as that of what a person named: looked for on its volume, in
bounded time.

Sent with the hand: the standard library only, in the language of Python 3.8.
"""

from __future__ import annotations

import os
import stat
import time
from typing import Any, Dict, Iterator, List, Sequence, Tuple

from lumtak.computers.hands.sent.clutter.copies import Copies, alike
from lumtak.computers.hands.sent.clutter.marks import PARTS, marked
from lumtak.computers.hands.sent.files.passing import Pass

_MOST_S, _MOST_FILES, _MOST_OTHERS = 20.0, 20_000, 20
_COMPARED_A_S = 50 << 20
"""So many bytes are compared in a second at least; what would take longer than is left is not."""


class Beside:
    """One search.

    Args:
        passed: folders that are not gone into.
    """

    def __init__(self, passed: Sequence[str]) -> None:
        self._passed = set(passed)
        self._sizes: Dict[int, List[str]] = {}
        self._until = time.monotonic() + _MOST_S
        self.found: Dict[str, List[str]] = {}
        self.left = 0
        """Files that were not looked for, or not compared."""

    def wanted(self, place: str) -> None:
        """A file, or every file below a folder, is one to look for."""
        try:
            about = os.stat(place, follow_symlinks=False)
        except OSError:
            return
        if stat.S_ISREG(about.st_mode):
            self._add(place, about.st_size)
        elif stat.S_ISDIR(about.st_mode):
            for shown, _, _, inner in Pass(place, place, "").files():
                self._add(shown, inner.st_size)

    def _add(self, place: str, size: int) -> None:
        if size and sum(map(len, self._sizes.values())) < _MOST_FILES:
            self._sizes.setdefault(size, []).append(place)
        elif size:
            self.left += 1

    def through(self, tops: Sequence[str]) -> Iterator[int]:
        """Each folder in turn is gone through, on its own volume; how many files there were, about
        four times a second.
        """
        seen, told = 0, time.monotonic()
        for number, top in enumerate(tops):
            search = Copies(1, self._passed | set(tops[:number]))
            for folder, size, inode, name in search.each(top):
                seen += 1
                if size in self._sizes:
                    self._compare(size, (inode, "%s/%s" % (folder.rstrip("/"), name)))
                now = time.monotonic()
                if now > self._until:
                    self.left += len([p for p in self._all() if p not in self.found])
                    return
                if now - told > 0.25:
                    told = now
                    yield seen
            if not number and search.unread:  # elsewhere it is other people's
                self.left += 1

    def _all(self) -> List[str]:
        return [place for places in self._sizes.values() for place in places]

    def _compare(self, size: int, other: Tuple[int, str]) -> None:
        for place in self._sizes[size]:
            others = self.found.get(place, [])
            if place == other[1] or len(others) >= _MOST_OTHERS:
                continue
            if size > _COMPARED_A_S * max(0.0, self._until - time.monotonic()):
                self.left += 1
            elif _parts(place) == _parts(other[1]) and alike(place, other[1]):
                self.found.setdefault(place, []).append(other[1])

    def said(self) -> Dict[str, Any]:
        """[[a file, where the same content stands], ...], and how many were not looked for."""
        return {"found": [[p, others] for p, others in self.found.items()], "left": self.left}


def _parts(place: str) -> str:
    told = marked(place, PARTS)
    return "" if told is None else str(told[0]).rpartition(":")[2]
