"""Pictures of the main views, 1280x800, from the demo: `make shots`.

Each is a real terminal window (kitty under Xvfb) on a tmux session that is driven by keys; a picture is taken when the text
that it is to show is on the screen.
"""

import os
import re
import subprocess
import sys
import tempfile
import time
from pathlib import Path

WIDTH, HEIGHT = 1280, 800
PATIENCE_S = 40
TMUX_CONF = "set -g status off\nset -g default-terminal tmux-256color\nset -as terminal-features ',*:RGB'\nset -g escape-time 0\n"

INTO_JOB = ("Enter", "~used for", "Enter", "~Take the baseline")
BASELINE = (
    *INTO_JOB,
    "Tab",
    "Enter",
    "1",
    "~Used for",
    "2",
    "~Take the baseline",
    "!restarting",
    "Enter",
    "~On to the audit",
)
AUDIT = (*BASELINE, "Enter", "~Space chooses")
PLAN = (*AUDIT, "a", "~17 chosen", "4", "~On to applying")
APPLIED = (*PLAN, "Enter", "~Apply 17", "Enter", "~Leave everything", "Right", "Enter", "~On to the proof")
OWED = (*APPLIED, "Enter", "~Restart now")
PROOF = (*OWED, "Enter", "!Restart now", "~the after reading is due", "Enter", "~carries less load")
CONFIRMED = ("Enter", "~On to applying", "Enter", "~Apply 17", "Enter", "~Leave everything", "Right", "Enter")
VIEWS = {
    "bench": (),
    "intake": (*INTO_JOB, "1", "~Used for"),
    "baseline": BASELINE,
    "audit": (*AUDIT, "Enter", "~Keeps small copies", "Space", "Down", "Down", "Space", "~2 chosen"),
    "plan": PLAN,
    "confirm": (*PLAN, "Enter", "~Apply 17", "Enter", "~Leave everything"),
    "apply": APPLIED,
    "owed": OWED,
    "proof": PROOF,
    "handover": (*PROOF, "Enter", "~Write the report"),
    "apply-half": (*CONFIRMED, "~[5-9] of 17", "Enter", "~Held"),
    "apply-failed": (*CONFIRMED, "~could not be changed"),
    "put-back": (
        "b",
        "~no longer as they were left",
        *["Down"] * 8,
        "Space",
        "Enter",
        "~if put back",
    ),
    "end": (*INTO_JOB, "e", "~never ended"),
    "audit-cause": ("Down", "Down", "Down", *AUDIT, "~log-boiler"),
    "audit-search": (*AUDIT, "/", "c", "h", "a", "r", "t", "~5 of 176|of 176 shown"),
    "audit-memory": ("Down", "Down", *AUDIT, "End", "Up", "Enter", "~shop rule"),
    "interview": (*AUDIT, "i", "~question 1 of"),
    "baseline-reading": (
        *INTO_JOB,
        "Tab",
        "Enter",
        "1",
        "~Used for",
        "2",
        "~Take the baseline",
        "!restarting",
        "Enter",
        "~(1[0-9][0-9]) of at most",
    ),
    "audit-light": ("C-t", *AUDIT, "Enter", "~Keeps small copies", "Space", "~1 chosen"),
}


MOVING = {"baseline-reading"}
JOB = "drawing-bench-1"
FAULTS = {"apply-half": "slow", "apply-failed": "refuse:apps:photo-mirror", "put-back": "revert:services:fax-bridge"}
"""Views of a computer on which something goes wrong, with a job that stands at its plan."""


def prepare(home: Path, view: str) -> str:
    """The command line that shows this view: the demo, or the workbench on a home in which the job has come that far."""
    if view not in FAULTS:
        return "demo"
    bench = f"sim:drawing-bench?fault={FAULTS[view]}"
    steps = [
        ("job", "start", bench, "--profile", "hull-drafting"),
        ("job", "baseline", JOB, "--seconds", "90"),
        ("job", "choose", JOB, "--eased"),
    ]
    if view == "put-back":  # the fax bridge goes back by itself, and somebody starts the chart cache by hand
        steps += [("job", "apply", JOB), ("restart", bench), ("look", bench), ("look", bench)]
        steps += [("undo", bench, "1", "3"), ("apply", bench, "power:mains=full")]
    for step in steps:
        subprocess.run([sys.executable, "-m", "lumtak", "--home", home, *step], check=True, stdout=subprocess.DEVNULL)
    if view == "put-back":
        state = home / "simulated/drawing-bench.json"
        state.write_text(re.sub(r'("settings":.*?"services:chart-cache":)"demand"', r'\1"manual"', state.read_text()))
    return f"--home {home}"


class Window:
    """A terminal window of its own display with the application in it."""

    def __init__(self, folder: Path, arguments: str) -> None:
        self.folder, self.socket = folder, str(folder / "tmux")
        read, write = os.pipe()
        self.display = subprocess.Popen(
            ["Xvfb", "-displayfd", str(write), "-screen", "0", f"{WIDTH}x{HEIGHT}x24", "-nolisten", "tcp"],
            pass_fds=[write],
            stderr=subprocess.DEVNULL,
        )
        number = os.read(read, 16).decode().strip()
        (folder / "conf").write_text(TMUX_CONF)
        self.env = {**os.environ, "DISPLAY": f":{number}", "LIBGL_ALWAYS_SOFTWARE": "1", "LC_ALL": "C.UTF-8"}
        go = folder / "go"
        os.mkfifo(go)
        start = f"read -r _ < {go}; export COLORTERM=truecolor; cd {folder}; {sys.executable} -m lumtak {arguments}"
        options = {
            "font_family": "DejaVu Sans Mono",
            "font_size": "11",
            "remember_window_size": "no",
            "update_check_interval": "0",
        }
        settings = [x for k, v in options.items() for x in ("-o", f"{k}={v}")]
        self.window = subprocess.Popen(
            ["kitty", "--config", "NONE", *settings, "-o", f"initial_window_width={WIDTH}", "-o", f"initial_window_height={HEIGHT}",
             "tmux", "-S", self.socket, "-f", str(folder / "conf"), "new-session", "sh", "-c", start],
            env=self.env, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL,
        )  # fmt: skip
        self.until(lambda: bool(self.tmux("list-clients")))
        self.fit()
        go.write_text("go\n")

    def fit(self) -> None:
        """The window fills its display."""
        self.until(lambda: bool(self.run("xdotool", "search", "--class", "kitty")))
        window = self.run("xdotool", "search", "--class", "kitty").split()[-1]
        self.run(
            "xdotool",
            "windowmove",
            window,
            "0",
            "0",
            "windowsize",
            window,
            str(WIDTH),
            str(HEIGHT),
            "windowfocus",
            window,
        )
        self.run("xdotool", "mousemove", str(WIDTH - 1), str(HEIGHT - 1))
        sizes: list[str] = []

        def still() -> bool:
            sizes.append(self.tmux("display", "-p", "#{window_width}x#{window_height}"))
            return len(sizes) > 8 and len(set(sizes[-8:])) == 1

        self.until(still)

    def run(self, *command: str) -> str:
        """What a program prints."""
        return subprocess.run(command, env=self.env, capture_output=True, text=True, check=False).stdout

    def tmux(self, *arguments: str) -> str:
        """The same, of tmux."""
        return self.run("tmux", "-S", self.socket, *arguments)

    def until(self, condition, what: str = "the window") -> None:
        """Wait for it."""
        end = time.monotonic() + PATIENCE_S
        while not condition():
            if time.monotonic() > end:
                raise SystemExit(f"waited in vain for {what}; on screen:\n{self.tmux('capture-pane', '-p')}")
            time.sleep(0.05)

    def sees(self, text: str) -> bool:
        """Whether the screen shows it."""
        return re.search(text, self.tmux("capture-pane", "-p")) is not None

    def drive(self, steps: tuple[str, ...]) -> None:
        """Keys; ~TEXT waits until it is there, !TEXT until it is gone."""
        self.until(lambda: self.sees("Jobs"), "the bench")
        for step in steps:
            if step[0] == "~":
                self.until(lambda step=step: self.sees(step[1:]), step[1:])
            elif step[0] == "!":
                self.until(lambda step=step: not self.sees(step[1:]), step)
            else:
                self.tmux("send-keys", "--", step)

    def picture(self, path: Path, *, moving: bool) -> None:
        """Two equal pictures in a row mean that the terminal has finished drawing; of what moves, the first is taken."""
        before = b""
        for _ in range(1 if moving else 40):
            self.run("import", "-silent", "-window", "root", "-strip", str(path))
            now = path.read_bytes()
            if now == before:
                return
            before = now
            time.sleep(0.2)

    def close(self) -> None:
        """Everything ends."""
        self.tmux("kill-server")
        for process in (self.window, self.display):
            process.kill()
            process.wait()


def main() -> None:
    """All views, or those named."""
    target = Path(sys.argv[1])
    target.mkdir(parents=True, exist_ok=True)
    for name in sys.argv[2:] or VIEWS:
        with tempfile.TemporaryDirectory(prefix="shots-") as folder:
            window = Window(Path(folder), prepare(Path(folder) / "home", name))
            try:
                window.drive(VIEWS[name])
                window.picture(target / f"{name}.png", moving=name in MOVING)
            finally:
                window.close()
        print(target / f"{name}.png", flush=True)


if __name__ == "__main__":
    main()
