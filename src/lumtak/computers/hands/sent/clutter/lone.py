"""What may be the only copy of something: mail, keys, passwords, virtual disks, databases,
repositories, wallets.

Known by what a file or folder is (its first bytes, what stands beside each other in it), hardly
ever by a name alone. Sent with the hand: the standard library only, in the language of Python 3.8.
Sources: the documented forms of each; a file of an unknown form is none of them.
"""

from __future__ import annotations

import contextlib
import os
import re
import stat
import time
from typing import Any

from lumtak.computers.hands.sent.files.diving import Dive, LostError
from lumtak.computers.hands.sent.files.kernel import FOLDER, folder_at, open_inside

_HEAD, _TAIL = 4096, 512
_MOST, _MOST_S, _MOST_NAMED = 200_000, 60.0, 5000
MAIL, KEYS, PASSWORDS, DISK, DATABASE, REPOSITORY, WALLET = (
    "mail",
    "keys",
    "passwords",
    "virtual disk",
    "database",
    "repository",
    "wallet",
)
_BEGINS = (
    (b"!BDN", MAIL),
    (b"\xcf\xad\x12\xfe", MAIL),
    (b"GnomeKeyring\n\r\0\n", KEYS),
    (b"KWALLET\n\r\0\r\n", KEYS),
    (b"PuTTY-User-Key-File", KEYS),
    (b"AGE-SECRET-KEY-", KEYS),
    (b"\xfe\xed\xfe\xed\0\0\0", KEYS),
    (b"\x03\xd9\xa2\x9a", PASSWORDS),
    (b"PWS3", PASSWORDS),
    (b"QFI\xfb", DISK),
    (b"KDMV", DISK),
    (b"COWD", DISK),
    (b"# Disk DescriptorFile", DISK),
    (b"vhdxfile", DISK),
    (b"conectix", DISK),
    (b"LUKS\xba\xbe", DISK),
    (b"SQLite format 3\0", DATABASE),
    (b"** This file contains an SQLite 2.", DATABASE),
    (b"\0\1\0\0Standard Jet DB", DATABASE),
    (b"\0\1\0\0Standard ACE DB", DATABASE),
    (b"PGDMP", DATABASE),
    (b"-- MySQL dump", DATABASE),
    (b"-- MariaDB dump", DATABASE),
    (b"--\n-- PostgreSQL database", DATABASE),
    (b"\xce\x9a\x57\x13", DATABASE),
)
_INSIDE = (
    (8, b"KBXf", KEYS),
    (64, b"\x7f\x10\xda\xbe", DISK),
    (12, b"\x62\x31\x05\0", DATABASE),
    (12, b"\x61\x15\x06\0", DATABASE),
    (16, b"\xde\xc0\xef\xbe", DATABASE),
    (1080, b"\x53\xef", DISK),
    (38, b"application/vnd.oasis.opendocument.base", DATABASE),
)
"""Place, bytes there, what it is."""
_PRIVATE = re.compile(rb"-----BEGIN (?:[A-Z0-9]+ )*PRIVATE KEY(?: BLOCK)?-----")
_LETTER = re.compile(rb"From [^\n]+\n(?:[A-Za-z-]+:|>From )")
"""How a letter begins in a file of many; RFC 4155."""
_WALLET = re.compile(
    rb'"(?:wallet_type|seed_version)"\s*:|"(?:crypto|Crypto)"\s*:\s*\{[^}]*"cipher'
    rb'|"ciphertext"\s*:.*"kdf"',
    re.DOTALL,
)
_FOLDERS: tuple[tuple[set[str], str], ...] = (
    ({".git"}, REPOSITORY),
    ({"HEAD", "objects", "refs"}, REPOSITORY),
    ({".hg"}, REPOSITORY),
    ({".svn"}, REPOSITORY),
    ({".bzr"}, REPOSITORY),
    ({"_darcs"}, REPOSITORY),
    ({"CVS"}, REPOSITORY),
    ({"cur", "new", "tmp"}, MAIL),
    ({"private-keys-v1.d"}, KEYS),
    ({".gpg-id"}, PASSWORDS),
    ({"key4.db", "logins.json"}, PASSWORDS),
    ({"PG_VERSION", "base"}, DATABASE),
    ({"ibdata1"}, DATABASE),
    ({"WiredTiger"}, DATABASE),
)
"""Names that stand in a folder together, and what it is then."""
_WHOLE = {".git", ".hg", ".svn", ".bzr", "_darcs"}
"""Belong to what was found already; they are not gone into."""
_ENDS = {".p12": KEYS, ".pfx": KEYS, ".ost": MAIL, ".gnucash": DATABASE, ".kdb": PASSWORDS}


class Lone:
    """One search."""

    def __init__(self) -> None:
        self.found: list[list[str]] = []
        self._seen = self.unread = 0
        self._whole = True
        self._until = time.monotonic() + _MOST_S

    def look(self, place: str, shown: str) -> None:
        """One file, or a folder with all below it.

        Args:
            place: where it is here.
            shown: as it is told.

        Raises:
            OSError: it cannot be looked at.
        """
        above, name = os.path.split(place.rstrip("/"))
        folder = folder_at(above)
        try:
            self.look_in(folder, name, shown)
        finally:
            os.close(folder)

    def look_in(self, folder: int, name: str, shown: str) -> None:
        """The same, of what stands in an open folder under a name."""
        self._seen += 1
        if self._seen > _MOST or time.monotonic() > self._until:
            self._whole = False
            return
        about = os.stat(name, dir_fd=folder, follow_symlinks=False)
        if not stat.S_ISDIR(about.st_mode):
            self._file(folder, name, about, shown)
            return
        with Dive(open_inside(folder, name, FOLDER), (shown, [])) as dive:
            self._into(dive)
            while len(dive.way) > 1 or dive.here.data[1]:
                self._step(dive)

    def said(self) -> dict[str, Any]:
        """[what it is, where] of each, how many could not be looked at, and whether all was."""
        return {"found": self.found, "unread": self.unread, "whole": self._whole}

    def _step(self, dive: Dive) -> None:
        path, todo = dive.here.data
        if not todo:
            with contextlib.suppress(LostError):
                dive.up()
            return
        name = todo.pop()
        if self._seen > _MOST or time.monotonic() > self._until:
            self._whole = False
            del todo[:]
            return
        try:
            dive.down(name, ("%s/%s" % (path, name), []))
        except OSError:
            self.unread += 1
            return
        self._into(dive)

    def _into(self, dive: Dive) -> None:
        path, todo = dive.here.data
        names: set[str] = set()
        try:
            with os.scandir(dive.here.descriptor) as entries:
                for entry in entries:
                    self._seen += 1
                    names.add(entry.name)
                    if self._seen > _MOST:
                        self._whole = False
                        break
                    if entry.is_dir(follow_symlinks=False):
                        todo.append(entry.name)
                    elif entry.is_file(follow_symlinks=False):
                        about = entry.stat(follow_symlinks=False)
                        shown = "%s/%s" % (path, entry.name)
                        self._file(dive.here.descriptor, entry.name, about, shown)
        except OSError:
            self.unread += 1
        what = folder_is(names)
        if what:
            self._keep(what, path)
            todo[:] = [name for name in todo if name not in _WHOLE]

    def _file(self, folder: int, name: str, about: os.stat_result, shown: str) -> None:
        if not stat.S_ISREG(about.st_mode) or about.st_size < 16:
            return
        flags = os.O_RDONLY | os.O_NOFOLLOW | os.O_CLOEXEC | os.O_NONBLOCK | os.O_NOATIME
        try:
            try:
                descriptor = os.open(name, flags, dir_fd=folder)
            except PermissionError:  # only a file's owner may leave its time of access alone
                descriptor = os.open(name, flags & ~os.O_NOATIME, dir_fd=folder)
        except OSError:
            self.unread += 1
            return
        try:
            head = os.pread(descriptor, _HEAD, 0)
            tail = os.pread(descriptor, _TAIL, max(0, about.st_size - _TAIL))
            cd = os.pread(descriptor, 5, 32769) if head[510:512] == b"\x55\xaa" else b""
        except OSError:
            self.unread += 1
            return
        finally:
            os.close(descriptor)
        what = file_is(name, head, tail, about.st_size, cd)
        if what:
            self._keep(what, shown)

    def _keep(self, what: str, shown: str) -> None:
        if len(self.found) < _MOST_NAMED:
            self.found.append([what, shown])
        else:
            self._whole = False


def folder_is(names: set[str]) -> str:
    """What a folder with these names in it is; empty for nothing of these."""
    for together, what in _FOLDERS:
        if together <= names:
            return what
    return ""


def file_is(name: str, head: bytes, tail: bytes, size: int, cd: bytes = b"") -> str:
    """What a file is; empty for nothing of these.

    Args:
        name: of it.
        head: its first bytes.
        tail: its last 512.
        size: of it.
        cd: five bytes at 32769: an image of a disc says CD001 there (ECMA-119).
    """
    lower = name.lower()
    found = _by_bytes(head, tail)
    if found == DATABASE and ("wallet" in lower or b"\x04mkey" in head):
        return WALLET
    if found:
        return found
    if head[510:512] == b"\x55\xaa" and size % 512 == 0 and size >= 1 << 20 and cd != b"CD001":
        return DISK
    if _WALLET.search(head) and head.lstrip()[:1] == b"{":
        return WALLET
    ending = os.path.splitext(lower)[1]
    return _ENDS.get(ending, "")


def _by_bytes(head: bytes, tail: bytes) -> str:
    for begins, what in _BEGINS:
        if head.startswith(begins):
            return what
    for place, data, what in _INSIDE:
        if head[place : place + len(data)] == data:
            return what
    if _PRIVATE.search(head):
        return KEYS
    if _LETTER.match(head):
        return MAIL
    return DISK if tail.startswith(b"conectix") else ""


def looked_at(places: list[tuple[str, str]]) -> dict[str, Any]:
    """See `Lone.said`, of (where it is here, as it is told) each; what is gone is passed over."""
    search = Lone()
    for place, shown in places:
        try:
            search.look(place, shown)
        except FileNotFoundError:
            continue
        except OSError:
            search.unread += 1
    return search.said()
