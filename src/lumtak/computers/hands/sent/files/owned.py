"""Whether a place is root's alone, and what stands there, looked at step by step by descriptors.

Sent with the hand: the standard library only, in the language of Python 3.8. Sources: open(2)
(O_PATH), readlinkat(2).
"""

from __future__ import annotations

import contextlib
import errno
import hashlib
import os
import stat
from typing import Iterator, List, Tuple

_LINKS_MOST = 40
_STEP = os.O_PATH | os.O_NOFOLLOW | os.O_CLOEXEC
_MOST_SUMMED = 1 << 28


def why_not_roots(path: str) -> str:
    """Why others than root decide what stands at a path, as a clause; empty where nobody else does.

    Every folder and link on the way is looked at. A sticky folder of root's such as /tmp is fine:
    nobody can exchange what root has in it. What is not there yet is fine too.
    """
    try:
        for place, about in on_the_way(path):
            if about.st_uid != 0:
                return "%s belongs to somebody else than root" % place
            if stat.S_ISLNK(about.st_mode):
                continue
            shared = about.st_mode & stat.S_IWOTH or (
                about.st_mode & stat.S_IWGRP and about.st_gid != 0
            )
            if shared and not (stat.S_ISDIR(about.st_mode) and about.st_mode & stat.S_ISVTX):
                return "others than root can write to %s" % place
    except OSError as error:
        return "%s cannot be looked at: %s" % (path, (error.strerror or str(error)).lower())
    return ""


def on_the_way(path: str) -> Iterator[Tuple[str, os.stat_result]]:
    """Every folder and link on the way to a path, and the path itself, from the top: as it is named
    and what it is. Links are followed one by one; it ends where something is not there.

    Raises:
        OSError: a step cannot be looked at, or there are too many links.
    """
    here, names = [os.open("/", _STEP)], [""]
    try:
        yield "/", os.fstat(here[-1])
        todo, links = _parts(os.path.abspath(path)), 0
        while todo:
            part = todo.pop()
            if part == "..":
                if len(here) > 1:
                    os.close(here.pop())
                    names.pop()
                continue
            try:
                step = os.open(part, _STEP, dir_fd=here[-1])
            except (FileNotFoundError, NotADirectoryError):
                return
            about = os.fstat(step)
            place = "/".join([*names, part])
            if not stat.S_ISLNK(about.st_mode):
                here.append(step)
                names.append(part)
                yield place, about
                continue
            with _closed(step):
                yield place, about
                target = os.readlink("", dir_fd=step)
            links += 1
            if links > _LINKS_MOST:
                raise OSError(errno.ELOOP, "too many links on the way")
            while target.startswith("/") and len(here) > 1:
                os.close(here.pop())
                names.pop()
            todo += _parts(target)
    finally:
        for descriptor in here:
            os.close(descriptor)


@contextlib.contextmanager
def _closed(descriptor: int) -> Iterator[None]:
    try:
        yield
    finally:
        os.close(descriptor)


def _parts(path: str) -> List[str]:
    """The names in a path, the last one first."""
    return [part for part in reversed(path.split("/")) if part not in {"", "."}]


def sum_of(place: str) -> str:
    """SHA-256 of an ordinary file, in hexadecimal; empty where it cannot be read."""
    try:
        descriptor = os.open(place, os.O_RDONLY | os.O_CLOEXEC | os.O_NONBLOCK | os.O_NOCTTY)
    except OSError:
        return ""
    with _closed(descriptor):
        if not stat.S_ISREG(os.fstat(descriptor).st_mode):
            return ""
        made, left = hashlib.sha256(), _MOST_SUMMED
        data = os.read(descriptor, 1 << 20)
        while data and left > 0:
            made.update(data)
            left -= len(data)
            data = os.read(descriptor, 1 << 20)
        return made.hexdigest()
