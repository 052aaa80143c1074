"""Start and stop: what the boot menu waits for, how long services may take to stop, what held up
the last shutdown.

Sources: grub's "Simple configuration", GRUB_TIMEOUT; loader.conf(5); systemd-system.conf(5),
DefaultTimeoutStopSec; what systemd's first process says of a unit that did not stop in time.
"""

import re

import msgspec

from lumtak.computers.hands.reach import reason_of, runs_systemd, text
from lumtak.computers.linux.starts import seconds_in
from lumtak.computers.linux.upkeep.given import Given
from lumtak.core.record import UNREADABLE
from lumtak.core.text import plain
from lumtak.core.upkeep.system import stopping_result
from lumtak.core.upkeep.tasks import Result

_STARTED_UP = "MESSAGE_ID=b07a249cd024414a82dd00cd181378ff"
_JOURNAL = ("journalctl", "--no-pager", "--quiet", "--output=json")
_LATE = re.compile(r"(?i)(?:stop-sig\w+|stop|final-sig\w+|Stopping)\S* timed out|Killing process")
_MOST = 200


def stopping(given: Given) -> Result:
    """What is set, and what held up the last shutdown."""
    menu = menu_s(given)
    late, note = _last_shutdown(given)
    notes = [note] if note else []
    if menu is None:
        notes.insert(0, "How long the boot menu waits could not be read.")
    return stopping_result(given.at, menu, stop_s(given), late, notes)


def menu_s(given: Given) -> float | None:
    """How long the boot menu waits; None where nothing tells."""
    made = re.findall(
        r"(?m)^\s*set timeout=(\d{1,4})\s*$", given.read("/boot/grub/grub.cfg", 1 << 18)
    )
    wished = re.search(r'(?m)^\s*GRUB_TIMEOUT=["\']?(-?\d{1,4})', given.read("/etc/default/grub"))
    loader = re.search(r"(?m)^\s*timeout\s+(\d{1,4})\s*$", given.read("/boot/loader/loader.conf"))
    if made:
        return float(made[-1])
    if wished:
        return max(0.0, float(wished[1]))
    return float(loader[1]) if loader else None


def stop_s(given: Given) -> float | None:
    """How long services may take to stop where they say nothing; None where nothing tells."""
    try:
        said = text(
            given.hands.own.run(
                ("systemctl", "show", "--no-pager", "--property=DefaultTimeoutStopUSec")
            )
        )
    except OSError:
        return None
    return seconds_in(said.strip().partition("=")[2])


def _last_shutdown(given: Given) -> tuple[list[str], str]:
    """What did not stop in time before this start; and why that is not known, where it is not."""
    hand = given.hands.own
    if not hand.live or not runs_systemd(hand):
        return [], "No system journal tells of the last shutdown."
    try:
        asked = (*_JOURNAL, "--output-fields=_BOOT_ID,_UID", "--lines=12", _STARTED_UP)
        ends = [d for d in _documents(hand.run(asked, 30.0)) if d.get("_UID") == "0"]
        boots = list(dict.fromkeys(d.get("_BOOT_ID", "") for d in ends))
        if len(boots) < 2:
            return [], "The journal tells of no start before this one."
        wanted = (
            *_JOURNAL,
            "--output-fields=MESSAGE,UNIT",
            f"--lines={_MOST}",
            f"_BOOT_ID={boots[-2]}",
            "_PID=1",
            "PRIORITY=3",
            "PRIORITY=4",
        )
        said = _documents(hand.run(wanted, 30.0))
    except OSError as error:
        return [], f"The journal cannot be read: {reason_of(error)}."
    late = [
        plain(line.get("UNIT", ""), 120) for line in said if _LATE.search(line.get("MESSAGE", ""))
    ]
    return list(dict.fromkeys(filter(None, late))), ""


def _documents(data: bytes) -> list[dict[str, str]]:
    """Lines of the journal; those that are none are passed over."""
    found = []
    for line in data.splitlines():
        try:
            found.append(msgspec.json.decode(line, type=dict[str, object]))
        except UNREADABLE:
            continue
    return [{k: v for k, v in d.items() if isinstance(v, str)} for d in found]
