"""How long the last start took, as systemd counted it."""

from lumtak.computers.hands.reach import Reach, text, text_at
from lumtak.core.record import Figure, NotMeasured
from lumtak.core.text import number

_STAMPS = ("Firmware", "Loader", "Kernel", "InitRD", "Userspace", "Finish")
_NONE = NotMeasured(not_measured="no systemd counts the start here")


def _in_a_container(hand: Reach) -> bool:
    """As systemd found it; systemd.exec(5), /run/systemd/container."""
    return bool(text_at(hand, "/run/systemd/container"))


def start_times(hand: Reach) -> dict[str, Figure]:
    """Seconds by part: firmware, boot loader, kernel, initial system, services.

    Those that this computer has.

    From the manager's monotonic time stamps (org.freedesktop.systemd1): firmware and loader count
    backwards from the kernel's start, the others forwards, 0 is not known.
    """
    if not hand.live:
        return {"start": _NONE}
    names = ",".join(f"{s}TimestampMonotonic" for s in _STAMPS)
    try:
        shown = text(hand.run(("systemctl", "show", "--no-pager", f"--property={names}"), 5.0))
    except OSError:
        return {"start": _NONE}
    at: dict[str, float] = {}
    for line in shown.splitlines():
        name, _, value = line.partition("=")
        if stamp_us := number(value):
            at[name.removesuffix("TimestampMonotonic")] = stamp_us / 1e6
    if "Userspace" not in at:
        return {"start": _NONE}
    found: dict[str, Figure] = {}
    if "Firmware" in at:
        found["start: firmware"] = at["Firmware"] - at.get("Loader", 0.0)
    if "Loader" in at:
        found["start: boot loader"] = at["Loader"]
    if not _in_a_container(hand):  # there the kernel started long before
        found["start: kernel"] = at.get("InitRD", at["Userspace"])
    if "InitRD" in at:
        found["start: initial system"] = at["Userspace"] - at["InitRD"]
    found["start: services"] = (
        at["Finish"] - at["Userspace"]
        if "Finish" in at
        else NotMeasured(not_measured="the system is still starting")
    )
    return found
