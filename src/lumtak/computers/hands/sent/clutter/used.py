"""What is in use just now. Sent with the hand: the language of Python 3.8. Source: proc(5)."""

from __future__ import annotations

import contextlib
import os
import re
from typing import Set, Tuple

from lumtak.computers.hands.sent.files.opening import lines_of, names_in


def in_use() -> Set[Tuple[int, int]]:
    """(device, inode) of what processes have open, run, stand in or lock, as far as this user may
    see; proc(5).
    """
    found: Set[Tuple[int, int]] = set()
    mine = str(os.getpid())
    for pid in names_in("/proc"):
        if not pid.isdigit() or pid == mine:
            continue
        places = ["/proc/%s/%s" % (pid, name) for name in ("cwd", "exe", "root")]
        with contextlib.suppress(OSError):
            places += ["/proc/%s/fd/%s" % (pid, n) for n in names_in("/proc/%s/fd" % pid)]
        for place in places:
            with contextlib.suppress(OSError):
                about = os.stat(place)
                found.add((about.st_dev, about.st_ino))
        found |= _mapped("/proc/%s/maps" % pid)
    return found | _locked()


def _device(text: bytes) -> int:
    major, _, minor = text.partition(b":")
    return os.makedev(int(major, 16), int(minor, 16))


def _mapped(place: str) -> Set[Tuple[int, int]]:
    found: Set[Tuple[int, int]] = set()
    with contextlib.suppress(OSError, ValueError):
        for line in lines_of(place):
            parts = line.split(None, 5)
            if len(parts) > 5 and parts[4] != b"0":
                found.add((_device(parts[3]), int(parts[4])))
    return found


def _locked() -> Set[Tuple[int, int]]:
    found: Set[Tuple[int, int]] = set()
    with contextlib.suppress(OSError, ValueError):
        for line in lines_of("/proc/locks"):
            said = re.search(rb"([0-9a-f]+:[0-9a-f]+):(\d+) ", line)
            if said:
                found.add((_device(said[1]), int(said[2])))
    return found
