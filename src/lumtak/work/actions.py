"""Actions on a computer: the heaviest processes, and ending one of them."""

import threading

import msgspec

from lumtak.computers.protocol import Computer
from lumtak.core.actions import Action, Running, Way, running
from lumtak.core.catalogue import Catalogue
from lumtak.core.facts import Facts, Process, closely_in_rows, heaviest_of
from lumtak.core.text import plain
from lumtak.errors import ComputerError, UnknownNameError

LOOK_S = 2.0
"""For how long processes are looked at to tell their CPU share."""
_HEAVY_PCT = 0.05
_MOST = 60


def heavy_processes(
    computer: Computer,
    catalogue: Catalogue,
    *,
    seconds: float = LOOK_S,
    stop: threading.Event | None = None,
) -> list[Running]:
    """Processes by what they take, the heaviest first, what is never ended last.

    Those that come and go meanwhile are left out.

    Raises:
        ComputerError: the computer cannot be looked at.
    """
    first = {(p.pid, p.started): p.cpu_s for p in computer.about.facts().processes}
    began = computer.clock.now_s()
    computer.clock.wait(seconds, stop)
    facts = computer.about.facts()
    passed = max(computer.clock.now_s() - began, 1e-9)
    found = [
        running(
            p, 100.0 * max(0.0, p.cpu_s - before) / passed / facts.hardware.cores, facts, catalogue
        )
        for p in facts.processes
        if (before := first.get((p.pid, p.started))) is not None and p.consumer != "system:kernel"
    ]
    total = facts.hardware.ram_bytes
    found.sort(key=lambda r: (bool(r.why_not), -(r.cpu_pct / 100 + r.ram_bytes / total)))
    return [
        msgspec.structs.replace(r, closely=looked_at_closely(computer, r.process, facts))
        for r in found[:_MOST]
    ]


def looked_at_closely(
    computer: Computer, process: Process, facts: Facts
) -> tuple[tuple[str, str], ...]:
    """(name, value) of what tells whether somebody uses a process; nothing where it has ended."""
    try:
        return tuple(closely_in_rows(process, computer.about.closely(process), facts))
    except ComputerError:
        return ()


def programs_closely(computer: Computer, facts: Facts, consumer: str) -> tuple[str, ...]:
    """Lines about the heaviest processes of a consumer, as they are now."""
    found = []
    for process in heaviest_of(consumer, facts):
        rows = looked_at_closely(computer, process, facts)
        found += (
            [
                f"process {process.pid}: {rows[0][1]}",
                *(f"  {name} {value}" for name, value in rows[1:]),
            ]
            if rows
            else []
        )
    return tuple(found)


def find_process(found: list[Running], wanted: str) -> Running:
    """The process of this number or name.

    Raises:
        UnknownNameError: there is none, or several of this name.
    """
    matches = [r for r in found if wanted in {str(r.process.pid), r.process.name}]
    if len(matches) == 1:
        return matches[0]
    numbers = [str(r.process.pid) for r in matches]
    listing = (
        f"Its numbers are {', '.join(numbers[:8])}; name one."
        if matches
        else "`lumtak end COMPUTER` lists them."
    )
    if matches:
        raise UnknownNameError("single process", plain(wanted), (), listing)
    raise UnknownNameError("process", plain(wanted), (), listing)


def end_process(
    computer: Computer, process: Process, way: Way, *, title: str, wait_s: float = 5.0
) -> Action:
    """Ask a process to end, or force it; what became of that."""
    note, ended, refused = "", False, False
    try:
        ended = computer.load.end_process(process, force=way == "forced", wait_s=wait_s)
        note = "" if ended else f"it still runs after {wait_s:g} s"
    except ComputerError as error:
        note, refused = plain(str(error), 300), True
    return Action(
        at=computer.clock.wall().isoformat(timespec="seconds"),
        target=title,
        pid=process.pid,
        consumer=process.consumer,
        way=way,
        ended=ended,
        refused=refused,
        note=note,
    )
