"""One process looked at closely: its command line, user and folder, from /proc/PID (proc(5))."""

import re

from lumtak.computers.hands.reach import Reach, text, text_at
from lumtak.core.facts import Process, ProcessDetails
from lumtak.core.record import NotMeasured
from lumtak.core.text import number, plain
from lumtak.errors import ComputerError

_MOST_BYTES = 1 << 14
_GONE = NotMeasured(not_measured="only its user and root may see that")


def started_of(stat: bytes) -> int | None:
    """When a process started, in ticks since boot, from /proc/PID/stat.

    None where that is not understood.
    """
    fields = stat[stat.rfind(b")") + 1 :].split()
    return number(fields[19]) if len(fields) > 19 else None


def words_of(hand: Reach, pid: int) -> list[str]:
    """The program and its arguments.

    None where they may not be read, or it has none, as a process of the kernel.
    """
    try:
        data = hand.read(f"/proc/{pid}/cmdline", _MOST_BYTES)
    except OSError:
        return []
    return text(data.rstrip(b"\0")).split("\0") if data.strip(b"\0") else []


def uid_of(hand: Reach, pid: int) -> int | None:
    """Whose rights it has, by number: the effective one."""
    said = re.search(r"(?m)^Uid:\s+\d+\s+(\d{1,10})\b", text_at(hand, f"/proc/{pid}/status"))
    return int(said[1]) if said else None


def closely(hand: Reach, process: Process) -> ProcessDetails:
    """See `About.closely`."""
    words, uid = words_of(hand, process.pid), uid_of(hand, process.pid)
    folder = hand.link(f"/proc/{process.pid}/cwd")
    try:
        started = started_of(hand.read(f"/proc/{process.pid}/stat", _MOST_BYTES))
    except OSError:
        started = None
    if started != process.started:
        raise ComputerError(
            f"{plain(process.name, 40)} (process {process.pid}) has ended.",
            "Look again at what runs.",
        )
    return ProcessDetails(
        command=" ".join(words) if words else NotMeasured(not_measured="it tells none"),
        user=_GONE if uid is None else _name_of(hand, uid),
        folder=_GONE if folder is None else folder,
    )


def _name_of(hand: Reach, uid: int) -> str:
    for line in text_at(hand, "/etc/passwd").splitlines():
        fields = line.split(":")
        if len(fields) > 2 and fields[2] == str(uid):
            return fields[0]
    return f"number {uid}"
