# Left by Lumtak, and removed when the change is put back.
"""A short look that a user's own timer takes: the load for a minute, and what drifted.

It stands by itself in the user's data folder, as this one file: the standard library only, in the
language of Python 3.8. It runs as the user and only while they are logged in, changes nothing but
the file beside it in which it keeps what it saw, and sends nothing anywhere. What it keeps is a
hint for the next visit and decides nothing.

watch.py RHYTHM CPU RAM: how often it is due, and the load in percent from which on it is told.
"""

from __future__ import annotations

import contextlib
import datetime as dt
import glob
import json
import os
import subprocess
import sys
import time
from typing import Any

FORMAT, KEPT, SAMPLES, APART_S, SCRIPT_S = 1, 12, 12, 5.0, 60.0
DAYS = {"weekly": 7, "monthly": 30, "quarterly": 91, "half-yearly": 182}
SCRIPTS = ("lumtak-undo/undo-*.sh", "/var/lib/lumtak/undo-*.sh")
MOST_TOLD, MOST_LINE = 40, 300


def is_due(looks: list[Any], every: str, today: dt.date) -> bool:
    """Whether so many days have passed since the last look, or the clock was set back since."""
    if not looks:
        return True
    try:
        last = dt.date.fromisoformat(looks[-1]["day"])
    except (KeyError, TypeError, ValueError):
        return True
    return not 0 <= (today - last).days < DAYS.get(every, 7)


def busy_and_all() -> tuple[int, int]:
    """Ticks that the processors were busy, and all of them; proc(5), /proc/stat."""
    with open("/proc/stat", "rb") as file:
        ticks = [int(n) for n in file.readline().split()[1:9]]
    idle, waits, stolen = ticks[3], ticks[4], ticks[7]
    return sum(ticks) - idle - waits - stolen, sum(ticks)


def used_pct() -> float:
    """Memory in use, percent of all; cache is no use; proc(5), /proc/meminfo."""
    found: dict[bytes, int] = {}
    with open("/proc/meminfo", "rb") as file:
        for line in file:
            name, _, rest = line.partition(b":")
            found[name] = int(rest.split()[0])
    return 100.0 * (1 - found[b"MemAvailable"] / found[b"MemTotal"])


def reading(pause: Any = time.sleep) -> tuple[float, float]:
    """(mean load of the processors, the least memory in use), percent."""
    begun, held = busy_and_all(), []
    for _ in range(SAMPLES):
        pause(APART_S)
        held.append(used_pct())
    ended = busy_and_all()
    passed = max(1, ended[1] - begun[1])
    return 100.0 * (ended[0] - begun[0]) / passed, min(held)


def drifted(home: str) -> list[str]:
    """What is no longer as it was left, by the scripts that put it back: they only look."""
    found = []
    for pattern in SCRIPTS:
        for path in sorted(glob.glob(os.path.join(home, pattern)))[:8]:
            try:
                said = subprocess.run(
                    ["/bin/sh", path, "--look"],
                    stdin=subprocess.DEVNULL,
                    stdout=subprocess.PIPE,
                    stderr=subprocess.DEVNULL,
                    timeout=SCRIPT_S,
                    check=False,
                ).stdout
            except (OSError, subprocess.SubprocessError):
                continue
            lines = said.decode("utf-8", "replace").splitlines()
            found += [x[:MOST_LINE] for x in lines if x.startswith(("drifted: ", "back as "))]
    return found[:MOST_TOLD]


def kept(path: str) -> list[Any]:
    """The looks that were kept, oldest first."""
    try:
        with open(path, encoding="utf-8") as file:
            said = json.loads(file.read(1 << 20))
        looks = said["looks"]
        return looks if isinstance(looks, list) else []
    except (OSError, ValueError, KeyError, TypeError, RecursionError):
        return []


def keep(path: str, looks: list[Any]) -> None:
    """All at once, for this user only."""
    new = path + ".new"
    descriptor = os.open(new, os.O_WRONLY | os.O_CREAT | os.O_TRUNC | os.O_NOFOLLOW, 0o600)
    with os.fdopen(descriptor, "w", encoding="utf-8") as file:
        json.dump({"format": FORMAT, "looks": looks[-KEPT:]}, file)
    os.replace(new, path)


def told(look: dict[str, Any], cpu_pct: float, ram_pct: float) -> list[str]:
    """What is worth a word to the owner, sentences."""
    said = []
    if look["cpu_pct"] > cpu_pct:
        said.append("The processor was %.0f %% busy for a minute." % look["cpu_pct"])
    if look["ram_pct"] > ram_pct:
        said.append("Memory was %.0f %% full throughout a minute." % look["ram_pct"])
    if look["drifted"]:
        said.append("%d settings are not as they were left." % len(look["drifted"]))
    return said


def notify(words: str) -> None:
    """One notification on the user's desktop, where there is one; Desktop Notifications 1.2."""
    command = [
        "busctl", "--user", "call", "org.freedesktop.Notifications",
        "/org/freedesktop/Notifications", "org.freedesktop.Notifications", "Notify",
        "susssasa{sv}i", "Lumtak", "0", "", "This computer may want a visit", words, "0", "0",
        "-1",
    ]  # fmt: skip
    with contextlib.suppress(OSError, subprocess.SubprocessError):
        subprocess.run(
            command,
            stdin=subprocess.DEVNULL,
            stdout=subprocess.DEVNULL,
            stderr=subprocess.DEVNULL,
            timeout=20,
            check=False,
        )


def main(arguments: list[str]) -> None:
    """Look once, if it is due."""
    every, cpu_pct, ram_pct = arguments[0], float(arguments[1]), float(arguments[2])
    folder = os.path.dirname(os.path.abspath(__file__))
    path, today = os.path.join(folder, "found.json"), dt.date.today()
    looks = kept(path)
    if not is_due(looks, every, today):
        return
    cpu, ram = reading()
    look: dict[str, Any] = {
        "day": today.isoformat(),
        "cpu_pct": round(cpu, 1),
        "ram_pct": round(ram, 1),
        "drifted": drifted(os.path.dirname(folder)),
    }
    words = told(look, cpu_pct, ram_pct)
    keep(path, [*looks, dict(look, told=words)])
    if words:
        notify(" ".join(words))


if __name__ == "__main__":
    main(sys.argv[1:])
