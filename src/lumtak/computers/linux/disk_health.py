"""What the disks say of their own health, by the service that asks them: UDisks2 on the system bus.

Source: UDisks2 reference, org.freedesktop.UDisks2.Drive.Ata and .NVMe.Controller. The service is
asked where it runs; it is not started for that, and no disk is woken.
"""

import contextlib
import json
from typing import Any

from lumtak.computers.hands.reach import Reach
from lumtak.computers.hands.sent.table import DISKS
from lumtak.core.facts import Sign
from lumtak.core.text import plain
from lumtak.core.units import counted

_ASK = ("busctl", "--system", "--json=short", "--auto-start=no", "call", "--", *DISKS)
_SERVICES = ("/usr/libexec/udisks2/udisksd", "/usr/lib/udisks2/udisksd")
_DRIVE, _ATA = "org.freedesktop.UDisks2.Drive", "org.freedesktop.UDisks2.Drive.Ata"
_NVME = "org.freedesktop.UDisks2.NVMe.Controller"
_YEAR_S, _MOST = 31_557_600, 8
_FAILING = "is failing by its own account: save what is on it before anything else"


def disk_health(hand: Reach) -> list[Sign]:
    """A sign for each disk that tells of itself; none where nobody can be asked."""
    if not any(map(hand.exists, _SERVICES)):
        return []
    try:
        said = json.loads(hand.run(_ASK))
        drives = said["data"][0].values()
    except (OSError, ValueError, LookupError, AttributeError, TypeError):
        return []
    told = []
    for drive in drives:
        with contextlib.suppress(LookupError, AttributeError, TypeError, ValueError):
            words = _of_drive(drive)
            if words:
                told.append(Sign(name="disk health", says=words, grave=_FAILING in words))
    return told[:_MOST]


def _of_drive(drive: dict[str, Any]) -> str:
    """What one drive says, as a clause; empty where it says nothing."""
    model = plain(str(_value(drive[_DRIVE], "Model", "a disk")), 60) if _DRIVE in drive else ""
    if not model:
        return ""
    for name, read in ((_ATA, _of_ata), (_NVME, _of_nvme)):
        if name in drive and (words := read(drive[name])):
            return f"{model} {words}"
    return ""


def _of_ata(ata: dict[str, Any]) -> str:
    if not _value(ata, "SmartEnabled", False) or not _value(ata, "SmartUpdated", 0):
        return ""
    bad = int(_value(ata, "SmartNumBadSectors", -1))
    worn = int(_value(ata, "SmartNumAttributesFailing", -1))
    age = _age(int(_value(ata, "SmartPowerOnSeconds", 0)))
    if _value(ata, "SmartFailing", False):
        return f"{_FAILING}{age}"
    found = [counted(bad, "bad sector")] if bad > 0 else []
    found += [counted(worn, "value") + " beyond what its maker allows"] if worn > 0 else []
    if found:
        return f"is not failing, and has {' and '.join(found)}{age}"
    return f"says that it is well{age}"


def _of_nvme(nvme: dict[str, Any]) -> str:
    if not _value(nvme, "SmartUpdated", 0):
        return ""
    warnings = [str(w) for w in _value(nvme, "SmartCriticalWarning", [])]
    age = _age(3600 * int(_value(nvme, "SmartPowerOnHours", 0)))
    if warnings:
        return f"{_FAILING} ({plain(', '.join(warnings), 100)}){age}"
    return f"says that it is well{age}"


def _value(properties: dict[str, Any], name: str, otherwise: Any) -> Any:  # noqa: ANN401 - of any kind
    return properties[name]["data"] if name in properties else otherwise


def _age(seconds: int) -> str:
    return f", {seconds / _YEAR_S:.1f} years in use" if 0 < seconds < 100 * _YEAR_S else ""
