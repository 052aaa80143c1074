"""How long the last start took, as systemd counted it, and how quickly the computer answers now."""

import os
import statistics
import tempfile
import time
from collections.abc import Callable

from lumtak.computers.linux.transport import Transport, text, text_at
from lumtak.computers.linux.user import User, acting_as
from lumtak.core.record import Figure, NotMeasured

_STAMPS = ("Firmware", "Loader", "Kernel", "InitRD", "Userspace", "Finish")
_NAP_S = 0.001
_NONE = NotMeasured(not_measured="no systemd counts the start here")


def answers(transport: Transport, folder: str, user: User) -> dict[str, Figure]:
    """Seconds, medians of a few tries each: to start a program, to wake from a short sleep, to have a small file on the disk.

    Args:
        transport: of the computer; only the one that Lumtak runs on can be asked so.
        folder: on the disk that is to be asked; a file is made there and removed.
        user: who makes that file.
    """
    if not transport.live:
        return {}
    found: dict[str, Figure] = {}
    try:
        found["start of a program"] = statistics.median(_timed(lambda: transport.run(("true",))) for _ in range(5))
    except OSError:
        found["start of a program"] = NotMeasured(not_measured="the program true is not there")
    found["waking from sleep"] = statistics.median(
        max(0.0, _timed(lambda: time.sleep(_NAP_S)) - _NAP_S) for _ in range(20)
    )
    try:
        with acting_as(user), tempfile.TemporaryFile(dir=folder) as file:
            found["writing a small file to the disk"] = statistics.median(
                _timed(lambda: _written(file.fileno())) for _ in range(5)
            )
    except OSError as error:
        reason = (error.strerror or str(error)).lower()
        found["writing a small file to the disk"] = NotMeasured(
            not_measured=f"no file can be made in {folder}: {reason}"
        )
    return found


def _timed(act: Callable[[], object]) -> float:
    start = time.perf_counter()
    act()
    return time.perf_counter() - start


def _written(descriptor: int) -> None:
    os.pwrite(descriptor, os.urandom(4096), 0)
    os.fsync(descriptor)


def _in_a_container(transport: Transport) -> bool:
    """As systemd found it; systemd.exec(5), /run/systemd/container."""
    return bool(text_at(transport, "/run/systemd/container"))


def start_times(transport: Transport) -> dict[str, Figure]:
    """Seconds by part: firmware, boot loader, kernel, initial system, services; those that this computer has.

    From the manager's monotonic time stamps (org.freedesktop.systemd1): firmware and loader count backwards from the kernel's start,
    the others forwards, 0 is not known.
    """
    if not transport.live:
        return {"start": _NONE}
    names = ",".join(f"{s}TimestampMonotonic" for s in _STAMPS)
    try:
        shown = text(transport.run(("systemctl", "show", "--no-pager", f"--property={names}"), timeout_s=5.0))
    except OSError:
        return {"start": _NONE}
    at: dict[str, float] = {}
    for line in shown.splitlines():
        name, _, value = line.partition("=")
        if value.isdigit() and int(value) > 0:
            at[name.removesuffix("TimestampMonotonic")] = int(value) / 1e6
    if "Userspace" not in at:
        return {"start": _NONE}
    found: dict[str, Figure] = {}
    if "Firmware" in at:
        found["start: firmware"] = at["Firmware"] - at.get("Loader", 0.0)
    if "Loader" in at:
        found["start: boot loader"] = at["Loader"]
    if not _in_a_container(transport):  # there the kernel started long before
        found["start: kernel"] = at.get("InitRD", at["Userspace"])
    if "InitRD" in at:
        found["start: initial system"] = at["Userspace"] - at["InitRD"]
    found["start: services"] = (
        at["Finish"] - at["Userspace"] if "Finish" in at else NotMeasured(not_measured="the system is still starting")
    )
    return found
