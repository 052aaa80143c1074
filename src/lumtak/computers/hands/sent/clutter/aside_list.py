"""The list of what is set aside: a line a piece, so that Lumtak and a shell read it alike.

It is written and read a part at a time, however long it is. docs/FORMATS.md has its form. Sent with
the hand: the standard library only, in the language of Python 3.8.
"""

from __future__ import annotations

import hashlib
import json
import os
import re
from typing import Any, Dict, Iterable, Iterator, List, NamedTuple, Sequence, Tuple

from lumtak.computers.hands.sent.clutter.rules import Piece
from lumtak.computers.hands.sent.files.places import RefusalError

FIRST = b"# Set aside by Lumtak; docs/FORMATS.md of Lumtak has the form of this list.\n"
_PLAIN = re.compile(rb"[^A-Za-z0-9._/+,@%=:~-]")
_OCTAL = re.compile(rb"\\0([0-7]{3})")
_LINE = re.compile(
    rb"([fdl]) (\d{1,20}) (\d{1,20}) (\d{1,12}\.\d{9}) (\d{1,12}\.\d{9}) (\d{1,20}) (\d{1,20})"
    rb" (/[^ \n]*)"
)
_COPY = re.compile(rb"([cs]) (/[^ \n]*)")
_WHOLE = re.compile(rb"(?:/(?!\.{1,2}(?:/|\Z))[^/\0]+)+", re.DOTALL)
"""A whole path as it is after `os.path.normpath`."""
_NS = 1_000_000_000
_SHA256 = re.compile(r"[0-9a-f]{64}")
ENDED = "ended"
"""Stands beside a list once setting aside has ended, and holds the numbers of what was left."""
LATE = 1 << 62
_PART, _LONGEST = 1 << 20, 1 << 18
_READ = os.O_RDONLY | os.O_NOFOLLOW | os.O_CLOEXEC
Copies = List[Tuple[str, List[str]]]
"""(a file that goes, where the same content stays) of a piece."""


def tag_of(sha256: str) -> str:
    """What folder and note of a list are called.

    Raises:
        RefusalError: it is no checksum.
    """
    if _SHA256.fullmatch(sha256) is None:
        raise RefusalError("%s is the checksum of no list" % sha256[:80])
    return sha256[:16]


def note_name(sha256: str) -> str:
    """The file that says, without the list, what is held and whether that is all of it."""
    return "aside-%s.json" % tag_of(sha256)


def note_in(folder: int, sha256: str) -> Dict[str, Any]:
    """The note of a list; nothing where there is none that can be read."""
    try:
        descriptor = os.open(note_name(sha256), _READ, dir_fd=folder)
        with os.fdopen(descriptor, "rb") as file:
            note = json.loads(file.read(1 << 16))
    except (OSError, ValueError, RecursionError):
        note = {}
    return note if isinstance(note, dict) else {}


# -- writing ---------------------------------------------------------------------------------------


def line_of(piece: Piece) -> bytes:
    """The line of a piece."""
    return b"%s %d %d %s %s %d %d %s\n" % (
        piece.kind.encode(),
        piece.inode,
        piece.folder_inode,
        _seconds(piece.changed_ns),
        _seconds(piece.folder_changed_ns),
        piece.bytes,
        piece.files,
        _escaped(piece.place),
    )


def lines_of_copies(copies: Iterable[Tuple[str, Sequence[str]]]) -> bytes:
    """The lines after that of a piece: a file that goes, and where the same content stays."""
    return b"".join(
        b"".join((b"c %s\n" % _escaped(file), *(b"s %s\n" % _escaped(one) for one in others)))
        for file, others in copies
    )


def _escaped(place: str) -> bytes:
    """So that no shell trips over it."""
    return _PLAIN.sub(lambda m: b"\\0%03o" % m[0][0], os.fsencode(place))


def _seconds(ns: int) -> bytes:
    return b"%d.%09d" % divmod(max(ns, 0), _NS)


# -- reading ---------------------------------------------------------------------------------------


class Line(NamedTuple):
    """A piece of a list, by its number from 1."""

    number: int
    piece: Piece
    copies: Copies


class Listing:
    """A list on the disk, whose checksum is the one that is recorded elsewhere.

    What is read is held against what was checked, so that nobody exchanges it in between.

    Args:
        descriptor: of the list; it is closed with this.
        sha256: that is recorded.

    Raises:
        RefusalError: it is another one.
    """

    def __init__(self, descriptor: int, sha256: str) -> None:
        self._descriptor = descriptor
        self._parts: List[bytes] = []
        whole = hashlib.sha256()
        while True:
            data = os.pread(descriptor, _PART, len(self._parts) * _PART)
            if not data:
                break
            whole.update(data)
            self._parts.append(hashlib.sha256(data).digest())
        if whole.hexdigest() != sha256:
            os.close(descriptor)
            raise _another()

    def lines(self) -> Iterator[Line]:
        """Every piece with its number.

        Raises:
            RefusalError: a line of it cannot be read, or it was written anew meanwhile.
        """
        return numbered(self._read())

    def _read(self) -> Iterator[bytes]:
        for number, digest in enumerate(self._parts):
            data = os.pread(self._descriptor, _PART, number * _PART)
            if hashlib.sha256(data).digest() != digest:
                raise _another()
            yield data

    def __enter__(self) -> Listing:
        return self

    def __exit__(self, *_: object) -> None:
        os.close(self._descriptor)


def _another() -> RefusalError:
    return RefusalError(
        "the list of what was set aside is not the one that was recorded: somebody wrote another"
        " one"
    )


def numbered(parts: Iterable[bytes]) -> Iterator[Line]:
    """The pieces of a list, from its parts.

    Raises:
        RefusalError: it is none.
    """
    number, piece, copies = 0, None, []  # type: int, Any, Copies
    lines = _split(parts)
    if next(lines, b"") + b"\n" != FIRST:
        raise RefusalError("this is no list of what was set aside")
    for line in lines:
        said = _COPY.fullmatch(line)
        if said is not None and piece is not None and (copies or said[1] == b"c"):
            place = _place(said[2])
            if said[1] == b"c":
                copies.append((place, []))
            else:
                copies[-1][1].append(place)
            continue
        if piece is not None:
            yield Line(number, piece, copies)
        number, piece, copies = number + 1, _piece(line), []
    if piece is not None:
        yield Line(number, piece, copies)


def _split(parts: Iterable[bytes]) -> Iterator[bytes]:
    rest = b""
    for part in parts:
        *whole, rest = (rest + part).split(b"\n")
        if len(rest) > _LONGEST:
            raise RefusalError("a line of the list is too long")
        yield from whole
    if rest:
        raise RefusalError("this is no list of what was set aside")


def _piece(line: bytes) -> Piece:
    said = _LINE.fullmatch(line)
    if said is None:
        raise RefusalError("a line of the list cannot be read")
    kind, inode, above, changed, folder_changed, size, files, place = said.groups()
    times = [int(t.replace(b".", b"")) for t in (changed, folder_changed)]
    numbers = int(inode), int(above), 0, times[0], times[1], int(size), int(files)
    return Piece(_place(place), kind.decode(), *numbers)


def _place(escaped: bytes) -> str:
    if b"\\" in escaped:
        escaped = _OCTAL.sub(lambda m: bytes([int(m[1], 8) & 0xFF]), escaped)
    if _WHOLE.fullmatch(escaped) is None:
        raise RefusalError("a place of the list is none")
    return os.fsdecode(escaped)


# -- beside it -------------------------------------------------------------------------------------


def in_words(left: Dict[str, int]) -> str:
    """What was left, with the reasons."""
    return "; ".join("%d: %s" % (count, why) for why, count in sorted(left.items())) or "nothing"


def changed_at(folder: int, name: str) -> int:
    """When a file of a folder was last changed, ns since the epoch; late where it is not there."""
    try:
        return os.stat(name, dir_fd=folder, follow_symlinks=False).st_mtime_ns
    except OSError:
        return LATE


class LeftThen:
    """What was left when it was set aside, asked in the order of the numbers.

    Args:
        folder: of the list.
    """

    def __init__(self, folder: int) -> None:
        self.at = changed_at(folder, ENDED)
        """When setting aside had ended, ns since the epoch; late where it was interrupted:
        whatever changed its folders since was Lumtak."""
        self._numbers = self._read(folder)
        self._next = next(self._numbers, 0)

    @staticmethod
    def _read(folder: int) -> Iterator[int]:
        try:
            descriptor = os.open(ENDED, _READ, dir_fd=folder)
        except OSError:
            return
        with os.fdopen(descriptor, "rb") as file:
            for line in file:
                if line.strip().isdigit() and len(line) < 30:
                    yield int(line)

    def has(self, number: int) -> bool:
        """Whether this one was; asked of growing numbers."""
        while self._next and self._next < number:
            self._next = next(self._numbers, 0)
        return self._next == number
