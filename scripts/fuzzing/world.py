"""A throwaway computer and data folder, the program run on them within this process, and what
counts as a fault.
"""

import contextlib
import gc
import itertools
import os
import shutil
import signal
import threading
import time
import unicodedata
from collections.abc import Callable
from datetime import UTC, datetime
from functools import partial
from pathlib import Path
from typing import NamedTuple
from unittest import mock

from helpers import CATALOGUE, linux_tree, process, put, run_main, tree_user, words_of
from lumtak.computers.hands.sent.root.settling import RootHand
from lumtak.computers.hands.whose import Hands
from lumtak.computers.linux.clock import LinuxClock
from lumtak.computers.linux.computer import LinuxComputer
from lumtak.tui.app import LumtakApp
from lumtak.work.knowledge import Knowledge
from outside import ETC, FILE, INSTALL, Outside

LONGEST_S = 2.0
"""Of processor time: nobody waits longer, and a busy computer makes no difference."""
_HANGS_S = 60
_CATALOGUE = vars(Knowledge)["catalogue"]
_UNEXPECTED = ("Traceback", "This should not have happened")
_OBEYED = {"Cc", "Cf", "Cs", "Co", "Cn", "Zl", "Zp"}
"""Categories of Unicode that a terminal or an editor may obey."""


class Said(NamedTuple):
    """What a run of the program gave."""

    arguments: tuple[str, ...]
    code: int
    out: bytes
    err: bytes
    seconds: float
    log: str
    """The end of what the log has of it."""

    def fault(self, codes: tuple[int, ...]) -> str:
        """What is wrong with it, in a line; empty where nothing is."""
        text = (self.out + self.err).decode("utf-8", "surrogateescape")
        if wrong := next((w for w in _UNEXPECTED if w in text), ""):
            return f"{wrong}: {text[-300:]!r}\n{self.log}"
        if self.code not in codes:
            return f"exit {self.code}, wanted {codes}: {text[-300:]!r}"
        if obeyed := {c for c in text if c not in "\n\t" and unicodedata.category(c) in _OBEYED}:
            return f"raw {sorted(map(hex, map(ord, obeyed)))[:5]}"
        if self.code and not self.err.strip():
            return f"exit {self.code} without a sentence"
        return f"{self.seconds:.1f} s" if self.seconds > LONGEST_S else ""


class Tried(NamedTuple):
    """One run, how many inputs it read, and which exit codes are right."""

    inputs: int
    said: Said
    codes: tuple[int, ...]
    files: tuple[Path, ...] = ()
    """What was read, to be kept when it is a fault."""


class World:
    """A computer in a folder, called local, and a data folder.

    A run of the program takes milliseconds.

    Args:
        folder: all of it stands below that one.
    """

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self.tree, self.home, self.work = (
            folder / "tree",
            folder / "home",
            folder / "a" / "b" / "c" / "d" / "work",
        )
        self.work.mkdir(parents=True)
        self.during: Callable[[], None] = lambda: None
        """Called while a reading waits: the computer may change."""
        _furnish(self.tree)
        self._seconds = itertools.count()

    def hands(self) -> Hands:
        """The computer's."""
        hand = Outside(self.tree)
        return Hands(hand, hand, hand)

    def put(self, name: str, data: bytes) -> Path:
        """A file to be handed in."""
        path = self.work / name
        path.write_bytes(data)
        return path

    def keep(self, name: str, source: Path) -> None:
        """Remember a folder as it is now."""
        shutil.copytree(source, self.folder / f"kept-{name}", symlinks=True)

    def bring_back(self, name: str, target: Path) -> None:
        """The folder is as it was remembered."""
        shutil.rmtree(target, ignore_errors=True)
        shutil.copytree(self.folder / f"kept-{name}", target, symlinks=True)

    def run(self, *arguments: str) -> Said:
        """The program, as `main` runs it; standard input is empty."""
        signal.alarm(_HANGS_S)
        began = time.process_time()
        with contextlib.chdir(self.work):
            code, out, err = run_main(words_of(arguments, self.home))
        spent = time.process_time() - began
        signal.alarm(0)
        return Said(arguments, code, out, err, spent, self._log())

    def own_catalogue(self):
        """While it lasts, what the data folder adds to the catalogue counts."""
        return mock.patch.object(Knowledge, "catalogue", _CATALOGUE)

    def _log(self) -> str:
        path = self.home / "lumtak.log"
        if not path.exists():
            return ""
        said = path.read_text(encoding="utf-8", errors="replace").splitlines()
        path.unlink()
        return "\n".join(line for line in said[-20:] if "^^^" not in line)

    @contextlib.contextmanager
    def throwaway(self):
        """While it lasts, this computer is this world's, its clock flies, nothing real is ended,
        and no screen opens.
        """

        def wait(_: object, __: float, stop: threading.Event | None = None) -> None:
            del stop
            self.during()

        clock = {
            "monotonic": lambda: float(next(self._seconds)),
            "wall": lambda: datetime(2026, 3, 2, tzinfo=UTC),
        }
        whose = "lumtak.computers.hands.whose"
        with contextlib.ExitStack() as patches:
            for patch in (
                mock.patch(f"{whose}.local_hands", side_effect=lambda _: self.hands()),
                mock.patch(f"{whose}.chosen_user", return_value=tree_user()),
                mock.patch(
                    "lumtak.computers.linux.computer.LinuxComputer", partial(LinuxComputer, **clock)
                ),
                mock.patch.object(LinuxClock, "wait", wait),
                mock.patch("os.pidfd_open", side_effect=ProcessLookupError),
                mock.patch.object(RootHand, "space", return_value=[20 << 30, 10 << 30, 0]),
                # Read once, for thousands of runs.
                mock.patch.object(Knowledge, "catalogue", CATALOGUE),
                mock.patch.object(LumtakApp, "run"),
            ):
                patches.enter_context(patch)
            held = signal.signal(signal.SIGALRM, _hangs)
            gc.disable()  # between runs is soon enough
            try:
                yield self
            finally:
                gc.enable()
                signal.signal(signal.SIGALRM, held)


def _hangs(*_: object) -> None:
    message = f"no end after {_HANGS_S} s"
    raise SystemError(message)


def _furnish(tree: Path) -> None:
    linux_tree(tree)
    hand = Outside(tree, {"tide.service"}, plan="balanced")
    hand.tell(permissions={"org.school.Tides": "yes"})
    RootHand.own_link(hand, f"{ETC}/multi-user.target.wants/tide.service", f"{FILE}/tide.service")
    put(tree, "/usr/lib/systemd/user/sail-index.service", INSTALL.format("sails"))
    put(tree, "/home/u/.config/systemd/user/loft.service", INSTALL.format("loft"))
    put(tree, "/proc/cpuinfo", "model name\t: Slip(R) Way @ 2.60GHz\ncpu MHz : 1200\n")
    put(tree, "/proc/loadavg", "0.10 0.20 0.30 1/200 4000\n")
    for resource in ("cpu", "memory", "io"):
        put(
            tree,
            f"/proc/pressure/{resource}",
            "some avg10=0.00 avg60=0.00 avg300=0.00 total=500\nfull avg10=0 total=9\n",
        )
    put(tree, "/proc/self/mountinfo", "1 0 8:1 / / rw - ext4 /dev/sda1 rw\n")
    for name, value in (("type", "Battery"), ("status", "Discharging"), ("energy_full", "30000000"),
                        ("energy_full_design", "50000000"), ("cycle_count", "812")):  # fmt: skip
        put(tree, f"/sys/class/power_supply/BAT0/{name}", f"{value}\n")
    put(tree, "/sys/class/thermal/thermal_zone0/temp", "41000\n")
    put(tree, "/sys/dev/block/8:1/queue/rotational", "1\n")
    put(tree, "/sys/dev/block/8:1/stat", "1 2 3 4 5 6 7 8 9 1500 11 12\n")
    put(tree, "/sys/devices/system/cpu/cpu0/cpufreq/scaling_cur_freq", "1000000\n")
    put(tree, "/sys/devices/system/cpu/cpu0/cpufreq/base_frequency", "2500000\n")
    put(
        tree,
        "/run/systemd/sessions/3",
        f"UID={os.getuid()}\nUSER=u\nCLASS=user\nREALTIME=1772480000000000\n",
    )
    put(
        tree,
        "/proc/10/smaps_rollup",
        "5-7 ---p [rollup]\nRss: 90 kB\nPss: 50 kB\nPss_Anon:  30 kB\nPss_Shmem: 5 kB\nSwapPss: 7"
        " kB\n",
    )
    process(tree, 20, b"tide", cgroup=b"0::/system.slice/tide.service\n")
    put(
        tree,
        "/sys/fs/cgroup/system.slice/tide.service/cpu.stat",
        "usage_usec 500000\nuser_usec 1\n",
    )
    put(tree, "/sys/fs/cgroup/system.slice/tide.service/memory.stat", "anon 5000000\nfile 100\n")
