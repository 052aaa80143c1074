"""Every file below a folder, in an order that is the same each time, so that it can be gone on
with later.

Sent with the hand: the standard library only, in the language of Python 3.8.
"""

from __future__ import annotations

import contextlib
import os
import stat
from typing import Iterator, List, Tuple

from lumtak.computers.hands.sent.files.diving import Dive, LostError
from lumtak.computers.hands.sent.files.opening import open_folder


def everything(place: str) -> Iterator[Tuple[str, os.stat_result]]:
    """(its path, about it) of everything below a folder, on the same mount, no link followed; what
    cannot be gone into is passed over.
    """
    with Dive(open_folder(place), [place.rstrip("/"), None]) as dive:
        dive.here.data[1] = os.listdir(dive.here.descriptor)
        while True:
            above, names = dive.here.data
            if not names:
                if len(dive.way) == 1:
                    return
                with contextlib.suppress(LostError):
                    dive.up()
                continue
            name = names.pop()
            below = "%s/%s" % (above, name)
            with contextlib.suppress(OSError):
                about = os.stat(name, dir_fd=dive.here.descriptor, follow_symlinks=False)
                yield below, about
                if stat.S_ISDIR(about.st_mode):
                    level = dive.down(name, [below, []])
                    if level is not None:
                        level.data[1] = os.listdir(level.descriptor)


READ = os.O_RDONLY | os.O_NOFOLLOW | os.O_CLOEXEC | os.O_NONBLOCK | os.O_NOCTTY


class Pass:
    """One way through.

    Args:
        place: the folder here; links on the way to it are followed.
        shown: as it is told.
        after: the last file that was passed before, as it was told; empty to begin.
    """

    def __init__(self, place: str, shown: str, after: str) -> None:
        self._place, self._shown = place, shown.rstrip("/")
        inside = after.startswith(self._shown + "/")
        self._after = after[len(self._shown) + 1 :].split("/") if inside else []
        self.unread = 0
        """Folders that could not be gone into."""
        self.blocks = 0
        """That the folders take themselves, of 512 bytes."""

    def files(self) -> Iterator[Tuple[str, int, str, os.stat_result]]:
        """(as it is told, descriptor of its folder, its name there, about it), ordinary files
        only; the descriptor is open until the next.
        """
        with Dive(open_folder(self._place)) as dive:
            dive.here.data = self._names(dive.here.descriptor, [])
            self.blocks += dive.here.about.st_blocks
            while dive.way:
                if not dive.here.data:
                    self._up(dive)
                    continue
                name = dive.here.data.pop()
                parts = [level.name for level in dive.way[1:]] + [name]
                with contextlib.suppress(FileNotFoundError):
                    about = os.stat(name, dir_fd=dive.here.descriptor, follow_symlinks=False)
                    shown = "/".join([self._shown, *parts])
                    if stat.S_ISDIR(about.st_mode):
                        self._down(dive, parts)
                    elif stat.S_ISREG(about.st_mode) and parts != self._after:
                        yield shown, dive.here.descriptor, name, about

    def _down(self, dive: Dive, parts: List[str]) -> None:
        try:
            level = dive.down(parts[-1], [])
            if level is not None:
                self.blocks += level.about.st_blocks
                dive.here.data = self._names(dive.here.descriptor, parts)
        except OSError:
            self.unread += 1

    @staticmethod
    def _up(dive: Dive) -> None:
        if len(dive.way) == 1:
            dive.close()
            return
        with contextlib.suppress(LostError):
            dive.up()

    def _names(self, descriptor: int, parts: List[str]) -> List[str]:
        """What is still to be passed in a folder, the next one last."""
        names = sorted(os.listdir(descriptor), reverse=True)
        depth = len(parts)
        if depth < len(self._after) and parts == self._after[:depth]:
            return [name for name in names if name >= self._after[depth]]
        return names
