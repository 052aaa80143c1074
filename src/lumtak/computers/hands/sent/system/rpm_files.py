"""What rpm's database recorded of the system's files; rpm(8), --queryformat.

Sent with the hand: the standard library only, in the language of Python 3.8.
"""

from __future__ import annotations

from typing import Callable, Dict, List, Optional, Set

from lumtak.computers.hands.sent.system.integrity import Integrity, Recorded, order
from lumtak.computers.hands.sent.system.packages import Packages

QUERY = (
    "rpm",
    "--query",
    "--all",
    "--queryformat",
    r"[%{FILENAMES}\t%{FILEDIGESTS}\t%{FILEFLAGS}\t%{=NAME}\n]",
)
_CONFIG, _GHOST = 1, 64
"""Flags of a file: of configuration; of no bytes that were brought; rpmfiles.h."""
_HEXADECIMAL = frozenset("0123456789abcdef")


class OfRpm(Integrity):
    """One check by rpm's database.

    Args:
        link: where one leads; None where there is none.
        here: a place on the computer as one of this process.
        said: what rpm printed.
    """

    def __init__(
        self, link: Callable[[str], Optional[str]], here: Callable[[str], str], said: str
    ) -> None:
        def nothing(path: str) -> bytes:
            raise FileNotFoundError(path)

        super().__init__(nothing, lambda _: [], link, here, (Packages(""), ""))
        self._lines = [line.split("\t") for line in said.split("\n")]
        self._owned: Set[str] = set()

    def broken(self) -> str:
        """See `Integrity.broken`."""
        return "" if self._owned else "rpm named no files"

    def recorded(self) -> List[Recorded]:
        """See `Integrity.recorded`; folders and links have no digest."""
        found: Dict[str, Recorded] = {}
        for parts in self._lines:
            if len(parts) != 4 or not parts[0].startswith("/"):
                continue
            path, said, flags, package = parts
            place = self.settled(path)
            self._owned.add(place)
            number = int(flags) if flags.isdigit() and len(flags) < 10 else 0
            if said and not number & _GHOST and set(said) <= _HEXADECIMAL:
                found[place] = Recorded(place, said, package, bool(number & _CONFIG))
        return [found[path] for path in sorted(found, key=order)]

    def owned(self) -> Set[str]:
        """See `Integrity.owned`."""
        return self._owned
