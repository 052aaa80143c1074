"""Upkeep of a simulated computer: what its description has, found by the same means."""

import contextlib
import os
import tempfile
import threading
import time
from collections.abc import Callable, Iterator
from pathlib import Path

import msgspec

from lumtak.computers.hands.sent.hand import Hand
from lumtak.computers.simulated import disk
from lumtak.computers.simulated.machine import Machine
from lumtak.computers.simulated.scanner import StandIn
from lumtak.core.text import number, plain
from lumtak.core.units import GIB, MIB
from lumtak.core.upkeep.files import (
    fragments_result,
    integrity_result,
    scanned_result,
    signatures,
)
from lumtak.core.upkeep.system import (
    disks_result,
    odd_result,
    stopping_result,
    updates_result,
)
from lumtak.core.upkeep.tasks import Found, Partial, Result, TaskName, not_possible
from lumtak.errors import ComputerError

Tell = Callable[[Partial], None]
_STEPS, _DAY_S, _TRIMS_DAYS = 200, 86_400, 45
_SOCKET = "/run/clamav/clamd.ctl"
_KNOWN = b"a string that the scanner of this fleet knows"
_NAME = "Made-Up.Nuisance"


def run_task(machine: Machine, at: str, begun: Partial, tell: Tell) -> Result:
    """See `About.upkeep`."""
    started = time.monotonic()
    result = _DOES[begun.task](machine, at, begun, tell)
    took = result.took_s or round(time.monotonic() - started, 3)
    return msgspec.structs.replace(result, took_s=took)


def _passed(machine: Machine, begun: Partial, whole: Partial, tell: Tell) -> Iterator[Partial]:
    """Steps from where it was begun to the whole, each in the time that its disk takes for it."""
    seconds = whole.bytes / (machine.spec.hardware.disk_mib_s * MIB) / _STEPS
    first = number(begun.after) or 0
    clock = threading.Event()
    for step in range(first + 1, _STEPS + 1):
        if machine.pace:
            clock.wait(seconds / machine.pace)
        done = msgspec.structs.replace(
            whole,
            begun_at=begun.begun_at,
            after=str(step),
            files=round(whole.files * step / _STEPS),
            bytes=whole.bytes * step / _STEPS,
            whole_files=whole.files,
            whole_bytes=whole.bytes,
        )
        tell(done)
        yield done


def _integrity(machine: Machine, at: str, begun: Partial, tell: Tell) -> Result:
    spec, held = machine.spec.disk, machine.spec.upkeep
    damaged = tuple(f for f in held.damaged if f.of not in machine.state.mended)
    found = (*damaged, *held.configured)
    whole = Partial(
        task="integrity",
        begun_at=begun.begun_at,
        files=spec.system_files,
        bytes=(spec.system_gib + disk.programs_gib(machine)) * GIB,
        counts={"damaged": len(damaged), "configured": len(held.configured)},
        found=found,
    )
    done = whole
    for part in _passed(machine, begun, whole, tell):
        done = part
    return integrity_result(done, at)


def _unwanted(machine: Machine, at: str, begun: Partial, tell: Tell) -> Result:
    """Its files, as long as they are and nearly empty, shown to a stand-in of a scanner."""
    spec = machine.spec.upkeep
    if not spec.scanner:
        instead = "Install a scanner that speaks the protocol of clamd, and start this again."
        return not_possible("unwanted", at, "no scanner runs", instead)
    home = f"/home/{machine.spec.user}"
    files = {f.path: f.gib * GIB for f in disk.files_of(machine) if f.path.startswith(home)}
    names = (f"{home}/documents/note-{n:03d}.txt" for n in range(spec.user_files))
    files |= dict.fromkeys(names, 24 * 1024.0)
    done = begun
    with tempfile.TemporaryDirectory(prefix="lumtak-") as folder, _scanner(machine, Path(folder)):
        _laid_out(Path(folder), home, files, set(spec.unwanted))
        top = begun.top or home
        try:
            for part in Hand(folder).scan(top, begun.after, _SOCKET):
                done = _gone_on(begun, done, part)
                tell(done)
        except OSError as error:
            raise ComputerError(f"{machine.name}: {error.strerror}.", "Try again.") from error
    known = signatures(spec.scanner, spec.signature_days)
    return scanned_result(done, at, known, _advised)


@contextlib.contextmanager
def _scanner(machine: Machine, folder: Path) -> Iterator[None]:
    place = folder / _SOCKET[1:]
    place.parent.mkdir(parents=True)
    speed = machine.spec.hardware.disk_mib_s * MIB
    pace, clock, arm = machine.pace, threading.Event(), threading.Lock()

    def looks(size: int) -> None:
        if pace:
            with arm:  # it has one disk
                clock.wait(size / speed / pace)

    standing = StandIn(place, machine.spec.upkeep.scanner, {_KNOWN: _NAME}, looks)
    try:
        yield
    finally:
        standing.close()


def _laid_out(folder: Path, home: str, files: dict[str, float], unwanted: set[str]) -> None:
    (folder / home[1:]).mkdir(parents=True)
    for path, size in files.items():
        place = folder / path[1:]
        place.parent.mkdir(parents=True, exist_ok=True)
        place.write_bytes(_KNOWN if path in unwanted else b"")
        with contextlib.suppress(OSError):  # of a length that this disk does not take
            os.truncate(place, int(size))


def _gone_on(begun: Partial, done: Partial, part: dict[str, object]) -> Partial:
    said = msgspec.convert({k: v for k, v in part.items() if k != "ended"}, dict[str, object])
    found = tuple(
        Found(kind=kind, what=what, of=of, why=why)
        for kind, what, of, why in msgspec.convert(said["found"], list[tuple[str, str, str, str]])
    )
    counts = msgspec.convert(said["counts"], dict[str, int])
    return msgspec.structs.replace(
        done,
        after=str(said["after"]) or done.after,
        files=begun.files + msgspec.convert(said["files"], int),
        bytes=begun.bytes + msgspec.convert(said["bytes"], float),
        whole_files=begun.files + msgspec.convert(said["whole_files"], int),
        whole_bytes=begun.bytes + msgspec.convert(said["whole_bytes"], float),
        counts={n: begun.counts.get(n, 0) + c for n, c in counts.items()},
        found=done.found + found,
    )


def _advised(found: Found) -> Found:
    advice = "Nothing is deleted. Ask the owner, then set it aside."
    return msgspec.structs.replace(found, advice=advice)


def _fragments(machine: Machine, at: str, begun: Partial, tell: Tell) -> Result:
    spec = machine.spec.upkeep
    size = sum(f.gib for f in disk.files_of(machine)) * GIB + spec.large_files * 8 * MIB
    worst = _worst(machine)
    pieces = spec.pieces - sum(
        n - 1 for n, _, p in _scattered(machine) if p in machine.state.gathered
    )
    counts = {
        "measured": spec.large_files,
        "pieces": pieces,
        "many": min(spec.large_files, pieces - spec.large_files),
    }
    whole = Partial(
        task="fragments", begun_at=begun.begun_at, files=spec.large_files, bytes=size, counts=counts
    )
    tell(whole)
    return fragments_result(whole, at, worst, machine.spec.hardware.disk)


def _scattered(machine: Machine) -> list[tuple[int, int, str]]:
    """Pieces, bytes and path of its large files: half of what lies in pieces is theirs, each has a
    share by its size.
    """
    found = disk.files_of(machine)
    whole = sum(f.gib for f in found) or 1.0
    most = (machine.spec.upkeep.pieces - machine.spec.upkeep.large_files) / 2
    return [(1 + round(most * f.gib / whole), int(f.gib * GIB), f.path) for f in found]


def _worst(machine: Machine) -> list[tuple[int, int, str]]:
    left = [
        one for one in _scattered(machine) if one[2] not in machine.state.gathered and one[0] > 1
    ]
    return sorted(left, reverse=True)


def gather(machine: Machine, path: str) -> tuple[int, int]:
    """See `Settings.gather`."""
    if machine.spec.hardware.disk != "spinning":
        raise ComputerError(
            "Nothing was moved: on a solid-state disk putting files together makes nothing faster,"
            " and wears it.",
            "Leave it as it is.",
        )
    known = {one[2]: one[0] for one in _worst(machine)}
    if path not in known:
        raise ComputerError(f"{plain(path, 200)} does not lie in pieces.", "Nothing was moved.")
    machine.put(gathered=(*machine.state.gathered, path))
    machine.save()
    return known[path], 1


def _disks(machine: Machine, at: str, begun: Partial, tell: Tell) -> Result:
    del begun, tell
    spec, solid = machine.spec.upkeep, machine.spec.hardware.disk == "solid"
    found, notes = list(spec.disk), ["No solid-state disk here takes word of what is free."]
    if solid:
        days = _trim_days(machine)
        when = f"{days:.0f} days ago" if days is not None else "never as far as is known"
        notes = [f"The solid-state disk was last told what is free {when}."]
        if days is None or days > _TRIMS_DAYS:
            why = f"a solid-state disk should be told now and then what is free: {when}"
            advice = "`lumtak trim COMPUTER` does it now."
            found.append(Found(kind="look", what="/", why=why, of="trim", advice=advice))
    return disks_result(at, "1 volume looked at.", found, notes)


def _trim_days(machine: Machine) -> float | None:
    """Since its disk was last told what is free."""
    state, spec = machine.state, machine.spec.upkeep
    if state.trimmed_at_s is not None:
        return (machine.model.clock_s - state.trimmed_at_s) / _DAY_S
    return None if spec.trim_days is None else spec.trim_days + machine.model.clock_s / _DAY_S


def trim(machine: Machine) -> dict[str, int]:
    """See `Settings.trim`."""
    if machine.spec.hardware.disk != "solid":
        raise ComputerError(
            f"{machine.name} has no disk that takes word of what is free.",
            "Spinning disks need none.",
        )
    machine.put(trimmed_at_s=machine.model.clock_s)
    return {"/": int(disk.space(machine).free)}


def _updates(machine: Machine, at: str, begun: Partial, tell: Tell) -> Result:
    del begun, tell
    spec = machine.spec.upkeep
    days = spec.lists_days + machine.model.clock_s / _DAY_S
    owed = next((s.says for s in machine.spec.sign if s.name == "restart"), "")
    return updates_result(spec.updates, at, days, owed)


def _stopping(machine: Machine, at: str, begun: Partial, tell: Tell) -> Result:
    del begun, tell
    spec = machine.spec.upkeep
    stop = number(machine.model.live.get("upkeep:stop_seconds") or "") or 90
    return stopping_result(at, spec.menu_s, float(stop), spec.late, ())


def _odd(machine: Machine, at: str, begun: Partial, tell: Tell) -> Result:
    del begun, tell
    count = len(machine.spec.service) + len(machine.spec.app)
    return odd_result(at, count, machine.spec.upkeep.odd, all_jobs=True)


_DOES: dict[TaskName, Callable[[Machine, str, Partial, Tell], Result]] = {
    "integrity": _integrity,
    "unwanted": _unwanted,
    "fragments": _fragments,
    "disks": _disks,
    "updates": _updates,
    "stopping": _stopping,
    "odd": _odd,
}
