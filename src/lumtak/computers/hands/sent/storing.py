"""What a hand does about the disk: looks it through, sets clutter aside, puts it back, empties it.

Sent with the hand: the standard library only, in the language of Python 3.8.
"""

from __future__ import annotations

import contextlib
import hashlib
import os
import posixpath
from typing import Any, Dict, Iterator, List, Sequence, Set, Tuple

from lumtak.computers.hands.sent.clutter.aside import GONE, Aside
from lumtak.computers.hands.sent.clutter.aside_list import written
from lumtak.computers.hands.sent.clutter.clutter import Gather, sums
from lumtak.computers.hands.sent.clutter.clutter_data import RULES
from lumtak.computers.hands.sent.clutter.copies import Beside, Copies, by_piece
from lumtak.computers.hands.sent.clutter.lone import looked_at
from lumtak.computers.hands.sent.clutter.rules import Piece, Rule
from lumtak.computers.hands.sent.clutter.used import in_use
from lumtak.computers.hands.sent.files.atomic import shed, times_kept
from lumtak.computers.hands.sent.files.kernel import FOLDER, folder_at
from lumtak.computers.hands.sent.files.places import RefusalError
from lumtak.computers.hands.sent.files.walking import Walk, mounts_in
from lumtak.computers.hands.sent.looking import Looking
from lumtak.computers.hands.sent.states.aside_states import OWN_NOTES
from lumtak.computers.hands.sent.table import SWAP_FOLDER

BY_PATH = {name: Rule(name, "user", (), 0) for name in ("path", "chosen")}
"""What a person named, one thing or several."""
_MOST_MOUNTS = 1 << 22
_TRASHES = ("%s/.Trash/%d", "%s/.Trash-%d")


class Storing(Looking):
    """The operations of storage; see `hand.Hand`."""

    def __init__(self, root: str, rules: bool, homes: Sequence[str]) -> None:
        super().__init__(root, rules)
        self.homes = tuple(homes)
        self._planned: Dict[str, Tuple[str, Dict[str, Any], List[Piece], Beside]] = {}
        """What is to be set aside, by the checksum of its list: where, what of, the pieces, and
        copies that stay."""

    # -- looking -----------------------------------------------------------------------------------

    def survey(self, path: str, own: Sequence[str]) -> Iterator[Dict[str, Any]]:
        """A volume looked through; see `walking.Walk.through`.

        Args:
            path: of the folder from which on.
            own: homes of people that stand elsewhere than in /home.
        """
        place = self._looked(path)
        walk = Walk(list(own), set())
        yield from walk.through(os.open(place, FOLDER & ~os.O_NOFOLLOW), path)

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

    def _mounts(self) -> Set[str]:
        if self.root:
            return set()
        with open("/proc/self/mountinfo", "rb") as file:
            return mounts_in(file.read(_MOST_MOUNTS))

    def tool_holds(self, name: str) -> Dict[str, Any]:
        """[folder, bytes, files, folders that cannot be read] of each place of a class that a
        program of the system owns.
        """
        rule, found = _rule(name), []
        running = os.uname().release if self.live else ""
        for place in rule.where:
            with contextlib.suppress(OSError):
                top = folder_at(self._place(place))
                walk = Walk([], {"%s/%s" % (place, running)})
                ended: Dict[str, Any] = {}
                for part in walk.through(top, place):
                    ended = part.get("ended", ended)
                files = sum(one[1] for one in ended["parts"].values())
                found.append([place, ended["bytes"], files, ended["unread"]])
        return {"places": found}

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

    def aside_look(
        self,
        name: str,
        key: str,
        homes: Sequence[str],
        folder: str,
        paths: Sequence[str],
        copies: Sequence[Sequence[Any]],
    ) -> Dict[str, Any]:
        """What may be set aside of a class; see `clutter.sums`. The pieces are remembered under the
        checksum of their list, `sha256`, which is empty where there are none.

        Args:
            name: of the class; "path" for one thing that a person named, "chosen" for several.
            key: of the setting.
            homes: of the user, of caches, of data: $HOME, $CACHE, $DATA.
            folder: where it would be kept.
            paths: what was named; nothing for a class.
            copies: [file that goes, [files of the same content that stay]]: it goes only if one of
                those holds the same bytes just before the move.
        """
        rule = BY_PATH.get(name) or _rule(name)
        if self.rules and rule.whose != "system":
            raise RefusalError("root sets nothing aside that is a user's")
        gathered = self._gather(rule, homes, folder)
        for path in _topmost(paths):
            try:
                self._one(gathered, path, homes, folder)
            except FileNotFoundError:
                gathered.leave(GONE)
        for place in self._looked_in(rule, homes):
            with contextlib.suppress(OSError):
                real = self._real(place)
                gathered.folder(folder_at(real), real[len(self.root) :])
        gathered.pieces.sort(key=lambda piece: (posixpath.dirname(piece.place), piece.place))
        data = written(gathered.pieces)
        sha256 = hashlib.sha256(data).hexdigest() if gathered.pieces else ""
        if sha256:
            said = {"key": key, "clutter": name}
            kept = {self._shown(p): [self._shown(c) for c in held] for p, held in copies}
            self._planned = {sha256: (folder, said, gathered.pieces, kept)}
        return {**sums(gathered), "sha256": sha256}

    def _looked_in(self, rule: Rule, homes: Sequence[str]) -> List[str]:
        """Its places; for root as a user none that are everybody's: those are the system's."""
        places = _places(rule, homes)
        if rule.trash and self.live:
            # Of every volume on a disk here; XDG Trash Specification, "Trash directories".
            for top in self._volumes():
                places += [f % (top.rstrip("/"), os.geteuid()) for f in _TRASHES]
        if rule.whose == "user" and os.geteuid() == 0:
            return [p for p, said in zip(places, rule.where) if said.startswith("$")]
        return places

    def _volumes(self) -> List[str]:
        """Where volumes on disks of this computer are; none that comes over a network."""
        with open("/proc/self/mountinfo", "rb") as file:
            return sorted(mounts_in(file.read(_MOST_MOUNTS), b"/dev/"))

    def _gather(self, rule: Rule, homes: Sequence[str], folder: str) -> Gather:
        used = in_use() if self.live else set()
        passed = {p for r in RULES if r is not rule for p in _places(r, homes)}
        device = os.stat(self._nearest(folder)).st_dev
        safe = self.rules and self.live
        return Gather(rule, os.geteuid(), device, used, passed, safe)

    def _nearest(self, folder: str) -> str:
        """The nearest folder above that is there, or it."""
        place = self._place(folder)
        while not os.path.isdir(place):
            place = os.path.dirname(place)
        return place

    def _real(self, path: str) -> str:
        """Where a folder really stands: links of the user's are followed as the user."""
        if self.rules and not self.root:
            return self._settled(path)
        return self._place(path) if self.root else os.path.realpath(path)

    def _standing(self, path: str) -> str:
        """Where something that is named really stands here; links on the way to it are followed."""
        above, name = posixpath.split(path)
        return posixpath.join(self._real(above), name)

    def _shown(self, path: str) -> str:
        return self._standing(path)[len(self.root) :]

    def _one(self, gathered: Gather, path: str, homes: Sequence[str], folder: str) -> None:
        real = self._standing(path)
        shown = real[len(self.root) :]
        kept = [*homes, folder, *self.homes, "/"]
        if not posixpath.basename(path) or any((k + "/").startswith(shown + "/") for k in kept):
            raise RefusalError("%s is never set aside as a whole" % path)
        if not shown.startswith(homes[0] + "/"):
            raise RefusalError("only what stands in the user's home is set aside by its path")
        if shown.startswith(folder + "/"):
            raise RefusalError("%s is set aside already" % path)
        gathered.one(folder_at(posixpath.dirname(real)), shown)

    # -- setting aside, putting back, emptying -----------------------------------------------------

    def aside_move(self, sha256: str) -> Dict[str, Any]:
        """What `aside_look` remembered under this checksum is set aside; see `Aside.set_aside`."""
        if sha256 not in self._planned:
            raise RefusalError("what was to be set aside was not looked for by this hand")
        folder, said, pieces, copies = self._planned.pop(sha256)
        with self._notes(folder, make=True) as notes:
            aside = self._aside(notes)
            aside.beside = by_piece({piece.place for piece in pieces}, copies)
            return aside.set_aside(pieces, said, in_use if self.live else set)

    def aside_back(self, folder: str, sha256: str) -> Dict[str, Any]:
        """What was set aside under this checksum goes back; see `Aside.put_back`.

        With an empty one only a folder goes that was made and holds nothing.
        """
        if not sha256:
            with self._notes(folder):
                shed(self._place(folder))
            return {"files": 0, "left": {}}
        with self._notes(folder) as notes:
            back = self._aside(notes).put_back(sha256)
        shed(self._place(folder))
        return back

    def aside_empty(self, folder: str, sha256: str) -> Iterator[Dict[str, Any]]:
        """What was set aside under this checksum is deleted; see `Aside.empty`."""
        with self._notes(folder) as notes:
            yield from self._aside(notes).empty(sha256)
        shed(self._place(folder))

    def _aside(self, notes: int) -> Aside:
        return Aside(notes, self.rules and self.live, self._place)

    @contextlib.contextmanager
    def _notes(self, folder: str, make: bool = False) -> Iterator[int]:
        """A descriptor of the folder in which it is noted what is set aside."""
        if self.rules:
            if folder != SWAP_FOLDER:
                raise RefusalError("root keeps what is set aside in %s" % SWAP_FOLDER)
            place = self._place(folder) if self.root else self._settled(folder)
        else:
            if folder not in {home + OWN_NOTES for home in self.homes}:
                raise RefusalError("what is set aside is not kept in %s" % folder)
            place = self._place(folder)
        if make and not os.path.isdir(place):
            with times_kept(place):
                os.makedirs(place, mode=0o755 if self.rules else 0o700, exist_ok=True)
        descriptor = os.open(place, FOLDER)
        try:
            about = os.fstat(descriptor)
            if about.st_uid != os.geteuid() or about.st_mode & 0o022:
                raise RefusalError("others can write to %s, so nothing is kept there" % folder)
            yield descriptor
        finally:
            os.close(descriptor)


def _rule(name: str) -> Rule:
    for rule in RULES:
        if rule.name == name:
            return rule
    raise RefusalError("%s is no class of clutter" % name)


def _topmost(paths: Sequence[str]) -> List[str]:
    """Each once, without those below another one."""
    found: List[str] = []
    for path in sorted(set(paths), key=lambda p: p.rstrip("/") + "/"):
        if not found or not path.startswith(found[-1].rstrip("/") + "/"):
            found.append(path)
    return found


def _places(rule: Rule, homes: Sequence[str]) -> List[str]:
    """Where a class stands, of this user."""
    if len(homes) != 3 or not all(home.startswith("/") for home in homes):
        raise RefusalError("these are no folders of a user")
    named = dict(zip(("$HOME", "$CACHE", "$DATA"), homes))
    found = []
    for place in rule.where:
        first, slash, rest = place.partition("/")
        found.append(named.get(first, first) + slash + rest)
    return found
