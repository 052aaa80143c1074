"""Pictures of the main views, 1280x800, from the demo: `make shots`.

Each is a real terminal window (kitty under Xvfb) on a tmux session that is driven by keys; a
picture is taken when the text that it is to show is on the screen.
"""

import argparse
import os
import re
import subprocess
import sys
import tempfile
import time
from pathlib import Path

WIDTH, HEIGHT = 1280, 800
PATIENCE_S = 40
TMUX_CONF = (
    "set -g status off\nset -g default-terminal tmux-256color\nset -as terminal-features"
    " ',*:RGB'\nset -g escape-time 0\n"
)

INTO_JOB = ("Enter", "~used for", "Enter", "~complain of", "Enter", "~Take the baseline")
BASELINE = (
    *INTO_JOB,
    "Tab",
    "Enter",
    "1",
    "~in their words",
    "2",
    "~Take the baseline",
    "!restarting",
    "Enter",
    "~On to the audit",
)
AUDIT = (*BASELINE, "Enter", "~Space chooses")
PLAN = (*AUDIT, "4", "~step 1 of", "Enter", "~To be asked")
CONFIRMED = ("Enter", "~Apply", "Enter", "~Leave everything", "Right", "Enter")
APPLIED = (*PLAN, *CONFIRMED[1:], "~On to the proof")
OWED = (*APPLIED, "Enter", "~Restart now")
PROOF = (*OWED, "Enter", "!Restart now", "~the after reading is due", "Enter", "~carries less load")
VIEWS = {
    "bench": ("~restart needed",),
    "intake": (*INTO_JOB, "1", "~in their words"),
    "baseline": BASELINE,
    "audit": (*AUDIT, "Enter", "~Keeps small copies", "Space", *["Down"] * 2, "Space", "~2 chosen"),
    "audit-light": ("C-t", *AUDIT, "/", *"ease", "Space", *"cpu>2", "~of 183 shown"),
    "audit-80": (*AUDIT, "Space", "~1 chosen"),
    "storage": (
        *("Enter", "~First:", "/", *"storage", "~of 184 shown", "Enter", "Down", "Space"),
        *("Down", "Enter", "~holds"),
    ),
    "deciding": (
        *("Enter", "~First:", "f", "~17 of 17", "h", "h", "g", "g", "~13 of 17"),
        *("h", "z", "h", "~10 of 17"),
    ),
    "programs": (
        "Enter",
        "~First:",
        "m",
        "~drawing-suite",
        "Enter",
        "~Only it",
        "Down",
        "Enter",
        "~apt-get",
    ),
    "upkeep": (
        *("Enter", "~First:", "r", "~found 2", "Down", "Down", "Down", "Enter", "~old, have"),
        *("Up", "Up", "Space", "~━━"),
    ),
    "second-visit": ("Enter", "~Take the baseline", "1", "~Since the last visit"),
    "plan": (*PLAN, *["Down"] * 4, "~Starts when asked"),
    "plan-failed": (*CONFIRMED, "~could not be changed", "Left", "Enter", "~policy of this"),
    "trial": ("Enter", "~1 change chosen", "t", "~Try Plan on", "Right", "Enter", "~All is as it"),
    "proof": PROOF,
    "proof-waits": ("Enter", "~still holds this computer back"),
    "handover": (*PROOF, "Enter", "~Write the report"),
    "put-back": (
        *("b", "~no longer as they were left", *["Down"] * 8, "Space", "Enter", "~if put back"),
    ),
}
SMALL = {"audit-80"}
"""Views of a terminal of 80 columns and 24 rows."""

JOB, BENCH, LOGGER = "drawing-bench-1", "sim:drawing-bench", "sim:tide-logger"
START = (
    ("job", "start", BENCH, "--profile", "hull-drafting"),
    ("restart", BENCH),
    ("job", "baseline", JOB),
)
EASED = (*START, ("job", "choose", JOB, "--eased"))
FAULTS = {
    "plan-failed": "refuse:apps:chat-horn",
    "put-back": "revert:services:fax-bridge",
}
"""Views of a computer on which something goes wrong, with a job that stands at its plan."""
CRIB = "tool-crib-1"
CRIB_START = (
    *("job", "start", "sim:tool-crib", "--profile", "tool-lending", "--complaint", "programs"),
)
OTHER_JOBS = (
    CRIB_START,
    ("job", "baseline", CRIB),
    ("job", "audit", CRIB),
    ("job", "start", "sim:chart-room", "--profile", "chart-reading"),
    ("job", "baseline", "chart-room-1"),
    ("job", "audit", "chart-room-1"),
)
TASKS = tuple(
    ("upkeep", "sim:tool-crib", task)
    for task in ("disks", "integrity", "odd", "unwanted", "updates", "stopping")
)
PREPARED = {
    "upkeep": (*OTHER_JOBS[:3], *TASKS),
    "second-visit": (
        *(*EASED, ("job", "apply", JOB), ("restart", BENCH), ("job", "after", JOB)),
        ("upkeep", BENCH, "stopping"),
        ("job", "start", BENCH, "--profile", "hull-drafting"),
    ),
    **dict.fromkeys(("storage", "deciding", "programs"), OTHER_JOBS[:3]),
    "trial": (
        ("job", "start", LOGGER, "--profile", "tide-logging", "--complaint", "programs"),
        ("job", "baseline", "tide-logger-1"),
        ("job", "choose", "tide-logger-1", "power:battery"),
    ),
    "bench": (*OTHER_JOBS, *EASED, ("job", "apply", JOB)),
    "proof-waits": (
        (*CRIB_START, "--said", "Every program takes half a minute to open."),
        ("job", "program", CRIB, "/usr/bin/lending-desk", "--yes"),
        ("restart", "sim:tool-crib"),
        ("job", "baseline", CRIB),
        ("job", "choose", CRIB, "--eased"),
        ("job", "apply", CRIB),
        ("restart", "sim:tool-crib"),
        ("job", "after", CRIB),
    ),
}
"""What was done from the command line before a view is opened."""


def prepare(home: Path, view: str) -> str:
    """The command line that shows this view.

    The demo, or the workbench on a home in which the job has come that far.
    """
    steps = PREPARED.get(view, ())
    if view in FAULTS:
        bench = f"{BENCH}?fault={FAULTS[view]}"
        steps = (
            ("job", "start", bench, "--profile", "hull-drafting"),
            ("job", "baseline", JOB, "--seconds", "90"),
            EASED[-1],
        )
        if (
            view == "put-back"
        ):  # the fax bridge goes back by itself, and somebody starts the chart cache by hand
            steps += (("job", "apply", JOB), ("restart", bench), ("look", bench), ("look", bench))
            steps += (("undo", bench, "1", "3"), ("apply", bench, "power:mains=full"))
    if not steps:
        return "demo"
    for step in steps:
        subprocess.run(
            [sys.executable, "-m", "lumtak", *step],
            check=step[0] != "upkeep",  # which ends with 3 where it finds something
            stdout=subprocess.DEVNULL,
            env=_person(home),
        )
    if view == "put-back":
        state = home / ".local/share/lumtak/simulated/drawing-bench.json"
        state.write_text(
            re.sub(
                r'("settings":.*?"services:chart-cache":)"demand"', r'\1"manual"', state.read_text()
            )
        )
    return ""


def _person(home: Path) -> dict[str, str]:
    """The surroundings of somebody whose own folder this is."""
    return {**os.environ, "HOME": str(home), "XDG_DATA_HOME": ""}


class Window:
    """A terminal window of its own display with the application in it."""

    def __init__(self, folder: Path, arguments: str, *, small: bool) -> None:
        self.folder, self.socket, self.small = folder, str(folder / "tmux"), small
        read, write = os.pipe()
        self.display = subprocess.Popen(
            [
                "Xvfb",
                "-displayfd",
                str(write),
                "-screen",
                "0",
                f"{WIDTH}x{HEIGHT}x24",
                "-nolisten",
                "tcp",
            ],
            pass_fds=[write],
            stderr=subprocess.DEVNULL,
        )
        number = os.read(read, 16).decode().strip()
        (folder / "conf").write_text(TMUX_CONF)
        self.env = {
            **_person(folder / "home"),
            "DISPLAY": f":{number}",
            "LIBGL_ALWAYS_SOFTWARE": "1",
            "LC_ALL": "C.UTF-8",
        }
        go = folder / "go"
        os.mkfifo(go)
        start = (
            f"read -r _ < {go}; export COLORTERM=truecolor; mkdir -p {folder}/home; cd"
            f" {folder}/home; {sys.executable} -m lumtak {arguments}"
        )
        options = {
            "font_family": "DejaVu Sans Mono",
            "font_size": "16" if small else "11",
            "remember_window_size": "no",
            "update_check_interval": "0",
        }
        settings = [x for k, v in options.items() for x in ("-o", f"{k}={v}")]
        self.window = subprocess.Popen(
            ["kitty", "--config", "NONE", *settings, "-o",
            f"initial_window_width={'80c' if small else WIDTH}", "-o",
            f"initial_window_height={'24c' if small else HEIGHT}",
             "tmux", "-S", self.socket, "-f", str(folder / "conf"), "new-session", "sh", "-c",
             start],
            env=self.env, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL,
        )  # fmt: skip
        self.until(lambda: bool(self.tmux("list-clients")))
        self.fit()
        go.write_text("go\n")

    def fit(self) -> None:
        """The window fills its display."""
        self.until(lambda: bool(self.run("xdotool", "search", "--class", "kitty")))
        window = self.run("xdotool", "search", "--class", "kitty").split()[-1]
        size = () if self.small else ("windowsize", window, str(WIDTH), str(HEIGHT))
        self.run("xdotool", "windowmove", window, "0", "0", *size, "windowfocus", window)
        self.run("xdotool", "mousemove", str(WIDTH - 1), str(HEIGHT - 1))
        sizes: list[str] = []

        def still() -> bool:
            sizes.append(self.tmux("display", "-p", "#{window_width}x#{window_height}"))
            return len(sizes) > 8 and len(set(sizes[-8:])) == 1

        self.until(still)

    def run(self, *command: str) -> str:
        """What a program prints."""
        return subprocess.run(
            command, env=self.env, capture_output=True, text=True, check=False
        ).stdout

    def tmux(self, *arguments: str) -> str:
        """The same, of tmux."""
        return self.run("tmux", "-S", self.socket, *arguments)

    def until(self, condition, what: str = "the window") -> None:
        """Wait for it."""
        end = time.monotonic() + PATIENCE_S
        while not condition():
            if time.monotonic() > end:
                raise SystemExit(
                    f"waited in vain for {what}; on screen:\n{self.tmux('capture-pane', '-p')}"
                )
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

    def picture(self, path: Path) -> None:
        """Two equal pictures in a row mean that the terminal has finished drawing."""
        before = b""
        for _ in range(40):
            self.run(
                "import",
                "-silent",
                "-window",
                "root",
                *(("-trim",) if self.small else ()),
                "-strip",
                str(path),
            )
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
    parser = argparse.ArgumentParser(description=main.__doc__)
    parser.add_argument("folder", type=Path, help="where the pictures go")
    parser.add_argument("views", nargs="*", metavar="VIEW", choices=[[], *VIEWS])
    asked = parser.parse_args()
    target = asked.folder
    target.mkdir(parents=True, exist_ok=True)
    for name in asked.views or VIEWS:
        with tempfile.TemporaryDirectory(prefix="shots-") as folder:
            window = Window(Path(folder), prepare(Path(folder) / "home", name), small=name in SMALL)
            try:
                window.drive(VIEWS[name])
                window.picture(target / f"{name}.png")
            finally:
                window.close()
        print(target / f"{name}.png", flush=True)


if __name__ == "__main__":
    main()
