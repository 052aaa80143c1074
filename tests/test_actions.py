"""Actions: ending a process, asked first, guarded, never confused with another one, recorded in the
job.
"""

import json
import os
import subprocess
import sys
from pathlib import Path

import msgspec
import pytest

from helpers import CATALOGUE, bench, facts, item, lumtak, lumtak_process
from lumtak.computers.hands.sent.hand import Hand
from lumtak.computers.linux.ending import end_process
from lumtak.core.actions import running
from lumtak.core.facts import Process
from lumtak.errors import ComputerError, UnknownNameError
from lumtak.work.actions import find_process, heavy_processes

NAME = "sim:drawing-bench"
STUBBORN = (
    "import signal, time; signal.signal(signal.SIGTERM, signal.SIG_IGN); print('.', flush=True);"
    " time.sleep(60)"
)
WILLING = "import time; print('.', flush=True); time.sleep(60)"


@pytest.fixture
def child():
    made = []

    def start(code):
        process = subprocess.Popen([sys.executable, "-c", code], stdout=subprocess.PIPE)
        process.stdout.read(1)
        made.append(process)
        return process

    yield start
    for process in made:
        process.kill()
        process.wait()
        if process.stdout:
            process.stdout.close()


def listed(pid):
    fields = Path(f"/proc/{pid}/stat").read_text().rsplit(") ", 1)[1].split()
    return Process(
        pid=pid, name="it", consumer="x", cpu_s=0.0, rss_bytes=1, started=int(fields[19])
    )


def test_a_willing_process_ends_when_asked(child):
    process = child(WILLING)
    one = listed(process.pid)
    assert end_process(Hand(), one, force=False, wait_s=10.0)
    assert process.wait() == -15


def test_a_stubborn_one_only_when_forced(child):
    process = child(STUBBORN)
    one = listed(process.pid)
    assert not end_process(Hand(), one, force=False, wait_s=0.2)
    assert process.poll() is None
    assert end_process(Hand(), one, force=True, wait_s=10.0)
    assert process.wait() == -9


def test_another_process_of_the_same_number_is_left_alone(child):
    process = child(WILLING)
    one = msgspec.structs.replace(listed(process.pid), started=1)
    with pytest.raises(ComputerError, match="another process has the number"):
        end_process(Hand(), one, force=True, wait_s=1.0)
    assert process.poll() is None
    process.kill()
    process.wait()
    assert end_process(Hand(), one, force=True, wait_s=1.0), "gone is gone"


@pytest.mark.skipif(os.getuid() != 0, reason="needs another user's process")
def test_somebody_elses_process_is_said():
    process = subprocess.Popen(["sleep", "60"])
    one, (read_end, write_end) = listed(process.pid), os.pipe()
    asker = os.fork()
    if asker == 0:
        os.setuid(65534)
        try:
            end_process(Hand(), one, force=False, wait_s=0)
        except ComputerError as error:
            os.write(write_end, str(error).encode())
        os._exit(0)
    os.waitpid(asker, 0)
    os.close(write_end)
    said = os.read(read_end, 1000).decode()
    os.close(read_end)
    process.kill()
    process.wait()
    assert "belongs to another user" in said


@pytest.mark.parametrize(
    ("process", "items", "why", "comes_back"),
    [
        ({"name": "fax"}, [item("services", "fax")], "", "with the system"),
        ({"name": "fax"}, [item("services", "fax", value="demand")], "", "asked for"),
        ({"name": "x", "consumer": "apps:x"}, [item("apps", "x", at_login=True)], "", "next login"),
        ({"name": "x"}, [], "", "not known"),
        ({"name": "x"}, [item("services", "x", role="graphics")], "guarded", ""),
        ({"name": "x", "untouchable": "everything else runs under it"}, [], "everything else", ""),
    ],
)
def test_what_is_guarded_and_what_comes_back(process, items, why, comes_back):
    given = {
        "pid": 7,
        "consumer": f"services:{process['name']}",
        "cpu_s": 0.0,
        "rss_bytes": 1,
        **process,
    }
    one = running(Process(**given), 1.0, facts(*items), CATALOGUE)
    assert why in one.why_not
    assert bool(one.why_not) == bool(why)
    assert comes_back in one.comes_back
    assert "not saved is lost" in one.loses


def test_the_heaviest_come_first_and_what_is_never_ended_last(sim):
    found = heavy_processes(sim, CATALOGUE)
    kept = [bool(r.why_not) for r in found]
    assert kept == sorted(kept)
    assert any(kept)
    assert sum(r.cpu_pct for r in found) < 100
    with pytest.raises(
        UnknownNameError, match=r"no process called chathorn\. `lumtak end COMPUTER` lists them"
    ):
        find_process(found, "chathorn")


def test_this_computers_own_processes(child):
    process = child("print('.', flush=True)\nwhile True: pass")
    found = json.loads(lumtak_process("end", "local", "--json").stdout)["processes"]
    mine = next(p for p in found if p["process"]["pid"] == process.pid)
    assert mine["cpu_pct"] > 0, "how much of the computer it gets is not ours to say"
    assert mine["why_not"] == ""
    seen = {
        p["pid"]: p
        for p in json.loads(lumtak_process("facts", "local", "--json").stdout)["processes"]
    }
    assert seen[os.getpid()]["untouchable"] == "Lumtak runs in it"
    ended = lumtak_process("end", "local", process.pid, "--yes")
    assert "was asked to end; it ended" in ended.stdout
    assert process.wait() == -15


def test_asked_each_time_recorded_in_the_job_and_in_the_report(home, tmp_path):
    bench(home / "simulated").close()
    job = lumtak("job", "start", NAME, "--profile", "hull-drafting", home=home).stdout.strip()
    nobody = lumtak("end", NAME, "chat-horn", home=home)
    assert nobody.returncode == 2
    assert "Nobody is there to answer" in nobody.stderr
    guarded = lumtak("end", NAME, "net-keeper", "--yes", home=home)
    assert guarded.returncode == 2
    assert "guarded" in guarded.stderr
    done = lumtak("end", NAME, "chat-horn", "--yes", home=home)
    assert f"Recorded in {job}" in done.stdout
    assert json.loads(lumtak("journal", NAME, "--json", home=home).stdout)["changes"] == []
    assert lumtak("report", job, "--out", tmp_path / "r", home=home).returncode == 0
    (action,) = json.loads((tmp_path / "r/job.json").read_text())["actions"]
    assert (action["target"], action["way"], action["ended"]) == ("Chat horn", "asked", True)
