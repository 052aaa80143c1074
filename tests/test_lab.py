"""On a really booted computer.

A Debian with a kernel of its own that restarts, and whose power can be cut.
"""

import json
import os
import random
import re
import shlex
import subprocess
import time
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import pytest

from lab.booted import USER, Lab, missing

WHY = missing()
pytestmark = [
    pytest.mark.lab,
    pytest.mark.timeout(900),
    pytest.mark.flaky(reruns=1, only_rerun=["TimeoutExpired"]),
    pytest.mark.skipif(bool(WHY) and not os.environ.get("CI"), reason=WHY or "a lab can be booted"),
]

PROFILE = """format = 1
name = "lab"
title = "Lab"
about = "What is changed on a really booted computer."
[needs]
roles = []
[ceilings]
cpu_pct = 8
ram_pct = 50
[effects]
keep = ["smooth-fonts", "thumbnails", "animations"]
[power]
mains = "saving"
battery = "saving"
[memory]
swappiness = 10
"""
CHANGES = (
    "services:chart-tiles=manual",
    "services:sail-print=demand",
    "services:tide-poll.timer=manual",
    "apps:sail-copy=off",
    "apps:corner-bell=off",
    "power:mains=saving",
    "memory:swappiness=10",
    "effects:event-sounds=off",
    "memory:swap_mib=100",
    "apps:user/sail-index.service=off",
    "apps:sandbox/org.school.Tides=off",
    "effects:cursor-blinking=off",
)
STORE = "org.freedesktop.impl.portal.PermissionStore"
ALLOWED = ("busctl", "--user", "call", STORE, f"/{STORE.replace('.', '/')}", STORE)
SNAPSHOT = r"""
import hashlib, json, os, stat, subprocess
found = {}
for top in ("/etc", "/home/lum/.config", "/usr/lib/systemd/system"):
    for folder, folders, files in os.walk(top):
        folders[:] = [f for f in folders if f != "dconf" or folder != "/home/lum/.config"]
        for name in (*folders, *files):
            path = os.path.join(folder, name)
            about = os.lstat(path)
            what = [oct(about.st_mode), about.st_uid]
            if stat.S_ISLNK(about.st_mode):
                what.append(os.readlink(path))
            elif stat.S_ISREG(about.st_mode):
                what.append(hashlib.sha256(open(path, "rb").read()).hexdigest())
            found[path] = what
def ask(*words):
    return subprocess.run(words, capture_output=True, text=True).stdout.strip()
units = ("chart-tiles.service", "tide-poll.timer", "sail-print.socket", "sail-print.service",
         "etc-own.service")
found["units"] = {u: ask("systemctl", "is-active", u) for u in units}
plans = "net.hadess.PowerProfiles"
place = "/net/hadess/PowerProfiles"
found["plan"] = ask("busctl", "get-property", plans, place, plans, "ActiveProfile")
found["memory"] = [open(f"/proc/sys/vm/{n}").read() for n in ("swappiness", "vfs_cache_pressure")]
found["swap"] = open("/proc/swaps").read().split("\n")[1:]
found["own"] = os.path.exists("/var/lib/lumtak")
found["desktop"] = ask("runuser", "-u", "lum", "--", "dbus-run-session", "--", "dconf", "dump", "/")
print(json.dumps(found))
"""
LOAD = """
import time
def now():
    ticks = [int(x) for x in open("/proc/stat").readline().split()[1:9]]
    return sum(ticks), ticks[3] + ticks[4] + ticks[7]
time.sleep(8)
a = now()
time.sleep(20)
b = now()
print(100 * (1 - (b[1] - a[1]) / (b[0] - a[0])))
"""
"""CPU percent as /proc/stat says it, over two whole rounds of the timer that weighs; begun when a
reading beside it has begun."""

SEEDS = [int(n) for n in os.environ.get("LUMTAK_LAB_CUTS", "3,6").split(",")]
"""After how many changes the power is cut; after an even number the undo script alone puts back
what was done."""


@pytest.fixture
def lab():
    """One that was never on before, so that a test that is run again finds nothing of the first
    time.
    """
    made = Lab(Path(os.environ.get("LUMTAK_LAB", Path.home() / ".cache/lumtak-lab")))
    made.build()
    made.boot(anew=True)
    profiles = f"/home/{USER}/.local/share/lumtak/profiles"
    made.ssh(USER, "sh", "-c", f"mkdir -p {profiles} && cat > {profiles}/lab.toml", stdin=PROFILE)
    made.ssh(
        USER,
        *ALLOWED,
        "SetPermission",
        "sbssas",
        "background",
        "true",
        "background",
        "org.school.Tides",
        "1",
        "yes",
    )
    yield made
    made.cut_power()


def snapshot(lab):
    found = json.loads(lab.ssh("root", "python3", "-", stdin=SNAPSHOT))
    found["swap"] = [line.split()[:3] for line in found["swap"] if line]
    found["allowed"] = lab.ssh(USER, *ALLOWED, "Lookup", "ss", "background", "background")
    return found


def load_beside(lab, *words):
    """(CPU percent without Lumtak, what Lumtak said of its reading over the same seconds)."""
    with ThreadPoolExecutor(1) as beside:
        counted = beside.submit(lab.ssh, "root", "python3", "-", stdin=LOAD)
        said = lumtak(lab, *words)
        return float(counted.result()), said


def lumtak(lab, *words, user=USER, check=True):
    return lab.ssh(user, "lumtak", *words, check=check, timeout_s=400)


@pytest.fixture
def before(lab):
    """As it is before Lumtak changes anything.

    Restarts come after it, so whatever a restart alone would change is held against Lumtak.
    """
    return snapshot(lab)


def test_the_whole_job(lab, before):
    lumtak(
        lab, "apply", "local", "power:mains=saving"
    )  # before the baseline: else the percentage of CPU would be no measure
    job = lumtak(lab, "job", "start", "local", "--profile", "lab").strip()
    busy, _ = load_beside(lab, "job", "baseline", job, "--seconds", "60")
    audit = lumtak(lab, "job", "audit", job)
    assert re.search(r"ask .* services:chart-tiles +auto → off", audit)
    chosen = (
        "services:chart-tiles",
        "services:tide-poll.timer",
        "apps:sail-copy",
        "apps:user/sail-index.service",
        "apps:sandbox/org.school.Tides",
        "memory:swappiness",
        "effects:event-sounds",
        "effects:cursor-blinking",
    )
    lumtak(lab, "job", "choose", job, *chosen)
    done = lumtak(lab, "job", "apply", job)
    assert done.count("read back") == len(chosen), done
    assert "new login needed" in done
    lumtak(lab, "apply", "local", "services:sail-print=demand", "memory:swap_mib=100")
    lumtak(lab, "apply", "local", "memory:swap_mib=40")
    lab.restart()
    after = snapshot(lab)
    assert after["units"] == {
        "chart-tiles.service": "inactive", "tide-poll.timer": "inactive",
        "sail-print.socket": "active",
        "sail-print.service": "inactive", "etc-own.service": "active",
    }  # fmt: skip
    assert after["memory"][0] == "10\n"
    assert after["swap"] == [["/var/lib/lumtak/swap_40", "file", "40956"]]
    assert '"org.school.Tides" 1 "no"' in after["allowed"]
    assert "sail-index" not in lab.ssh(USER, "systemctl", "--user", "list-units", "--plain")
    assert "power-saver" in after["plan"]
    assert (
        after["desktop"] == "[org/gnome/desktop/interface]\ncursor-blink=false\n\n"
        "[org/gnome/desktop/sound]\nevent-sounds=false"
    )
    calm, told = load_beside(lab, "job", "after", job, "--seconds", "60", "--now")
    assert "Provisional" not in told, told
    found = re.search(r"CPU load at idle is lower by ([\d.]+) percentage points", told)
    assert found, (busy, calm, told)
    lower = float(found[1])
    assert lower == pytest.approx(busy - calm, abs=6), (
        "by the true amount, as /proc/stat says without Lumtak"
    )
    assert lower > 15
    back = lumtak(lab, "undo", "local", "--all")
    assert back.count("read back") == len(chosen) + 4, back
    lab.restart()
    assert snapshot(lab) == before


LOGIN = """
import subprocess, sys
subprocess.run(["usermod", "-aG", "systemd-journal", "lum"], check=True)
subprocess.run(["mkdir", "-p", "/var/log/journal"], check=True)
"""


def test_what_a_user_waits_for_and_the_starts_that_the_journal_tells_of(lab):
    lab.ssh("root", "python3", "-", stdin=LOGIN)
    for _ in range(2):
        lab.restart()
    assert "login screen after" in lumtak(lab, "starts", "local")
    lumtak(lab, "read", "local", "--seconds", "90", "--out", "calm.json")
    for number in range(4):
        lab.ssh("root", "systemd-run", f"--unit=hog{number}", "sh", "-c", "while :; do :; done")
    # So much of the processor goes to them that it shows on whatever the lab itself runs on.
    lab.ssh("root", "systemctl", "set-property", "--runtime", "system.slice", "CPUWeight=300")
    lumtak(lab, "read", "local", "--seconds", "90", "--out", "busy.json")
    lab.ssh("root", "systemctl", "stop", "hog*")
    lab.ssh("root", "systemctl", "set-property", "--runtime", "system.slice", "CPUWeight=100")
    found = json.loads(lumtak(lab, "compare", "calm.json", "busy.json", "--json"))
    felt = {c["felt"]: c for c in found["felt"]}
    told = {n: (c["finding"], c["before"], c["after"], c["ci95"]) for n, c in felt.items()}
    assert felt["program_start"]["finding"] == felt["memory"]["finding"] == "higher", told
    assert felt["program_start"]["ci95"][0] > 0, "with an interval"
    calm = json.loads(lab.ssh(USER, "cat", "calm.json"))
    assert len(calm["felt"]["program_start"]["took"]) >= 15
    starts = calm["starts"]
    assert len(starts) >= 2, starts
    assert all(0 < s["login_screen_s"] < 300 for s in starts), starts
    assert any(s["waited_for"] for s in starts), starts
    assert any(type(s["usable_s"]) in {int, float} for s in starts), starts
    left = lab.ssh(USER, "sh", "-c", "ls -A ~ ~/.local/share")
    assert ".lumtak-tries" not in left


def _put_back_without_lumtak(lab):
    """By the script alone: Lumtak and all it kept are gone."""
    lab.ssh("root", "rm", "-rf", f"/home/{USER}/.local/share/lumtak")
    lab.ssh("root", "mv", "/opt/lumtak/lumtak", "/opt/lumtak/away")
    script = lab.ssh(USER, "sh", "-c", "ls ~/.local/share/lumtak-undo/undo-*.sh").strip()
    said = lab.ssh(USER, "sh", script, check=False)
    assert "0 left alone, 0 failed" in said, said
    by_root = lab.ssh(
        USER, "sudo", "sh", re.search(r"sudo sh (/var/lib/lumtak/put-back-\S+)", said)[1]
    )
    assert "0 left alone, 0 failed" in by_root, by_root
    assert (said + by_root).count("put back: ") == len(CHANGES), (said, by_root)
    lab.ssh(USER, "sh", script)
    assert "undo" not in lab.ssh(USER, "ls", "-a", f"/home/{USER}/.local/share")
    lab.ssh("root", "mv", "/opt/lumtak/away", "/opt/lumtak/lumtak")


def test_one_change_goes_back_by_its_number_with_lumtak_and_its_data_gone(lab, before):
    lumtak(lab, "apply", "local", *CHANGES)
    numbers = {
        line["setting"]: line["number"]
        for line in json.loads(lumtak(lab, "journal", "local", "--json"))["changes"]
        if line["open"]
    }
    lab.ssh("root", "rm", "-rf", f"/home/{USER}/.local/share/lumtak")
    lab.ssh("root", "mv", "/opt/lumtak/lumtak", "/opt/lumtak/away")

    def put_back(shell, *words):
        typed = f"{shell} .local/share/lumtak-undo/put-back {' '.join(words)}"
        return lab.ssh(USER, "sh", "-c", typed, check=False)

    def standing():
        rows = put_back("busybox sh", "list").splitlines()
        return {int(r.split()[0]) for r in rows if r.endswith("now: as Lumtak left it")}

    every = set(numbers.values())
    assert standing() == every, numbers
    mine, roots = numbers["apps:sail-copy"], numbers["services:chart-tiles"]
    bell = numbers["effects:event-sounds"]
    assert f"Change {mine} is put back and read back" in put_back("dash", str(mine))
    assert standing() == every - {mine}
    assert f"Change {bell} is put back and read back" in put_back("busybox sh", str(bell))
    assert standing() == every - {mine, bell}
    said = put_back("dash", str(roots))
    assert standing() == every - {mine, bell}, "what takes root is only told"
    line = re.search(r"Type: (sudo sh \S+ [0-9]+)", said)[1]
    assert f"Change {roots} is put back and read back" in lab.ssh(USER, "sh", "-c", line)
    assert standing() == every - {mine, bell, roots}
    said = put_back("busybox sh", "all")
    lab.ssh(USER, "sh", "-c", re.search(r"sudo sh /var/lib/lumtak/put-back-\S+", said)[0])
    put_back("sh", "all")
    assert "undo" not in lab.ssh(USER, "ls", "-a", f"/home/{USER}/.local/share")
    lab.ssh("root", "mv", "/opt/lumtak/away", "/opt/lumtak/lumtak")
    now = snapshot(lab)
    assert {k: (v, now.get(k)) for k, v in before.items() if now.get(k) != v} == {}
    assert now.keys() == before.keys()


@pytest.mark.parametrize("seed", SEEDS)
def test_a_power_cut_in_the_middle_of_a_plan(lab, before, seed):
    words = shlex.join(["lumtak", "apply", "local", *CHANGES])
    with subprocess.Popen(
        [*lab.command(USER), words], stdout=subprocess.PIPE, text=True
    ) as at_work:
        for _ in range(seed):
            at_work.stdout.readline()
        time.sleep(random.Random(seed).random() * 2)
        lab.cut_power()
        at_work.kill()
    lab.boot()
    known = json.loads(lumtak(lab, "journal", "local", "--json"))
    assert {line["found"] for line in known["interrupted"]} <= {
        "done",
        "not done",
        "put back",
        "not begun",
    }, known
    if seed % 2:
        said = lumtak(lab, "undo", "local", "--all", check=False)
        assert "conflict" not in said, (known, said)
        left = json.loads(lumtak(lab, "drift", "local", "--json"))
        assert left["settings"] == [], left
    else:
        rest = lumtak(lab, "apply", "local", *CHANGES, check=False)
        assert "FAILED" not in rest, rest
        _put_back_without_lumtak(lab)
    now = snapshot(lab)
    assert {k: (v, now.get(k)) for k, v in before.items() if now.get(k) != v} == {}
    assert now.keys() == before.keys()


BESIDE = """
import os, subprocess, time
def now():
    words = ("systemctl", "show", "chart-tiles", "-p", "ActiveState,CPUUsageNSec")
    said = dict(l.split("=") for l in subprocess.check_output(words, text=True).splitlines())
    spent = said["CPUUsageNSec"]
    return time.monotonic(), said["ActiveState"], int(spent) if spent.isdigit() else 0
spent = passed = 0
last = now()
while not os.path.exists("/run/over"):
    time.sleep(1)
    this = now()
    if last[1] == this[1] == "active" and this[2] >= last[2]:
        spent, passed = spent + (this[2] - last[2]) / 1e9, passed + this[0] - last[0]
    last = this
print(100 * spent / passed)
"""
"""CPU percent of the service as the system counts it, while it is on; on one processor."""
CALM = """
import subprocess, time
def now():
    ticks = [int(x) for x in open("/proc/stat").readline().split()[1:9]]
    return sum(ticks), ticks[3] + ticks[4] + ticks[7]
def load():
    a = now()
    time.sleep(20)
    b = now()
    return 100 * (1 - (b[1] - a[1]) / (b[0] - a[0]))
before, after = 1000.0, load()
for _ in range(15):
    if abs(after - before) < 3:
        break
    before, after = after, load()
print(before, after)
"""
"""Until two rounds of the timer that weighs have the same load: nothing of the start is left."""


def test_a_trial_of_a_service_that_loads_gives_what_the_system_counts(lab):
    lab.ssh("root", "python3", "-", stdin=CALM, timeout_s=400)
    trial = ("trial", "local", "services:chart-tiles=manual", "--profile", "lab", "--measure")
    times = ("--blocks", "12", "--block-seconds", "8", "--washout", "4", "--json")
    with ThreadPoolExecutor(1) as beside:
        counted = beside.submit(lab.ssh, "root", "python3", "-", stdin=BESIDE, timeout_s=500)
        try:
            told = lumtak(lab, *trial, "cpu", *times)
        finally:
            lab.ssh("root", "touch", "/run/over")
        share = float(counted.result())
    said = json.loads(told[told.index("{") :])
    assert (said["state"], said["shown"]["finding"]) == ("done", "lower"), said
    told = share, said["shown"]["difference"], said["shown"]["ci95"]
    assert share > 15, told
    low, high = said["shown"]["ci95"]
    assert low - 3 <= -share <= high + 3, f"{told}: 3 points are what ticks of 10 ms leave open"
    assert lab.ssh("root", "systemctl", "is-active", "chart-tiles").strip() == "active"
