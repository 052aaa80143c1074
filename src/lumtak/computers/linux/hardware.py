"""What the computer is made of and how it is powered, from /proc and /sys."""

import re
from typing import Literal

from lumtak.computers.linux.transport import Transport, text
from lumtak.core.record import Figure, NotMeasured

_CPU = "/sys/devices/system/cpu"
_SUPPLY = "/sys/class/power_supply"


def _line(transport: Transport, path: str) -> str | None:
    try:
        return text(transport.read(path, 65536)).strip()
    except OSError:
        return None


def _number(transport: Transport, path: str) -> float | None:
    line = _line(transport, path)
    return float(line) if line and re.fullmatch(r"-?\d+(\.\d+)?", line) else None


def nominal_mhz(transport: Transport) -> Figure:
    """The clock that "at the nominal clock" means: the base frequency, else the highest, else what the model's name says."""
    for name in ("base_frequency", "cpuinfo_max_freq"):
        khz = _number(transport, f"{_CPU}/cpu0/cpufreq/{name}")
        if khz:
            return khz / 1000
    said = re.search(r"model name\s*:.*@\s*([\d.]+)\s*GHz", _line(transport, "/proc/cpuinfo") or "")
    if said:
        return float(said[1]) * 1000
    return NotMeasured(not_measured="the processor does not tell its nominal clock")


def clock_ratio(transport: Transport, nominal: Figure, cores: int) -> Figure:
    """The clock now against nominal, mean over the cores."""
    if isinstance(nominal, NotMeasured):
        return nominal
    clocks = [_number(transport, f"{_CPU}/cpu{i}/cpufreq/scaling_cur_freq") for i in range(cores)]
    told = [c for c in clocks if c is not None]
    if not told:
        return NotMeasured(not_measured="this system does not tell its clock")
    return sum(told) / len(told) / 1000 / nominal


def disk_kind(transport: Transport) -> Literal["spinning", "solid"] | NotMeasured:
    """The kind of the disk under the root file system."""
    for line in (_line(transport, "/proc/self/mountinfo") or "").splitlines():
        fields = line.split()
        if len(fields) > 4 and fields[4] == "/":
            for up in ("", "../"):
                spins = _number(transport, f"/sys/dev/block/{fields[2]}/{up}queue/rotational")
                if spins is not None:
                    return "spinning" if spins else "solid"
    return NotMeasured(not_measured="the system's disk does not tell its kind")


def battery(transport: Transport) -> tuple[bool, Literal["mains", "battery"]]:
    """(has a battery of its own, what it runs on)."""
    has, draining = False, False
    try:
        names = transport.names(_SUPPLY)
    except OSError:
        names = []
    for name in names:
        if (
            _line(transport, f"{_SUPPLY}/{name}/type") != "Battery"
            or _line(transport, f"{_SUPPLY}/{name}/scope") == "Device"
        ):
            continue
        has = True
        draining = draining or _line(transport, f"{_SUPPLY}/{name}/status") == "Discharging"
    return has, "battery" if draining else "mains"


def governor(transport: Transport) -> str | NotMeasured:
    """The clock's governor, which is the power plan as far as the kernel knows one."""
    return _line(transport, f"{_CPU}/cpu0/cpufreq/scaling_governor") or NotMeasured(
        not_measured="the kernel offers no choice of clocks here"
    )


def system_name(transport: Transport) -> str:
    """The system's name from os-release."""
    said = re.search(r'(?m)^PRETTY_NAME="?([^"\n]*)', _line(transport, "/etc/os-release") or "")
    return said[1] if said else "Linux"


def machine_id(transport: Transport) -> str:
    """The machine's id, else its host name: enough to know it again."""
    return _line(transport, "/etc/machine-id") or _line(transport, "/proc/sys/kernel/hostname") or "unknown"


def sessions(transport: Transport, uid: int) -> list[dict[str, str]]:
    """The user's sessions as the session manager keeps them, oldest first."""
    folder = "/run/systemd/sessions"
    try:
        names = transport.names(folder)
    except OSError:
        return []
    found = []
    for name in names:
        said = dict(
            line.split("=", 1) for line in (_line(transport, f"{folder}/{name}") or "").splitlines() if "=" in line
        )
        if said.get("UID") == str(uid) and said.get("CLASS", "user").startswith("user"):
            found.append({**said, "ID": name})
    return sorted(found, key=lambda s: s.get("REALTIME", ""))
