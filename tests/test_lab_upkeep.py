"""Upkeep on the real thing: a real scanner, a really booted computer."""

import json
import os
import shutil
import subprocess
import tarfile
import threading
import time
import zipfile

import pytest

from helpers import linux, linux_tree, put
from lab.booted import USER, missing
from lumtak.errors import StoppedError
from lumtak.work.data_folder import DataFolder
from lumtak.work.upkeep import paused, run_task
from test_lab import lab, lumtak, snapshot

WHY = missing() or ("" if shutil.which("clamd") else "clamd is missing; `make lab-tools`")
pytestmark = [
    pytest.mark.lab,
    pytest.mark.timeout(900),
    pytest.mark.flaky(reruns=1, only_rerun=["TimeoutExpired"]),
    pytest.mark.skipif(bool(WHY) and not os.environ.get("CI"), reason=WHY or "it can be had"),
]
__all__ = ["lab"]
PLANTED = b"a string that was planted for the test"
FILES = 10_000


@pytest.fixture
def scanner(tmp_path):
    """A real scanner with a base of one signature, and a computer on which it listens."""
    tree = linux_tree(tmp_path / "root")
    base = tmp_path / "base"
    base.mkdir()
    (base / "own.ndb").write_text(f"Planted:0:*:{PLANTED.hex()}\n")
    place = tree / "run/clamav/clamd.ctl"
    place.parent.mkdir(parents=True)
    said = f"LocalSocket {place}\nDatabaseDirectory {base}\nForeground yes\nUser root\n"
    (tmp_path / "clamd.conf").write_text(said)
    with subprocess.Popen(
        ["clamd", "-c", tmp_path / "clamd.conf"],
        stdout=subprocess.DEVNULL,
        stderr=subprocess.STDOUT,
    ) as daemon:
        until(place.exists)
        yield tree, daemon
        daemon.kill()


def until(true, patience_s=120.0):
    end = time.monotonic() + patience_s
    while not true():
        assert time.monotonic() < end, "it never came to that"
        time.sleep(0.05)


def test_a_real_scanner_finds_what_was_planted_also_in_archives_and_goes_on(scanner, tmp_path):
    tree, daemon = scanner
    home = tree / "home/u"
    for n in range(FILES):
        place = home / f"{n % 100:02d}" / f"{n}"
        place.parent.mkdir(exist_ok=True)
        place.write_bytes(b"text %d " % n * 40)
    put(home, "zz/plain", b"x" * 999 + PLANTED)
    with zipfile.ZipFile(home / "a.zip", "w", zipfile.ZIP_DEFLATED) as packed:
        packed.writestr("inner", PLANTED * 9)
    with tarfile.open(home / "b.tar.gz", "w:gz") as packed:
        packed.add(home / "a.zip", "in/a.zip")
    data_folder, computer = DataFolder(tmp_path / "home"), linux(tree)
    stop, seen = threading.Event(), []

    def told(partial, _waits):
        seen.append(partial)
        if partial.files > FILES // 3:
            stop.set()

    with pytest.raises(StoppedError):
        run_task(data_folder, computer, "unwanted", on_progress=told, stop=stop)
    begun = paused(data_folder, computer.identity, "unwanted")
    assert FILES // 4 < begun.files < FILES
    assert seen[0].whole_files >= FILES
    result = run_task(data_folder, computer, "unwanted")
    assert {f.what for f in result.found} == {
        "/home/u/zz/plain",
        "/home/u/a.zip",
        "/home/u/b.tar.gz",
    }
    assert f"{FILES + 4:,} files" in result.says  # one more stands there from the beginning
    daemon.kill()
    daemon.wait()
    assert run_task(data_folder, computer, "unwanted").state == "not possible"


WATCH = f"/home/{USER}/.local/share/lumtak-watch/found.json"
AT_ONCE = "[Timer]\nOnStartupSec=\nOnStartupSec=2s\n"


def looks(lab):
    """What the watch kept; nothing where there is none yet."""
    said = lab.ssh("root", "cat", WATCH, check=False)
    try:
        return json.loads(said)["looks"]
    except ValueError:
        return []


def test_stopping_trim_and_a_watch_over_restarts_are_put_back_to_the_byte(lab):
    before = snapshot(lab)
    said = lumtak(lab, "apply", "local", "upkeep:stop_seconds=45", "upkeep:watch=weekly")
    assert "stored, not in force" not in said, said
    shown = ("systemctl", "show", "--property=DefaultTimeoutStopUSec")
    assert "45s" in lab.ssh("root", *shown)
    trimmed = lumtak(lab, "trim", "local", check=False)
    assert "was told that" in trimmed or "no disk takes word" in trimmed, trimmed
    own = f"/home/{USER}/.config/systemd/user/lumtak-watch.timer.d"
    lab.ssh(USER, "sh", "-c", f"mkdir -p {own} && cat > {own}/now.conf", stdin=AT_ONCE)
    lab.restart()
    assert "45s" in lab.ssh("root", *shown)
    lab.ssh(USER, "true")  # logs in, and stays for a while
    until(lambda: len(looks(lab)) == 1, 240)
    lab.restart()
    lab.ssh("root", "date", "-s", "+8 days")
    lab.ssh(USER, "true")
    until(lambda: len(looks(lab)) == 2, 240)
    assert "CPU" in lumtak(lab, "watch", "local")
    lab.ssh(USER, "rm", "-r", own)
    drift = json.loads(lumtak(lab, "drift", "local", "--json"))
    assert drift["settings"] == [] or all(s["standing"] == "as left" for s in drift["settings"])
    lumtak(lab, "undo", "local", "--all")
    now = snapshot(lab)
    assert {k: (v, now.get(k)) for k, v in before.items() if now.get(k) != v} == {}
    assert now.keys() == before.keys()
    left = lab.ssh(USER, "sh", "-c", "ls -A ~/.local/share")
    assert "lumtak-watch" not in left
