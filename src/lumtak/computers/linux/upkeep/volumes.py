"""Volumes of disks that are mounted, and what the kernel says of their disks.

Sources: proc(5), mountinfo; kernel, ABI/stable/sysfs-block (queue/rotational,
queue/discard_max_bytes).
"""

import re
from collections.abc import Container
from typing import NamedTuple

from lumtak.computers.hands.reach import Reach, text_at
from lumtak.computers.hands.sent.files.words import escaped
from lumtak.core.text import number

_CODES = (("\\040", " "), ("\\011", "\t"), ("\\012", "\n"), ("\\134", "\\"))
_MOST = 64


class Volume(NamedTuple):
    """A volume of a disk."""

    place: str
    kind: str
    """Of its file system: ext4, xfs, btrfs."""
    source: str
    """The device, /dev/..."""
    device: str
    """The last part of its name in /sys/block or /sys/class/block."""
    options: frozenset[str]
    spinning: bool | None
    """None where the disk does not tell."""
    discards: bool
    """Whether its disk takes word of what is free."""


def volumes(hand: Reach) -> list[Volume]:
    """Those of disks, one for each device."""
    found: dict[str, Volume] = {}
    for line in text_at(hand, "/proc/self/mountinfo", 1 << 20).splitlines():
        volume = _volume(hand, line, found)
        if volume is not None:
            found[volume.source] = volume
        if len(found) >= _MOST:
            break
    return list(found.values())


def _volume(hand: Reach, line: str, known: Container[str]) -> Volume | None:
    """What a line says; None where it is no disk's, or one that is known already."""
    fields, _, more = line.partition(" - ")
    parts, about = fields.split(" "), [*more.split(" "), "", ""]
    source = escaped(about[1])[:200]
    if len(parts) < 6 or not source.startswith("/dev/") or source.startswith("/dev/loop"):
        return None
    device = "" if source in known else _device(hand, parts[2], about[1], about[0])
    if not device:
        return None
    place = parts[4]
    for code, char in _CODES:
        place = place.replace(code, char)
    queue = _queue(hand, f"/sys/class/block/{device}")
    most = text_at(hand, f"{queue}/discard_max_bytes")
    return Volume(
        place=escaped(place),
        kind=escaped(about[0])[:20],
        source=source,
        device=device,
        options=frozenset(f"{parts[5]},{about[2]}".split(",")),
        spinning={"1": True, "0": False}.get(text_at(hand, f"{queue}/rotational")),
        discards=bool(number(most)),
    )


def _device(hand: Reach, numbers: str, source: str, kind: str) -> str:
    """The kernel's name of the device with these numbers, or of this source where the file system
    has numbers of its own (btrfs).
    """
    if re.fullmatch(r"[0-9]{1,5}:[0-9]{1,7}", numbers):
        target = hand.link(f"/sys/dev/block/{numbers}")
        if target:
            return target.rpartition("/")[2]
    name = source.removeprefix("/dev/")
    if kind != "btrfs":  # anybody can mount something by the name of a disk
        return ""
    return name if "/" not in name and hand.exists(f"/sys/class/block/{name}") else ""


def _queue(hand: Reach, folder: str) -> str:
    """The queue of the disk that a partition is part of."""
    return f"{folder}/queue" if hand.exists(f"{folder}/queue") else f"{folder}/../queue"
