"""Files of which there are several: the same content under names that are no links of each other.

By size first, then by a hash of three parts, then by a hash of the whole (BLAKE2b; RFC 7693), and
at last byte for byte, so that no hash is trusted alone. Hard links are one file, and so are files
that share their extents (FIEMAP; kernel, filesystems/fiemap). Sent with the hand: the standard
library only, in the language of Python 3.8.
"""

from __future__ import annotations

import contextlib
import hashlib
import os
import stat
import time
from typing import Any, Callable, Dict, Iterator, List, Optional, Sequence, Set, Tuple

from lumtak.computers.hands.sent.clutter.aside_list import (
    FIRST,
    line_of,
    lines_of_copies,
    numbered,
)
from lumtak.computers.hands.sent.files.diving import Dive, LostError
from lumtak.computers.hands.sent.files.extents import extents_of, own_bytes
from lumtak.computers.hands.sent.files.opening import open_file, open_folder
from lumtak.computers.hands.sent.files.spool import Spool

PART, _SMALL = 4096, 3 * 4096
_CHUNK, _TELL_S = 1 << 18, 0.25
_SIZES = 1 << 24
_SLOTS = _SIZES - 3
_MOST = 150_000
"""Files that are held at once; beyond that those of one size are parted by what is in them first,
and what is too many then is left, and that is said."""
_MOST_GROUPS, _MOST_NAMES = 5000, 400_000
Beside = Dict[str, List[str]]
"""Where files of the same content are that stay, by the place of one that goes."""
Kept = Dict[str, List[Tuple[str, List[str]]]]
"""The same, by the place of what goes with them in it."""


class File:
    """A file that shares its size with another."""

    __slots__ = ("folder", "inode", "name", "size")

    def __init__(self, size: int, inode: int, folder: str, name: str) -> None:
        self.size, self.inode, self.folder, self.name = size, inode, folder, name

    @property
    def path(self) -> str:
        """Its whole path."""
        return "%s/%s" % (self.folder.rstrip("/"), self.name)


class Copies:
    """One search.

    Args:
        least: smaller files are left alone; at least 1.
        passed: folders that are not gone into.
    """

    def __init__(self, least: int, passed: Set[str]) -> None:
        self._least, self._passed = max(1, least), passed
        self._told = time.monotonic()
        self.files = self.unread = self.changed = self.left = 0
        self.done_bytes = self.whole_bytes = 0
        self._parted: List[List[File]] = []

    def through(self, top: str) -> Iterator[Dict[str, Any]]:
        """Progress, about four times a second; the last is {"ended": ...}, groups that free most
        first.
        """
        counts = bytearray(_SIZES)
        for _, size, _, _ in self.each(top):
            _count(counts, size)
            yield from self._tell("looking")
        crowded: Set[int] = set()
        yield from self._of_sizes(top, counts, crowded)
        groups = self._parted
        if crowded:
            yield from self._crowded(top, crowded, _MOST - sum(map(len, groups)), counts)
            groups = groups + self._parted
        groups.sort(key=lambda group: -group[0].size)
        self.whole_bytes = sum(len(g) * g[0].size for g in groups)
        found: List[List[List[File]]] = []
        for group in groups:
            for same in self._same(group):
                found.append(same)
                yield from self._tell("comparing")
            yield from self._tell("comparing")
        found.sort(key=lambda same: (-(len(same) - 1) * same[0][0].size, same[0][0].path))
        yield {"ended": self._said(found)}

    def _of_sizes(self, top: str, counts: bytearray, crowded: Set[int]) -> Iterator[Dict[str, Any]]:
        """Files that share their size with others, in groups; sizes of which there are too many are
        left for later.
        """
        held = 0
        by_size: Dict[int, List[File]] = {}
        for folder, size, inode, name in self.each(top):
            if counts[size % _SLOTS] > 1 and size not in crowded:
                by_size.setdefault(size, []).append(File(size, inode, folder, name))
                held += 1
            if held > _MOST:  # the size of which there are most is gone through by itself
                most = max(by_size, key=lambda s: len(by_size[s]))
                held -= len(by_size.pop(most))
                crowded.add(most)
            yield from self._tell("looking")
        self._parted = [g for g in by_size.values() if len(g) > 1]

    def _crowded(
        self, top: str, sizes: Set[int], room: int, counts: bytearray
    ) -> Iterator[Dict[str, Any]]:
        """Files of sizes of which there are too many to be held at once, parted by the hash of
        three parts: counted first, and only those that may be alike are held.
        """
        for at in range(0, _SIZES, 1 << 16):
            counts[at : at + (1 << 16)] = bytes(1 << 16)
        before = self.changed
        for _, key in self._parts_of(top, sizes):
            _count(counts, key)
            yield from self._tell("looking at parts")
        self.changed, held = before, 0  # they are met again
        by_parts: Dict[Tuple[int, int], List[File]] = {}
        for file, key in self._parts_of(top, sizes):
            if counts[key % _SLOTS] > 1:
                if held < room:
                    by_parts.setdefault((file.size, key), []).append(file)
                    held += 1
                else:
                    self.left += 1
            yield from self._tell("looking at parts")
        self._parted = [g for g in by_parts.values() if len(g) > 1]

    def _parts_of(self, top: str, sizes: Set[int]) -> Iterator[Tuple[File, int]]:
        for folder, size, inode, name in self.each(top):
            if size in sizes:
                file = File(size, inode, folder, name)
                made = self._hash(file, whole=size <= _SMALL)
                if made is not None:
                    yield file, int.from_bytes(made[:8], "big")

    def _tell(self, what: str) -> Iterator[Dict[str, Any]]:
        if time.monotonic() - self._told > _TELL_S:
            self._told = time.monotonic()
            done = {"what": what, "files": self.files}
            yield {**done, "bytes": self.done_bytes, "whole": self.whole_bytes}

    # -- going through -----------------------------------------------------------------------------

    def each(self, top: str) -> Iterator[Tuple[str, int, int, str]]:
        """(folder, size, inode, name) of every ordinary file of the volume, no link followed."""
        self.files = self.unread = 0
        with Dive(open_folder(top), (top, [])) as dive:
            yield from self._files(dive)
            while True:
                path, todo = dive.here.data
                if todo:
                    name = todo.pop()
                    below = "%s/%s" % (path.rstrip("/"), name)
                    if below in self._passed:
                        continue
                    try:
                        level = dive.down(name, (below, []))
                    except OSError:
                        self.unread += 1
                        continue
                    if level is not None:
                        yield from self._files(dive)
                elif len(dive.way) > 1:
                    with contextlib.suppress(LostError):
                        dive.up()
                else:
                    return

    def _files(self, dive: Dive) -> Iterator[Tuple[str, int, int, str]]:
        path, todo = dive.here.data
        try:
            entries = os.scandir(dive.here.descriptor)
        except OSError:
            self.unread += 1
            return
        with entries:
            for entry in entries:
                if entry.is_dir(follow_symlinks=False):
                    todo.append(entry.name)
                elif entry.is_file(follow_symlinks=False):
                    with contextlib.suppress(OSError):
                        about = entry.stat(follow_symlinks=False)
                        self.files += 1
                        if about.st_size >= self._least:
                            yield path, about.st_size, about.st_ino, entry.name

    # -- comparing ---------------------------------------------------------------------------------

    def _same(self, group: List[File]) -> Iterator[List[List[File]]]:
        """Groups of the same content among files of one size: a list of names for each file."""
        by_inode: Dict[int, List[File]] = {}
        for file in group:
            by_inode.setdefault(file.inode, []).append(file)
        files = list(by_inode.values())
        if len(files) < 2:
            self.done_bytes += sum(f.size for f in group)
            return
        for quick in self._by_hash(files, whole=files[0][0].size <= _SMALL):
            if quick[0][0].size <= _SMALL:
                yield from self._by_bytes(quick)
                continue
            for whole in self._by_hash(quick, whole=True):
                yield from self._by_bytes(whole)

    def _by_hash(self, files: List[List[File]], whole: bool) -> List[List[List[File]]]:
        """Those that share a hash."""
        found: Dict[bytes, List[List[File]]] = {}
        for names in files:
            key = self._hash(names[0], whole)
            if key is not None:
                found.setdefault(key, []).append(names)
            if whole or key is None:
                self.done_bytes += names[0].size
        alone = [g for g in found.values() if len(g) == 1]
        if not whole:
            self.done_bytes += sum(g[0][0].size for g in alone)
        return [g for g in found.values() if len(g) > 1]

    def _hash(self, file: File, whole: bool) -> Optional[bytes]:
        """Of its parts or all of it; None where it changed or cannot be read."""
        descriptor = self._open(file)
        if descriptor is None:
            return None
        made = hashlib.blake2b(digest_size=20)
        try:
            if whole:
                data = os.read(descriptor, _CHUNK)
                while data:
                    made.update(data)
                    data = os.read(descriptor, _CHUNK)
            else:
                for place in (0, (file.size - PART) // 2, file.size - PART):
                    made.update(os.pread(descriptor, PART, place))
            return made.digest() if self._is_still(descriptor, file) else None
        except OSError:
            self.unread += 1
            return None
        finally:
            os.close(descriptor)

    def _open(self, file: File) -> Optional[int]:
        try:
            descriptor = open_file(file.path)
        except OSError:
            self.unread += 1
            return None
        if self._is_still(descriptor, file):
            return descriptor
        os.close(descriptor)
        return None

    def _is_still(self, descriptor: int, file: File) -> bool:
        about = os.fstat(descriptor)
        same = (about.st_ino, about.st_size) == (file.inode, file.size)
        if not same or not stat.S_ISREG(about.st_mode):
            self.changed += 1
            return False
        return True

    def _by_bytes(self, files: List[List[File]]) -> Iterator[List[List[File]]]:
        """Those whose bytes are the same, each held against the first of its group; what shares its
        extents with one that is there already is no copy.
        """
        left = files
        while len(left) > 1:
            first, others = left[0], [left[0]]
            rest: List[List[File]] = []
            for names in left[1:]:
                (others if alike(first[0].path, names[0].path) else rest).append(names)
            apart = _without_shared(others)
            if len(apart) > 1:
                yield apart
            left = rest

    def _said(self, found: List[List[List[File]]]) -> Dict[str, Any]:
        told, names = [], 0
        for same in found[:_MOST_GROUPS]:
            names += sum(map(len, same))
            if names > _MOST_NAMES:
                break
            told.append((same, _freed(same)))
        return {
            "groups": [
                {"size": same[0][0].size, "copies": _named(same), "count": len(same), **freed}
                for same, freed in told
            ],
            "more_groups": len(found) - len(told),
            "frees": sum(freed["frees"] for _, freed in told),
            "files": self.files,
            "unread": self.unread,
            "changed": self.changed,
            "left": self.left,
        }


def _named(same: List[List[File]]) -> List[List[str]]:
    return [[file.path for file in names] for names in same]


def _freed(same: List[List[File]]) -> Dict[str, Any]:
    """What would be free at least if one of them stayed: of the disk, and not of their sizes."""
    own = [own_bytes(names[0].path) for names in same]
    sizes = [size for size, _ in own]
    return {"frees": sum(sizes) - max(sizes), "sure": all(sure for _, sure in own)}


def _count(counts: bytearray, number: int) -> None:
    """Once more in its slot, as far as two."""
    place = number % _SLOTS
    counts[place] = min(2, counts[place] + 1)


def alike(one: str, other: str) -> bool:
    """Whether two files hold the same bytes now, each in an inode of its own; not where either
    cannot be read. Two ways to one file are no copies: hard links, and mounts of one folder.
    """
    try:
        with os.fdopen(open_file(one), "rb") as a, os.fdopen(open_file(other), "rb") as b:
            about = [os.fstat(file.fileno()) for file in (a, b)]
            if about[0].st_size != about[1].st_size or os.path.samestat(*about):
                return False
            while True:
                left, right = a.read(_CHUNK), b.read(_CHUNK)
                if left != right:
                    return False
                if not left:
                    return True
    except OSError:
        return False


def staying(file: str, others: Sequence[str], here: Callable[[str], str]) -> str:
    """Where the same bytes stand in another file, compared now; empty for nowhere.

    Args:
        file: that goes, as a place of this process.
        others: places on the computer.
        here: one of those as a place of this process.
    """
    return next((other for other in others if alike(file, here(other))), "")


def by_piece(places: Set[str], copies: Beside) -> Kept:
    """The copies that have to stay, by the piece that they stay for: none counts that would go with
    it.
    """
    found: Kept = {}
    for file, others in copies.items():
        here = file
        while here not in places and here.strip("/"):
            here = os.path.dirname(here)
        if here in places:
            apart = [o for o in others if not (o + "/").startswith(here + "/")]
            found.setdefault(here, []).append((file, apart))
    return found


def with_copies(gathered: Spool, kept: Beside) -> Spool:
    """The list with where the same content stays, of those pieces of which that is known."""
    if not kept:
        return gathered
    places = {line.piece.place for line in numbered(gathered.parts())}
    beside = by_piece(places, kept)
    whole = Spool("")
    whole.add(FIRST)
    for line in numbered(gathered.parts()):
        whole.add(line_of(line.piece) + lines_of_copies(beside.get(line.piece.place, ())))
    return whole


def _without_shared(files: List[List[File]]) -> List[List[File]]:
    """One of those that lie in the same place on the disk."""
    seen: Set[Tuple[Tuple[int, int], ...]] = set()
    apart = []
    for names in files:
        extents = extents_of(names[0].path)
        if extents and extents in seen:
            continue
        seen.add(extents)
        apart.append(names)
    return apart
