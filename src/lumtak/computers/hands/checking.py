"""What a hand checks of the system: its files against what was recorded of them.

Sent with the hand: the standard library only, in the language of Python 3.8.
"""

from __future__ import annotations

from typing import Any, Dict, Iterator

from lumtak.computers.hands.integrity import Integrity
from lumtak.computers.hands.packages import MOST_STATUS, STATUS, Packages
from lumtak.computers.hands.removing import Removing


class Checking(Removing):
    """The operation; see `hand.Hand`."""

    def integrity(self) -> Iterator[Dict[str, Any]]:
        """The system's files held against what the package database recorded; see
        `integrity.Integrity.through`.
        """
        status = self.read(STATUS, MOST_STATUS).decode("utf-8", "replace")
        known = Packages(status), status

        def read(path: str) -> bytes:
            return self.read(path, MOST_STATUS)

        yield from Integrity(read, self.names, self.link, self._place, known).through()
