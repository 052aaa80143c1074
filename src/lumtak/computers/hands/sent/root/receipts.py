"""Root's own record of what it changed: written before the change, where only root reads.

What takes root is put back from here; the record of whoever asks only points at it. One file a
change, until it is put back. Sent with the hand: the standard library only, in the language of
Python 3.8. docs/FORMATS.md has the form.
"""

from __future__ import annotations

import contextlib
import errno
import json
import os
import re
from typing import Any, Callable, ContextManager, Dict, List, NamedTuple

from lumtak.computers.hands.sent.files.atomic import forget, put
from lumtak.computers.hands.sent.files.places import read_most
from lumtak.computers.hands.sent.table import SWAP_FOLDER

FOLDER = SWAP_FOLDER + "/receipts"
FORMAT = 1
_NAME = re.compile(r"([0-9]{6,12})\.json")
_MOST, _MOST_RECEIPTS = 1 << 22, 100_000


class Receipt(NamedTuple):
    """One change."""

    number: int
    area: str
    key: str
    before: Dict[str, Any]
    """The exact state that root found, as a document."""
    after: Dict[str, Any]
    """The one that it was to bring about."""
    sums: Dict[str, str]
    """SHA-256 of what a unit that no package brought is and runs, by path."""
    at: int
    """Seconds since 1970."""


class Receipts:
    """All of them.

    Args:
        opened: gives a descriptor of the folder, made where that is asked for.
        there: whether the folder is.
    """

    def __init__(
        self, opened: Callable[[], ContextManager[int]], there: Callable[[], bool]
    ) -> None:
        self._opened, self._there = opened, there

    def of(self, area: str, key: str) -> List[Receipt]:
        """Those of one setting, the oldest first."""
        return [r for r in self.all() if (r.area, r.key) == (area, key)]

    def all(self) -> List[Receipt]:
        """Every one that can be read, the oldest first."""
        if not self._there():
            return []
        found = []
        with self._opened() as folder:
            for number in _numbers(folder):
                with contextlib.suppress(OSError, ValueError, KeyError, TypeError):
                    found.append(_read(folder, number))
        return found

    def new_number(self) -> int:
        """The number of the next one.

        Raises:
            OSError: there are too many.
        """
        known: List[int] = []
        if self._there():
            with self._opened() as folder:
                known = _numbers(folder)
        if len(known) >= _MOST_RECEIPTS:
            raise OSError(errno.ENOSPC, "root keeps %d receipts, and no more" % len(known))
        return max(known, default=0) + 1

    def write(self, receipt: Receipt) -> None:
        """A new one stands on the disk."""
        said = {**receipt._asdict(), "format": FORMAT}
        with self._opened() as folder:
            data = json.dumps(said, sort_keys=True).encode()
            put(folder, "%06d.json" % receipt.number, data, 0o600)

    def drop(self, numbers: List[int]) -> None:
        """These are done with."""
        if not numbers or not self._there():
            return
        with self._opened() as folder:
            for number in sorted(numbers, reverse=True):
                forget("%06d.json" % number, folder)
            _swept(folder)

    def sweep(self) -> None:
        """What an interrupted write left is gone."""
        if self._there():
            with self._opened() as folder:
                _swept(folder)


def _swept(folder: int) -> None:
    for name in os.listdir(folder):
        if name.startswith(".lumtak-"):
            forget(name, folder)
    os.fsync(folder)


def _numbers(folder: int) -> List[int]:
    return sorted(int(said[1]) for said in map(_NAME.fullmatch, os.listdir(folder)) if said)


def _read(folder: int, number: int) -> Receipt:
    flags = os.O_RDONLY | os.O_NOFOLLOW | os.O_CLOEXEC
    descriptor = os.open("%06d.json" % number, flags, dir_fd=folder)
    try:
        about = os.fstat(descriptor)
        said = json.loads(read_most(descriptor, _MOST))
    finally:
        os.close(descriptor)
    if about.st_uid != os.geteuid() or said.pop("format") != FORMAT:
        raise ValueError("it is nobody's receipt")
    return Receipt(**{**said, "number": number})
