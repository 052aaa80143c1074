"""Describes plain desktops by what Debian's packages put on them; run by hand.

`python scripts/desktops.py` writes src/lumtak/data/described.csv: services, units of users'
managers and login entries, with their package and the desktops that have them. Names only: apt
says which packages a desktop needs (nothing is installed), and its lists of contents which files
they bring (Debian package apt-file, after `apt-file update`).
"""

import csv
import re
import subprocess
import tempfile
from collections import defaultdict
from pathlib import Path

OUT = Path(__file__).parents[1] / "src" / "lumtak" / "data" / "described.csv"
DESKTOPS = ("gnome", "kde", "xfce", "mate", "cinnamon", "lxqt")
BESIDES = ("init", "apt", "cron", "logrotate", "dbus", "network-manager", "cups", "bluez")
"""What a plain desktop has in any case."""
_DEFINES = re.compile(
    rb"(?m)^(?:usr/)?lib/systemd/(system|user)/([^/\s@]+\.(?:service|timer))\s+(\S+)$"
    rb"|^etc/xdg/autostart/([^/\s]+)\.desktop\s+(\S+)$"
)


def items_of_packages() -> dict[str, set[str]]:
    """The items that each package brings."""
    found: dict[str, set[str]] = defaultdict(set)
    for lists in sorted(Path("/var/lib/apt/lists").glob("*_main_Contents-*")):
        shown = subprocess.run(
            ["/usr/lib/apt/apt-helper", "cat-file", str(lists)], capture_output=True, check=True
        )
        for whose, unit, unit_of, entry, entry_of in _DEFINES.findall(shown.stdout):
            name = unit.decode()
            item = f"apps:user/{name}" if whose == b"user" else f"services:{name}"
            item = f"apps:{entry.decode()}" if entry else item.removesuffix(".service")
            item += ".service" if whose == b"user" and name.endswith(".service") else ""
            for package in (entry_of or unit_of).decode().split(","):
                found[package.rpartition("/")[2]].add(item)
    return found


def packages_of(desktop: str) -> set[str]:
    """What apt would install on an empty disk."""
    with tempfile.NamedTemporaryFile() as nothing:
        words = ["apt-get", "-s", "-o", f"Dir::State::status={nothing.name}", "install"]
        asked = [*words, *BESIDES, f"task-{desktop}-desktop"]
        shown = subprocess.run(asked, capture_output=True, check=True, text=True)
    return set(re.findall(r"(?m)^Inst (\S+)", shown.stdout))


def main() -> None:
    """Write the list."""
    brought = items_of_packages()
    rows: dict[tuple[str, str], list[str]] = defaultdict(list)
    for desktop in DESKTOPS:
        for package in sorted(packages_of(desktop)):
            for item in sorted(brought.get(package, ())):
                rows[item, package].append(desktop)
    with OUT.open("w", encoding="utf-8", newline="") as file:
        writer = csv.writer(file, lineterminator="\n")
        writer.writerow(["item", "package", "desktops"])
        writer.writerows((*key, " ".join(rows[key])) for key in sorted(rows))
    print(f"{OUT.name}: {len(rows)} items of {len(DESKTOPS)} desktops")


if __name__ == "__main__":
    main()
