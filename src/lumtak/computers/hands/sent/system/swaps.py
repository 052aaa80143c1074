"""Swap areas as the kernel and the service manager tell of them.

Sent with the hand: the standard library only, in the language of Python 3.8. Sources: proc(5),
/proc/swaps and /proc/meminfo; systemd.swap(5); systemd.unit(5).
"""

from __future__ import annotations

import posixpath
import re
from typing import Any, Dict, List, NamedTuple, Set, Tuple

from lumtak.computers.hands.sent.files.places import real_path
from lumtak.computers.hands.sent.table import NOWHERE, SWAP_FOLDER, UNITS, swap_unit_size

UNIT_FOLDERS = (
    UNITS, "/run/systemd/transient", "/run/systemd/generator.early", "/run/systemd/system",
    "/run/systemd/generator", "/usr/local/lib/systemd/system", "/usr/lib/systemd/system",
    "/lib/systemd/system", "/run/systemd/generator.late",
)  # fmt: skip
"""Most important first; systemd.unit(5)."""
_MOST_BYTES = 1 << 20
_OWN_NAME = re.compile(r"swap_([1-9][0-9]{0,6})")
_SWITCHES = UNITS + "/swap.target.wants"


class SwapArea(NamedTuple):
    """One swap area that is in use; proc(5), /proc/swaps."""

    path: str
    mib: int
    used_bytes: int
    kind: str


def text_of(look: Any, path: str, most: int = 1 << 16) -> str:
    """A small file as text; empty where it cannot be read."""
    try:
        data: bytes = look.read(path, most)
    except OSError:
        return ""
    return data.decode("utf-8", "replace")


def names_in(look: Any, folder: str) -> List[str]:
    """What a folder holds; nothing where it cannot be read."""
    try:
        found: List[str] = look.names(folder)
    except OSError:
        return []
    return found


def areas_in_use(look: Any) -> List[SwapArea]:
    """What is in use now."""
    found = []
    for line in text_of(look, "/proc/swaps", _MOST_BYTES).splitlines()[1:]:
        fields = line.split()
        if len(fields) < 4 or not all(re.fullmatch(r"[0-9]{1,18}", f) for f in fields[2:4]):
            continue
        path = re.sub(r"\\([0-7]{3})", lambda m: chr(int(m[1], 8)), fields[0])
        kind = "zram" if re.match(r"/dev/zram[0-9]", path) else fields[1]
        mib = round(int(fields[2]) / 1024)
        found.append(SwapArea(path, mib, int(fields[3]) * 1024, kind))
    return found


def units_by_path(look: Any) -> Dict[str, Tuple[str, str]]:
    """(unit, folder of its file) by the path that it swaps to.

    From files, those that a generator made from fstab included.
    """
    found: Dict[str, Tuple[str, str]] = {}
    seen: Set[str] = set()
    for folder in UNIT_FOLDERS:
        for name in names_in(look, folder):
            path = "%s/%s" % (folder, name)
            if not name.endswith(".swap") or name in seen or look.link(path) == NOWHERE:
                continue
            seen.add(name)
            what = re.search(r"(?m)^What=[ \t]*(/.*)$", text_of(look, path).rstrip())
            if what:
                found.setdefault(real_path(look, what[1].strip()), (name, folder))
    return found


def masked_units(look: Any) -> List[str]:
    """Swap units that the administrator masked."""
    names = [n for n in names_in(look, UNITS) if n.endswith(".swap")]
    return [n for n in names if look.link("%s/%s" % (UNITS, n)) == NOWHERE]


def own_mib(path: str) -> int:
    """The size of a swap file of Lumtak's own, by its place; 0 where it is none."""
    folder, name = posixpath.split(path)
    said = _OWN_NAME.fullmatch(name)
    return int(said[1]) if said and folder == SWAP_FOLDER else 0


def own_kept(look: Any) -> Set[int]:
    """Sizes of Lumtak's own that start with the system."""
    return {size for name in names_in(look, _SWITCHES) for size in [swap_unit_size(name)] if size}


def own_left(look: Any) -> Set[int]:
    """Sizes of Lumtak's own files that are there, used or not."""
    found = (own_mib("%s/%s" % (SWAP_FOLDER, name)) for name in names_in(look, SWAP_FOLDER))
    return {mib for mib in found if mib}


def available_bytes(look: Any) -> int:
    """Memory that programs can have; proc(5), MemAvailable."""
    said = re.search(r"(?m)^MemAvailable:\s+([0-9]{1,16}) kB$", text_of(look, "/proc/meminfo"))
    return int(said[1]) * 1024 if said else 0
