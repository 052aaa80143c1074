"""What a hand checks of the system for its upkeep.

Sent with the hand: the standard library only, in the language of Python 3.8.
"""

from __future__ import annotations

import contextlib
import errno
import os
import posixpath
import pwd
import time
from typing import Any, Dict, Iterator, List, Sequence

from lumtak.computers.hands.sent.files.mounts import mounts_in, opened_disk
from lumtak.computers.hands.sent.files.opening import open_folder
from lumtak.computers.hands.sent.files.owned import why_not_roots
from lumtak.computers.hands.sent.files.passing import Pass
from lumtak.computers.hands.sent.files.pieces import Fragments, gather, trim
from lumtak.computers.hands.sent.files.places import RefusalError, read_most
from lumtak.computers.hands.sent.removing import Removing
from lumtak.computers.hands.sent.running.programs import printed
from lumtak.computers.hands.sent.system.integrity import Integrity
from lumtak.computers.hands.sent.system.packages import MOST_STATUS, STATUS, Packages
from lumtak.computers.hands.sent.system.rpm_files import QUERY, OfRpm
from lumtak.computers.hands.sent.system.scanning import (
    ANSWER_S,
    CONFIGURATIONS,
    SCANNERS,
    Line,
    Scan,
    account_of,
    asked,
    counted,
    place_of,
)

_ASKED_S, _TELL_S = 300.0, 0.25
_SUPERBLOCK = 1024
"""Where the superblock of an ext file system begins, and its bytes; kernel, ext4/super."""


class Checking(Removing):
    """The operations; see `hand.Hand`."""

    def integrity(self, after: str) -> Iterator[Dict[str, Any]]:
        """The system's files held against what the package database recorded; see
        `integrity.Integrity.through`.
        """
        if not self.exists(STATUS):
            said = printed([*QUERY], _ASKED_S, check=True).decode("utf-8", "surrogateescape")
            yield from OfRpm(self.link, self._place, said).through(after)
            return
        status = self.read(STATUS, MOST_STATUS).decode("utf-8", "replace")
        known = Packages(status), status

        def read(path: str) -> bytes:
            return self.read(path, MOST_STATUS)

        yield from Integrity(read, self.names, self.link, self._place, known).through(after)

    def scanner(self) -> Dict[str, str]:
        """The scanner that runs here: where it listens, and what it says of itself; "why" where
        there is none.
        """
        why = "no scanner runs"
        for place in self._scanners():
            try:
                said = asked(self._line_to(place), b"VERSION", ANSWER_S)
                return {"place": place, "version": said.decode("utf-8", "replace")[:400], "why": ""}
            except FileNotFoundError:
                continue
            except OSError as error:
                why = "the scanner at %s does not answer: %s" % (place, error.strerror or error)
        return {"place": "", "version": "", "why": why}

    def _line_to(self, place: str) -> Line:
        """The scanner at a place: root's, or of the account that its configuration names."""
        uids = {0} if not self.root else {0, os.geteuid()}
        for path in CONFIGURATIONS:
            with contextlib.suppress(OSError, KeyError):
                data = self.read(path, 1 << 18)
                if not self.root and why_not_roots(path):
                    continue
                account = account_of(data)
                uids |= {pwd.getpwnam(account).pw_uid} if account else set()
        return Line(self._place(place), frozenset(uids), strict=not self.root)

    def _scanners(self) -> List[str]:
        named = []
        for path in CONFIGURATIONS:
            with contextlib.suppress(OSError):
                place = place_of(self.read(path, 1 << 18))
                if place:
                    named.append(place)
        return [*named, *SCANNERS]

    def scan(self, top: str, after: str, place: str) -> Iterator[Dict[str, Any]]:
        """The files below a folder shown to a scanner; see `scanning.Scan.through`.

        Args:
            top: of the folder.
            after: the last file that was shown before; empty to begin.
            place: where the scanner listens, as `scanner` said.
        """
        if self.rules:
            raise RefusalError("root shows nobody's files to a scanner")
        if place not in self._scanners():
            raise RefusalError("%s is no place of a scanner" % place)
        files = size = 0
        told = time.monotonic()
        here = self._looked(top)
        for _, _, _, about in Pass(here, top, after).files():
            files, size = files + 1, size + about.st_size
            if time.monotonic() - told > _TELL_S:
                told = time.monotonic()
                yield counted(files, size)
        way = Pass(here, top, after)
        yield from Scan(self._line_to(place), way, (files, size)).through()

    def fragments(self, top: str, after: str) -> Iterator[Dict[str, Any]]:
        """In how many pieces the files below a folder lie; see `pieces.Fragments.through`."""
        if self.rules:
            raise RefusalError("root looks through nobody's files")
        way = Pass(self._looked(top), top, after)
        yield from Fragments(way).through()

    def gather(self, path: str) -> List[int]:
        """A file of the user's lies in as few pieces as there is room for; its bytes stay the same.

        Gives in how many pieces it lay before, and lies now; see `pieces.gather`.
        """
        if self.rules:
            raise RefusalError("root moves nobody's files")
        folder, name = posixpath.split(self._place(path))
        descriptor = open_folder(folder)
        try:
            return list(gather(descriptor, name))
        finally:
            os.close(descriptor)

    def owners(self, paths: Sequence[str]) -> List[Any]:
        """[user, mode, bytes, changed at] of each, links not followed; None where it is not
        there.
        """
        found: List[Any] = []
        for path in paths:
            try:
                about = os.lstat(self._looked(path) if self.root else path)
                found.append([about.st_uid, about.st_mode, about.st_size, int(about.st_mtime)])
            except OSError:
                found.append(None)
        return found

    def superblock(self, place: str) -> bytes:
        """The superblock of an ext file system, as its disk has it.

        Args:
            place: where it is mounted; which disk that is, the kernel says.
        """
        if not self.rules or not self.live:
            raise RefusalError("this hand reads no disks")
        descriptor = opened_disk(place, self._mount_table())
        try:
            os.lseek(descriptor, _SUPERBLOCK, os.SEEK_SET)
            return read_most(descriptor, _SUPERBLOCK)
        finally:
            os.close(descriptor)

    def trim(self, path: str) -> int:
        """The disk of a volume is told what is free on it; gives how many bytes.

        Args:
            path: where the volume is mounted.
        """
        if not self.rules or not self.live:
            raise RefusalError("this hand tells no disk anything")
        if path not in mounts_in(self._mount_table()):
            raise OSError(errno.EINVAL, "%s is where no volume begins" % path)
        return trim(self._settled(path) if path != "/" else path)
