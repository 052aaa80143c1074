"""What may be set aside of a class of clutter, in pieces: files, links, and folders of which all
that is in them may.

What is open, locked, younger than the class allows, a socket or somebody else's is left, and
counted with the reason. How old something is, its last change tells: whoever only reads all files,
as an index or a copy does, makes none of them young. Sent with the hand: the standard library only,
in the language of Python 3.8. Sources: stat(2), proc(5), XDG Trash Specification 1.0.
"""

from __future__ import annotations

import contextlib
import os
import re
import stat
import time
from typing import Any, Dict, List, NamedTuple, Optional, Set, Tuple

from lumtak.computers.hands.sent.clutter.aside_list import FIRST, line_of
from lumtak.computers.hands.sent.clutter.rules import FIRST_PERSON, Piece, Rule
from lumtak.computers.hands.sent.clutter.thrown import thrown_at
from lumtak.computers.hands.sent.files.diving import Dive, Level, LostError
from lumtak.computers.hands.sent.files.kernel import only_roots
from lumtak.computers.hands.sent.files.spool import Spool
from lumtak.computers.hands.sent.files.walking import BLOCK

_NEVER = re.compile(
    r"\.(?:X11|ICE|XIM|font|Test)-unix|systemd-private-.*|snap-private-tmp|\.X[0-9]+-lock"
    r"|(?:ssh|tmux|pulse|dbus|screens?|uscreens?)(?:-.*)?|\.?lock(?:file)?|Singleton.*|lumtak.*"
    r"|.*\.(?:lock|lck|pid|sock|socket)",
    re.DOTALL,
)
"""Names of what tells programs apart or lets them find each other; they are never clutter."""
_DAY_S = 86_400
YOUNG, USED, THEIRS, UNREAD, ELSEWHERE, SPECIAL, OPEN_TO_ALL, LINKED = (
    "too young",
    "in use",
    "somebody else's",
    "cannot be read",
    "on another volume",
    "a socket, a lock or a device",
    "others can change its folder",
    "has another name elsewhere",
)
"""Why something is left."""


class Sum(NamedTuple):
    """What was listed until somewhere."""

    at: int
    """Bytes of the list."""
    pieces: int
    bytes: int
    files: int


class Found:
    """A folder on the way."""

    __slots__ = ("before", "bytes", "files", "path", "safe", "todo", "whole")

    def __init__(self, path: str, safe: bool, before: Sum) -> None:
        self.path, self.safe, self.before = path, safe, before
        self.whole = True
        self.bytes = self.files = 0
        self.todo: List[str] = []


class Gather:
    """One look through a class.

    Args:
        rule: of the class.
        uid: whose files are in it, of a class of the user.
        device: where what is set aside stands.
        used: files in use, by device and inode.
        passed: places that belong to other classes.
        root: whether a hand of root gathers, which moves nothing out of a folder that others can
            change.
        spill: the folder on whose file system a long list stands meanwhile.
    """

    def __init__(
        self,
        rule: Rule,
        uid: int,
        device: int,
        used: Set[Tuple[int, int]],
        passed: Set[str],
        root: bool,
        spill: str = "",
    ) -> None:
        self._rule, self._uid, self._device, self._used = rule, uid, device, used
        self._passed, self._root = passed, root
        self._names = re.compile(rule.names, re.DOTALL) if rule.names else None
        self._now = time.time()
        self._cut = self._now - rule.age_days * _DAY_S
        self._links: Dict[int, int] = {}
        self.list = Spool(spill)
        """Lines of what may go; of a folder all of which may, only its own."""
        self.list.add(FIRST)
        self.sum = Sum(self.list.at, 0, 0, 0)
        """Of what may go."""
        self._last: Optional[Piece] = None
        self.bytes = self.files = 0
        """All that is in the class, what is left with it."""
        self.left: Dict[str, int] = {}
        """Files by the reason why they are left."""
        self.oldest = self._now

    # -- folders -----------------------------------------------------------------------------------

    def folder(self, descriptor: int, path: str) -> None:
        """What may go of all that is in a folder, itself left out."""
        with self._dive(descriptor, path) as dive:
            if self._rule.trash:
                self._trash(dive)
                return
            self._leave_if_open_to_all(self._through(dive))

    def one(self, descriptor: int, path: str) -> None:
        """One thing that a person named, in the folder that is open: all of it, or nothing."""
        folder, name = os.path.split(path)
        self._cut = float("inf")
        with self._dive(descriptor, folder) as dive:
            piece = self._whole(dive, name)
            if piece:
                self._add(piece)

    def _add(self, piece: Piece) -> None:
        self._last = piece
        self.list.add(line_of(piece))
        _, pieces, size, files = self.sum
        self.sum = Sum(self.list.at, pieces + 1, size + piece.bytes, files + piece.files)

    def _back_to(self, before: Sum) -> None:
        """What was listed since is not to go."""
        self.list.cut(before.at)
        self.sum = before

    def _leave_if_open_to_all(self, found: Found) -> None:
        if not found.safe and self.sum.pieces > found.before.pieces:
            self.leave(OPEN_TO_ALL, self.sum.files - found.before.files)
            self._back_to(found.before)

    def _dive(self, descriptor: int, path: str) -> Dive:
        about = os.fstat(descriptor)
        return Dive(descriptor, Found(path, self._is_safe(about), self.sum))

    def _is_safe(self, about: os.stat_result) -> bool:
        """Whether nobody can exchange what stands in this folder while it is moved."""
        return not self._root or only_roots(about)

    def _through(self, dive: Dive) -> Found:
        """All below the folder."""
        found: Found = dive.here.data
        self._into(dive.here)
        while found.todo:
            self._down(dive, found.todo.pop())
            self._rest(dive, 1)
        return found

    def _down(self, dive: Dive, name: str) -> None:
        above: Found = dive.here.data
        path = "%s/%s" % (above.path.rstrip("/"), name)
        if path in self._passed or _NEVER.fullmatch(name):
            above.whole = False
            return
        try:
            level = dive.down(name, Found(path, False, self.sum))
        except OSError:
            above.whole = False
            self.leave(UNREAD)
            return
        if level is None:
            above.whole = False
            self.leave(ELSEWHERE)
            return
        level.data.safe = above.safe and self._is_safe(level.about)
        self._into(level)

    def _up(self, dive: Dive) -> None:
        level = dive.here
        found: Found = level.data
        try:
            dive.up()
        except LostError:
            dive.here.data.whole = False
            return
        above: Found = dive.here.data
        above.bytes += found.bytes
        above.files += found.files
        piece = self._as_one(level, found, dive.here)
        if piece is None:
            above.whole = False
            self._leave_if_open_to_all(found)
        else:
            self._back_to(found.before)
            self._add(piece)

    def _as_one(self, level: Level, found: Found, above: Level) -> Optional[Piece]:
        """The folder as one piece, where all that is in it may go and nothing says that it is in
        use.
        """
        about = level.about
        if not found.whole or self._names or level.key in self._used or not self._fits(about):
            return None
        if about.st_mtime > min(self._cut, self._now) or about.st_dev != self._device:
            return None
        return _piece(found.path, "d", about, above.about, found.bytes, found.files)

    def _into(self, level: Level) -> None:
        found: Found = level.data
        size = level.about.st_blocks * BLOCK
        found.bytes += size
        self.bytes += size
        try:
            entries = os.scandir(level.descriptor)
        except OSError:
            found.whole = False
            self.leave(UNREAD)
            return
        with entries:
            for entry in entries:
                if entry.is_dir(follow_symlinks=False):
                    if self._rule.flat:
                        found.whole = False
                    else:
                        found.todo.append(entry.name)
                    continue
                try:
                    about = entry.stat(follow_symlinks=False)
                except OSError:
                    continue
                piece = self._file(found, entry.name, about, level)
                found.whole = found.whole and piece is not None
                if piece:
                    self._add(piece)

    # -- one file ----------------------------------------------------------------------------------

    def _file(
        self, found: Found, name: str, about: os.stat_result, above: Level
    ) -> Optional[Piece]:
        if self._names is not None and not self._names.fullmatch(name):
            return None
        path = "%s/%s" % (found.path.rstrip("/"), name)
        if path in self._passed:
            return None
        why = self._why_left(name, about, above)
        if why != THEIRS:
            size = self._size(about)
            found.bytes += size
            found.files += 1
            self.bytes += size
            self.files += 1
        if why:
            self.leave(why)
            return None
        self.oldest = min(self.oldest, about.st_mtime)
        kind = "l" if stat.S_ISLNK(about.st_mode) else "f"
        return _piece(path, kind, about, above.about, size, 1)

    def _why_left(self, name: str, about: os.stat_result, above: Level) -> str:
        if not self._fits(about):
            return THEIRS
        if not (stat.S_ISREG(about.st_mode) or stat.S_ISLNK(about.st_mode)):
            return SPECIAL
        if _NEVER.fullmatch(name):
            return SPECIAL
        if (about.st_dev, about.st_ino) in self._used:
            return USED
        if about.st_mtime > min(self._cut, self._now):
            return YOUNG
        if about.st_dev != self._device:
            return ELSEWHERE
        if self._root and about.st_nlink > 1 and above.about.st_mode & 0o022:
            return LINKED
        return ""

    def _fits(self, about: os.stat_result) -> bool:
        if self._rule.whose == "user":
            return about.st_uid == self._uid
        return about.st_uid < FIRST_PERSON

    def _size(self, about: os.stat_result) -> int:
        """What becomes free with it: a file of several names counts with the last of them."""
        if about.st_nlink > 1 and stat.S_ISREG(about.st_mode):
            met = self._links[about.st_ino] = self._links.get(about.st_ino, 0) + 1
            if met < about.st_nlink:
                return 0
        return about.st_blocks * BLOCK

    def leave(self, why: str, files: int = 1) -> None:
        """So many files stay, for this reason."""
        self.left[why] = self.left.get(why, 0) + files

    # -- a trash, and what a person names ----------------------------------------------------------

    def _whole(self, dive: Dive, name: str) -> Optional[Piece]:
        """One entry of the folder that is open, with all that is in it; None where a part of it has
        to stay.
        """
        above: Found = dive.here.data
        about = os.stat(name, dir_fd=dive.here.descriptor, follow_symlinks=False)
        if not stat.S_ISDIR(about.st_mode):
            return self._file(above, name, about, dive.here)
        before, depth, above.whole = self.sum, len(dive.way), True
        self._down(dive, name)
        if len(dive.way) == depth:
            return None
        self._rest(dive, depth)
        self._back_to(before)
        return self._last if above.whole else None

    def _rest(self, dive: Dive, depth: int) -> None:
        """What is left of the way down, until the folder at this depth is open again."""
        while len(dive.way) > depth:
            found: Found = dive.here.data
            if found.todo:
                self._down(dive, found.todo.pop())
            else:
                self._up(dive)

    def _trash(self, dive: Dive) -> None:
        """What was thrown away long enough ago, and the oldest of what is above the cap."""
        volume = os.fstatvfs(dive.here.descriptor)
        most = self._rule.cap_pct / 100 * volume.f_blocks * volume.f_frsize
        old, self._cut = self._cut, float("inf")
        thrown = []
        told = self._told(dive)
        if dive.down("files", Found(dive.here.data.path + "/files", True, self.sum)) is None:
            return
        for name in sorted(os.listdir(dive.here.descriptor)):
            with contextlib.suppress(OSError):
                piece = self._whole(dive, name)
                if piece and name in told:
                    thrown.append((told[name][0], piece, told[name][1]))
                elif piece:
                    self.leave(UNREAD, piece.files)
        held = self.bytes
        for at, piece, note in sorted(thrown):
            if at > min(old, self._now) and (not most or held <= most):
                self.leave(YOUNG, piece.files)
                continue
            held -= piece.bytes
            self._add(piece)
            self._add(note)

    def _told(self, dive: Dive) -> Dict[str, Tuple[float, Piece]]:
        """When each thing was thrown away, and the file that says so, by its name."""
        found: Dict[str, Tuple[float, Piece]] = {}
        try:
            level = dive.down("info", Found(dive.here.data.path + "/info", True, self.sum))
        except OSError:
            return found
        if level is None:
            return found
        for name in os.listdir(level.descriptor):
            with contextlib.suppress(OSError):
                about = os.stat(name, dir_fd=level.descriptor, follow_symlinks=False)
                if not name.endswith(".trashinfo") or not stat.S_ISREG(about.st_mode):
                    continue
                piece = self._file(level.data, name, about, level)
                if piece:
                    at = thrown_at(level.descriptor, name) or about.st_mtime
                    found[name[: -len(".trashinfo")]] = at, piece
        dive.up()
        return found


def _piece(
    path: str, kind: str, about: os.stat_result, above: os.stat_result, size: int, files: int
) -> Piece:
    return Piece(
        path,
        kind,
        about.st_ino,
        above.st_ino,
        about.st_dev,
        about.st_mtime_ns,
        above.st_mtime_ns,
        size,
        files,
    )


def sums(gathered: Gather) -> Dict[str, Any]:
    """What was found, without the pieces."""
    _, pieces, size, files = gathered.sum
    return {
        "bytes": size,
        "files": files,
        "pieces": pieces,
        "all_bytes": gathered.bytes,
        "all_files": gathered.files,
        "left": gathered.left,
        "oldest": int(gathered.oldest) if pieces else 0,
    }
