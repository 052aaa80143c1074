"""What a hand tells about its user's own files: copies, only copies, what each one is.

Root's hand looks into nobody's files. Sent with the hand: the standard library only, in the
language of Python 3.8.
"""

from __future__ import annotations

import os
import posixpath
from typing import Any, Dict, Iterator, List, Sequence, Tuple

from lumtak.computers.hands.sent.clutter.beside import Beside
from lumtak.computers.hands.sent.clutter.copies import Copies
from lumtak.computers.hands.sent.clutter.lone import looked_at
from lumtak.computers.hands.sent.clutter.marks import marked
from lumtak.computers.hands.sent.clutter.rules import OWN_NOTES
from lumtak.computers.hands.sent.files.places import RefusalError
from lumtak.computers.hands.sent.looking import Looking
from lumtak.computers.hands.sent.table import SWAP_FOLDER


class Owning(Looking):
    """The operations; see `hand.Hand`."""

    def __init__(self, root: str, rules: bool, homes: Sequence[str], own: Sequence[str]) -> None:
        super().__init__(root, rules)
        self.homes, self.own = tuple(homes), tuple(own)

    # -- where they stand --------------------------------------------------------------------------

    def _homes(self) -> Tuple[str, ...]:
        """Of this hand's user: home, caches, data."""
        if len(self.own) != 3 or not all(home.startswith("/") for home in self.own):
            raise RefusalError("these are no folders of a user")
        return self.own

    def _real(self, path: str) -> str:
        """Where a folder really stands: links of the user's are followed as the user."""
        if self.rules and not self.root:
            return self._settled(path)
        return self._place(path) if self.root else os.path.realpath(path)

    def _standing(self, path: str) -> str:
        """Where something that is named really stands here; links on the way to it are followed."""
        above, name = posixpath.split(path)
        return posixpath.join(self._real(above), name)

    def _notes_folder(self) -> str:
        """Where this hand keeps what it sets aside."""
        return SWAP_FOLDER if self.rules else self._homes()[2] + OWN_NOTES

    # -- what they are -----------------------------------------------------------------------------

    def copies(self, path: str, least: int, passed: Sequence[str]) -> Iterator[Dict[str, Any]]:
        """Files of which there are several below a folder; see `copies.Copies.through`.

        Args:
            path: of the folder.
            least: smaller files, in bytes, are left alone.
            passed: folders that are not gone into.
        """
        if self.rules:
            raise RefusalError("root compares nobody's files")
        search = Copies(least, set(passed))
        yield from search.through(self._looked(path))

    def only_copies(self, paths: Sequence[str]) -> Dict[str, Any]:
        """What may be the only copy of something, of these and below them; see `lone.Lone.said`."""
        if self.rules:
            raise RefusalError("root looks into nobody's files")
        return looked_at([(self._standing(path), path) for path in paths])

    def times_of(self, paths: Sequence[str]) -> List[Any]:
        """[when a file was last read or run, when it came here, when it was last changed] of each,
        s since the epoch; None where it is not there. The first is -1 where its volume keeps no
        such times.

        Sources: stat(2); statvfs(3), ST_NOATIME; mount(8), relatime.
        """
        found: List[Any] = []
        for path in paths:
            try:
                place = self._looked(path)
                about = os.stat(place)
                kept = not os.statvfs(place).f_flag & os.ST_NOATIME
                read = about.st_atime if kept else -1.0
                found.append([read, about.st_ctime, about.st_mtime])
            except OSError:
                found.append(None)
        return found

    def beside(self, paths: Sequence[str]) -> Iterator[Dict[str, Any]]:
        """Where else on its volume the same content stands; progress, and last {"ended": ...}, see
        `Beside.said`.

        Args:
            paths: of files and folders of the user's.
        """
        if self.rules:
            raise RefusalError("root compares nobody's files")
        home = self._real(self._homes()[0])
        search = Beside([self._place(self._notes_folder())])
        for path in paths:
            search.wanted(self._standing(path))
        for seen in search.through([home, _top_of(home)]):
            yield {"files": seen}
        ended = search.said()
        cut = len(self.root)
        ended["found"] = [[p[cut:], [o[cut:] for o in others]] for p, others in ended["found"]]
        yield {"ended": ended}

    def marks(self, paths: Sequence[Tuple[str, int]]) -> List[Any]:
        """By what each is told from another of its name; see `marks.marked`.

        Args:
            paths: (of it, how much of its content the mark is to have).
        """
        if self.rules:
            raise RefusalError("root looks into nobody's files")
        return [marked(self._standing(path), how) for path, how in paths]


def _top_of(place: str) -> str:
    """The folder in which the volume of a place begins here."""
    device = os.stat(place).st_dev
    while place != "/" and os.stat(os.path.dirname(place)).st_dev == device:
        place = os.path.dirname(place)
    return place
