"""What a hand does about the disk: looks it through, sets clutter aside, puts it back, empties it.

Sent with the hand: the standard library only, in the language of Python 3.8.
"""

from __future__ import annotations

import contextlib
import os
import posixpath
import re
import time
from typing import Any, Dict, Iterator, List, NamedTuple, Sequence, Set, Tuple

from lumtak.computers.hands.sent.clutter.aside import Aside
from lumtak.computers.hands.sent.clutter.aside_words import DECIDED_OTHER, GONE
from lumtak.computers.hands.sent.clutter.clutter import Gather, sums
from lumtak.computers.hands.sent.clutter.clutter_data import RULES
from lumtak.computers.hands.sent.clutter.copies import with_copies
from lumtak.computers.hands.sent.clutter.emptying import Emptying
from lumtak.computers.hands.sent.clutter.marks import fits
from lumtak.computers.hands.sent.clutter.rules import OWN_NOTES, Rule
from lumtak.computers.hands.sent.clutter.used import in_use
from lumtak.computers.hands.sent.files.atomic import shed, times_kept
from lumtak.computers.hands.sent.files.kernel import folder_at
from lumtak.computers.hands.sent.files.making import make_folder
from lumtak.computers.hands.sent.files.mounts import mounts_in
from lumtak.computers.hands.sent.files.opening import open_folder
from lumtak.computers.hands.sent.files.places import RefusalError, topmost
from lumtak.computers.hands.sent.files.spool import Spool
from lumtak.computers.hands.sent.files.walking import Walk
from lumtak.computers.hands.sent.owning import Owning
from lumtak.computers.hands.sent.table import SWAP_FOLDER

BY_PATH = {name: Rule(name, "user", (), 0) for name in ("path", "chosen")}
"""What a person named, one thing or several."""
_MOST_MOUNTS = 1 << 22
_FRESH_S = 10.0
_TRASHES = ("%s/.Trash/%d", "%s/.Trash-%d")


class _Asked(NamedTuple):
    """Arguments of a look."""

    name: str
    key: str
    paths: Sequence[str]
    copies: Sequence[Sequence[Any]]
    marks: Sequence[Sequence[str]]


class _Planned(NamedTuple):
    """What a look found."""

    at: float
    folder: str
    asked: _Asked
    list: Spool
    """As it would stand on the disk."""
    pieces: str
    """The checksum of what would go, whichever copies of it were found to stay."""
    sha256: str
    """Of the list; empty where nothing may go."""


class Storing(Owning):
    """The operations of storage; see `hand.Hand`."""

    def __init__(self, root: str, rules: bool, homes: Sequence[str], own: Sequence[str]) -> None:
        super().__init__(root, rules, homes, own)
        self._planned: Dict[str, _Planned] = {}
        """What is to be set aside, by the handle that whoever looked was given."""

    # -- looking -----------------------------------------------------------------------------------

    def survey(self, path: str, own: Sequence[str]) -> Iterator[Dict[str, Any]]:
        """A volume looked through; see `walking.Walk.through`.

        Args:
            path: of the folder from which on.
            own: homes of people that stand elsewhere than in /home.
        """
        place = self._looked(path)
        walk = Walk(list(own), set())
        yield from walk.through(open_folder(place), path)

    def _mount_table(self) -> bytes:
        """What is mounted; proc(5), mountinfo."""
        return self.read("/proc/self/mountinfo", _MOST_MOUNTS)

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

    def aside_look(
        self,
        name: str,
        key: str,
        paths: Sequence[str],
        copies: Sequence[Sequence[Any]],
        marks: Sequence[Sequence[str]],
    ) -> Dict[str, Any]:
        """What may be set aside of a class; see `clutter.sums`. The pieces stay with this hand
        under a `handle`, which is empty where there are none; `sha256` is the checksum of their
        list.

        Where a class stands, and where it would be kept, this hand knows by itself.

        Args:
            name: of the class; "path" for one thing that a person named, "chosen" for several.
            key: of the setting.
            paths: what was named; nothing for a class.
            copies: [file that goes, [files of the same content that stay]]: it goes only if one of
                those holds the same bytes just before the move.
            marks: [path, mark] of what somebody decided about: it goes only as it was then.
        """
        planned, said = self._plan(_Asked(name, key, paths, copies, marks))
        handle = ""
        if planned.sha256:
            handle = os.urandom(16).hex()
            self._planned = {handle: planned}
        return {**said, "sha256": planned.sha256, "handle": handle}

    def _plan(self, asked: _Asked) -> Tuple[_Planned, Dict[str, Any]]:
        name, key, paths, copies, marks = asked
        rule = self._rule_for(name, key, named=bool(paths or copies or marks))
        then: Dict[str, str] = {one[0]: one[1] for one in marks}
        folder = self._folder_of(rule)
        gathered = self._gather(rule, folder)
        for path in topmost(paths):
            if path in then and not fits(then[path], self._standing(path)):
                gathered.leave(DECIDED_OTHER)
                continue
            try:
                self._one(gathered, path, folder)
            except FileNotFoundError:
                gathered.leave(GONE)
        for place in self._looked_in(rule):
            with contextlib.suppress(OSError):
                real = self._real(place)
                gathered.folder(folder_at(real), real[len(self.root) :])
        kept = {self._shown(p): [self._shown(c) for c in held] for p, held in copies}
        whole = with_copies(gathered.list, kept)
        sha256 = whole.sha256() if gathered.sum.pieces else ""
        at = time.monotonic()
        planned = _Planned(at, folder, asked, whole, gathered.list.sha256(), sha256)
        return planned, sums(gathered)

    def _rule_for(self, name: str, key: str, named: bool) -> Rule:
        """The class that is looked for, where this hand may look for it so.

        Args:
            name: of it.
            key: of the setting.
            named: whether places were named too.
        """
        rule = BY_PATH.get(name) or _rule(name)
        if rule.whose == "tool" or (named and rule.where):
            raise RefusalError("%s is not set aside so" % name)
        if self.rules and (rule.whose != "system" or named):
            raise RefusalError("root sets nothing aside that is a user's")
        if self.rules and re.fullmatch(re.escape(name) + r"(?:\.[0-9]{1,6})?", key) is None:
            raise RefusalError("%s is the key of another setting" % key)
        return rule

    def _folder_of(self, rule: Rule) -> str:
        """Where what is set aside of a class is kept."""
        if self.rules or rule.whose == "system":
            return SWAP_FOLDER
        return self._homes()[2] + OWN_NOTES

    def _looked_in(self, rule: Rule) -> List[str]:
        """Its places; for root as a user none that are everybody's: those are the system's."""
        places = self._places_of(rule)
        if rule.trash and self.live:
            # Of every volume on a disk here; XDG Trash Specification, "Trash directories".
            for top in self._volumes():
                places += [f % (top.rstrip("/"), os.geteuid()) for f in _TRASHES]
        if rule.whose == "user" and os.geteuid() == 0:
            return [p for p, said in zip(places, rule.where) if said.startswith("$")]
        return places

    def _volumes(self) -> List[str]:
        """Where volumes on disks of this computer are; none that comes over a network."""
        return sorted(mounts_in(self._mount_table(), b"/dev/"))

    def _places_of(self, rule: Rule) -> List[str]:
        """Where a class stands; of a class of users, of this hand's user."""
        return [self._at_home(place) for place in rule.where]

    def _at_home(self, place: str) -> str:
        first, slash, rest = place.partition("/")
        own = self._homes() if first else ()
        return dict(zip(("$HOME", "$CACHE", "$DATA"), own)).get(first, first) + slash + rest

    def _gather(self, rule: Rule, folder: str) -> Gather:
        used = self._used()
        places = {place for other in RULES if other is not rule for place in other.where}
        passed = {self._at_home(p) for p in places if self.own or not p.startswith("$")}
        device = os.stat(self._nearest(folder)).st_dev
        safe = self.rules and self.live
        return Gather(rule, os.geteuid(), device, used, passed, safe, self._nearest(folder))

    def _nearest(self, folder: str) -> str:
        """The nearest folder above that is there, or it."""
        place = self._place(folder)
        while not os.path.isdir(place):
            place = os.path.dirname(place)
        return place

    def _shown(self, path: str) -> str:
        return self._standing(path)[len(self.root) :]

    def _one(self, gathered: Gather, path: str, folder: str) -> None:
        homes = self._homes()
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

    def aside_move(self, handle: str) -> Dict[str, Any]:
        """What `aside_look` found is set aside; see `Aside.set_aside`.

        What was found longer than ten seconds ago is looked for again, and has to be the same.
        """
        if handle not in self._planned:
            raise RefusalError("what was to be set aside was not looked for by this hand")
        planned = self._planned.pop(handle)
        if time.monotonic() - planned.at > _FRESH_S:
            again, _ = self._plan(planned.asked)
            if again.pieces != planned.pieces:
                raise RefusalError("what may be set aside is not the same any more: look again")
        name, key = planned.asked.name, planned.asked.key
        with self._notes(make=True) as notes:
            said = {"key": key, "clutter": name}
            return self._aside(notes).set_aside(planned.list, planned.sha256, said, self._last_look)

    def _last_look(self) -> Set[Tuple[int, int]]:
        """What is in use; the last thing before a move, when it is noted already."""
        self._aside_begun()
        return self._used()

    def _used(self) -> Set[Tuple[int, int]]:
        """What is in use now; nothing in a folder that only looks like a computer."""
        return in_use() if self.live else set()

    def _aside_begun(self) -> None:
        """Something is about to be set aside, and noted."""

    def aside_back(self, sha256: str) -> Dict[str, Any]:
        """What was set aside under this checksum goes back; see `Aside.put_back`.

        With an empty one only a folder goes that was made and holds nothing.
        """
        folder = self._notes_folder()
        if not sha256:
            with self._notes():
                shed(self._place(folder))
            return {"files": 0, "left": {}}
        with self._notes() as notes:
            back = self._aside(notes).put_back(sha256)
        shed(self._place(folder))
        return back

    def aside_doubts(self, sha256: str) -> Iterator[Dict[str, Any]]:
        """What emptying would delete now, and what speaks against it; see `Emptying.look`."""
        with self._notes() as notes:
            yield from self._emptying(notes, sha256).look(self._used())

    def aside_empty(self, sha256: str, agreed: Sequence[int]) -> Iterator[Dict[str, Any]]:
        """What was set aside under this checksum is deleted, as far as nothing speaks against it;
        see `Emptying.empty`.

        Args:
            sha256: of the list.
            agreed: numbers of pieces that go though no other copy of them is left.
        """
        with self._notes() as notes:
            yield from self._emptying(notes, sha256).empty(self._used(), agreed)
        shed(self._place(self._notes_folder()))

    def _emptying(self, notes: int, sha256: str) -> Emptying:
        return Emptying(notes, self.rules and self.live, self._place, sha256)

    def _aside(self, notes: int) -> Aside:
        return Aside(notes, self.rules and self.live, self._place)

    @contextlib.contextmanager
    def _notes(self, make: bool = False) -> Iterator[int]:
        """A descriptor of the folder in which it is noted what is set aside."""
        folder = self._notes_folder()
        place = self._settled(folder) if self.rules and not self.root else self._place(folder)
        if make and not os.path.isdir(place):
            with times_kept(place):
                make_folder(place, 0o755 if self.rules else 0o700)
        descriptor = open_folder(place, follow=False)
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
