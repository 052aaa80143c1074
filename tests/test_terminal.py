"""The real program in a real terminal: the whole job from `lumtak demo`, by keyboard, in tmux."""

import itertools
import os
import pty
import re
import shutil
import subprocess
import sys
import time
from pathlib import Path

import pytest

from helpers import ENTRY, LUMTAK, put, snapshot_of

pytestmark = [
    pytest.mark.long,
    pytest.mark.terminal,
    pytest.mark.skipif(
        not shutil.which("tmux") and not os.environ.get("CI"),
        reason="tmux is missing; `make test` installs it",
    ),
]


PATIENCE_S = 100
"""Nothing here takes long; a busy computer may need it."""
_NUMBERS = itertools.count()


class Terminal:
    """A program in tmux."""

    def __init__(self, folder, command, width=142, height=44, env=None):
        self._socket = str(folder / f"tmux-{next(_NUMBERS)}")
        variables = [
            x for k, v in {"HOME": str(folder), **(env or {})}.items() for x in ("-e", f"{k}={v}")
        ]
        self._tmux(
            "-f",
            "/dev/null",
            "new-session",
            "-d",
            "-x",
            str(width),
            "-y",
            str(height),
            *variables,
            "-c",
            str(folder),
            "sh",
            "-c",
            # Readline sets both in the process that runs the tests,.
            f"unset COLUMNS LINES; {command}; echo ended; sleep 600",
        )

    def _tmux(self, *arguments):
        return subprocess.run(
            ["tmux", "-S", self._socket, *arguments],
            capture_output=True,
            text=True,
            check=False,
            timeout=PATIENCE_S,
        ).stdout

    def screen(self):
        return self._tmux("capture-pane", "-p")

    def wait(self, pattern):
        """The screen, once it shows this."""
        end = time.monotonic() + PATIENCE_S
        while time.monotonic() < end:
            text = self.screen()
            if re.search(pattern, text):
                return text
            time.sleep(0.05)
        raise AssertionError(f"never saw {pattern!r}; on screen:\n{self.screen()}")

    def still(self):
        """The screen, once the program does nothing but wait.

        It slept at two looks and used no processor between them.
        """
        end, before = time.monotonic() + PATIENCE_S, None
        while time.monotonic() < end:
            now = self._at_rest(), self.screen()
            if now[0] and now == before:
                return now[1]
            before = now
            time.sleep(0.05)
        raise AssertionError(f"the screen never stood still:\n{self.screen()}")

    def _at_rest(self):
        """What each thread of each of its processes has used so far.

        Nothing where one of them works, or wants to.
        """
        used, todo = [], [self._tmux("display-message", "-p", "#{pane_pid}").strip()]
        while todo:
            tasks = Path(f"/proc/{todo.pop()}/task")
            try:
                for task in sorted(tasks.iterdir()):
                    fields = (task / "stat").read_text().rpartition(")")[2].split()
                    if fields[0] not in "SZ":
                        return []
                    used.append((task.name, fields[11], fields[12]))
                    todo += (task / "children").read_text().split()
            except OSError:  # it has just ended
                return []
        return used

    def keys(self, *names):
        for name in names:
            self._tmux("send-keys", "--", name)

    def click(self, word, line_with):
        """A press and release of the left button on a word (SGR mouse sequences, 1-based), once the
        screen stands still.
        """
        self.click_at(None, line_with, word)

    def click_at(self, x, line_with, word=""):
        """The same in this column of the line, or where the word stands."""
        self.wait(f"(?m){line_with}")
        for y, line in enumerate(self.still().splitlines(), 1):
            if re.search(line_with, line):
                for end in "Mm":
                    self._tmux("send-keys", "-l", f"\x1b[<0;{x or line.index(word) + 2};{y}{end}")
                return
        raise AssertionError(f"no line with {line_with!r}:\n{self.screen()}")

    def close(self):
        self._tmux("kill-server")


@pytest.fixture
def terminal(tmp_path):
    opened = []

    def start(command, **options):
        opened.append(Terminal(tmp_path, f"{sys.executable} -m lumtak {command}", **options))
        return opened[-1]

    yield start
    for one in opened:
        one.close()


def test_the_whole_job_from_the_demo(terminal, tmp_path):
    t = terminal("demo")
    t.wait("none yet")
    t.keys("Enter")
    t.wait("used for")
    t.keys("Enter")
    t.wait("complain of")
    t.keys("Enter")
    t.wait("Take the baseline")
    t.keys("Enter")
    t.wait("On to the audit")
    t.keys("Enter")
    t.wait("Space chooses")
    t.keys("4")
    t.wait("Choose the least plan")
    t.keys("Enter")
    t.wait("Apply 11 changes")
    t.keys("Enter")
    t.wait("(?s)A convenience goes .*A restart is needed.*Leave everything")
    t.keys("Right", "Enter")
    t.wait("On to the proof")
    t.keys("Enter")
    t.wait("Restart now")
    t.keys("Enter")
    t.wait("(?s)^(?!.*Restart now).*reading is due")
    t.keys("Enter")
    t.wait("carries less load")
    t.keys("Enter")
    t.wait("Write the report")
    t.keys("Enter")
    t.wait("Written: report.pdf, sheet.pdf and")
    assert (tmp_path / "lumtak-report-drawing-bench-1/report.pdf").stat().st_size > 10000
    t.keys("u")
    t.wait("Leave it changed")
    t.keys("Right", "Enter")
    t.wait("All 11 changes of this job are put back")
    t.keys("q")
    t.wait("ended")


@pytest.mark.parametrize("size", [(80, 24), (240, 70)])
def test_by_mouse_at_other_sizes_and_without_colour(terminal, size):
    t = terminal("demo", width=size[0], height=size[1], env={"NO_COLOR": "1"})
    t.wait("none yet")
    t.keys("Enter")
    t.wait("used for")
    t.keys("Enter")
    t.wait("complain of")
    t.keys("Enter")
    t.wait("Take the baseline")
    t.click("Take the baseline", "Take the baseline")
    t.wait("On to the audit")
    t.click("On to the audit", "On to the audit")
    t.wait("Space chooses")
    text = t.wait("Sheet index +ease")
    assert max(map(len, text.splitlines())) <= size[0]
    lines = text.splitlines()
    strips = [place for place, line in enumerate(lines) if re.match(" (RAM|CPU) ", line)]
    route = next(place for place, line in enumerate(lines) if "1 Intake" in line)
    assert route - strips[0] <= 5
    t.click("Sheet index", "Sheet index +ease")
    t.keys("Space")
    t.wait("1 chosen")
    t.click("Plan", "Intake.*Plan")
    t.wait("1 change chosen: CPU")


def test_the_whole_job_by_mouse_alone(terminal, tmp_path):
    t = terminal("demo", env={"TERM": "xterm-16color", "COLORTERM": ""})
    t.wait("none yet")
    t.click("tide logger", "sim:tide-logger")
    t.wait("used for")
    t.click("Tide logging", "Tide logging")
    t.wait("complain of")
    t.click("slow to open programs", "slow to open programs")
    t.wait("Take the baseline")
    t.click("Take the baseline", "Take the baseline")
    t.wait("On to the audit")
    t.click("On to the audit", "On to the audit")
    t.wait("Space chooses")
    t.click("set 1", "search:.*set 1")
    t.wait("shown:")
    t.click("set 1", "ease 3 +set 1")
    t.wait("search:")
    t.click_at(2, "Plan on battery +set")
    t.wait("1 chosen")
    t.click("Plan", "Intake.*Plan")
    t.wait("1 change chosen: CPU")
    t.wait("Apply 1 change")
    t.click("Apply 1 change", "Apply 1 change")
    t.wait("Leave everything")
    t.click("Apply them", "Apply them")
    t.wait("On to the proof")
    t.click("On to the proof", "On to the proof")
    t.wait("Take the after reading|Read at the same point")
    t.click("Take the after", "Take the after")
    t.wait("On to the handover")
    t.wait("compare the work, not the percentage")
    t.click("On to the handover", "On to the handover")
    t.click("Write the report", "Write the report")
    t.wait("Written: report.pdf, sheet.pdf and")
    t.click("Lumtak", "^ *Lumtak")
    t.wait("handover +RAM")
    t.click("Enter opens", "Enter opens a job")
    t.wait("Quick look")
    assert len(list(tmp_path.glob("lumtak-report-*/report.pdf"))) == 1


def test_a_real_local_job_reopened_where_it_was(terminal, tmp_path):
    person = tmp_path / "person"
    put(person, ".config/autostart/lumtak-test.desktop", ENTRY)
    before = snapshot_of(person)
    env = {
        "HOME": str(person),
        "XDG_CONFIG_HOME": "",
        "XDG_CONFIG_DIRS": "/nonexistent",
        "XDG_DATA_HOME": str(tmp_path / "data"),
        "SUDO_USER": "",
    }
    t = terminal("", env=env)
    t.wait("none yet")
    t.keys("End", "Enter")
    t.wait("this computer used for")
    t.keys("Enter")
    t.wait("complain of")
    t.keys("Enter")
    t.wait("Take the baseline")
    t.keys("Enter")
    t.wait(r"Reading: [3-9] of")
    t.keys("Enter")
    t.wait("stopped after")
    t.keys("3")
    t.wait("Tide feed")
    t.keys("q")
    t.wait("ended")
    t.close()

    t = terminal("", env=env)
    t.wait("visit 1")
    t.keys("Enter")
    t.wait("Tide feed.* ask ")
    t.click("Tide feed", "Tide feed")
    t.keys("Space")
    t.wait("1 chosen")
    t.keys("4")
    t.wait("Apply 1 change")
    t.keys("Enter")
    t.wait("Leave everything")
    t.keys("Right", "Enter")
    t.wait("1 change is done")
    assert "Hidden=true" in (person / ".config/autostart/lumtak-test.desktop").read_text()
    t.keys("6")
    t.wait("1 change is still in place")
    t.keys("u")
    t.wait("Leave it changed")
    t.keys("Right", "Enter")
    t.wait("The one change")
    t.keys("q")
    t.wait("ended")
    assert snapshot_of(person) == before


def test_the_workbench_ends_where_its_terminal_goes_away_without_a_word(tmp_path):
    seen, shown = pty.openpty()
    # A session of its own without this terminal as its own: no signal tells it of the end.
    with subprocess.Popen(
        [*LUMTAK, "--home", tmp_path / "home"], stdin=shown, stdout=shown, stderr=shown,
        env={**os.environ, "TERM": "xterm-256color"}, start_new_session=True,
    ) as process:  # fmt: skip
        os.close(shown)
        drawn = b""
        while b"Lumtak" not in drawn:
            drawn += os.read(seen, 4096)
        os.close(seen)
        assert process.wait(60) == 1
