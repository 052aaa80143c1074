"""What was set aside, deleted for good: looked at again before the first of it goes, then piece by
piece.

What became the last copy of something stays, unless somebody says yes to just that; what is
mounted, in use, or not what was set aside stays too; what cannot be deleted is named and stops
nothing else, and can still be put back. Sent with the hand: the standard library only, in the
language of Python 3.8.
"""

from __future__ import annotations

import os
import stat
import time
from typing import Any, Callable, Collection, Dict, Iterator, List, Set, Tuple

from lumtak.computers.hands.sent.clutter.aside_folder import (
    BEGUN,
    AsideFolder,
    HeldPiece,
    Open,
    held_piece,
)
from lumtak.computers.hands.sent.clutter.aside_list import Line
from lumtak.computers.hands.sent.clutter.aside_words import LAST, OTHER
from lumtak.computers.hands.sent.clutter.copies import staying
from lumtak.computers.hands.sent.clutter.lone import Lone
from lumtak.computers.hands.sent.files.atomic import NO_ROOM
from lumtak.computers.hands.sent.files.deleting import IN_USE, MOUNTED, Deleting
from lumtak.computers.hands.sent.files.mounts import mount_table, mounts_below
from lumtak.computers.hands.sent.files.passing import Pass
from lumtak.computers.hands.sent.files.walking import BLOCK

_TELL_S, _MOST_NAMED = 0.25, 200
Used = Set[Tuple[int, int]]
Mark = Tuple[int, int, int, int, int]


class Emptying:
    """One emptying of a list, or the look before it.

    Args:
        notes: the folder of what is set aside; a descriptor, which stays the caller's.
        root: whether it is the system's.
        here: a place on the computer as one of this process.
        sha256: of the list.
    """

    def __init__(self, notes: int, root: bool, here: Callable[[str], str], sha256: str) -> None:
        self._at, self._root, self._here, self._sha256 = (
            AsideFolder(notes, root),
            root,
            here,
            sha256,
        )
        self._own = os.readlink("/proc/self/fd/%d" % notes)
        self._stays: Dict[int, List[Tuple[str, Mark]]] = {}
        """By the number of a piece, the copies that stay, as they were when they were compared."""
        self._links: Dict[Tuple[int, int], int] = {}
        """Names of a file that were not met yet."""
        self._told = time.monotonic()
        self.last: Set[int] = set()
        """Numbers of pieces of which no other copy is there any more."""
        self.left: Dict[str, int] = {}
        """Files by the reason why they stay."""
        self.named: List[List[str]] = []
        """[place, why] of some of them."""

    # -- the look before it ------------------------------------------------------------------------

    def look(self, used: Used, only: bool = True) -> Iterator[Dict[str, Any]]:
        """How far it is, and last {"ended": ...}: what would be deleted now, and what speaks
        against it.

        Args:
            used: what is in use.
            only: whether it is told too what may be the only copy of something, which somebody is
                asked about.

        Raises:
            OSError: it is not there, or the list is another one.
        """
        found: Dict[str, Any] = {"files": 0, "bytes": 0, "pieces": 0}
        last: List[List[Any]] = []
        lone = Lone()
        with self._at.opened(self._sha256) as at, self._at.listing(at, self._sha256) as listing:
            mounted = self._mounted(at)
            for line in listing.lines():
                held = held_piece(at.held, line.number, line.piece)
                if held is None:
                    continue
                why = self._why_kept(held, mounted, used)
                if why:
                    self._keep(line, why)
                    continue
                gone = self._not_staying(at, line, held)
                if gone:
                    self.last.add(line.number)
                    last.append([line.number, gone[0]])
                self._count(at, line, held, found, used)
                if only and not self._root:
                    lone.look_in(at.held, held.name, line.piece.place)
                yield from self._tell(found)
        alone = lone.said()
        yield {
            "ended": {
                **found,
                "left": self.left,
                "named": self.named,
                "last": last[:_MOST_NAMED],
                "more_last": max(0, len(last) - _MOST_NAMED),
                "only": alone["found"][:_MOST_NAMED],
                "more_only": max(0, len(alone["found"]) - _MOST_NAMED),
                "whole": alone["whole"] and not alone["unread"],
            }
        }

    def _mounted(self, at: Open) -> Set[str]:
        """Names in the folder of what is held at or below which something is mounted."""
        place = os.readlink("/proc/self/fd/%d" % at.held)
        return {
            found[len(place) :].strip("/").partition("/")[0]
            for found in mounts_below(mount_table(), place)
        }

    def _why_kept(self, held: HeldPiece, mounted: Collection[str], used: Used) -> str:
        """Why a piece is not deleted as it is now; empty where it may be."""
        if held.name in mounted or "" in mounted:
            return MOUNTED
        if not held.is_it:
            return OTHER
        return IN_USE if (held.about.st_dev, held.about.st_ino) in used else ""

    def _not_staying(self, at: Open, line: Line, held: HeldPiece) -> List[str]:
        """Files of a piece of which there is no other copy any more, though one was to stay."""
        gone, stays = [], []
        for file, others in line.copies:
            below = file[len(line.piece.place) :]
            place = "/proc/self/fd/%d/%s%s" % (at.held, held.name, below)
            if not os.path.lexists(place):
                continue
            apart = {o: _mark(self._here(o)) for o in others if not self._is_held(o)}
            other = staying(place, list(apart), self._here)
            if other and _mark(self._here(other)) == apart[other]:
                stays.append((other, apart[other]))
            else:
                gone.append(file)
        if stays:
            self._stays[line.number] = stays
        return gone

    def _is_held(self, place: str) -> bool:
        """Whether this leads to something that is set aside itself."""
        return (os.path.realpath(self._here(place)) + "/").startswith(self._own + "/")

    def _count(
        self, at: Open, line: Line, held: HeldPiece, found: Dict[str, Any], used: Used
    ) -> None:
        """What a piece holds now."""
        found["pieces"] += 1
        if not stat.S_ISDIR(held.about.st_mode):
            found["files"] += 1
            found["bytes"] += self._freed(held.about)
            return
        way = Pass("/proc/self/fd/%d/%s" % (at.held, held.name), line.piece.place, "")
        for place, _, _, about in way.files():
            found["files"] += 1
            found["bytes"] += self._freed(about)
            if (about.st_dev, about.st_ino) in used:
                self._name(place, IN_USE, 1)
        found["bytes"] += way.blocks * BLOCK

    def _freed(self, about: os.stat_result) -> int:
        """What becomes free with it: a file of several names counts with the last of them."""
        if about.st_nlink > 1:
            key = about.st_dev, about.st_ino
            self._links[key] = self._links.get(key, about.st_nlink) - 1
            if self._links[key]:
                return 0
        return about.st_blocks * BLOCK

    # -- deleting ----------------------------------------------------------------------------------

    def empty(self, used: Used, agreed: Collection[int]) -> Iterator[Dict[str, Any]]:
        """All of it is looked at again, then what may go is deleted; progress, and last
        {"ended": ...}: what is gone, what stays and why.

        Args:
            used: what is in use.
            agreed: numbers of pieces that go though no other copy of them is left.

        Raises:
            OSError: nothing was deleted.
        """
        note = self._at.noted(self._sha256)
        if note.get("phase") == "emptying" and not self._at.holds(self._sha256):
            self._at.drop(self._sha256)
            yield {"ended": {"files": 0, "bytes": 0, "left": {}, "named": [], "held": 0}}
            return
        for _ in self.look(used, only=False):
            yield {"files": 0, "bytes": 0}
        self.left, self.named = {}, []
        self.last -= set(agreed)
        self._at.say({**note, "sha256": self._sha256, "phase": "emptying"})
        counts = Deleting(used)
        held = size = 0
        with self._at.opened(self._sha256) as at, self._at.listing(at, self._sha256) as listing:
            mounted = self._mounted(at)
            for line in listing.lines():
                if not self._gone(at, line, mounted, used, counts):
                    held += line.piece.files
                    size += line.piece.bytes
                yield from self._tell({"files": counts.files, "bytes": counts.bytes})
        if self._at.holds(self._sha256):
            left = {**note, "files": held, "bytes": size, "left": self.left, "phase": "emptying"}
            self._at.say({**left, "sha256": self._sha256})
        else:
            self._at.drop(self._sha256)
        ended = {"files": counts.files, "bytes": counts.bytes, "held": held}
        yield {"ended": {**ended, "left": self.left, "named": self.named}}

    def _gone(
        self,
        at: Open,
        line: Line,
        mounted: Collection[str],
        used: Used,
        counts: Deleting,
    ) -> bool:
        """One piece is deleted; whether nothing of it is held."""
        held = held_piece(at.held, line.number, line.piece)
        if held is None:
            return True
        why = self._why_kept(held, mounted, used)
        if not why and (line.number in self.last or self._changed_since(line.number)):
            why = LAST
        if why:
            self._keep(line, why)
            return False
        return self._deleted(at, line, held, counts)

    def _deleted(self, at: Open, line: Line, held: HeldPiece, counts: Deleting) -> bool:
        name, before = held.name, counts.files
        is_folder = stat.S_ISDIR(held.about.st_mode)
        if is_folder and not name.endswith(BEGUN):
            # The file system itself records which folder may not be whole any more.
            name += BEGUN
            try:
                os.rename(held.name, name, src_dir_fd=at.held, dst_dir_fd=at.held)
            except OSError as error:
                if error.errno not in NO_ROOM:
                    raise
                name = held.name  # the note says of all of it that it is being emptied

        def stays(below: str, why: str) -> None:
            self._name(line.piece.place + below, why, 1)

        gone = counts.delete(at.held, name, stays, held.about)
        if not gone and is_folder and counts.files == before and name != held.name:
            os.rename(name, held.name, src_dir_fd=at.held, dst_dir_fd=at.held)
        return gone

    def _changed_since(self, number: int) -> bool:
        """Whether a copy that was to stay is not as it was when it was compared."""
        return any(_mark(self._here(place)) != mark for place, mark in self._stays.get(number, ()))

    # -- words -------------------------------------------------------------------------------------

    def _keep(self, line: Line, why: str) -> None:
        self._name(line.piece.place, why, line.piece.files)

    def _name(self, place: str, why: str, files: int) -> None:
        self.left[why] = self.left.get(why, 0) + files
        if len(self.named) < _MOST_NAMED:
            self.named.append([place, why])

    def _tell(self, said: Dict[str, Any]) -> Iterator[Dict[str, Any]]:
        if time.monotonic() - self._told > _TELL_S:
            self._told = time.monotonic()
            yield {name: said[name] for name in ("files", "bytes")}


def _mark(place: str) -> Mark:
    """By what a file is told from what it was."""
    try:
        about = os.stat(place, follow_symlinks=False)
    except OSError:
        return (0, 0, 0, 0, 0)
    times = about.st_mtime_ns, about.st_ctime_ns
    return (about.st_dev, about.st_ino, about.st_size, *times)
