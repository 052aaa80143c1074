"""The whole of a volume looked through: where the disk went.

Sizes are what is allocated (`st_blocks`, units of 512 bytes; stat(2)), hard links count once, one
file system at a time, no link followed. Memory does not grow with the number of files: sums, the
largest files and folders, and the links that are still to come. Sent with the hand: the standard
library only, in the language of Python 3.8.
"""

from __future__ import annotations

import heapq
import os
import time
from bisect import bisect_right as bisect
from typing import Any, Dict, Iterable, Iterator, List, Set, Tuple

from lumtak.computers.hands.sent.files.diving import Dive, Level, LostError

BLOCK = 512
_KIND, _FOLDER = 0o170000, 0o040000
_TELL_S = 0.25
AGES_DAYS = (30, 180, 365, 1095)
"""Bounds between the classes of age, by when a file was last changed."""
_DAY_S = 86_400
_MOST_FILES, _MOST_FOLDERS, _MOST_NAMED, _MOST_HOLLOW = 1000, 3000, 20, 500
_UNSEEN = -2
_NEXT_TO_NOTHING = 2, 64 << 10
"""Files and bytes: a folder of no more is as good as empty."""
PARTS = {
    "/home": "own", "/root": "own", "/srv": "own",
    "/usr": "programs", "/opt": "programs", "/snap": "programs", "/var/lib/flatpak": "programs",
    "/var/lib/snapd": "programs", "/lost+found": "leftovers",
}  # fmt: skip
"""What a folder and all below it belongs to (Filesystem Hierarchy Standard); all else is the
system's."""


class Sums:
    """A folder on the way: what was counted in it and below."""

    __slots__ = ("bytes", "files", "hollow", "part", "path", "todo")

    def __init__(self, path: str, part: str, hollow: int = -1) -> None:
        self.path, self.part = path, part
        self.hollow = hollow
        """How many folders were known as hollow when this was gone into; below 0 where it never is
        one: a home, what is hidden, and what holds something that was not seen."""
        self.bytes = self.files = 0
        self.todo: List[str] = []


class Walk:
    """One walk.

    Args:
        own: homes of people that stand elsewhere than in /home.
        passed: folders that are not gone into.
    """

    def __init__(self, own: List[str], passed: Set[str]) -> None:
        self._passed = passed
        self._parts = {**PARTS, **dict.fromkeys(own, "own")}
        self._links: Dict[int, int] = {}
        self._files: List[Tuple[int, str, int]] = []
        self._folders: List[Tuple[int, str, int]] = []
        self._hollow: List[Tuple[int, str, int]] = []
        now = time.time()
        self._bounds = [*(now - days * _DAY_S for days in reversed(AGES_DAYS)), now]
        # Oldest first, and last what is dated in the future.
        self.ages = [[0, 0] for _ in range(len(AGES_DAYS) + 2)]
        self.parts: Dict[str, List[int]] = {}
        self.inodes = self.bytes = self.vanished = self.unread = 0
        self.unread_named: List[str] = []
        self.elsewhere: List[str] = []

    def through(self, descriptor: int, top: str) -> Iterator[Dict[str, Any]]:
        """Progress, about four times a second; the last is {"ended": everything that was found}."""
        part = self._part_of(top, "system")
        with Dive(descriptor, Sums(top, part)) as dive:
            self._into(dive.here)
            told = time.monotonic()
            while dive.way:
                self._step(dive)
                if time.monotonic() - told > _TELL_S:
                    told = time.monotonic()
                    at = dive.here.data.path if dive.way else top
                    yield {"inodes": self.inodes, "bytes": self.bytes, "at": at}
        yield {"ended": self._found()}

    def _part_of(self, path: str, above: str) -> str:
        return self._parts.get(path, above)

    def _step(self, dive: Dive) -> None:
        """Into the next folder below, or up where there is none left."""
        sums = dive.here.data
        if not sums.todo:
            self._leave(dive)
            return
        name = sums.todo.pop()
        path = "%s/%s" % (sums.path.rstrip("/"), name)
        if path in self._passed:
            sums.hollow = _UNSEEN
            return
        try:
            level = dive.down(name, self._sums(path, name, sums))
        except FileNotFoundError:
            self.vanished += 1
            return
        except OSError:
            self._not_read(dive.here, name, path)
            return
        if level is None:
            self._note(self.elsewhere, path)
            sums.hollow = _UNSEEN
        else:
            self._into(level)

    def _sums(self, path: str, name: str, above: Sums) -> Sums:
        part = self._part_of(path, above.part)
        # Below a home only: the folders of /home and those that programs hide are no clutter.
        mine = above.part == part == "own" and path not in self._parts and path.count("/") > 2
        if not mine or name.startswith(".") or "/." in path:
            return Sums(path, part)
        return Sums(path, part, len(self._hollow))

    def _keep_hollow(self, sums: Sums) -> None:
        """In place of those below it, where it is one itself."""
        files, size = _NEXT_TO_NOTHING
        kept = len(self._hollow)
        if 0 <= sums.hollow <= kept and sums.files <= files and sums.bytes <= size:
            del self._hollow[sums.hollow :]
            if len(self._hollow) < _MOST_HOLLOW:
                self._hollow.append((sums.bytes, sums.path, sums.files))

    def _not_read(self, level: Level, name: str, path: str) -> None:
        """It counts itself all the same."""
        level.data.hollow = _UNSEEN
        self.unread += 1
        self._note(self.unread_named, path)
        try:
            about = os.stat(name, dir_fd=level.descriptor, follow_symlinks=False)
        except OSError:
            self.vanished += 1
            return
        self.inodes += 1
        self._add(level.data, about.st_blocks * BLOCK, 0)

    @staticmethod
    def _note(names: List[str], path: str) -> None:
        if len(names) < _MOST_NAMED:
            names.append(path)

    def _add(self, sums: Sums, size: int, files: int) -> None:
        sums.bytes += size
        sums.files += files
        self.bytes += size
        part = self.parts.setdefault(sums.part, [0, 0])
        part[0] += size
        part[1] += files

    def _leave(self, dive: Dive) -> None:
        sums = dive.here.data
        if len(self._folders) < _MOST_FOLDERS:
            heapq.heappush(self._folders, (sums.bytes, sums.path, sums.files))
        elif sums.bytes > self._folders[0][0]:
            heapq.heapreplace(self._folders, (sums.bytes, sums.path, sums.files))
        above = dive.way[-2].data if len(dive.way) > 1 else None
        try:
            dive.up()
        except LostError:
            self.unread += 1
            self._note(self.unread_named, sums.path)
            above = dive.here.data
        if above is not None:
            above.bytes += sums.bytes
            above.files += sums.files
            above.hollow = _UNSEEN if sums.hollow == _UNSEEN else above.hollow
        self._keep_hollow(sums)

    def _into(self, level: Level) -> None:
        """Everything in a folder but its folders, which are kept for later."""
        sums = level.data
        count = total = 0
        try:
            with os.scandir(level.descriptor) as entries:
                count, total = self._files_of(entries, sums)
        except OSError:
            self.unread += 1
            self._note(self.unread_named, sums.path)
            sums.hollow = _UNSEEN
        self.inodes += count + 1
        self._add(sums, total + level.about.st_blocks * BLOCK, count)

    def _files_of(self, entries: Iterable[os.DirEntry[str]], sums: Sums) -> Tuple[int, int]:
        """(files, bytes) of a folder; what is asked a million times is at hand by a short name."""
        links, ages, todo, bounds = self._links, self.ages, sums.todo, self._bounds
        count = total = 0
        least = self._files[0][0] if len(self._files) >= _MOST_FILES else 0
        for entry in entries:
            # The kind stands in the folder itself: its folders are asked once, when opened.
            if entry.is_dir(follow_symlinks=False):
                todo.append(entry.name)
                continue
            try:
                about = entry.stat(follow_symlinks=False)
            except OSError:
                self.vanished += 1
                continue
            if about[3] > 1 and not self._first(links, about):  # links
                continue
            size = about.st_blocks * BLOCK
            count += 1
            total += size
            changed = about[8]  # the time of the last change, whole seconds
            age = ages[bisect(bounds, changed)]
            age[0] += size
            age[1] += 1
            if size > least:
                path = "%s/%s" % (sums.path.rstrip("/"), entry.name)
                least = self._keep(size, path, int(changed))
        return count, total

    @staticmethod
    def _first(links: Dict[int, int], about: os.stat_result) -> bool:
        """Whether no other name of this file was met; forgotten again when all were."""
        left = links.get(about.st_ino)
        if left is None:
            links[about.st_ino] = about.st_nlink - 1
            return True
        if left <= 1:
            del links[about.st_ino]
        else:
            links[about.st_ino] = left - 1
        return False

    def _keep(self, size: int, path: str, changed: int) -> int:
        """One of the largest files; gives the size that the next has to be above."""
        if len(self._files) < _MOST_FILES:
            heapq.heappush(self._files, (size, path, changed))
            return 0
        heapq.heapreplace(self._files, (size, path, changed))
        return self._files[0][0]

    def _found(self) -> Dict[str, Any]:
        return {
            "bytes": self.bytes,
            "inodes": self.inodes,
            "parts": self.parts,
            "ages": self.ages,
            "largest": [list(file) for file in sorted(self._files, reverse=True)],
            "folders": [list(folder) for folder in sorted(self._folders, reverse=True)],
            "hollow": [list(folder) for folder in self._hollow],
            "unread": self.unread,
            "unread_named": self.unread_named,
            "elsewhere": self.elsewhere,
            "vanished": self.vanished,
        }
