"""The table of what Lumtak writes as root: places, contents and link targets. Nothing else is written, whoever recorded it.

A state may come from a record that somebody else wrote, so it is held against this table before anything is touched.
"""

import os
import posixpath
import re
from collections.abc import Mapping
from itertools import product

UNITS, SYSCTL_D, SWAP_FOLDER = "/etc/systemd/system", "/etc/sysctl.d", "/var/lib/lumtak"
NOWHERE = "/dev/null"
"""A link there is a mask; systemctl(1)."""
UNIT_FOLDERS = (
    UNITS,
    "/run/systemd/system",
    "/usr/local/lib/systemd/system",
    "/usr/lib/systemd/system",
    "/lib/systemd/system",
)
"""Where the system keeps unit files, most important first; systemd.unit(5)."""
SWITCH_FOLDERS = (".wants", ".requires", ".upholds")
KERNEL: Mapping[str, tuple[str, int, int]] = {
    "swappiness": ("Readiness to swap", 0, 200),
    "vfs_cache_pressure": ("Readiness to forget names of files", 0, 1000),
}
"""Name under /proc/sys/vm: title, lowest, highest (kernel, admin-guide/sysctl/vm)."""
POLICIES = "/sys/devices/system/cpu/cpufreq"
POWER_UNIT = "lumtak-power.service"
GOVERNORS = ("powersave", "schedutil", "ondemand", "conservative", "performance")
PREFERENCES = ("", "power", "balance_performance")
_LEFT = "# Left by Lumtak, and removed when the change is put back.\n"
_FOR_ALL = "ExecStart=/bin/sh -c 'for f in {folder}/policy*/{file}; do echo {word} > \"$f\"; done'\n"
UNIT_NAME = re.compile(r"[A-Za-z0-9:_.\\@-]+")
"""What units and the folders that hold their links can be called; systemd.unit(5). The system passes over anything else."""
_UNIT_NAME = r"[^/\0\n]+\.(?:service|timer|socket|path|target|swap)"
_LINK = re.compile(rf"{UNITS}/(?:[^/\0\n]+\.(?:wants|requires|upholds)/)?({_UNIT_NAME})")
_SWAP_UNIT = re.compile(r"var-lib-lumtak-swap_([1-9][0-9]{0,6})\.swap")
_SYSCTL_FILE = re.compile(rf"{SYSCTL_D}/90-lumtak-([a-z_]+)\.conf")
_SYSCTL_TEXT = re.compile(rf"{re.escape(_LEFT)}vm\.([a-z_]+) = ([0-9]{{1,4}})\n")


def swap_file(mib: int) -> str:
    """Where Lumtak's own swap file of this size stands."""
    return f"{SWAP_FOLDER}/swap_{int(mib)}"


def swap_unit(mib: int) -> str:
    """The unit of that file: systemd takes no other name for it; systemd.swap(5)."""
    return f"{swap_file(mib).strip('/').replace('/', '-')}.swap"


def swap_unit_size(name: str) -> int:
    """The size in MiB of the file that a swap unit of Lumtak's own keeps; 0 where it is none of those."""
    said = _SWAP_UNIT.fullmatch(name)
    return int(said[1]) if said else 0


def swap_unit_text(mib: int) -> bytes:
    """The swap unit that keeps a file of Lumtak's own."""
    return (
        f"{_LEFT}[Unit]\nDescription=Swap file that was made by Lumtak\n"
        f"[Swap]\nWhat={swap_file(mib)}\n[Install]\nWantedBy=swap.target\n"
    ).encode()


def sysctl_file(name: str) -> str:
    """Where a value of the kernel is kept over a restart."""
    return f"{SYSCTL_D}/90-lumtak-{name}.conf"


def sysctl_text(name: str, value: str) -> bytes:
    """What is kept there; sysctl.d(5)."""
    return f"{_LEFT}vm.{name} = {value}\n".encode()


def kernel_value_fits(name: str, value: str) -> bool:
    """Whether this value of the kernel is one that Lumtak sets."""
    _, lowest, highest = KERNEL.get(name, ("", 0, -1))
    return re.fullmatch(r"[0-9]{1,4}", value) is not None and lowest <= int(value) <= highest


def power_unit_text(governor: str, preference: str) -> bytes:
    """The unit that sets a governor, and an energy preference where there is one, at each start."""
    lines = _FOR_ALL.format(folder=POLICIES, file="scaling_governor", word=governor)
    if preference:
        lines += _FOR_ALL.format(folder=POLICIES, file="energy_performance_preference", word=preference)
    return (
        f"{_LEFT}[Unit]\nDescription=Keeps the power plan that was set by Lumtak\n"
        "After=systemd-modules-load.service systemd-udev-trigger.service\n"
        f"[Service]\nType=oneshot\n{lines}[Install]\nWantedBy=multi-user.target\n"
    ).encode()


def is_own_place(path: str) -> bool:
    """Whether this is the place of a file that only Lumtak writes."""
    folder, name = os.path.split(path)
    kept = _SYSCTL_FILE.fullmatch(path)
    return bool(kept and kept[1] in KERNEL) or (folder == UNITS and (name == POWER_UNIT or swap_unit_size(name) > 0))


def is_own_content(path: str, data: bytes) -> bool:
    """Whether Lumtak itself would write these bytes to this place."""
    if not is_own_place(path):
        return False
    name = os.path.basename(path)
    if size := swap_unit_size(name):
        return data == swap_unit_text(size)
    if name == POWER_UNIT:
        return any(data == power_unit_text(*words) for words in product(GOVERNORS, PREFERENCES))
    said = _SYSCTL_TEXT.fullmatch(data.decode("utf-8", "replace"))
    return said is not None and path == sysctl_file(said[1]) and kernel_value_fits(said[1], said[2])


def is_switch(path: str) -> bool:
    """Whether a link in this place starts the unit with another: in a .wants, .requires or .upholds folder."""
    return os.path.dirname(path).endswith(SWITCH_FOLDERS)


def unit_of(path: str, target: str) -> str:
    """The unit that a link in the administrator's folder switches on, names or masks."""
    return os.path.basename(path if target == NOWHERE or is_switch(path) else target)


def is_link_place(path: str) -> bool:
    """Whether a link of a unit can stand there."""
    return _LINK.fullmatch(path) is not None and posixpath.normpath(path) == path


def why_no_link(path: str, target: str) -> str:
    """Why Lumtak would not make this link, as a clause; empty where it would.

    A mask stands in the administrator's folder itself. Every other link leads to a unit file in a folder of the system, by the name of
    that unit (an instance by that of its template), or is another name of a unit of the same kind.
    """
    if not is_link_place(path):
        return f"{path} is no place of a unit"
    name = os.path.basename(path)
    if target == NOWHERE:
        return f"{path} masks nothing there" if is_switch(path) else ""
    leads_to = posixpath.normpath(posixpath.join(posixpath.dirname(path), target))
    folder, unit = posixpath.split(leads_to)
    if folder not in UNIT_FOLDERS or re.fullmatch(_UNIT_NAME, unit) is None:
        return f"{path} leads to {target}, outside the system's own folders of units"
    template = re.sub(r"@[^@]*(?=\.[a-z]+$)", "@", name)
    if is_switch(path) and unit not in {name, template}:
        return f"{path} leads to another unit, {unit}"
    return "" if unit.rpartition(".")[2] == name.rpartition(".")[2] else f"{path} leads to a unit of another kind"
