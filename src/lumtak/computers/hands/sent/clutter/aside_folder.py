"""The folder in which it stands what one user set aside: a note and a list of each, and what is
held under it.

Sent with the hand: the standard library only, in the language of Python 3.8.
"""

from __future__ import annotations

import contextlib
import json
import os
from typing import Any, Dict, Iterator, List, NamedTuple, Optional

from lumtak.computers.hands.sent.clutter.aside_list import (
    ENDED,
    Listing,
    note_in,
    note_name,
    tag_of,
)
from lumtak.computers.hands.sent.clutter.aside_words import is_same
from lumtak.computers.hands.sent.clutter.rules import Piece
from lumtak.computers.hands.sent.files.atomic import forget, put_or_rewrite, temporary_name
from lumtak.computers.hands.sent.files.kernel import FOLDER
from lumtak.computers.hands.sent.files.places import RefusalError

BASE, HELD, LIST, WAIT, BACK = "aside", "held", "list", "wait", "back"
_ROOM_IN_NOTE = 1024
BEGUN = "~"
"""Ends the name of a folder of which a part may be deleted already."""


class Open(NamedTuple):
    """Descriptors of the folder of a list, and of what is held under it."""

    folder: int
    held: int


class AsideFolder:
    """Where one user keeps what was set aside.

    Args:
        notes: the folder that holds it; a descriptor, which stays the caller's.
        root: whether it is the system's.
    """

    def __init__(self, notes: int, root: bool) -> None:
        self.notes, self.root = notes, root

    @contextlib.contextmanager
    def opened(self, sha256: str, make: bool = False) -> Iterator[Open]:
        """The folders of a list; they are made where that is asked for."""
        open_now: List[int] = []
        try:
            above = self.notes
            for name in (BASE, tag_of(sha256), HELD):
                if make:
                    with contextlib.suppress(FileExistsError):
                        os.mkdir(name, 0o700, dir_fd=above)
                above = os.open(name, FOLDER, dir_fd=above)
                open_now.append(above)
                about = os.fstat(above)
                if about.st_uid != os.geteuid() or about.st_mode & 0o077:
                    raise RefusalError("others can look into the folder of what is set aside")
            yield Open(open_now[1], open_now[2])
        finally:
            for descriptor in open_now:
                os.close(descriptor)

    def listing(self, at: Open, sha256: str) -> Listing:
        """The list whose checksum is the one that is recorded elsewhere.

        Raises:
            OSError: it is not there, or another one.
        """
        flags = os.O_RDONLY | os.O_NOFOLLOW | os.O_CLOEXEC
        return Listing(os.open(LIST, flags, dir_fd=at.folder), sha256)

    def say(self, note: Dict[str, Any]) -> None:
        """The note is on the disk, also where no room is left: it is written over then."""
        data = json.dumps(note, sort_keys=True).encode().ljust(_ROOM_IN_NOTE)
        put_or_rewrite(self.notes, note_name(note["sha256"]), data, 0o644 if self.root else 0o600)

    def noted(self, sha256: str) -> Dict[str, Any]:
        """See `aside_list.note_in`."""
        return note_in(self.notes, sha256)

    def holds(self, sha256: str) -> bool:
        """Whether anything is held under a list."""
        return any(self._entries("%s/%s/%s" % (BASE, tag_of(sha256), HELD)))

    def has_list(self, sha256: str) -> bool:
        """Whether a list stands there; it is the first to go when all has gone."""
        return LIST in self._entries("%s/%s" % (BASE, tag_of(sha256)))

    def _entries(self, place: str) -> Iterator[str]:
        try:
            descriptor = os.open(place, FOLDER, dir_fd=self.notes)
        except OSError:
            return
        try:
            with os.scandir(descriptor) as entries:
                for entry in entries:
                    yield entry.name
        finally:
            os.close(descriptor)

    def drop(self, sha256: str) -> None:
        """The list, its folder and its note are gone; the note last, which says that it was
        there.
        """
        folder = "%s/%s" % (BASE, tag_of(sha256))
        for name in (LIST, ENDED, WAIT, BACK):
            for one in (name, temporary_name(name)):
                forget("%s/%s" % (folder, one), self.notes)
        for name in (folder + "/" + HELD, folder):
            with contextlib.suppress(OSError):  # somebody may have put something there
                os.rmdir(name, dir_fd=self.notes)
        with contextlib.suppress(OSError):
            os.rmdir(BASE, dir_fd=self.notes)
        forget(temporary_name(note_name(sha256)), self.notes)
        forget(note_name(sha256), self.notes)
        os.fsync(self.notes)


class HeldPiece(NamedTuple):
    """What stands where a piece is held."""

    name: str
    about: os.stat_result
    is_it: bool
    """Whether it is what the list names."""


def held_piece(held: int, number: int, piece: Piece) -> Optional[HeldPiece]:
    """What is held as this piece; None for nothing."""
    for name in ("%d" % number, "%d%s" % (number, BEGUN)):
        with contextlib.suppress(FileNotFoundError):
            about = os.stat(name, dir_fd=held, follow_symlinks=False)
            return HeldPiece(name, about, is_same(piece, about))
    return None
