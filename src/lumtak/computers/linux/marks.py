"""Traces of common advice on a Linux computer.

Options of the kernel, timers that empty the cache, settings in files.
"""

import re

from lumtak.computers.hands.reach import Reach, names_at, text_at
from lumtak.core.facts import Mark
from lumtak.core.text import plain

_OPTIONS = {
    "nr_cpus": "limit-processors-at-boot",
    "maxcpus": "limit-processors-at-boot",
    "mem": "limit-memory-at-boot",
}
_SWITCHES = {
    "mitigations=off": "mitigations-off",
    "apparmor=0": "security-off",
    "selinux=0": "security-off",
}
_FOLDERS = (
    "/etc/cron.d",
    "/etc/cron.hourly",
    "/etc/cron.daily",
    "/etc/cron.weekly",
    "/etc/systemd/system",
)
_FILES_MOST = 500


def marks(hand: Reach) -> list[Mark]:
    """What was found, kernel options first."""
    return [*_kernel(hand), *_emptied(hand), *_files(hand), *_swappiness(hand)]


def _kernel(hand: Reach) -> list[Mark]:
    """Options of the kernel's command line; kernel-parameters.txt of the kernel."""
    options = text_at(hand, "/proc/cmdline").split()
    named = [
        (o, _SWITCHES.get(o) or _OPTIONS.get(o.partition("=")[0] if "=" in o else ""))
        for o in options
    ]
    return [Mark(advice=a, where=plain(f"the kernel was started with {o}")) for o, a in named if a]


def _emptied(hand: Reach) -> list[Mark]:
    """How often somebody emptied the cache since the start, as the kernel counts it.

    Proc(5), /proc/vmstat.
    """
    said = re.search(r"(?m)^drop_pagecache ([1-9]\d*)$", text_at(hand, "/proc/vmstat"))
    times = f"{said[1]} times" if said and said[1] != "1" else "once"
    return (
        [Mark(advice="empty-the-cache", where=f"the cache was emptied {times} since the start")]
        if said
        else []
    )


def _files(hand: Reach) -> list[Mark]:
    paths = ["/etc/crontab", "/etc/rc.local"]
    for folder in _FOLDERS:
        paths += [f"{folder}/{name}" for name in names_at(hand, folder)]
    empties = re.compile(r"^[^#\n]*drop_caches", re.MULTILINE)
    return [
        Mark(advice="empty-the-cache-regularly", where=plain(f"{path} empties the cache"))
        for path in paths[:_FILES_MOST]
        if empties.search(text_at(hand, path))
    ]


def _swappiness(hand: Reach) -> list[Mark]:
    value = text_at(hand, "/proc/sys/vm/swappiness")
    return (
        [Mark(advice="swappiness-zero", where="the readiness to swap is 0")] if value == "0" else []
    )
