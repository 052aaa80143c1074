"""A hand: the one program that acts on a real computer, as whoever it runs as.

It is sent as text to a bare interpreter (`python3 -I -S -B`) with all that it imports: the standard
library only, in the language of Python 3.8. docs/HANDS.md has the operations and the form of
messages. Lumtak uses the same class in its
own process where it already is the right user, and on a folder that looks like a computer.
"""

from __future__ import annotations

import contextlib
import errno
import os
import posixpath
import re
import select
import signal
import stat
from typing import Any, Iterator, Sequence

from lumtak.computers.hands.sent.checking import Checking
from lumtak.computers.hands.sent.files.atomic import (
    forget,
    gone_if_it_fails,
    put,
    put_link,
    shed,
    temporary_name,
    times_kept,
)
from lumtak.computers.hands.sent.files.keeping import back, holds, kept_meanwhile, kept_name, leads
from lumtak.computers.hands.sent.files.making import make_folder
from lumtak.computers.hands.sent.files.opening import open_folder
from lumtak.computers.hands.sent.files.places import RefusalError
from lumtak.computers.hands.sent.operations import OPERATIONS, ROLES, misfit, of_role
from lumtak.computers.hands.sent.running.feeling import Feeling, why_not_started


class Hand(Checking):
    """The operations, as methods; `operations.OPERATIONS` has their bounds and who may ask.

    Every failure is an OSError; what is never done is a RefusalError.

    Args:
        root: a folder that looks like a computer; empty for the computer itself.
        rules: whether it is a hand of root, which writes nothing but the table.
        homes: folders below which files of the user are written; none at all where it is empty.
        own: of the user: home, caches, data; empty for root's.
        roles: what it is there for.
    """

    def __init__(
        self,
        root: str = "",
        rules: bool = False,
        homes: Sequence[str] = (),
        own: Sequence[str] = (),
        roles: Sequence[str] = ROLES,
    ) -> None:
        super().__init__(root, rules, homes, own)
        self.allowed = of_role(*roles)
        self._feeling: Feeling | None = None

    def asked(self, name: object, given: object) -> Any:
        """What an operation of the table gives, once it is one of this hand's and its arguments
        are within their bounds.
        """
        operation = OPERATIONS.get(name) if isinstance(name, str) else None
        if operation is None:
            raise RefusalError("this hand knows no such operation")
        if operation.name not in self.allowed:
            raise RefusalError("this hand is not there for that")
        why = misfit(operation, given)
        if why:
            raise RefusalError(why)
        return getattr(self, operation.name)(*given)  # type: ignore[misc]

    # -- files of the user -------------------------------------------------------------------------

    def _own_folder(self, folder: str) -> str:
        """The folder here, if this hand may write below it."""
        if posixpath.normpath(folder) != folder or not any(
            folder == h or folder.startswith(h + "/") for h in self.homes
        ):
            raise RefusalError("files of the user are not written to %s" % folder)
        return self._place(folder)

    @contextlib.contextmanager
    def _opened(self, folder: str) -> Iterator[int]:
        """A descriptor of a folder of the user's, made with its parents (mode 0700) when it is not
        there.
        """
        place = self._own_folder(folder)
        with gone_if_it_fails(place):
            if not os.path.isdir(place):
                with times_kept(place):
                    make_folder(place, 0o700)
            descriptor = open_folder(place)
            try:
                about = os.fstat(descriptor)
                if about.st_uid not in {os.geteuid(), 0} or about.st_mode & stat.S_IWOTH:
                    raise RefusalError(
                        "others can write to %s, so nothing is written there" % folder
                    )
                yield descriptor
            finally:
                os.close(descriptor)

    def put(self, folder: str, name: str, data: bytes, mode: int, keep: bool = False) -> None:
        """The file has these bytes and this mode: all at once, or not at all.

        Args:
            folder: of the user's.
            name: of the file in it.
            data: that it holds.
            mode: of it.
            keep: whether what is replaced is kept, and goes back itself once it is wanted there.
        """
        _one_name(name)
        with self._opened(folder) as descriptor:
            if not back(descriptor, name, holds(data, mode)):
                with kept_meanwhile(descriptor, name, keep):
                    put(descriptor, name, data, mode, like=name)

    def put_link(self, folder: str, name: str, target: str, keep: bool = False) -> None:
        """The link leads there: all at once, or not at all; `keep` as in `put`."""
        _one_name(name)
        with self._opened(folder) as descriptor:
            if not back(descriptor, name, leads(target)):
                with kept_meanwhile(descriptor, name, keep):
                    put_link(descriptor, name, target)

    def remove(self, folder: str, name: str, folders: int = 0, keep: bool = False) -> None:
        """The file is gone, with what an interrupted write left, and so are so many folders as far
        as they are empty; `keep` as in `put`.
        """
        _one_name(name)
        if os.path.isdir(self._own_folder(folder)):
            with self._opened(folder) as descriptor:
                with kept_meanwhile(descriptor, name, keep):
                    for one in (temporary_name(name), name, *(() if keep else (kept_name(name),))):
                        forget(one, descriptor)
                os.fsync(descriptor)
        for _ in range(min(folders, 64)):
            if not shed(self._place(folder)):
                break
            folder = posixpath.dirname(folder)

    def end(self, pid: int, started: int, force: bool, wait_s: float) -> str:
        """Ask a process to end (SIGTERM), or force it (SIGKILL).

        "gone", "runs", or "another" where its number is another one's by now.
        """
        try:
            descriptor = os.pidfd_open(pid)
        except ProcessLookupError:
            return "gone"
        try:
            # After the descriptor is held: from here on the number cannot become another process.
            now = _started(self.read("/proc/%d/stat" % pid, 4096))
            if now != started:
                return "another" if now else "gone"
            with contextlib.suppress(ProcessLookupError):
                signal.pidfd_send_signal(descriptor, signal.SIGKILL if force else signal.SIGTERM)
            ended, _, _ = select.select([descriptor], [], [], max(0.0, min(wait_s, 600.0)))
            return "gone" if ended else "runs"
        finally:
            os.close(descriptor)

    def feel(self, folder: str, program: str) -> dict[str, float | str]:
        """What the user waits for, tried once: seconds by name, or why not; see `feeling.Feeling`.

        Args:
            folder: on the disk that is tried; a file without a name is held there from the first
                time on.
            program: the path of a large one that is started too; empty for none.
        """
        if self.rules:
            raise RefusalError("root tries nothing of what a user waits for")
        if not self.live:
            raise OSError(errno.ENOSYS, "nothing can be tried in a folder")
        if self._feeling is None:
            self._feeling = Feeling(self._place(folder))
        return self._feeling.round(program)

    def not_started(self, path: str) -> str:
        """Why this program is not started to see how long that takes; empty where it is."""
        return "programs do not run in a folder" if self.root else why_not_started(path)


def _one_name(name: str) -> None:
    if name in {"", ".", ".."} or "/" in name or "\0" in name:
        raise RefusalError("%s is no name of a file" % name)


def _started(data: bytes) -> int:
    """When a process started, in ticks since boot, from /proc/PID/stat.

    0 where that is not understood.
    """
    fields = data[data.rfind(b")") + 1 :].split()
    return int(fields[19]) if len(fields) > 19 and re.fullmatch(rb"[0-9]{1,20}", fields[19]) else 0
