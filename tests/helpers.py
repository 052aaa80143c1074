"""Makes computers, readings and folders for the tests."""

import contextlib
import io
import os
import shutil
import sqlite3
import subprocess
import sys
import threading
from collections.abc import Mapping
from dataclasses import dataclass
from datetime import UTC, datetime
from importlib.resources import files
from pathlib import Path
from unittest import mock

import msgspec

from lumtak.__main__ import main
from lumtak.computers.abilities import Capabilities
from lumtak.computers.hands.sent.states.states import Exact, Unknown
from lumtak.computers.hands.whose import Hands, User, folder_hands
from lumtak.computers.kit import Way
from lumtak.computers.linux.adapter import Look, Means
from lumtak.computers.linux.computer import LinuxComputer
from lumtak.computers.linux.registry import ADAPTERS
from lumtak.computers.linux.settings import LinuxSettings
from lumtak.computers.simulated.computer import SimulatedComputer
from lumtak.core.catalogue import Catalogue
from lumtak.core.facts import Facts, Gap, Hardware, Item, Setting, System
from lumtak.core.profile import Profile, load_profile
from lumtak.core.reading import Conditions, ConsumerLoad, Reading
from lumtak.core.sample import Sample, Snapshot
from lumtak.core.setting import AREAS, SettingRef, State
from lumtak.core.units import GIB, MIB
from lumtak.errors import ComputerError
from lumtak.work.knowledge import shipped_catalogue

CATALOGUE: Catalogue = shipped_catalogue()
LUMTAK = (sys.executable, "-m", "lumtak")
EVENING = datetime(2026, 3, 2, 20, 0, tzinfo=UTC)


def profile(**changes) -> Profile:
    text = (files("lumtak") / "data" / "profiles" / "hull-drafting.toml").read_text(
        encoding="utf-8"
    )
    return msgspec.structs.replace(load_profile(text, "hull-drafting.toml"), **changes)


def words_of(arguments, home) -> list[str]:
    return [*(("--home", str(home)) if home else ()), *map(str, arguments)]


def lumtak_process(
    *arguments, home=None, env=None, cwd=None, timeout=60
) -> subprocess.CompletedProcess:
    """The program, as a person runs it: in a process of its own."""
    return subprocess.run(
        [*LUMTAK, *words_of(arguments, home)],
        capture_output=True,
        text=True,
        env={**os.environ, **(env or {})},
        cwd=cwd,
        timeout=timeout,
        check=False,
    )


def lumtak(*arguments, home=None, env=None, cwd=None) -> subprocess.CompletedProcess:
    """The program from `main` on, in this process, which saves the third of a second that its start
    takes; nobody is at its terminal.
    """
    words = words_of(arguments, home)
    with mock.patch.dict(os.environ, env or {}), contextlib.chdir(cwd or "."):
        code, out, err = run_main(words)
    return subprocess.CompletedProcess(words, code, out.decode(), err.decode())


def run_main(words) -> tuple[int, bytes, bytes]:
    """(exit code, standard output, standard error) of `main` with these words.

    Standard input is empty.
    """
    out, err = io.BytesIO(), io.BytesIO()
    streams = [
        io.TextIOWrapper(stream, encoding="utf-8", errors="surrogateescape")
        for stream in (out, err)
    ]
    held, code = (sys.stdout, sys.stderr, sys.stdin, sys.argv), None
    try:
        with Path(os.devnull).open() as nothing:
            sys.stdout, sys.stderr, sys.stdin, sys.argv = *streams, nothing, ["lumtak", *words]
            main()
    except SystemExit as end:
        code = end.code
    finally:
        spoken = sys.stdout, sys.stderr
        for stream in spoken:
            stream.flush()
        sys.stdout, sys.stderr, sys.stdin, sys.argv = held
    said = out.getvalue(), err.getvalue()
    del spoken, streams  # only now: a stream that nobody holds closes what it writes to
    return int(code or 0), *said


def item(area, key, **fields) -> Item:
    given = {"title": key, "value": "auto" if area == "services" else "on", "running": True}
    given["setting"] = Setting(
        values=("auto", "demand", "manual", "off") if area == "services" else ("on", "off")
    )
    return Item(area=area, key=key, **{**given, **fields})


def facts(*items, **fields) -> Facts:
    given = {
        "address": "sim:test",
        "identity": "sim-test",
        "name": "test",
        "hardware": Hardware(cores=4, ram_bytes=8 * GIB, nominal_mhz=2000.0, disk="solid",
        battery=False),
        "system": System(
            name="Test", kernel="1", boot_id="b1", session_id="s1", uptime_s=600.0,
            since_login_s=500.0, user="u",
            power_source="mains", power_plan="balanced",
        ),
    }  # fmt: skip
    return Facts(items=items, **{**given, **fields})


def sample(cpu_pct=20.0, t_s=1.0, **fields) -> Sample:
    given = {
        "length_s": 1.0, "iowait_pct": 0.0, "steal_pct": 0.0, "work": cpu_pct / 25,
        "ram_used_bytes": 4.0 * GIB, "ram_pct": 50.0,
        "cache_bytes": 1.0 * GIB, "swap_used_bytes": 0.0, "swap_in_bytes": 0.0,
        "swap_out_bytes": 0.0, "own_pct": 0.0,
        "clock_ratio": 1.0, "disk_busy_pct": 0.0, "pressure_cpu_pct": 0.0,
        "pressure_memory_pct": 0.0, "pressure_io_pct": 0.0, "consumers": {},
    }  # fmt: skip
    return Sample(t_s=t_s, cpu_pct=cpu_pct, **{**given, **fields})


def conditions(**fields) -> Conditions:
    given = {
        "boot_id": "b1", "session_id": "s1", "uptime_s": 600.0, "since_login_s": 500.0,
        "power_source": "mains",
        "power_plan": "balanced", "user": "u", "users": ("u",), "temperature_c": 40.0,
    }  # fmt: skip
    return Conditions(**{**given, **fields})


def reading(values=(20.0,) * 60, costs=(), **fields) -> Reading:
    """A reading with these CPU percentages, and costs as (key, cpu_pct, ram_mib)."""
    given = {
        "computer": "sim:test", "identity": "sim-test", "taken_at": "2026-03-02T08:00:00+00:00",
        "interval_s": 1.0, "cores": 4,
        "ram_total_bytes": 8 * GIB, "ended": "complete", "settled_from": 0, "settled": True,
        "conditions": conditions(),
    }  # fmt: skip
    consumers = tuple(
        ConsumerLoad(key=k, cpu_pct=c, cpu_se_pct=0.1, ram_bytes=m * MIB, ram_how="counted")
        for k, c, m in costs
    )
    samples = tuple(sample(v, t_s=i + 1.0) for i, v in enumerate(values))
    return Reading(samples=samples, consumers=consumers, **{**given, **fields})


# -- the simulated bench, switched on once and copied ----------------------------------------------

_SWITCHED_ON: dict[int, bytes] = {}


def bench(folder: Path, seed: int = 7) -> SimulatedComputer:
    """The drawing bench as new; its first hour is simulated once a test run."""
    path = folder / "drawing-bench.json"
    if not path.exists() and seed in _SWITCHED_ON:
        folder.mkdir(parents=True, exist_ok=True)
        path.write_bytes(_SWITCHED_ON[seed])
    computer = SimulatedComputer("drawing-bench", folder, seed=None if path.exists() else seed)
    _SWITCHED_ON.setdefault(seed, path.read_bytes())
    return computer


# -- a folder that looks like a Linux computer -----------------------------------------------------

STAT = b"""cpu  4000 100 1000 90000 500 0 50 20 0 0
cpu0 2000 50 500 45000 250 0 25 10 0 0
cpu1 2000 50 500 45000 250 0 25 10 0 0
intr 1
"""
MEMINFO = b"""MemTotal:        4096000 kB
MemFree:         1024000 kB
MemAvailable:    2048000 kB
Buffers:           10000 kB
Cached:           900000 kB
SwapTotal:       1000000 kB
SwapFree:         900000 kB
"""


def put(root: Path, path: str, data: bytes | str) -> Path:
    place = root / path.lstrip("/")
    place.parent.mkdir(parents=True, exist_ok=True)
    place.write_bytes(data.encode() if isinstance(data, str) else data)
    return place


def process(
    root: Path,
    pid: int,
    name: bytes = b"tide-feed",
    ticks=(100, 50),
    rss=1000,
    shared=200,
    started=500,
    cgroup=b"0::/\n",
    runs=b"/opt/tide/tide-feed\0--quiet\0",
    parent=1,
) -> None:
    fields = (
        f"S {parent} 1 1 0 -1 4194304 0 0 0 0 {ticks[0]} {ticks[1]} 0 0 20 0 1 0 {started} 1000000"
        f" {rss} 0".encode()
    )
    put(root, f"/proc/{pid}/stat", b"%d (%b) %b\n" % (pid, name, fields))
    put(root, f"/proc/{pid}/statm", f"5000 {rss} {shared} 1 0 1 0")
    put(root, f"/proc/{pid}/cgroup", cgroup)
    put(root, f"/proc/{pid}/cmdline", runs)
    put(root, f"/proc/{pid}/status", f"Name:\tx\nUid:\t{os.getuid()}\t{os.getuid()}\t0\t0\n")


ENTRY = "[Desktop Entry]\nType=Application\nName=Tide feed\nExec=/opt/tide/tide-feed --quiet\n"


def linux_tree(root: Path) -> Path:
    """A small computer with two autostart entries and three processes."""
    put(root, "/proc/stat", STAT)
    put(root, "/proc/meminfo", MEMINFO)
    put(root, "/proc/uptime", "1234.5 2000.0\n")
    put(root, "/proc/vmstat", "pswpin 10\npswpout 20\n")
    put(root, "/proc/sys/kernel/hostname", "loft\n")
    put(root, "/proc/sys/kernel/osrelease", "6.1.0\n")
    put(root, "/proc/sys/kernel/random/boot_id", "11111111-2222-3333-4444-555555555555\n")
    put(root, "/proc/sys/vm/swappiness", "60\n")
    put(root, "/etc/machine-id", "0123456789abcdef0123456789abcdef\n")
    put(root, "/etc/os-release", 'PRETTY_NAME="Slipway 4"\n')
    put(root, "/etc/xdg/autostart/tide-feed.desktop", ENTRY)
    put(
        root,
        "/home/u/.config/autostart/sail-sync.desktop",
        ENTRY.replace("Tide feed", "Sail sync").replace("tide", "sail"),
    )
    process(root, 10, b"tide-feed", rss=9000)
    process(root, 11, b"big) (one", rss=9000)
    process(root, 12, b"kworker/0:1")
    stat = root / "proc/12/stat"
    stat.write_bytes(stat.read_bytes().replace(b" 4194304 ", b" 2129984 "))
    return root


def tree_user() -> User:
    return User(
        name="u",
        uid=os.getuid(),
        gid=os.getgid(),
        home="/home/u",
        config_home="/home/u/.config",
        data_home="/home/u/.local/share",
        cache_home="/home/u/.cache",
        config_dirs=("/etc/xdg",),
    )


def linux(root: Path) -> LinuxComputer:
    return _linux(folder_hands(str(root), tree_user()))


def computer_on(hand) -> LinuxComputer:
    """The computer where one hand does everything."""
    return _linux(Hands(hand, hand, hand))


def _linux(hands: Hands) -> LinuxComputer:
    clock = iter(range(10**6))
    return LinuxComputer(
        hands,
        tree_user(),
        CATALOGUE,
        address="local",
        monotonic=lambda: float(next(clock)),
        wall=lambda: EVENING,
    )


def means_of(hand, user=None) -> Means:
    """What adapters work with, where one hand does everything, or another acts as the user."""
    return Means(Hands(hand, user or hand, hand), tree_user(), CATALOGUE)


def settings_of(hand, hands=None) -> LinuxSettings:
    """Settings as all adapters keep them, without the rest of the computer."""
    hands = hands or Hands(hand, hand, hand)
    return LinuxSettings(
        hands, tree_user(), [kind(Means(hands, tree_user(), CATALOGUE)) for kind in ADAPTERS]
    )


def look(running=(), **memory) -> Look:
    return Look(lambda: memory, lambda _: frozenset(running))


def way_to(restore, *accepted):
    """The way back to this state, by change 1."""
    return Way(number=1, restore=restore, accepted=accepted)


def snapshot_of(folder: Path) -> dict[str, object]:
    """Every file below a folder: links with their target, files with mode and bytes, folders."""
    found: dict[str, object] = {}
    todo, above = [str(folder)], len(str(folder)) + 1
    while todo:
        with os.scandir(todo.pop()) as entries:
            for entry in entries:
                name = entry.path[above:]
                if entry.is_symlink():
                    found[name] = ("link", str(Path(entry.path).readlink()))
                elif entry.is_dir():
                    found[name] = "folder"
                    todo.append(entry.path)
                else:
                    found[name] = (entry.stat().st_mode & 0o7777, Path(entry.path).read_bytes())
    return found


@contextlib.contextmanager
def database_at(path: Path):
    """One transaction on a database, closed afterwards.

    What is only forgotten goes, and its files with it, whenever memory is tidied.
    """
    with contextlib.closing(sqlite3.connect(path)) as database, database:
        yield database


def copy_tree(source: Path, target: Path) -> Path:
    shutil.copytree(source, target, symlinks=True)
    return target


# -- kinds of states that only tests know ----------------------------------------------------------


@dataclass(frozen=True)
class Parts(Exact, kind="parts"):
    """What is written part by part."""

    areas = ("services", "apps", "effects", "power", "memory")
    apart = ("held",)
    held: "Mapping[str, str]"
    beside: "str" = ""

    def _problem(self, key):
        return ""

    def tests(self, part):
        return []

    def bring(self, part):
        return []


@dataclass(frozen=True)
class Once(Parts, kind="once"):
    """What is written at once."""

    apart = ()


# -- a computer made of nothing but settings, for faults -------------------------------------------


@dataclass
class Plain:
    """Settings in a dictionary.

    `trouble` is called before every write and may raise, or return a value to store instead.
    """

    values: dict[str, str | None]
    boot: str = "b1"
    session: str = "s1"
    address: str = "sim:plain"
    identity: str = "sim-plain"
    name: str = "plain"
    user_name: str = "u"
    shows: str = "now"
    offered: tuple[str, ...] = ("on", "off", "auto", "manual")

    def __post_init__(self):
        self.trouble = lambda ref, value: value
        self.writes, self.seconds = 0, 0.0
        self.about = self.load = self.settings = self.clock = self

    def facts(self):
        offered = Setting(values=self.offered, shows=self.shows)
        items = [item(*r.split(":"), value=v, setting=offered) for r, v in self.values.items()]
        gaps = tuple(
            Gap(area=area, reason="it is made of little")
            for area in AREAS
            if area not in {i.area for i in items}
        )
        return facts(
            *items,
            gaps=gaps,
            address=self.address,
            identity=self.identity,
            name=self.name,
            system=self.system(),
        )

    def times(self):
        return {}

    def history(self, item):
        return ()

    def closely(self, process):
        raise ComputerError("plain has no processes.")

    def system(self):
        return msgspec.structs.replace(facts().system, boot_id=self.boot, session_id=self.session)

    def capabilities(self):
        return Capabilities()

    def sample(self, *, memory=False) -> Snapshot:
        return Snapshot(at_s=self.seconds, cores=4, busy_s=self.seconds, iowait_s=0.0, steal_s=0.0,
        total_s=4 * self.seconds,
                        clock_ratio=1.0, disk_busy_s=0.0, stalled_s=dict.fromkeys(("cpu", "memory",
                        "io"), 0.0), ram_total_bytes=8 * GIB, ram_used_bytes=4.0 * GIB,
                        cache_bytes=0.0, swap_used_bytes=0.0, swap_in_bytes=0.0, swap_out_bytes=0.0,
                        cpu_s={}, memory={})  # fmt: skip

    def read(self, ref: SettingRef) -> State:
        self._check(ref)
        return State(value=self.values[str(ref)])

    def vouched(self, ref: SettingRef, state: State) -> bool:
        return True

    def write(self, ref: SettingRef, state: State, *, believed=False) -> None:
        self._check(ref, state)
        self.writes += 1
        self.values[str(ref)] = self.trouble(ref, state.value)

    def foresee(self, ref: SettingRef, state: State) -> State:
        self._check(ref, state)
        return State(value=state.value)

    def _check(self, ref, state=None):
        """What every computer refuses."""
        if str(ref) not in self.values:
            raise ComputerError(f"{ref} is gone.", "Audit it again.")
        if state is not None and isinstance(state.exact, Unknown):
            raise ComputerError(
                f"{ref}: that was recorded of another computer.", "Look at the record."
            )

    def in_force(self, ref):
        return ""

    def undo_kit(self):
        return None

    def take_rights(self, *, ask):
        pass

    def give_back_rights(self):
        pass

    def end_process(self, process, *, force=False, wait_s=5.0):
        raise ComputerError("plain has no processes.")

    def boot_id(self):
        return self.boot

    def session_id(self):
        return self.session

    def now_s(self):
        return self.seconds

    def wall(self):
        return EVENING

    def wait(self, seconds, stop: threading.Event | None = None):
        self.seconds += 0.0 if stop is not None and stop.is_set() else seconds

    def restart(self, *, login_only=False):
        self.session += "+"
        if not login_only:
            self.boot += "+"

    def close(self):
        pass
