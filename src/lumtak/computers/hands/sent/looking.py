"""What a hand can look at: files, folders, links, counters.

Sent with the hand: the standard library only, in the language of Python 3.8.
"""

from __future__ import annotations

import base64
import contextlib
import errno
import os
import posixpath
import re
import stat
import time
from typing import Any, Iterator, Sequence

from lumtak.computers.hands.sent.desktop.display import idle_s, in_force
from lumtak.computers.hands.sent.files.opening import names_in, open_file, open_folder
from lumtak.computers.hands.sent.files.passing import everything
from lumtak.computers.hands.sent.files.places import (
    Places,
    RefusalError,
    is_kernels,
    open_ordinary,
    read_most,
)
from lumtak.computers.hands.sent.operations import MOST_BYTES, MOST_NAMES, VERSION
from lumtak.computers.hands.sent.running.programs import on_the_bus, printed
from lumtak.computers.hands.sent.table import OF_A_USER, PROGRAMS

_MOST_COUNTED = 10_000_000


def _read_at() -> list[float]:
    """When each terminal was read from last."""
    names = ["/dev/pts/%s" % n for n in names_in("/dev/pts") if n.isdigit()]
    found = []
    for path in [*names, *("/dev/tty%d" % n for n in range(1, 13))]:
        with contextlib.suppress(OSError):
            found.append(os.stat(path).st_atime)
    return found


class Looking(Places):
    """The operations that change nothing; see `hand.Hand`."""

    def read(self, path: str, most: int = MOST_BYTES) -> bytes:
        """The first `most` bytes of an ordinary file, or of one that the kernel makes.

        Nothing else is opened.
        """
        if not self.root and is_kernels(path):
            descriptor = open_file(path, follow=True)
        else:
            descriptor = open_ordinary(self._looked(path))
        try:
            return read_most(descriptor, most)
        finally:
            os.close(descriptor)

    def read_many(self, paths: Sequence[str], most: int = MOST_BYTES) -> list[bytes | None]:
        """The same of many files; None for each that cannot be read."""
        found: list[bytes | None] = []
        for path in paths:
            try:
                found.append(self.read(path, most))
            except OSError:
                found.append(None)
        return found

    def names(self, path: str) -> list[str]:
        """What a folder holds, sorted."""
        found = self.listing(path)
        if found["whole"] > len(found["names"]):
            raise RefusalError("%s holds more than %d names" % (path, MOST_NAMES))
        names: list[str] = found["names"]
        return names

    def listing(self, path: str) -> dict[str, Any]:
        """The names that a folder holds, sorted, as far as they are listed; `whole`: how many there
        are, counted up to ten million.
        """
        names: list[str] = []
        whole = 0
        descriptor = open_folder(self._looked(path))
        try:
            with os.scandir(descriptor) as entries:
                for entry in entries:
                    whole += 1
                    if whole <= MOST_NAMES:
                        names.append(entry.name)
                    elif whole >= _MOST_COUNTED:
                        break
        finally:
            os.close(descriptor)
        return {"names": sorted(names), "whole": whole}

    def link(self, path: str) -> str | None:
        """Where a link leads; None where there is none."""
        folder, _, name = path.rpartition("/")
        try:
            if self.rules and not self.root and not is_kernels(path):
                return os.readlink(self._settled(path))
            return os.readlink("%s/%s" % (self._place(folder or "/").rstrip("/"), name))
        except OSError:
            return None

    def exists(self, path: str) -> bool:
        """Whether something is there, links followed."""
        try:
            return os.path.exists(self._looked(path))
        except OSError:
            return False

    def look(self, folder: str, name: str) -> dict[str, object]:
        """What stands there itself: kind (absent, file, link, other), and mode, bytes or target."""
        try:
            about = os.lstat("%s/%s" % (self._place(folder), name))
        except FileNotFoundError:
            return {"kind": "absent"}
        if stat.S_ISLNK(about.st_mode):
            return {"kind": "link", "target": os.readlink("%s/%s" % (self._place(folder), name))}
        if not stat.S_ISREG(about.st_mode):
            return {"kind": "other"}
        data = self.read("%s/%s" % (folder, name), MOST_BYTES + 1)
        return {
            "kind": "file",
            "mode": stat.S_IMODE(about.st_mode),
            "bytes": base64.b64encode(data).decode(),
        }

    def missing(self, path: str) -> int:
        """How many folders, counted from this one upwards, are not there."""
        count = 0
        while path != "/" and not os.path.isdir(self._place(path)):
            count, path = count + 1, posixpath.dirname(path)
        return count

    def space(self, path: str) -> list[int]:
        """[bytes of the volume, free to an ordinary user, kept back for root]; statvfs(3)."""
        found = os.statvfs(self._looked(path))
        kept_back = max(0, found.f_bfree - found.f_bavail)
        return [blocks * found.f_frsize for blocks in (found.f_blocks, found.f_bavail, kept_back)]

    def inodes(self, path: str) -> int:
        """How many files and folders the volume holds; 0 where it does not count them."""
        found = os.statvfs(self._looked(path))
        return max(0, found.f_files - found.f_ffree)

    def walk(self, path: str, most: int = 1_000_000) -> Iterator[list[list[Any]]]:
        """Every file below a folder on the same volume, no link followed.

        Lists of [path, mode, bytes on the disk, changed at].
        """
        batch: list[list[Any]] = []
        for count, (place, about) in enumerate(everything(self._looked(path)), start=1):
            size, changed = about.st_blocks * 512, int(about.st_mtime)
            batch.append([place[len(self.root) :], about.st_mode, size, changed])
            if len(batch) >= 1000:
                yield batch
                batch = []
            if count >= most:
                raise RefusalError("%s holds more than %d files" % (path, most))
        yield batch

    def display(self, name: str, authority: str) -> dict[str, Any]:
        """What is in force on a display of this hand's user; see `display.in_force`.

        Args:
            name: as in DISPLAY.
            authority: the file of cookies; empty for none.
        """
        if self.root:
            raise OSError(errno.ENOSYS, "no display is in a folder")
        if self.rules:
            raise RefusalError("root looks at nobody's display")
        return in_force(name, self.read(authority, 1 << 16) if authority else b"")

    def touched(self, name: str, authority: str) -> float:
        """Seconds since somebody touched a terminal of this computer, or a display of this hand's
        user; below 0 where nothing tells.

        Terminals are asked by when they were read from last: the kernel notes that to the second
        for the first touch, and every eight seconds from then on (drivers/tty/tty_io.c).

        Args:
            name: of the display, as in DISPLAY; empty for none.
            authority: the file of cookies; empty for none.
        """
        if self.root:
            raise OSError(errno.ENOSYS, "nobody sits at a folder")
        ago = [time.time() - at for at in _read_at()]
        if name and not self.rules:
            cookies = self.read(authority, 1 << 16) if authority else b""
            with contextlib.suppress(OSError):
                ago.append(idle_s(name, cookies))
        return max(0.0, min(ago)) if ago else -1.0

    def counters(self) -> dict[str, bytes]:
        """The bytes of /proc/PID/stat of every process, by its number: one pass; proc(5)."""
        found = {}
        for name in names_in(self._place("/proc")):
            if not name.isdigit():
                continue
            try:
                descriptor = open_file("%s/proc/%s/stat" % (self.root, name))
            except OSError:
                continue
            try:
                found[name] = os.read(descriptor, 4096)
            except OSError:
                continue
            finally:
                os.close(descriptor)
        return found

    def about(self) -> dict[str, int]:
        """Version, user, process, and the units in which the kernel counts."""
        return {
            "version": VERSION,
            "uid": os.geteuid(),
            "pid": os.getpid(),
            "tick": os.sysconf("SC_CLK_TCK"),
            "page": os.sysconf("SC_PAGE_SIZE"),
        }

    # -- programs ----------------------------------------------------------------------------------

    def run(
        self, arguments: Sequence[str], timeout_s: float = 20.0, partly: bool = False, bus: str = ""
    ) -> bytes:
        """What a program of the table prints.

        Args:
            arguments: its name and arguments.
            timeout_s: after that it is ended, with whatever it started.
            partly: take what it prints although it fails.
            bus: run it on the session bus of this hand's user, who is at home there: HOME, then the
                configuration folder, then the bus where it is known, a line each.
        """
        arguments = list(arguments)
        name, told = arguments[0], "\0".join(arguments[1:])
        tables = [PROGRAMS] + ([OF_A_USER] if bus else [])
        # Arguments are joined by NUL, which none can hold: no pattern can match across two of them.
        if not any(name in t and re.fullmatch(t[name], told) for t in tables):
            raise RefusalError("%s is not run by Lumtak with these arguments" % name)
        if not self.live:
            raise OSError(errno.ENOSYS, "no programs run in a folder")
        if not bus:
            return printed(arguments, timeout_s, check=not partly)
        home, config, *known = bus.split("\n")
        own = {"HOME": home, "XDG_CONFIG_HOME": config}
        if known:
            own["DBUS_SESSION_BUS_ADDRESS"] = known[0]
        return on_the_bus(arguments, timeout_s, own)
