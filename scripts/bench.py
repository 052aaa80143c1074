"""How fast things are, as ratios against a baseline in the same run: `make bench`."""

import os
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path


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
    print(f"{what:<46} {took * 1000:9.2f} ms   {took / base:7.2f} x {against} ({base * 1000:.2f} ms)")


def start_up() -> None:
    """The program's start against a bare interpreter and an empty Textual application."""

    def run(code: str) -> Callable[[], object]:
        return lambda: subprocess.run([sys.executable, "-c", code], check=True, stdout=subprocess.DEVNULL)

    empty = "from textual.app import App\nclass E(App):\n def on_mount(self): self.exit()\nE().run(headless=True)"
    ours = (
        "import tempfile, pathlib\nfrom lumtak.stations.workshop import Workshop\nfrom lumtak.tui.app import LumtakApp\n"
        "from lumtak.tui.bench import BenchScreen\n"
        "LumtakApp.on_mount = lambda self: (self.push_screen(BenchScreen()), self.call_after_refresh(self.exit))\n"
        "LumtakApp(Workshop(pathlib.Path(tempfile.mkdtemp())), pace=60).run(headless=True)"
    )
    bare, app = median_s(run("pass"), 5), median_s(run(empty), 5)
    line(
        "lumtak --version",
        median_s(
            run(
                "import sys; sys.argv=['lumtak','--version']; from lumtak.__main__ import main\ntry: main()\nexcept SystemExit: pass"
            ),
            5,
        ),
        "a bare interpreter",
        bare,
    )
    line("first screen of the workbench", median_s(run(ours), 5), "an empty Textual application", app)


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
            median_s(lambda: computer.wait(3600.0), 3),
            "drawing its random numbers",
            base,
        )


def sampling() -> None:
    """A pass over this computer's processes against bare reads of the same files."""
    from lumtak.computers.linux.proc import Processes
    from lumtak.computers.linux.transport import LocalTransport

    sleepers = [subprocess.Popen(["sleep", "60"]) for _ in range(200)]
    try:
        processes = Processes(LocalTransport(), os.getpid())
        processes.look()

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
        line(
            f"one sampling pass over {count} processes",
            median_s(processes.look, 30),
            "bare reads of the same files",
            median_s(bare, 30),
        )
    finally:
        for sleeper in sleepers:
            sleeper.kill()
            sleeper.wait()


if __name__ == "__main__":
    start_up()
    model()
    sampling()
