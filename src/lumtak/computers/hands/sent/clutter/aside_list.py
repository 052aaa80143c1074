"""The list of what is set aside: a line a piece, so that Lumtak and a shell read it alike.

docs/FORMATS.md has its form. Sent with the hand: the standard library only, in the language of
Python 3.8.
"""

from __future__ import annotations

import json
import os
import re
from typing import Any, Dict, List, Sequence, Set, Tuple

from lumtak.computers.hands.sent.clutter.rules import Piece
from lumtak.computers.hands.sent.files.places import RefusalError

_FIRST = b"# Set aside by Lumtak; docs/FORMATS.md of Lumtak has the form of this list.\n"
_PLAIN = re.compile(rb"[^A-Za-z0-9._/+,@%=:~-]")
_OCTAL = re.compile(rb"\\0([0-7]{3})")
_LINE = re.compile(
    rb"([fdl]) (\d{1,20}) (\d{1,20}) (\d{1,12}\.\d{9}) (\d{1,12}\.\d{9}) (\d{1,20}) (\d{1,20})"
    rb" (/[^ \n]*)"
)
_NS = 1_000_000_000
_SHA256 = re.compile(r"[0-9a-f]{64}")
ENDED = "ended"
"""Stands beside a list once setting aside has ended, and holds the numbers of what was left."""
LATE = 1 << 62
MOST_LIST = 1 << 28


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
    flags = os.O_RDONLY | os.O_NOFOLLOW | os.O_CLOEXEC
    try:
        descriptor = os.open(note_name(sha256), flags, dir_fd=folder)
        with os.fdopen(descriptor, "rb") as file:
            note = json.loads(file.read(1 << 16))
    except (OSError, ValueError, RecursionError):
        note = {}
    return note if isinstance(note, dict) else {}


def written(pieces: Sequence[Piece]) -> bytes:
    """The list of these pieces: a line each, its place escaped so that no shell trips over it."""
    lines = [_FIRST]
    for piece in pieces:
        place = _PLAIN.sub(lambda m: b"\\0%03o" % m[0][0], os.fsencode(piece.place))
        lines.append(
            b"%s %d %d %s %s %d %d %s\n"
            % (
                piece.kind.encode(),
                piece.inode,
                piece.folder_inode,
                _seconds(piece.changed_ns),
                _seconds(piece.folder_changed_ns),
                piece.bytes,
                piece.files,
                place,
            )
        )
    return b"".join(lines)


def _seconds(ns: int) -> bytes:
    return b"%d.%09d" % divmod(max(ns, 0), _NS)


def read_back(data: bytes) -> List[Piece]:
    """The pieces of a list.

    Raises:
        RefusalError: it is none.
    """
    first, newline, rest = data.partition(b"\n")
    if first + newline != _FIRST or not rest.endswith(b"\n"):
        raise RefusalError("this is no list of what was set aside")
    pieces = []
    for line in rest[:-1].split(b"\n"):
        said = _LINE.fullmatch(line)
        if said is None:
            raise RefusalError("a line of the list cannot be read")
        kind, inode, above, changed, folder_changed, size, files, place = said.groups()
        whole = os.fsdecode(_OCTAL.sub(lambda m: bytes([int(m[1], 8) & 0xFF]), place))
        if "\0" in whole or whole != os.path.normpath(whole):
            raise RefusalError("a place of the list is none")
        times = [int(t.replace(b".", b"")) for t in (changed, folder_changed)]
        numbers = int(inode), int(above), 0, times[0], times[1], int(size), int(files)
        pieces.append(Piece(whole, kind.decode(), *numbers))
    return pieces


def in_words(left: Dict[str, int]) -> str:
    """What was left, with the reasons."""
    return "; ".join("%d: %s" % (count, why) for why, count in sorted(left.items())) or "nothing"


def changed_at(folder: int, name: str) -> int:
    """When a file of a folder was last changed, ns since the epoch; late where it is not there."""
    try:
        return os.stat(name, dir_fd=folder, follow_symlinks=False).st_mtime_ns
    except OSError:
        return LATE


def ended_at(folder: int) -> Tuple[int, Set[int]]:
    """(when setting aside had ended, the numbers of what was left); ns since the epoch.

    Late where it was interrupted: whatever changed its folders since was Lumtak.
    """
    try:
        descriptor = os.open(ENDED, os.O_RDONLY | os.O_NOFOLLOW | os.O_CLOEXEC, dir_fd=folder)
    except OSError:
        return LATE, set()
    with os.fdopen(descriptor, "rb") as file:
        data = file.read(MOST_LIST)
        return os.fstat(file.fileno()).st_mtime_ns, {int(n) for n in data.split() if n.isdigit()}
