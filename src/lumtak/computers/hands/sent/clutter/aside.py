"""Clutter set aside, put back and emptied: moved on the same file system, with a list of it.

The list is on the disk before the first move, and everything is told by it: what stands in the
folder of what is held was moved, what does not was not. A move replaces nothing, follows no link,
and is looked at again before and after. docs/FORMATS.md has the form of the list; the undo script
walks it too. Sent with the hand: the standard library only, in the language of Python 3.8.
"""

from __future__ import annotations

import contextlib
import hashlib
import json
import os
import time
from typing import Any, Callable, Dict, Iterator, List, Optional, Sequence, Tuple

from lumtak.computers.hands.sent.clutter.aside_list import (
    ENDED,
    LATE,
    MOST_LIST,
    changed_at,
    ended_at,
    in_words,
    note_in,
    note_name,
    read_back,
    tag_of,
    written,
)
from lumtak.computers.hands.sent.clutter.aside_words import (
    CHANGED,
    GONE,
    MOUNTED,
    OTHER,
    TAKEN,
    THEIRS,
    as_before,
    here_as,
    is_it,
    is_same,
    why_of,
)
from lumtak.computers.hands.sent.clutter.copies import Kept, alike
from lumtak.computers.hands.sent.clutter.rules import FIRST_PERSON, Piece
from lumtak.computers.hands.sent.files.atomic import forget, put, temporary_name
from lumtak.computers.hands.sent.files.deleting import delete
from lumtak.computers.hands.sent.files.kernel import (
    FOLDER,
    folder_at,
    keep_times,
    move_new,
    only_roots,
)
from lumtak.computers.hands.sent.files.merging import merge
from lumtak.computers.hands.sent.files.mounts import mount_table, mounts_below
from lumtak.computers.hands.sent.files.places import RefusalError

BASE, HELD, LIST, BACK, _SPARE = "aside", "held", "list", "back", 1 << 20
LONE = "no other copy of it stays"


class Aside:
    """Where one user keeps what was set aside.

    Args:
        notes: the folder that holds it; a descriptor, which stays the caller's.
        root: whether nothing is moved out of or into a folder that others can change.
        here: a place on the computer as one of this process (a folder may look like a computer).
    """

    def __init__(self, notes: int, root: bool, here: Callable[[str], str]) -> None:
        self._notes, self._root, self._here = notes, root, here
        self._above: Tuple[str, int, Tuple[int, int]] = ("", -1, (0, 0))
        """The folder that was opened last, its descriptor, and its times before it was changed."""
        self.beside: Kept = {}
        """By the place of a piece that is set aside: files in it, and for each where files of the
        same content are that stay."""
        self._ended = self._since = LATE
        """When what goes back had been set aside, and when it began to go back; ns."""

    # -- setting aside -----------------------------------------------------------------------------

    def set_aside(
        self, pieces: Sequence[Piece], said: Dict[str, Any], used: Callable[[], Any]
    ) -> Dict[str, Any]:
        """Move these pieces; gives what was moved, and what was left with the reason.

        Args:
            pieces: from a look through a class.
            said: what the note is to say of them: `key`, and `clutter`, the class.
            used: looks anew for what is in use.

        Raises:
            OSError: nothing was moved.
        """
        data = written(pieces)
        sha256 = hashlib.sha256(data).hexdigest()
        self._room_for(data)
        note = {**said, "sha256": sha256, "phase": "begun", "at": int(time.time())}
        note.update(files=0, bytes=0, left={})
        # The note comes first: from here on it is known that something was begun.
        self._say(note)
        try:
            with self._held(sha256, make=True) as (folder, held):
                put(folder, LIST, data, 0o600)
                stay = self._move_all(pieces, held, note, used())
                put(folder, ENDED, b"".join(b"%d\n" % n for n in stay), 0o600)
                os.fsync(held)
        except OSError:
            if not self._holds(sha256):
                self._drop(sha256)
            raise
        if not self._holds(sha256):
            self._drop(sha256)
            raise RefusalError("nothing could be set aside: %s" % in_words(note["left"]))
        self._say({**note, "phase": "held"})
        return {"sha256": sha256, **{n: note[n] for n in ("files", "bytes", "left")}}

    def _move_all(
        self, pieces: Sequence[Piece], held: int, note: Dict[str, Any], used: Any
    ) -> List[int]:
        """Move each, counted in the note; gives the numbers of those that were left."""
        stay = []
        try:
            for number, piece in enumerate(pieces, start=1):
                why = self._move(piece, held, str(number), used)
                if why:
                    stay.append(number)
                    note["left"][why] = note["left"].get(why, 0) + piece.files
                else:
                    note["files"] += piece.files
                    note["bytes"] += piece.bytes
        finally:
            self._close()
        return stay

    def _room_for(self, data: bytes) -> None:
        found = os.fstatvfs(self._notes)
        if found.f_bavail * found.f_frsize < len(data) + _SPARE:
            raise RefusalError("there is no space for the list of what would be set aside")

    def _move(self, piece: Piece, held: int, number: str, used: Any) -> str:
        """One piece is moved; why it was not, empty where it was."""
        if not all(self._stays(file, others) for file, others in self.beside.get(piece.place, ())):
            return LONE
        try:
            descriptor = self._open_above(piece, os.fstat(held).st_dev)
        except OSError as error:
            return why_of(error)
        name = os.path.basename(piece.place)
        try:
            about = os.stat(name, dir_fd=descriptor, follow_symlinks=False)
            why = self._why_left(piece, about, used)
            if why:
                return why
            move_new(descriptor, name, held, number)
        except OSError as error:
            return why_of(error)
        moved = os.stat(number, dir_fd=held, follow_symlinks=False)
        if not is_it(piece, moved):
            # Somebody was quicker: what was moved is theirs, and goes where it came from.
            with contextlib.suppress(OSError):
                move_new(held, number, descriptor, name)
            return CHANGED
        as_before(held, number, piece, moved)
        return ""

    def _why_left(self, piece: Piece, about: os.stat_result, used: Any) -> str:
        """Why it is not moved as it is now; empty where it is."""
        if not is_it(piece, about) or about.st_mtime_ns != piece.changed_ns:
            return CHANGED
        if self._root and about.st_uid >= FIRST_PERSON:
            return THEIRS
        if (about.st_dev, about.st_ino) in used:
            return "in use"
        mounted = piece.kind == "d" and mounts_below(mount_table(), self._here(piece.place))
        return MOUNTED if mounted else ""

    def _stays(self, file: str, others: Sequence[str]) -> bool:
        """Whether the same bytes stand somewhere that stays; compared now."""
        return any(alike(self._here(file), self._here(other)) for other in others)

    # -- putting back ------------------------------------------------------------------------------

    def put_back(self, sha256: str) -> Dict[str, Any]:
        """Everything of a list stands where it stood; gives how much, and what could not go back.

        Raises:
            OSError: the list is not there, or not the one of this checksum; nothing was moved.
        """
        back, left = 0, {}  # type: int, Dict[str, int]
        note = self._noted(sha256)
        if note.get("phase") == "emptying":
            raise RefusalError("it was being emptied: what is deleted cannot be put back")
        if note.get("phase") in {"begun", "going back"} and LIST not in self._names(
            "%s/%s" % (BASE, tag_of(sha256))
        ):  # it is the first to go when all has gone back
            self._drop(sha256)
            return {"files": 0, "left": {}}
        pieces = self.listed(sha256)
        self._say({**note, "sha256": sha256, "phase": "going back"})
        with self._held(sha256) as (folder, held):
            self._ended, stay = ended_at(folder)
            # By the clock of the file system: it may be behind that of the system.
            self._since = changed_at(folder, BACK)
            if self._since == LATE:
                put(folder, BACK, b"", 0o600)
            whole = note.get("phase") == "held"
            try:
                for number, piece in enumerate(pieces, start=1):
                    why = self._return(piece, held, str(number), whole and number not in stay)
                    if why is None:
                        continue
                    if why:
                        left[why] = left.get(why, 0) + piece.files
                    else:
                        back += piece.files
            finally:
                self._close()
        if not left:
            self._drop(sha256)
        return {"files": back, "left": left}

    def _return(self, piece: Piece, held: int, number: str, must: bool) -> Optional[str]:
        """One piece goes back; why it does not, empty where it did, None where it is not held and
        need not be.
        """
        try:
            about = os.stat(number, dir_fd=held, follow_symlinks=False)
        except FileNotFoundError:
            if self._since != LATE:  # it went back before that was interrupted: its folder's times
                with contextlib.suppress(OSError):
                    self._open_above(piece, os.fstat(held).st_dev, back=True)
            return GONE if must else None
        if not is_same(piece, about):
            return OTHER
        try:
            descriptor = self._open_above(piece, about.st_dev, back=True)
            name = os.path.basename(piece.place)
            try:
                move_new(held, number, descriptor, name)
            except FileExistsError:
                return "" if merge(held, number, descriptor, name, self._root) else TAKEN
            back = os.stat(name, dir_fd=descriptor, follow_symlinks=False)
            as_before(descriptor, name, piece, back)
        except OSError as error:
            return why_of(error)
        return ""

    # -- emptying ----------------------------------------------------------------------------------

    def empty(self, sha256: str) -> Iterator[Dict[str, Any]]:
        """What is held under a list is deleted, for good; progress, and last {"ended": ...}.

        Raises:
            OSError: nothing was deleted.
        """
        note = self._noted(sha256)
        if note.get("phase") == "emptying" and not self._holds(sha256):
            self._drop(sha256)
            yield {"ended": {"files": 0, "bytes": 0}}
            return
        pieces = self.listed(sha256)
        with self._held(sha256) as (_, held):
            within = mounts_below(mount_table(), os.readlink("/proc/self/fd/%d" % held))
            if within:
                raise RefusalError("something is mounted in what is held: %s" % within[0])
        self._say({**note, "sha256": sha256, "phase": "emptying"})
        files = size = strange = 0
        with self._held(sha256) as (_, held):
            told = time.monotonic()
            for number, piece in enumerate(pieces, start=1):
                is_here = here_as(piece, held, str(number))
                strange += is_here is False
                if is_here and delete(held, str(number)):
                    files += piece.files
                    size += piece.bytes
                if time.monotonic() - told > 0.25:
                    told = time.monotonic()
                    yield {"files": files, "bytes": size}
        if strange:
            raise RefusalError("%d of it are not what was set aside: they stay" % strange)
        self._drop(sha256)
        yield {"ended": {"files": files, "bytes": size}}

    def listed(self, sha256: str) -> List[Piece]:
        """The pieces of a list, whose checksum is the one that is recorded elsewhere.

        Raises:
            OSError: it is not there, or another one.
        """
        with self._held(sha256) as (folder, _):
            descriptor = os.open(LIST, os.O_RDONLY | os.O_NOFOLLOW | os.O_CLOEXEC, dir_fd=folder)
            with os.fdopen(descriptor, "rb") as file:
                data = file.read(MOST_LIST)
        if hashlib.sha256(data).hexdigest() != sha256:
            raise RefusalError(
                "the list of what was set aside is not the one that was recorded: somebody wrote"
                " another one"
            )
        return read_back(data)

    # -- folders and notes -------------------------------------------------------------------------

    @contextlib.contextmanager
    def _held(self, sha256: str, make: bool = False) -> Iterator[Tuple[int, int]]:
        """Descriptors of the folder of a list, and of what is held under it."""
        open_now: List[int] = []
        try:
            above = self._notes
            for name in (BASE, tag_of(sha256), HELD):
                if make:
                    with contextlib.suppress(FileExistsError):
                        os.mkdir(name, 0o700, dir_fd=above)
                above = os.open(name, FOLDER, dir_fd=above)
                open_now.append(above)
                about = os.fstat(above)
                if about.st_uid != os.geteuid() or about.st_mode & 0o077:
                    raise RefusalError("others can look into the folder of what is set aside")
            yield open_now[1], open_now[2]
        finally:
            for descriptor in open_now:
                os.close(descriptor)

    def _say(self, note: Dict[str, Any]) -> None:
        data = json.dumps(note, sort_keys=True).encode()
        put(self._notes, note_name(note["sha256"]), data, 0o644 if self._root else 0o600)

    def _noted(self, sha256: str) -> Dict[str, Any]:
        return note_in(self._notes, sha256)

    def _holds(self, sha256: str) -> bool:
        """Whether anything is held under a list."""
        return bool(self._names("%s/%s/%s" % (BASE, tag_of(sha256), HELD)))

    def _names(self, place: str) -> List[str]:
        try:
            descriptor = os.open(place, FOLDER, dir_fd=self._notes)
        except OSError:
            return []
        try:
            return os.listdir(descriptor)
        finally:
            os.close(descriptor)

    def _drop(self, sha256: str) -> None:
        """The list, its folder and its note are gone; the note last, which says that it was
        there.
        """
        folder = "%s/%s" % (BASE, tag_of(sha256))
        for name in (LIST, ENDED, BACK):
            for one in (name, temporary_name(name)):
                forget("%s/%s" % (folder, one), self._notes)
        for name in (folder + "/" + HELD, folder):
            with contextlib.suppress(FileNotFoundError):
                os.rmdir(name, dir_fd=self._notes)
        with contextlib.suppress(OSError):
            os.rmdir(BASE, dir_fd=self._notes)
        forget(temporary_name(note_name(sha256)), self._notes)
        forget(note_name(sha256), self._notes)
        os.fsync(self._notes)

    def _open_above(self, piece: Piece, device: int, back: bool = False) -> int:
        """The folder that the piece stands or stood in, as it was recorded.

        Its times are kept over what is done in it: those of before the first move, where nobody
        changed it since that ended.

        Raises:
            OSError: another one is there by now.
        """
        folder = os.path.dirname(piece.place)
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
