"""Which services and apps wait for connections of other computers.

From the kernel's own tables of TCP sockets (proc(5), /proc/net/tcp) by whose they are, and from the
sockets that systemd holds for a service. What runs as root with a socket of its own cannot be told
without root.
"""

import re
from collections.abc import Mapping, Sequence
from typing import NamedTuple

import msgspec

from lumtak.computers.hands.reach import Reach, names_at, text_at
from lumtak.computers.linux.closely import uid_of
from lumtak.core.facts import Item, Process

_TABLES = ("/proc/net/tcp", "/proc/net/tcp6")
_MOST_BYTES = 1 << 22
_LISTENS = "0A"
_ROW = re.compile(
    rf"(?m)^ *\d+: ([0-9A-F]+):[0-9A-F]+ [0-9A-F]+:0000 {_LISTENS} \S+ \S+ \S+ +(\d+) +\d+ +(\d+)"
)
_OWN = re.compile(r"(?:[0-9A-F]{6}7F|0{24}01000000|0{16}FFFF0000[0-9A-F]{6}7F)")
"""Addresses that reach this computer only: 127.0.0.0/8, ::1, and the former within IPv6."""
_INNER = re.compile(r"(?:127\.|\[::1\]:|\[::ffff:127\.|/|@|vsock:)")
"""Begins where a socket of systemd waits that no other computer reaches; systemd.socket(5)."""


class _Waiting(NamedTuple):
    """Sockets that other computers reach."""

    inodes: frozenset[str]
    uids: frozenset[int]
    """Whose they are."""


def is_open(listen: str) -> bool:
    """Whether one of the addresses that `systemctl show` names for a socket is reached by others.

    As in: [::]:631 (Stream) /run/cups/cups.sock (Stream)
    """
    addresses = [word for word in listen.split() if not word.startswith("(")]
    return any(":" in a and not _INNER.match(a) for a in addresses)


def with_listening(
    hand: Reach, items: Sequence[Item], processes: Sequence[Process], own_uid: int
) -> list[Item]:
    """The items, those that wait for others marked; only those of which nothing is known are looked
    at.

    Args:
        hand: of the computer.
        items: of any kind.
        processes: that run.
        own_uid: of the hand: its processes alone show their sockets.
    """
    waiting = _waiting(hand)
    unknown = {i.consumer for i in items if not i.role and i.running and not i.evidence}
    if not waiting.uids or not unknown:
        return list(items)
    by_uid = _running_as(hand, waiting.uids, processes)
    found = _holding(hand, by_uid.pop(own_uid, {}), waiting.inodes)
    by_uid.pop(0, None)
    for running in by_uid.values():
        if len(running) == 1:  # a user that one service alone has is that service's
            found |= running.keys()
    found &= unknown
    return [
        msgspec.structs.replace(i, evidence=("listens",)) if i.consumer in found else i
        for i in items
    ]


def _running_as(
    hand: Reach, uids: frozenset[int], processes: Sequence[Process]
) -> dict[int, dict[str, list[int]]]:
    """Numbers of the processes of services and apps, by these users and by consumer."""
    found: dict[int, dict[str, list[int]]] = {}
    for process in processes:
        if process.consumer.startswith(("services:", "apps:")):
            uid = uid_of(hand, process.pid)
            if uid in uids:
                found.setdefault(uid, {}).setdefault(process.consumer, []).append(process.pid)
    return found


def _waiting(hand: Reach) -> _Waiting:
    rows = [
        (uid, inode)
        for table in _TABLES
        for address, uid, inode in _ROW.findall(text_at(hand, table, _MOST_BYTES))
        if not _OWN.fullmatch(address)
    ]
    return _Waiting(frozenset(i for _, i in rows), frozenset(int(u) for u, _ in rows))


def _holding(hand: Reach, running: Mapping[str, Sequence[int]], inodes: frozenset[str]) -> set[str]:
    """Those of which a process holds one of these sockets."""
    wanted = {f"socket:[{inode}]" for inode in inodes}
    return {
        consumer
        for consumer, pids in running.items()
        for pid in pids
        if any(
            hand.link(f"/proc/{pid}/fd/{n}") in wanted for n in names_at(hand, f"/proc/{pid}/fd")
        )
    }
