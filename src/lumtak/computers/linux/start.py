"""How long the last start took, as systemd counted it."""

from lumtak.computers.linux.transport import Transport, text
from lumtak.core.record import Figure, NotMeasured

_STAMPS = ("Firmware", "Loader", "Kernel", "InitRD", "Userspace", "Finish")
_NONE = NotMeasured(not_measured="no systemd counts the start here")


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
    found["start: kernel"] = at.get("InitRD", at["Userspace"])
    if "InitRD" in at:
        found["start: initial system"] = at["Userspace"] - at["InitRD"]
    found["start: services"] = (
        at["Finish"] - at["Userspace"] if "Finish" in at else NotMeasured(not_measured="the system is still starting")
    )
    return found
