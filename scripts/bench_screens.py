"""What the screens cost: a key with 20,000 items, and the live picture of a reading."""

import asyncio
import fcntl
import gc
import os
import pty
import statistics
import struct
import sys
import tempfile
import termios
import threading
import time
from pathlib import Path

import msgspec
from textual import events
from textual.app import App, ComposeResult
from textual.binding import Binding
from textual.widgets import Static

sys.path.insert(0, str(Path(__file__).parents[1] / "tests"))
_SIZE = (142, 44)


class Smallest(App[None]):
    """A number that counts key presses: what Textual itself costs."""

    BINDINGS = [Binding("down", "count", "Count")]

    def compose(self) -> ComposeResult:
        """The number."""
        self.count = 0
        yield Static("0")

    def action_count(self) -> None:
        """One more."""
        self.count += 1
        self.query_one(Static).update(str(self.count), layout=False)


async def _work_per_key(app: App[None], *presses: str) -> float:
    """Seconds of processor time from a key until its picture stands, without what an idle
    application takes.
    """
    idle = []
    for _ in range(9):  # what the application does by itself, once it is at rest
        start = time.process_time()
        await asyncio.sleep(0.2)
        idle.append((time.process_time() - start) / 0.2)
    idle_s = statistics.median(idle)
    took = []
    for key in presses:
        start = time.process_time()
        app.post_message(events.Key(key, key if len(key) == 1 else None))
        await asyncio.sleep(0.2)
        took.append(time.process_time() - start - 0.2 * idle_s)
    return statistics.median(took)


async def _audit_screen(count: int, folder: Path) -> dict[str, float]:
    """Processor seconds for opening the audit of so many items, and for keys in it."""
    from helpers import CATALOGUE, facts, item, profile, reading
    from lumtak.casebook.job import Job
    from lumtak.computers.simulated.computer import SimulatedComputer
    from lumtak.core.audit import audit
    from lumtak.tui.app import LumtakApp
    from lumtak.tui.job_screen import JobScreen
    from lumtak.work.data_folder import DataFolder
    from lumtak.work.open_job import OpenJob

    data_folder = DataFolder(folder)
    computer = SimulatedComputer("chart-room", folder / "simulated", seed=1)
    known = facts(
        *(item("services", f"unit-{n}", role="fax" if n % 3 else "") for n in range(count))
    )
    read = reading(
        costs=[(f"services:unit-{n}", 0.01 * (n % 9), n % 90) for n in range(min(count, 600))]
    )
    job = Job(
        id="large-1", address=computer.address, identity=computer.identity, computer_name="large",
        user="u", visit=1,
        profile=profile(), begun_at="2026-03-02T08:00:00", facts=known, audit=audit(known,
        profile(), CATALOGUE, read), station="intake",
    )  # fmt: skip
    data_folder.casebook.save(job)
    job = msgspec.structs.replace(
        job, baseline=data_folder.casebook.add_reading(job, "baseline", read)
    )
    app = LumtakApp(data_folder, pace=0.0)
    async with app.run_test(size=_SIZE) as pilot:
        await app.push_screen(JobScreen(OpenJob(data_folder, computer, job)))
        await pilot.pause()
        took = {
            "opening it": await _work_per_key(app, "3"),
            "cursor down": await _work_per_key(app, *["down"] * 15),
            "ten lines on": await _work_per_key(app, *["pagedown"] * 9),
            "choosing": await _work_per_key(app, *["space"] * 9),
        }
        await pilot.press("slash")
        took["a letter of a search"] = await _work_per_key(app, *"unit-77")
    data_folder.close()
    return took


async def _smallest() -> float:
    app = Smallest()
    async with app.run_test(size=_SIZE):
        return await _work_per_key(app, *["down"] * 15)


def keys() -> None:
    """Processor time from a key to its picture in the audit's screen.

    20,000 items against 200, and against the smallest application.
    """
    gc.set_threshold(50_000, 20, 50)  # as the program has it
    least = asyncio.run(_smallest())
    results = {}
    for count in (200, 20_000):
        with tempfile.TemporaryDirectory() as folder:
            results[count] = asyncio.run(_audit_screen(count, Path(folder)))
    print(
        f"{'a key in the smallest Textual application':<46} {least * 1000:9.2f} ms of processor"
        " time"
    )
    for what, took in results[20_000].items():
        base = results[200][what]
        print(
            f"{'audit of 20,000 items: ' + what:<46} {took * 1000:9.2f} ms   {took / base:7.2f} x"
            f" with 200 items, {took / least:.1f} x that"
        )


def live(seconds: float = 20.0) -> None:
    """Processor time of the workbench in a terminal while a reading of this computer runs and its
    picture is open.
    """
    with tempfile.TemporaryDirectory() as home:
        pid, terminal = pty.fork()
        if pid == 0:
            os.environ |= {"TERM": "xterm-256color", "COLORTERM": "truecolor"}
            os.execv(sys.executable, [sys.executable, "-m", "lumtak", "--home", home])  # noqa: S606
        fcntl.ioctl(terminal, termios.TIOCSWINSZ, struct.pack("HHHH", _SIZE[1], _SIZE[0], 0, 0))
        seen = bytearray()

        def drain() -> None:
            try:
                while data := os.read(terminal, 65536):
                    seen.extend(data)
            except OSError:
                return

        threading.Thread(target=drain, daemon=True).start()

        def until(text: bytes) -> None:
            end = time.monotonic() + 30
            while text not in seen:
                if time.monotonic() > end:
                    raise SystemExit(f"waited in vain for {text!r}")
                time.sleep(0.05)
            seen.clear()
            time.sleep(0.3)

        until(b"this computer")
        os.write(terminal, b"\x1b[F\r")
        until(b"used for")
        os.write(terminal, b"\r")
        until(b"complain of")
        os.write(terminal, b"\r")
        until(b"baseline")
        os.write(terminal, b"\r")
        until(b"samples")
        time.sleep(12)

        def ticks() -> int:
            fields = Path(f"/proc/{pid}/stat").read_text().rsplit(")", 1)[1].split()
            return int(fields[11]) + int(fields[12])

        first, began, size = ticks(), time.monotonic(), len(seen)
        time.sleep(seconds)
        took = (ticks() - first) / os.sysconf("SC_CLK_TCK") / (time.monotonic() - began)
        print(
            f"a reading with its live picture: {100 * took:.2f} % of a core,"
            f" {(len(seen) - size) / seconds:.0f} bytes/s to the terminal"
        )
        os.write(terminal, b"q")
        time.sleep(0.5)
        os.kill(pid, 9)
        os.waitpid(pid, 0)
