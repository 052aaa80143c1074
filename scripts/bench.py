"""How fast things are, as ratios against a baseline in the same run: `make bench`."""

import argparse
import os
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from functools import partial
from pathlib import Path

from bench_screens import keys, live

_WALKED = _HELD = 1_000_000
_OLD = 1_000_000_000


def median_s(action: Callable[[], object], repeat: int = 7) -> float:
    """Median time of one call."""
    times = []
    for _ in range(repeat):
        start = time.perf_counter()
        action()
        times.append(time.perf_counter() - start)
    return statistics.median(times)


def line(what: str, took: float, against: str, base: float) -> None:
    """One result."""
    print(
        f"{what:<46} {took * 1000:9.2f} ms   {took / base:7.2f} x {against} ({base * 1000:.2f} ms)"
    )


def start_up() -> None:
    """The program's start against a bare interpreter and an empty Textual application.

    The shortest of nine in turn, as other load only adds.
    """
    kept = tempfile.TemporaryDirectory()
    compiled = {k: v for k, v in os.environ.items() if k != "PYTHONDONTWRITEBYTECODE"} | {
        "PYTHONPYCACHEPREFIX": kept.name
    }

    def run(code: str) -> Callable[[], object]:
        """As it is from the second start on: compiled, whatever this environment says of that."""
        once = partial(
            subprocess.run,
            [sys.executable, "-c", code],
            check=True,
            stdout=subprocess.DEVNULL,
            env=compiled,
        )
        once()
        return once

    empty = """from textual.app import App
class E(App):
    def on_mount(self): self.exit()
E().run(headless=True)"""
    ours = """import tempfile, pathlib
from lumtak.work.data_folder import DataFolder
from lumtak.tui.app import LumtakApp
from lumtak.tui.bench import BenchScreen
LumtakApp.on_mount = lambda self: (
    self.push_screen(BenchScreen(self.data_folder, pace=60)), self.call_after_refresh(self.exit))
app = LumtakApp(DataFolder(pathlib.Path(tempfile.mkdtemp())), pace=60)
app.run(headless=True)
raise SystemExit(app.return_code)"""
    version = """import sys; sys.argv=['lumtak','--version']; from lumtak.__main__ import main
try: main()
except SystemExit: pass"""
    runs = [run(code) for code in ("pass", version, empty, ours)]
    rounds = [[median_s(one, 1) for one in runs] for _ in range(9)]
    bare, start, app, first = (min(times) for times in zip(*rounds, strict=True))
    line("lumtak --version", start, "a bare interpreter", bare)
    line("first screen of the workbench", first, "an empty Textual application", app)


def model() -> None:
    """The simulated computer against bare random numbers."""
    import numpy as np

    from lumtak.computers.simulated.computer import SimulatedComputer

    with tempfile.TemporaryDirectory() as folder:
        computer = SimulatedComputer("drawing-bench", Path(folder), seed=1)
        rng = np.random.default_rng(1)
        base = median_s(lambda: [rng.standard_normal((4, 35)) for _ in range(3600)])
        line(
            "an hour of the drawing bench",
            median_s(lambda: computer.clock.wait(3600.0), 3),
            "drawing its random numbers",
            base,
        )


def sampling() -> None:
    """A pass over 500 processes against the obvious loop of a general library, and against bare
    reads of the same files.
    """
    import psutil

    from lumtak.computers.hands.sent.hand import Hand
    from lumtak.computers.linux.proc import Processes

    sleepers = [subprocess.Popen(["sleep", "120"]) for _ in range(max(0, 500 - len(psutil.pids())))]
    try:
        processes = Processes(Hand(), os.getpid())
        processes.look()

        def obvious() -> None:
            for process in psutil.process_iter(["cpu_times", "memory_info", "name"]):
                process.info  # noqa: B018 - reading it is the work

        def bare() -> None:
            for entry in os.listdir("/proc"):  # noqa: PTH208 - as bare as can be
                if entry.isdigit():
                    try:
                        descriptor = os.open(f"/proc/{entry}/stat", os.O_RDONLY)
                        os.read(descriptor, 4096)
                        os.close(descriptor)
                    except OSError:
                        continue

        count = len(processes.look())
        ours = median_s(processes.count, 30)
        line(
            f"one sampling pass over {count} processes",
            ours,
            "the obvious psutil loop",
            median_s(obvious, 10),
        )
        line("  the same", ours, "bare reads of the same files", median_s(bare, 30))
    finally:
        for sleeper in sleepers:
            sleeper.kill()
            sleeper.wait()


def auditing() -> None:
    """An audit of 10,000 items with 50,000 dependencies, and of twice as many.

    About twice the time.
    """
    import random

    sys.path.insert(0, str(Path(__file__).parents[1] / "tests"))
    from helpers import CATALOGUE, facts, item, profile, reading
    from lumtak.core.audit import audit

    def computer(count: int):
        rng = random.Random(5)
        roles = [r.name for r in CATALOGUE.role] + [""] * 40
        return facts(
            *(
                item(
                    "services",
                    f"unit-{n}",
                    role=rng.choice(roles) if n % 50 else "graphics",
                    needs=tuple(f"unit-{rng.randrange(count)}" for _ in range(5)),
                )
                for n in range(count)
            )
        )

    def chain(count: int):
        return facts(
            *(item("services", f"unit-{n}", needs=(f"unit-{n + 1}",)) for n in range(count))
        )

    read, who = (
        reading(costs=[(f"services:unit-{n}", 0.01, 1) for n in range(0, 10000, 7)]),
        profile(),
    )
    small, large, long = computer(10_000), computer(20_000), chain(10_000)
    base = median_s(lambda: audit(small, who, CATALOGUE, read), 3)
    print(f"{'an audit of 10,000 items, 50,000 dependencies':<46} {base * 1000:9.2f} ms")
    line(
        "  of 20,000 items, 100,000 dependencies",
        median_s(lambda: audit(large, who, CATALOGUE, read), 3),
        "that",
        base,
    )
    line(
        "  of 10,000 items in one chain",
        median_s(lambda: audit(long, who, CATALOGUE, read), 3),
        "that",
        base,
    )


def real_facts() -> None:
    """Facts of this computer against plain `systemctl show '*'` and one pass over /proc.

    Where systemd runs.
    """
    from lumtak.computers.hands.sent.hand import Hand
    from lumtak.computers.linux.proc import Processes
    from lumtak.work.data_folder import DataFolder

    if not Path("/run/systemd/system").is_dir():
        print(
            "facts of this computer: no systemd runs here, so there is nothing to compare with"
            " (make lab has one)"
        )
        return
    with tempfile.TemporaryDirectory() as folder:
        computer = DataFolder(Path(folder)).computer("local")
        found = computer.about.facts()
        hand = Hand()

        def bare() -> None:
            subprocess.run(
                ["systemctl", "show", "*", "--no-pager"], stdout=subprocess.DEVNULL, check=True
            )
            Processes(hand, os.getpid()).look()

        count = sum(i.area == "services" for i in found.items)
        what = f"facts with {count} units, {found.process_count} processes"
        line(
            what,
            median_s(computer.about.facts, 5),
            "systemctl show '*' and one pass over /proc",
            median_s(bare, 5),
        )


def own_cost() -> None:
    """What a reading says of Lumtak's own cost, against what /proc says of it from outside.

    At five samples a second, and at the one it takes.
    """
    for interval_s in (0.2, 1.0):
        _own_cost(interval_s)


def _own_cost(interval_s: float) -> None:
    import json

    with tempfile.TemporaryDirectory() as folder:
        out = Path(folder) / "r.json"
        reading = subprocess.Popen(
            [
                *(
                    sys.executable,
                    "-m",
                    "lumtak",
                    "--home",
                    folder,
                    "read",
                    "local",
                    "--seconds",
                    "24",
                ),
                *("--interval", str(interval_s), "--out", str(out)),
            ],
            stdout=subprocess.DEVNULL,
        )

        def ticks() -> int:
            fields = Path(f"/proc/{reading.pid}/stat").read_text().rsplit(")", 1)[1].split()
            return int(fields[11]) + int(fields[12])

        time.sleep(4)
        first, began = ticks(), time.monotonic()
        time.sleep(16)
        outside = (ticks() - first) / os.sysconf("SC_CLK_TCK") / (time.monotonic() - began)
        reading.wait()
        samples = json.loads(out.read_text())["samples"]
        kept = [s for s in samples if 3 < s["t_s"] < 20]
        said = sum(s["own_pct"] for s in kept) / len(kept) / 100 * (os.cpu_count() or 1)
        print(
            f"own cost, a sample every {interval_s:g} s: the reading says {100 * said:.2f} % of a"
            f" core, /proc says {100 * outside:.2f} %"
        )


def walk() -> None:
    """A whole tree looked through by a hand of its own, against `du -s` on the same tree, warm."""
    from lumtak.computers.hands.channel import bootstrap
    from lumtak.computers.hands.piped import Piped

    with tempfile.TemporaryDirectory() as folder:
        made = 0
        for number in range(_WALKED // 250):
            place = Path(folder) / f"{number % 40}" / f"{number}"
            place.mkdir(parents=True)
            for name in range(250):
                (place / f"{name}").touch()
                made += 1
        hand = Piped(bootstrap("/usr/bin/python3"), {}, "a hand")
        peak = 0.0

        def walked() -> None:
            nonlocal peak
            *_, last = hand.survey(folder, [])
            if last["ended"]["inodes"] < made:
                raise SystemExit("the walk passed files over")
            status = Path(f"/proc/{hand.known_pid}/status").read_text()
            peak = int(status.partition("VmHWM:")[2].split()[0]) / 1024

        def summed() -> None:
            subprocess.run(["du", "-s", folder], check=True, stdout=subprocess.DEVNULL)

        summed()
        walked()
        rounds = [(median_s(summed, 1), median_s(walked, 1)) for _ in range(3)]
        base, took = (min(times) for times in zip(*rounds, strict=True))
        hand.close()
    line(f"{made} files looked through", took, "du -s", base)
    print(f"{'  memory of the hand that does it, at most':<46} {peak:9.1f} MiB")


def held() -> None:
    """A class of clutter of a million files set aside, put back and emptied, against `mv` and
    `rm -r` of as many, in the same run.
    """
    from lumtak.computers.hands.channel import bootstrap
    from lumtak.computers.hands.piped import Piped

    name = "thumbnails"
    with tempfile.TemporaryDirectory(dir="/var/tmp") as folder:
        home, other = Path(folder, "home"), Path(folder, "other")
        for number in range(_HELD // 1000):
            for place in (home / ".cache" / name / f"{number}", other / f"{number}"):
                place.mkdir(parents=True)
                for one in range(1000):
                    (place / f"{one}").touch()
                    os.utime(place / f"{one}", (_OLD, _OLD))
                (place / "young").touch()
        data = home / ".local/share"
        data.mkdir(parents=True)
        options = {
            "homes": [str(data)],
            "own": [str(home), str(home / ".cache"), str(data)],
            "roles": ["user"],
        }
        hand = Piped(bootstrap("/usr/bin/python3"), options, "a hand")

        def moved() -> str:
            found = hand.aside_look(name, name, [], [], [])
            if found["pieces"] != _HELD:
                raise SystemExit("not all of it may be set aside")
            hand.aside_move(found["handle"])
            return str(found["sha256"])

        def shell(text: str) -> Callable[[], object]:
            return partial(subprocess.run, ["sh", "-c", text], check=True, cwd=folder)

        there = "mkdir held; for d in other/*; do mkdir held/${d#*/}; mv -t held/${d#*/} $d/[0-9]*;"
        mv = median_s(shell(there + " done"), 1)
        sums: list[str] = []
        took = median_s(lambda: sums.append(moved()), 1)
        line(f"{_HELD} files looked for and set aside", took, "mv", mv)
        line("  put back", median_s(lambda: hand.aside_back(sums[-1]), 1), "mv", mv)
        sums.append(moved())
        rm = median_s(shell("rm -r held"), 1)
        took = median_s(lambda: list(hand.aside_empty(sums[-1], [])), 1)
        line("  looked at again and emptied", took, "rm -r", rm)
        status = Path(f"/proc/{hand.known_pid}/status").read_text()
        peak = int(status.partition("VmHWM:")[2].split()[0]) / 1024
        hand.close()
    print(f"{'  memory of the hand that does it, at most':<46} {peak:9.1f} MiB")


def integrity() -> None:
    """The files of a package database held against what it recorded, against one pass of the same
    hash over the same files, both warm.
    """
    from lumtak.computers.hands.channel import bootstrap
    from lumtak.computers.hands.piped import Piped

    if not Path("/var/lib/dpkg/status").exists():
        print("There is no package database here to hold files against.")
        return
    info = Path("/var/lib/dpkg/info")
    with tempfile.NamedTemporaryFile("w") as names:
        for sums in info.glob("*.md5sums"):
            for line_of in sums.read_text(errors="surrogateescape").splitlines():
                path = Path("/") / line_of.partition("  ")[2]
                if path.is_file():
                    names.write(f"{path}\0")
        names.flush()
        hand = Piped(bootstrap("/usr/bin/python3"), {}, "a hand")

        def checked() -> None:
            *_, last = hand.integrity("")
            if not last["files"]:
                raise SystemExit("nothing was held against anything")

        def summed() -> None:
            command = ["xargs", "-0", "-a", names.name, "md5sum"]
            subprocess.run(command, check=False, stdout=subprocess.DEVNULL)

        summed()
        rounds = [(median_s(summed, 1), median_s(checked, 1)) for _ in range(2)]
        base, took = (min(times) for times in zip(*rounds, strict=True))
        hand.close()
    line("the system's files held against dpkg's record", took, "md5sum", base)


PARTS = {
    p.__name__: p
    for p in (
        start_up,
        model,
        sampling,
        real_facts,
        auditing,
        keys,
        live,
        own_cost,
        walk,
        held,
        integrity,
    )
}

if __name__ == "__main__":
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("parts", nargs="*", metavar="PART", choices=[[], *PARTS])
    for name in parser.parse_args().parts or PARTS:
        PARTS[name]()
