"""What a technician wants to know at the door.

A worn battery, heat that slows the processor, updates that wait for a restart.
"""

import re

from lumtak.computers.hands.reach import Reach, names_at, text_at
from lumtak.core.facts import Sign
from lumtak.core.text import plain
from lumtak.core.units import counted

_CPU, _SUPPLY = "/sys/devices/system/cpu", "/sys/class/power_supply"
_WORN_PCT = 80.0
_PACKAGES_SHOWN = 4


def signs(hand: Reach, kernel: str) -> list[Sign]:
    """Those that are there; the kernel is the one that runs."""
    found = [_heat(hand), _restart(hand, kernel), _updates(hand)]
    told = [Sign(name=name, says=plain(says, 300)) for name, says in found if says]
    return (
        _battery(hand)
        + told
        + [Sign(name="file system", says=plain(w, 300), grave=True) for w in _damage(hand)]
    )


def _damage(hand: Reach) -> list[str]:
    """File systems that noted errors; kernel, ABI/testing/sysfs-fs-ext4."""
    found = []
    for device in names_at(hand, "/sys/fs/ext4"):
        if errors := _number(hand, f"/sys/fs/ext4/{device}/errors_count"):
            what = counted(errors, "error")
            found.append(f"{device} noted {what}: save what is on it before anything else")
    return found


def _battery(hand: Reach) -> list[Sign]:
    """What it holds of what it was built for; kernel, ABI/testing/sysfs-class-power."""
    told, least = [], 100.0
    for name in names_at(hand, _SUPPLY):
        folder = f"{_SUPPLY}/{name}"
        if (
            text_at(hand, f"{folder}/type") != "Battery"
            or text_at(hand, f"{folder}/scope") == "Device"
        ):
            continue
        for kind in ("energy", "charge"):
            now, built = (
                _number(hand, f"{folder}/{kind}_{what}") for what in ("full", "full_design")
            )
            if now and built:
                share = 100 * now / built
                least = min(least, share)
                worn = "; it is worn, and a new one lasts longer" if share < _WORN_PCT else ""
                cycles = _number(hand, f"{folder}/cycle_count")
                told.append(
                    f"holds {share:.0f} % of what it was built"
                    f" for{f', {cycles} cycles' if cycles else ''}{worn}"
                )
                break
    worn_pct = round(least, 1) if least < _WORN_PCT else None
    return [Sign(name="battery", says=plain("; ".join(told), 300), worn_pct=worn_pct)] * bool(told)


def _heat(hand: Reach) -> tuple[str, str]:
    """How often the processor slowed itself for heat, the most of any core or package.

    Kernel, admin-guide/thermal/intel_powerclamp.
    """
    counts = [0]
    for name in names_at(hand, _CPU):
        if re.fullmatch(r"cpu[0-9]+", name):
            folder = f"{_CPU}/{name}/thermal_throttle"
            counts += [
                _number(hand, f"{folder}/{what}_throttle_count") or 0
                for what in ("core", "package")
            ]
    most = max(counts)
    return (
        "heat",
        (
            f"slowed the processor {most} times since the start; clean its fans before changing"
            " settings"
            if most
            else ""
        ),
    )


def _restart(hand: Reach, kernel: str) -> tuple[str, str]:
    """Whether updates wait for a restart.

    The distribution's own note, a kernel whose modules are gone, a newer one to start.
    """
    if "reboot-required" in names_at(hand, "/run"):
        return "restart", f"updates{_noted_packages(hand)} wait for one"
    return "restart", _waiting_kernel(hand, kernel) if kernel else ""


def waiting_restart(hand: Reach) -> str:
    """What waits for a restart, as a clause; empty for nothing."""
    return plain(_restart(hand, text_at(hand, "/proc/sys/kernel/osrelease"))[1], 300)


def _noted_packages(hand: Reach) -> str:
    """The packages that the distribution's note names, as in: of a, b and 2 more."""
    named = list(dict.fromkeys(text_at(hand, "/run/reboot-required.pkgs").split()))
    more = f" and {len(named) - _PACKAGES_SHOWN} more" if len(named) > _PACKAGES_SHOWN else ""
    return f" of {', '.join(named[:_PACKAGES_SHOWN])}{more}" if named else ""


def _waiting_kernel(hand: Reach, kernel: str) -> str:
    modules = names_at(hand, "/usr/lib/modules")
    if kernel not in modules and any(
        "vmlinuz" in names_at(hand, f"/usr/lib/modules/{m}") for m in modules
    ):
        return f"the kernel {kernel} was replaced on the disk and waits for one"
    for path in ("/vmlinuz", "/boot/vmlinuz"):
        next_one = (hand.link(path) or "").rpartition("/")[2].removeprefix("vmlinuz-")
        if next_one != kernel and next_one in modules:
            return f"the kernel {next_one} is installed and waits for one; {kernel} runs"
    return ""


def _updates(hand: Reach) -> tuple[str, str]:
    """Updates that are known to wait, as the system itself noted them.

    Systemd.offline-updates(7).
    """
    if "system-update" in names_at(hand, "/"):
        return "updates", "are ready to be installed at the next restart, which takes longer then"
    said = " ".join(text_at(hand, "/var/lib/update-notifier/updates-available").split())
    return "updates", said.rstrip(".")


def _number(hand: Reach, path: str) -> int | None:
    line = text_at(hand, path)
    return int(line) if re.fullmatch(r"[0-9]{1,18}", line) else None
