"""What a user waits for, tried once: a program's start, waking up, new memory, a file saved and
read, and the start of a large program.

One file of the standard library, in the language of Python 3.8, for it is sent with the hand.
Sources: execve(2), open(2) (O_TMPFILE), posix_fadvise(2), preadv2(2) (RWF_NOWAIT).
"""

from __future__ import annotations

import errno
import mmap
import os
import random
import stat
import time
from collections.abc import Callable

from lumtak.computers.hands.sent.files.making import nameless
from lumtak.computers.hands.sent.running.programs import printed

PART, PARTS = 1 << 16, 256
"""Of the file that is read from: so much of it is read at a time, and so many there are."""
NAME = ".lumtak-tries"
"""Of that file, where the file system has none without a name."""
_NEW_MEMORY = 1 << 21
_SMALL = 4096
_NAPS, _NAP_S = 4, 0.005
_LEFT_FREE = 1 << 28
_LONGEST_START_S = 20.0


class Feeling:
    """Tries what its user waits for; what it needs on the disk goes with it, however it ends.

    Args:
        folder: on the disk that is tried; the user's.
    """

    def __init__(self, folder: str) -> None:
        self._folder = folder
        self._file = -1
        self._why_no_file = ""
        self._left: list[int] = []
        self._chance = random.Random()  # noqa: S311 - which part is read next is no secret

    def round(self, program: str) -> dict[str, float | str]:
        """Seconds by name, or why not, as a clause.

        Args:
            program: also the start of this one, with --version; empty for none.
        """
        self._open()
        found: dict[str, float | str] = {
            "program_start": _tried(_start_small),
            "wake": _tried(_late),
            "memory": _tried(_touch),
            "file_write": self._of_file(self._write),
            "file_read": self._of_file(self._read),
        }
        if program:
            found["large_program"] = _tried(lambda: start_large(program))
        return found

    # -- the file ----------------------------------------------------------------------------------

    def _open(self) -> None:
        """A file without a name, which nobody sees, and which is gone with whoever holds it."""
        if self._file >= 0 or self._why_no_file:
            return
        try:
            _check_space(self._folder)
            self._file = nameless(self._folder, NAME)
            for _ in range(PARTS):
                os.write(self._file, os.urandom(PART))
            os.fsync(self._file)
        except OSError as error:
            self.close()
            self._why_no_file = _clause(error)

    def close(self) -> None:
        """The file is gone."""
        if self._file >= 0:
            os.close(self._file)
        self._file = -1

    def _of_file(self, act: Callable[[], float]) -> float | str:
        return self._why_no_file or _tried(act)

    def _write(self) -> float:
        """Save a few bytes, and have them on the disk."""
        data = os.urandom(_SMALL)
        start = time.perf_counter()
        os.pwrite(self._file, data, PART * PARTS)
        os.fsync(self._file)
        return time.perf_counter() - start

    def _read(self) -> float:
        """Read a part that no memory holds; only the pages of this file are ever let go."""
        if not self._left:
            self._left = list(range(PARTS))
            self._chance.shuffle(self._left)
        at = self._left.pop() * PART
        os.posix_fadvise(self._file, at, PART, os.POSIX_FADV_DONTNEED)
        if self._is_held(at):
            raise OSError(errno.ENOTSUP, "this file system keeps files in memory")
        start = time.perf_counter()
        os.pread(self._file, PART // 4, at)
        took = time.perf_counter() - start
        os.posix_fadvise(self._file, at, PART, os.POSIX_FADV_DONTNEED)
        return took

    def _is_held(self, at: int) -> bool:
        """Whether a part is in memory: then a read that must not wait gives it."""
        page = bytearray(1)
        try:
            return os.preadv(self._file, [page], at, os.RWF_NOWAIT) > 0
        except BlockingIOError:
            return False
        except OSError as error:
            why = "this file system does not tell whether memory holds a file"
            raise OSError(errno.ENOTSUP, why) from error


def _check_space(folder: str) -> None:
    space = os.statvfs(folder)
    if space.f_bavail * space.f_frsize < _LEFT_FREE:
        raise OSError(errno.ENOSPC, "the disk has too little free space to try it")


def _tried(act: Callable[[], float]) -> float | str:
    try:
        return act()
    except OSError as error:
        return _clause(error)


def _clause(error: OSError) -> str:
    said = error.strerror or str(error)
    return said[:1].lower() + said[1:200]


def _start_small() -> float:
    """Fork, exec, dynamic linking, and its end."""
    path = next((p for p in ("/usr/bin/true", "/bin/true") if os.access(p, os.X_OK)), "")
    if not path:
        raise OSError(errno.ENOENT, "there is no small program to start")
    start = time.perf_counter()
    pid = os.posix_spawn(path, [path], {"LC_ALL": "C"})
    os.waitpid(pid, 0)
    return time.perf_counter() - start


def _late() -> float:
    """How much later than it asked for a program wakes up that waits for time to pass: the mean."""
    start = time.perf_counter()
    for _ in range(_NAPS):
        time.sleep(_NAP_S)
    return max(0.0, (time.perf_counter() - start) / _NAPS - _NAP_S)


def _touch() -> float:
    """Have new memory, and write to each page of it."""
    start = time.perf_counter()
    with mmap.mmap(-1, _NEW_MEMORY, flags=mmap.MAP_PRIVATE | mmap.MAP_ANONYMOUS) as memory:
        memory[:: mmap.PAGESIZE] = b"\1" * (_NEW_MEMORY // mmap.PAGESIZE)
        return time.perf_counter() - start


def start_large(path: str) -> float:
    """Start a program with --version, and wait for its end.

    Raises:
        OSError: it is none that this is done with; see `why_not_started`.
    """
    why = why_not_started(path)
    if why:
        raise OSError(errno.EPERM, why)
    start = time.perf_counter()
    printed([path, "--version"], _LONGEST_START_S, check=True, alone=True)
    return time.perf_counter() - start


def why_not_started(path: str) -> str:
    """Why this is no program of a package, as a clause; empty where it is one.

    It and all folders above it are root's, and nobody else can write there: what was looked at is
    what is started.
    """
    if not path.startswith("/") or os.path.realpath(path) != path:
        return "it is not named by the place where it stands"
    try:
        about = os.lstat(path)
        if not stat.S_ISREG(about.st_mode) or not about.st_mode & stat.S_IXOTH:
            return "it is no program that everybody may start"
        if about.st_mode & (stat.S_ISUID | stat.S_ISGID):
            return "it runs with other rights than its user's"
        place = path
        while True:
            about = os.lstat(place)
            if about.st_uid != 0 or about.st_mode & (stat.S_IWGRP | stat.S_IWOTH):
                return "others than root can write to %s" % place
            if place == "/":
                return ""
            place = os.path.dirname(place)
    except OSError as error:
        return _clause(error)
