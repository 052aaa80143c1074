"""Clutter set aside and put back: moved on the same file system, with a list of it.

The list is on the disk before the first move, and everything is told by it: what stands in the
folder of what is held was moved, what does not was not. A move replaces nothing, follows no link,
and is looked at again before and after. docs/FORMATS.md has the form of the list; the undo script
walks it too. Sent with the hand: the standard library only, in the language of Python 3.8.
"""

from __future__ import annotations

import contextlib
import os
import time
from typing import Any, Callable, Dict, Optional, Tuple

from lumtak.computers.hands.sent.clutter.aside_folder import (
    BACK,
    LIST,
    WAIT,
    AsideFolder,
    held_piece,
)
from lumtak.computers.hands.sent.clutter.aside_list import (
    ENDED,
    LATE,
    Copies,
    LeftThen,
    Listing,
    changed_at,
    in_words,
)
from lumtak.computers.hands.sent.clutter.aside_words import (
    CHANGED,
    GONE,
    LONE,
    MOUNTED,
    OTHER,
    TAKEN,
    THEIRS,
    as_before,
    is_it,
    why_of,
)
from lumtak.computers.hands.sent.clutter.copies import staying
from lumtak.computers.hands.sent.clutter.rules import FIRST_PERSON, Piece
from lumtak.computers.hands.sent.files.atomic import put, put_parts
from lumtak.computers.hands.sent.files.kernel import (
    folder_at,
    keep_times,
    move_new,
    only_roots,
)
from lumtak.computers.hands.sent.files.merging import merge
from lumtak.computers.hands.sent.files.mounts import mount_table, mounts_below
from lumtak.computers.hands.sent.files.places import RefusalError
from lumtak.computers.hands.sent.files.spool import Spool

_SPARE = 1 << 20
_ROOM = "there is no space for the list of what would be set aside"


class Aside:
    """Moves what one user sets aside.

    Args:
        notes: the folder that holds it; a descriptor, which stays the caller's.
        root: whether nothing is moved out of or into a folder that others can change.
        here: a place on the computer as one of this process (a folder may look like a computer).
    """

    def __init__(self, notes: int, root: bool, here: Callable[[str], str]) -> None:
        self._at = AsideFolder(notes, root)
        self._root, self._here = root, here
        self._above: Tuple[str, int, Tuple[int, int]] = ("", -1, (0, 0))
        """The folder that was opened last, its descriptor, and its times before it was changed."""
        self._device = 0
        """Of what is held."""
        self._ended = self._since = LATE
        """When what goes back had been set aside, and when it began to go back; ns."""

    # -- setting aside -----------------------------------------------------------------------------

    def set_aside(
        self, lines: Spool, sha256: str, said: Dict[str, Any], used: Callable[[], Any]
    ) -> Dict[str, Any]:
        """Move these pieces; gives what was moved, and what was left with the reason.

        Args:
            lines: the list, from a look through a class.
            sha256: of it.
            said: what the note is to say of them: `key`, and `clutter`, the class.
            used: looks anew for what is in use.

        Raises:
            OSError: nothing was moved.
        """
        self._room_for(lines.at)
        note = {**said, "format": 2, "sha256": sha256, "phase": "begun", "at": int(time.time())}
        note.update(files=0, bytes=0, left={})
        # The note comes first: from here on it is known that something was begun.
        self._at.say(note)
        try:
            with self._at.opened(sha256, make=True) as at:
                put_parts(at.folder, LIST, lines.parts(), 0o600)
                put(at.folder, WAIT, b"", 0o600)
                with self._at.listing(at, sha256) as listing:
                    stay = self._move_all(listing, at.held, note, used())
                put_parts(at.folder, ENDED, stay.parts(), 0o600)
                os.fsync(at.held)
        except OSError:
            if not self._at.holds(sha256):
                self._at.drop(sha256)
            raise
        if not self._at.holds(sha256):
            self._at.drop(sha256)
            raise RefusalError("nothing could be set aside: %s" % in_words(note["left"]))
        self._at.say({**note, "phase": "held"})
        return {"sha256": sha256, **{n: note[n] for n in ("files", "bytes", "left")}}

    def _move_all(self, listing: Listing, held: int, note: Dict[str, Any], used: Any) -> Spool:
        """Move each, counted in the note; gives the numbers of those that were left."""
        stay = Spool("")
        try:
            self._device = os.fstat(held).st_dev
            for number, piece, copies in listing.lines():
                why = self._move(piece, copies, held, str(number), used)
                if why:
                    stay.add(b"%d\n" % number)
                    note["left"][why] = note["left"].get(why, 0) + piece.files
                else:
                    note["files"] += piece.files
                    note["bytes"] += piece.bytes
        finally:
            self._close()
        return stay

    def _room_for(self, size: int) -> None:
        found = os.fstatvfs(self._at.notes)
        if found.f_bavail * found.f_frsize < size + _SPARE:
            raise RefusalError(_ROOM)

    def _move(self, piece: Piece, copies: Copies, held: int, number: str, used: Any) -> str:
        """One piece is moved; why it was not, empty where it was."""
        if not all(staying(self._here(file), others, self._here) for file, others in copies):
            return LONE
        folder, _, name = piece.place.rpartition("/")
        folder = folder or "/"
        device = self._device
        try:
            descriptor = self._open_above(piece, folder, device)
        except OSError as error:
            return why_of(error)
        try:
            about = os.stat(name, dir_fd=descriptor, follow_symlinks=False)
            why = self._why_left(piece, about, device, used)
            if why:
                return why
            move_new(descriptor, name, held, number)
        except OSError as error:
            return why_of(error)
        moved = os.stat(number, dir_fd=held, follow_symlinks=False)
        if not is_it(piece, moved, device):
            # Somebody was quicker: what was moved is theirs, and goes where it came from.
            with contextlib.suppress(OSError):
                move_new(held, number, descriptor, name)
            return CHANGED
        as_before(held, number, piece, moved)
        return ""

    def _why_left(self, piece: Piece, about: os.stat_result, device: int, used: Any) -> str:
        """Why it is not moved as it is now; empty where it is."""
        if not is_it(piece, about, device) or about.st_mtime_ns != piece.changed_ns:
            return CHANGED
        if self._root and about.st_uid >= FIRST_PERSON:
            return THEIRS
        if (about.st_dev, about.st_ino) in used:
            return "in use"
        mounted = piece.kind == "d" and mounts_below(mount_table(), self._here(piece.place))
        return MOUNTED if mounted else ""

    # -- putting back ------------------------------------------------------------------------------

    def put_back(self, sha256: str) -> Dict[str, Any]:
        """Everything of a list that is still held stands where it stood; gives how much, and what
        could not go back.

        Raises:
            OSError: the list is not there, or not the one of this checksum; nothing was moved.
        """
        back, left = 0, {}  # type: int, Dict[str, int]
        note = self._at.noted(sha256)
        if note.get("phase") != "held" and not self._at.has_list(sha256):
            self._at.drop(sha256)
            return {"files": 0, "left": {}}
        with self._at.opened(sha256) as at, self._at.listing(at, sha256) as listing:
            self._at.say({**note, "sha256": sha256, "phase": "going back"})
            then = LeftThen(at.folder)
            self._ended, self._since = then.at, self._going_back_since(at.folder)
            whole = note.get("phase") == "held"
            try:
                for number, piece, _ in listing.lines():
                    must = whole and not then.has(number)
                    why = self._return(piece, at.held, number, must)
                    if why is None:
                        continue
                    if why:
                        left[why] = left.get(why, 0) + piece.files
                    else:
                        back += piece.files
            finally:
                self._close()
        if not left:
            self._at.drop(sha256)
        return {"files": back, "left": left}

    @staticmethod
    def _going_back_since(folder: int) -> int:
        """When it began to go back, by the clock of the file system, which may be behind that of
        the system; late where it begins now.

        The file that says so was made when there was room, and only takes its name now.
        """
        since = changed_at(folder, BACK)
        if since == LATE:
            try:
                os.utime(WAIT, dir_fd=folder, follow_symlinks=False)
                os.rename(WAIT, BACK, src_dir_fd=folder, dst_dir_fd=folder)
            except FileNotFoundError:  # an older Lumtak set it aside
                put(folder, BACK, b"", 0o600)
        return since

    def _return(self, piece: Piece, held: int, number: int, must: bool) -> Optional[str]:
        """One piece goes back; why it does not, empty where it did, None where it is not held and
        need not be.
        """
        found = held_piece(held, number, piece)
        folder, _, name = piece.place.rpartition("/")
        folder = folder or "/"
        if found is None:
            if self._since != LATE:  # it went back before that was interrupted: its folder's times
                with contextlib.suppress(OSError):
                    self._open_above(piece, folder, os.fstat(held).st_dev, back=True)
            return GONE if must else None
        if not found.is_it:
            return OTHER
        try:
            descriptor = self._open_above(piece, folder, found.about.st_dev, back=True)
            try:
                move_new(held, found.name, descriptor, name)
            except FileExistsError:
                return "" if merge(held, found.name, descriptor, name, self._root) else TAKEN
            back = os.stat(name, dir_fd=descriptor, follow_symlinks=False)
            as_before(descriptor, name, piece, back)
        except OSError as error:
            return why_of(error)
        return ""

    # -- folders on the way ------------------------------------------------------------------------

    def _open_above(self, piece: Piece, folder: str, device: int, back: bool = False) -> int:
        """The folder that the piece stands or stood in, as it was recorded.

        Its times are kept over what is done in it: those of before the first move, where nobody
        changed it since that ended.

        Raises:
            OSError: another one is there by now.
        """
        if self._above[0] == folder and self._above[1] >= 0:
            return self._above[1]
        self._close()
        descriptor = folder_at(self._here(folder))
        about = os.fstat(descriptor)
        why = ""
        if about.st_ino != piece.folder_inode or about.st_dev != device:
            why = "its folder is another one now"
        elif self._root and not only_roots(about):
            why = "others can change its folder"
        if why:
            os.close(descriptor)
            raise RefusalError(why)
        changed = about.st_mtime_ns
        if back and (changed <= self._ended or changed >= self._since):
            changed = piece.folder_changed_ns
        self._above = folder, descriptor, (about.st_atime_ns, changed)
        return descriptor

    def _close(self) -> None:
        _, descriptor, times = self._above
        if descriptor >= 0:
            keep_times(descriptor, times)
            with contextlib.suppress(OSError):
                os.fsync(descriptor)
            os.close(descriptor)
        self._above = ("", -1, (0, 0))
