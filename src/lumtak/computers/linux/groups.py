"""CPU and memory as control groups count them (kernel, admin-guide/cgroup-v2 and cgroup-v1), where
there are any.
"""

import re

from lumtak.computers.hands.reach import Reach, text
from lumtak.core.text import number

_TOP = "/sys/fs/cgroup"
_V1_MEMORY = (b"total_rss", b"total_swap")
_V2_MEMORY = (b"anon",)


class Groups:
    """Counts of groups by their path, in whichever of the two forms this kernel keeps them.

    What a group counted holds what processes used that came and went between two looks.

    Args:
        hand: of the computer.
    """

    def __init__(self, hand: Reach) -> None:
        self._hand = hand
        self.version = next(
            (v for v, name in ((2, "cgroup.controllers"), (1, "cpuacct")) if _is_there(hand, name)),
            0,
        )
        """Of control groups; 0 where there are none."""

    def cpu_s(self, group: str) -> float | None:
        """Core-seconds since the group was made; None where it is gone or nobody counts."""
        if self.version == 2:
            said = re.search(rb"(?m)^usage_usec (\d{1,20})$", self._read(f"{_TOP}{group}/cpu.stat"))
            return int(said[1]) / 1e6 if said else None
        if self.version == 1:
            nanoseconds = number(self._read(f"{_TOP}/cpuacct{group}/cpuacct.usage").strip())
            return None if nanoseconds is None else nanoseconds / 1e9
        return None

    def anonymous_bytes(self, group: str) -> float | None:
        """Memory of its own that the group holds, swapped memory included where it is counted.

        None where nobody counts.
        """
        path, names = (
            (f"{_TOP}{group}", _V2_MEMORY)
            if self.version == 2
            else (f"{_TOP}/memory{group}", _V1_MEMORY)
        )
        fields = dict(
            line.split(b" ", 1)
            for line in self._read(f"{path}/memory.stat").splitlines()
            if b" " in line
        )
        told = [size for n in names if (size := number(fields.get(n))) is not None]
        if not told:
            return None
        return float(sum(told) + (number(self._read(f"{path}/memory.swap.current").strip()) or 0))

    def _read(self, path: str) -> bytes:
        try:
            return self._hand.read(path, 1 << 14)
        except OSError:
            return b""


def _is_there(hand: Reach, name: str) -> bool:
    folder, _, inside = f"{_TOP}/{name}".rpartition("/")
    try:
        return inside in hand.names(folder)
    except OSError:
        return False


def group_of(listed: bytes) -> str:
    """The path of a process's group from /proc/PID/cgroup, of the one hierarchy or of systemd's
    own: whichever is in use; cgroups(7).
    """
    found = [""]
    for line in text(listed).splitlines():
        _, names, path = [*line.split(":", 2), "", ""][:3]
        if names in {"", "name=systemd"} and path.startswith("/") and "/../" not in f"{path}/":
            found.append(path)
    return max(found, key=len)
