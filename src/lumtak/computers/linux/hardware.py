"""What the computer is made of and how it is powered, from /proc and /sys."""

import re
from typing import Literal

from lumtak.computers.hands.reach import Reach, text
from lumtak.core.facts import MemoryNow, Space
from lumtak.core.record import Figure, NotMeasured
from lumtak.core.sample import Resource
from lumtak.core.text import number, plain

RESOURCES: tuple[Resource, ...] = ("cpu", "memory", "io")
_CPU = "/sys/devices/system/cpu"
_SUPPLY = "/sys/class/power_supply"


def _line(hand: Reach, path: str) -> str | None:
    try:
        return text(hand.read(path, 65536)).strip()
    except OSError:
        return None


def _number(hand: Reach, path: str) -> float | None:
    line = _line(hand, path)
    return float(line) if line and re.fullmatch(r"-?[0-9]{1,15}(\.[0-9]{1,15})?", line) else None


def nominal_mhz(hand: Reach) -> Figure:
    """The clock that "at the nominal clock" means.

    The base frequency, else the highest, else what the model's name says.
    """
    for name in ("base_frequency", "cpuinfo_max_freq"):
        khz = _number(hand, f"{_CPU}/cpu0/cpufreq/{name}")
        if khz is not None and khz > 0:
            return khz / 1000
    said = re.search(
        r"model name\s*:.*@\s*([0-9]{1,3}(?:\.[0-9]{1,5})?)\s*GHz",
        _line(hand, "/proc/cpuinfo") or "",
    )
    if said and float(said[1]):
        return float(said[1]) * 1000
    return NotMeasured(not_measured="the processor does not tell its nominal clock")


def clock_ratio(hand: Reach, nominal: Figure, cores: int) -> Figure:
    """The clock now against nominal, mean over the cores."""
    if isinstance(nominal, NotMeasured):
        return nominal
    clocks = [_number(hand, f"{_CPU}/cpu{i}/cpufreq/scaling_cur_freq") for i in range(cores)]
    told = [c for c in clocks if c is not None]
    if not told:
        return NotMeasured(not_measured="this system does not tell its clock")
    return sum(told) / len(told) / 1000 / nominal


def system_disk(hand: Reach) -> str | None:
    """The folder in /sys of the disk under the root file system."""
    for line in (_line(hand, "/proc/self/mountinfo") or "").splitlines():
        fields = line.split()
        if len(fields) > 4 and fields[4] == "/":
            for up in ("", "/.."):
                folder = f"/sys/dev/block/{fields[2]}{up}"
                if _line(hand, f"{folder}/queue/rotational") is not None:
                    return folder
    return None


def disk_busy_s(hand: Reach, folder: str | None) -> Figure:
    """For how long the disk had something to do.

    The tenth field of its stat, in ms (Documentation/block/stat.rst).
    """
    fields = (_line(hand, f"{folder}/stat") or "").split() if folder else []
    if len(fields) > 9 and (busy_ms := number(fields[9])) is not None:
        return busy_ms / 1000
    return NotMeasured(not_measured="the system's disk does not tell how busy it is")


def stalled_s(hand: Reach) -> dict[Resource, Figure]:
    """For how long tasks waited, from /proc/pressure (Documentation/accounting/psi.rst), where the
    kernel keeps count.
    """
    found: dict[Resource, Figure] = {}
    for resource in RESOURCES:
        said = re.search(
            r"some .*total=([0-9]{1,20})", _line(hand, f"/proc/pressure/{resource}") or ""
        )
        found[resource] = (
            int(said[1]) / 1e6
            if said
            else NotMeasured(not_measured="this kernel has no pressure files")
        )
    return found


def users(hand: Reach) -> tuple[str, ...] | NotMeasured:
    """Everybody who is logged in, as the session manager names them."""
    found = sessions(hand)
    if found is None:
        return NotMeasured(not_measured="no session manager counts logins here")
    return tuple(sorted({plain(s.get("USER", s.get("UID", "?"))) for s in found}))


def temperature_c(hand: Reach) -> Figure:
    """The hottest thermal zone."""
    try:
        zones = [z for z in hand.names("/sys/class/thermal") if z.startswith("thermal_zone")]
    except OSError:
        zones = []
    told = [t for z in zones if (t := _number(hand, f"/sys/class/thermal/{z}/temp")) is not None]
    return max(told) / 1000 if told else NotMeasured(not_measured="no sensor tells a temperature")


def disk_kind(hand: Reach) -> Literal["spinning", "solid"] | NotMeasured:
    """The kind of the disk under the root file system."""
    folder = system_disk(hand)
    if folder:
        return "spinning" if _number(hand, f"{folder}/queue/rotational") else "solid"
    return NotMeasured(not_measured="the system's disk does not tell its kind")


def battery(hand: Reach) -> tuple[bool, Literal["mains", "battery"]]:
    """(has a battery of its own, what it runs on)."""
    has, draining = False, False
    try:
        names = hand.names(_SUPPLY)
    except OSError:
        names = []
    for name in names:
        if (
            _line(hand, f"{_SUPPLY}/{name}/type") != "Battery"
            or _line(hand, f"{_SUPPLY}/{name}/scope") == "Device"
        ):
            continue
        has = True
        draining = draining or _line(hand, f"{_SUPPLY}/{name}/status") == "Discharging"
    return has, "battery" if draining else "mains"


def system_name(hand: Reach) -> str:
    """The system's name from os-release."""
    said = re.search(r'(?m)^PRETTY_NAME="?([^"\n]*)', _line(hand, "/etc/os-release") or "")
    return said[1] if said else "Linux"


def machine_id(hand: Reach) -> str:
    """The machine's id, else its host name: enough to know it again."""
    return _line(hand, "/etc/machine-id") or _line(hand, "/proc/sys/kernel/hostname") or "unknown"


def _uid(session: dict[str, str]) -> int:
    uid = number(session.get("UID"))
    return -1 if uid is None else uid


def sessions(hand: Reach, uid: int | None = None) -> list[dict[str, str]] | None:
    """Sessions as the session manager keeps them, oldest first: one user's, or all.

    None where there is no such manager.
    """
    folder = "/run/systemd/sessions"
    try:
        names = hand.names(folder)
    except OSError:
        return None
    found = []
    for name in names:
        said = dict(
            line.split("=", 1)
            for line in (_line(hand, f"{folder}/{name}") or "").splitlines()
            if "=" in line
        )
        if uid in {None, _uid(said)} and said.get("CLASS", "user").startswith("user"):
            found.append({**said, "ID": name})
    return sorted(found, key=lambda s: s.get("REALTIME", ""))


def memory_now(hand: Reach, sizes: dict[str, int]) -> MemoryNow:
    """Shared memory and swap from /proc/meminfo (proc(5)), and whether the kernel can save memory
    to disk.
    """
    shared: Figure = NotMeasured(not_measured="the kernel does not say how much memory is shared")
    if "Shmem" in sizes:
        shared = float(sizes["Shmem"])
    able = (_line(hand, "/sys/power/state") or "").split()
    wanted = " ".join(_line(hand, path) or "" for path in ("/proc/cmdline", "/sys/power/resume"))
    hibernates = "disk" in able and ("resume=" in wanted) and sizes.get("SwapTotal", 0) > 0
    return MemoryNow(
        shared_bytes=shared, swap_total_bytes=sizes.get("SwapTotal", 0), hibernates=hibernates
    )


def space(hand: Reach) -> Space:
    """The volume that holds the system; statvfs(3), free to an ordinary user."""
    try:
        total, free, _ = hand.space("/")
    except OSError as error:
        nothing = NotMeasured(
            not_measured=f"the volume cannot be asked: {(error.strerror or '').lower()}"
        )
        return Space(total_bytes=nothing, free_bytes=nothing)
    return Space(total_bytes=float(total), free_bytes=float(free))
