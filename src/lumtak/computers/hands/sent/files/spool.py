"""Lines that are gathered before it is known how many there are: a few in memory, more in a file
without a name. Sent with the hand: the standard library only, in the language of Python 3.8.
"""

from __future__ import annotations

import hashlib
import os
from typing import Iterator

from lumtak.computers.hands.sent.files.making import nameless

_IN_MEMORY, PART = 1 << 22, 1 << 20


class Spool:
    """What is added last can be taken away again.

    Args:
        folder: on whose file system the rest of it stands; where nothing can be made there, all
            of it stays in memory.
    """

    def __init__(self, folder: str) -> None:
        self._folder, self._descriptor, self._filed = folder, -1, 0
        self._late = bytearray()

    @property
    def at(self) -> int:
        """How many bytes it holds."""
        return self._filed + len(self._late)

    def add(self, data: bytes) -> None:
        """Once more at its end."""
        self._late += data
        if len(self._late) >= _IN_MEMORY and self._folder:
            self._to_file()

    def _to_file(self) -> None:
        written = 0
        try:
            if self._descriptor < 0:
                self._descriptor = nameless(self._folder, ".lumtak-spool")
            while written < len(self._late):
                written += os.pwrite(self._descriptor, self._late[written:], self._filed + written)
        except OSError:
            self._folder = ""
        self._filed += written
        del self._late[:written]

    def cut(self, at: int) -> None:
        """What was added since it held so many bytes is taken away."""
        if at >= self._filed:
            del self._late[at - self._filed :]
        else:
            self._filed = at
            self._late = bytearray()

    def parts(self) -> Iterator[bytes]:
        """All that it holds, a part at a time."""
        for at in range(0, self._filed, PART):
            yield os.pread(self._descriptor, min(PART, self._filed - at), at)
        for at in range(0, len(self._late), PART):
            yield bytes(self._late[at : at + PART])

    def sha256(self) -> str:
        """Of all that it holds."""
        whole = hashlib.sha256()
        for part in self.parts():
            whole.update(part)
        return whole.hexdigest()

    def close(self) -> None:
        """It holds nothing any more."""
        if self._descriptor >= 0:
            os.close(self._descriptor)
        self._descriptor, self._filed, self._late = -1, 0, bytearray()

    def __del__(self) -> None:
        self.close()
