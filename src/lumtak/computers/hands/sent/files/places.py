"""Where a path leads on the computer that a hand acts on, and what may be opened there.

Sent with the hand: the standard library only, in the language of Python 3.8.
"""

from __future__ import annotations

import errno
import os
import posixpath
import re
import stat
from typing import Any, Iterable

_LINKS_MOST, _LINKS_FOLLOWED = 40, 8
_KERNEL_FILES = ("/proc/", "/sys/")
_ELSEWHERE = re.compile(
    r"/proc/[^/]+/(?:task/[^/]+/)?(?:root|cwd|exe|fd|map_files)(?:/|$)|/\.\.?(?:/|$)"
)
"""What stands below the kernel's folders and leads wherever a process is."""


class RefusalError(OSError):
    """The hand does not do what was asked for, whoever asks."""

    def __init__(self, why: str) -> None:
        super().__init__(errno.EPERM, why)


class NotOrdinaryError(OSError):
    """A folder, a device, a pipe or a socket stands where a file was looked for."""


class Places:
    """Paths of a computer, or of a folder that looks like one.

    Args:
        root: the folder; empty for the computer itself.
        rules: whether it is a hand of root, which trusts no folder that others can write to.
    """

    def __init__(self, root: str, rules: bool) -> None:
        self.root = root.rstrip("/")
        self.live = not self.root
        self.rules = rules
        self._trusted = {"/"}

    def _place(self, path: str) -> str:
        """The path here.

        In a folder that looks like a computer links are followed as they would be there, and never
        lead out of it.
        """
        if not path.startswith("/") or "\0" in path:
            raise RefusalError("%s is no whole path" % path)
        if not self.root:
            return path
        done: list[str] = []
        todo, links = _parts(path), 0
        while todo:
            part = todo.pop()
            here = "/".join([self.root, *done, part])
            if part == "..":
                del done[-1:]
            elif os.path.islink(here):
                links += 1
                if links > _LINKS_MOST:
                    raise OSError(errno.ELOOP, "too many links on the way")
                target = os.readlink(here)
                if target.startswith("/"):
                    del done[:]
                todo += _parts(target)
            else:
                done.append(part)
        return "/".join([self.root, *done])

    def _settled(self, path: str, links: int = 0) -> str:
        """The path for a hand of root, its last part not looked at.

        No folder or link on the way is anybody else's.

        Only root can then change where the path leads, so that it can be opened by its name. In a
        sticky folder such as /tmp others can make entries of their own, so that those have to be
        root's.
        """
        if not path.startswith("/"):
            raise RefusalError("%s is no whole path" % path)
        folder, name = posixpath.split(posixpath.normpath(path))
        if folder in self._trusted:
            return posixpath.join(folder, name)
        above = self._settled(folder, links)
        about = os.lstat(above)
        if about.st_uid != 0:
            raise RefusalError("%s belongs to somebody else than root" % above)
        if stat.S_ISLNK(about.st_mode):
            if links > _LINKS_MOST:
                raise OSError(errno.ELOOP, "too many links on the way")
            target = posixpath.join(posixpath.dirname(above), os.readlink(above))
            return self._settled(posixpath.join(target, name), links + 1)
        if not stat.S_ISDIR(about.st_mode):
            raise NotADirectoryError(errno.ENOTDIR, "this is no folder")
        if about.st_mode & 0o022 and not about.st_mode & stat.S_ISVTX:
            raise RefusalError("others than root can write to %s" % above)
        # Remembered only where no link was followed and nobody else can make entries.
        if above == folder and not about.st_mode & 0o022:
            self._trusted.add(folder)
        return posixpath.join(above, name)

    def _followed(self, path: str) -> str:
        """The path with the links of its last part followed, for a hand of root."""
        for _ in range(_LINKS_MOST):
            path = self._settled(path)
            about = os.lstat(path)
            if about.st_uid != 0 and posixpath.dirname(path) not in self._trusted:
                raise RefusalError("%s belongs to somebody else than root" % path)
            if not stat.S_ISLNK(about.st_mode):
                return path
            path = posixpath.join(posixpath.dirname(path), os.readlink(path))
        raise OSError(errno.ELOOP, "too many links on the way")

    def _looked(self, path: str) -> str:
        """The path here, links followed, as far as this hand may look."""
        if self.rules and not self.root and not is_kernels(path):
            return self._followed(path)
        return self._place(path)


def is_kernels(path: str) -> bool:
    """Whether the kernel makes what stands there, so that nobody can have planted a link on the
    way.
    """
    return path.startswith(_KERNEL_FILES) and _ELSEWHERE.search(path) is None


def open_ordinary(place: str) -> int:
    """A descriptor to read an ordinary file by.

    Links are followed, but no device, pipe or socket is opened.

    It is looked at first: opening a device can do something. Whoever exchanges it in between owns
    the folder, and has it opened as themselves.
    """
    # Looked at before it is opened: opening a device or a pipe can do something, or never end.
    if not stat.S_ISREG(os.stat(place).st_mode):
        raise NotOrdinaryError(errno.EINVAL, "this is no ordinary file")
    descriptor = os.open(place, os.O_RDONLY | os.O_CLOEXEC | os.O_NONBLOCK | os.O_NOCTTY)
    if not stat.S_ISREG(os.fstat(descriptor).st_mode):
        os.close(descriptor)
        raise NotOrdinaryError(errno.EINVAL, "this is no ordinary file")
    return descriptor


def read_most(descriptor: int, most: int) -> bytes:
    """The first `most` bytes that stand there."""
    data = os.read(descriptor, most)
    while 0 < len(data) < most:
        more = os.read(descriptor, most - len(data))
        if not more:
            break
        data += more
    return data


def topmost(paths: Iterable[str]) -> list[str]:
    """Each once, without those below another one."""
    found: list[str] = []
    for path in sorted(set(paths), key=lambda p: p.rstrip("/") + "/"):
        if not found or not path.startswith(found[-1].rstrip("/") + "/"):
            found.append(path)
    return found


def _parts(path: str) -> list[str]:
    """The names in a path, the last one first."""
    return [part for part in reversed(path.split("/")) if part not in {"", "."}]


def real_path(hand: Any, path: str) -> str:
    """Where a path leads, links on all of it followed.

    A circle ends where it was when that was noticed.
    """
    done, left, links = "", [part for part in path.split("/") if part], 0
    while left:
        part = left.pop(0)
        if part in {".", ".."}:
            done = done.rpartition("/")[0] if part == ".." else done
            continue
        target = hand.link("%s/%s" % (done, part)) if links < _LINKS_FOLLOWED else None
        if target is None:
            done = "%s/%s" % (done, part)
            continue
        links += 1
        left = [p for p in target.split("/") if p] + left
        done = "" if target.startswith("/") else done
    return done or "/"
