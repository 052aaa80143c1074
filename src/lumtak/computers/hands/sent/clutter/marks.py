"""What tells a file or folder from another one of its name: a decision is about a file, and not
about a name.

Sent with the hand: the standard library only, in the language of Python 3.8. Sources: stat(2),
statvfs(3).
"""

from __future__ import annotations

import contextlib
import hashlib
import os
import stat
from typing import Any, Iterator, List, Optional, Tuple

from lumtak.computers.hands.sent.files.diving import Dive, LostError
from lumtak.computers.hands.sent.files.kernel import FOLDER, folder_at, open_inside
from lumtak.computers.hands.sent.files.walking import BLOCK

NONE, PARTS, WHOLE = 0, 1, 2
"""How much of the content a mark has: none, three parts, all up to a size and a thousand parts of
what is larger."""
_PART, _CHUNK = 4096, 1 << 20
_SOME, _MANY = 3, 1024
_ALL_UP_TO = 1 << 28
_MOST_ENTRIES = 100_000
_NS = 1_000_000_000
_SAME, _TIME, _CONTENT = slice(0, 5), 5, slice(6, 8)
"""Fields of a mark: what has to be the same; the time that a change of rights changes too; how much
of the content there is of it, and its hash."""


def marked(place: str, how: int) -> Optional[List[Any]]:
    """[mark, bytes allocated, when it was last changed, s since the epoch] of a file or folder;
    None where it is not there.

    Args:
        place: of it, here; links on the way to it were followed already.
        how: how much of its content the mark is to have.
    """
    above, name = os.path.split(place)
    try:
        folder = folder_at(above)
    except OSError:
        return None
    try:
        return _marked(folder, name, how)
    except OSError:
        return None
    finally:
        os.close(folder)


def _marked(folder: int, name: str, how: int) -> List[Any]:
    about = os.stat(name, dir_fd=folder, follow_symlinks=False)
    where = "%d:%d" % (os.fstatvfs(folder).f_fsid or about.st_dev, about.st_ino)
    if stat.S_ISDIR(about.st_mode):
        with Dive(open_inside(folder, name, FOLDER)) as dive:
            size, digest = _of_tree(dive)
        mark = "d:%s:%d:%s:0" % (where, size, digest)
        return [mark, size, about.st_mtime_ns // _NS]
    kind = "l" if stat.S_ISLNK(about.st_mode) else "f"
    times = about.st_mtime_ns, about.st_ctime_ns
    mark = "%s:%s:%d:%d:%d" % (kind, where, about.st_size, *times)
    if how and stat.S_ISREG(about.st_mode):
        mark += ":%d:%s" % (how, _hash(folder, name, about.st_size, how))
    return [mark, about.st_blocks * BLOCK, about.st_mtime_ns // _NS]


def _hash(folder: int, name: str, size: int, how: int) -> str:
    flags = os.O_RDONLY | os.O_NOFOLLOW | os.O_CLOEXEC | os.O_NONBLOCK
    descriptor = os.open(name, flags, dir_fd=folder)
    whole = hashlib.sha256()
    try:
        for at, length in _read_of(size, how):
            whole.update(os.pread(descriptor, length, at))
    finally:
        os.close(descriptor)
    return whole.hexdigest()


def _read_of(size: int, how: int) -> Iterator[Tuple[int, int]]:
    """(place, bytes) of what is read of a file."""
    parts = _SOME if how == PARTS else _MANY
    if size <= (parts * _PART if how == PARTS else _ALL_UP_TO):
        for at in range(0, size, _CHUNK):
            yield at, _CHUNK
        return
    for number in range(parts):
        yield (size - _PART) * number // (parts - 1), _PART


def _of_tree(dive: Dive) -> Tuple[int, str]:
    """(bytes allocated, a hash of names, inodes, sizes and times) of all below a folder."""
    whole, entries = hashlib.sha256(), 0
    size = dive.here.about.st_blocks * BLOCK
    dive.here.data = sorted(os.listdir(dive.here.descriptor))
    while True:
        if not dive.here.data:
            if len(dive.way) == 1:
                return size, whole.hexdigest()
            with contextlib.suppress(LostError):
                dive.up()
            whole.update(b"\0up")
            continue
        name, entries = dive.here.data.pop(), entries + 1
        if entries > _MOST_ENTRIES:
            return size, os.urandom(32).hex()  # too much to tell: it is never the same
        try:
            about = os.stat(name, dir_fd=dive.here.descriptor, follow_symlinks=False)
        except OSError:
            continue
        size += about.st_blocks * BLOCK
        kind = stat.S_IFMT(about.st_mode)
        told = kind, about.st_ino, about.st_size, about.st_mtime_ns
        whole.update(b"%s\0%d %d %d %d" % (os.fsencode(name), *told))
        if stat.S_ISDIR(about.st_mode):
            try:
                if dive.down(name) is not None:
                    dive.here.data = sorted(os.listdir(dive.here.descriptor))
            except OSError:
                whole.update(b"\0unread")


def fits(mark: str, place: str) -> bool:
    """Whether what stands there is what was marked: inode, volume, size and time; where only the
    time of its status is another one, its content decides.
    """
    then = mark.split(":")
    how = int(then[6]) if len(then) == 8 and then[6] in {"1", "2"} else NONE
    found = marked(place, how)
    if found is None:
        return False
    now = found[0].split(":")
    if now[_SAME] != then[_SAME]:
        return False
    return now[_TIME:6] == then[_TIME:6] or (how != NONE and now[_CONTENT] == then[_CONTENT])
