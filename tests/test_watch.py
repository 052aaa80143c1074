"""A watch: what stands of it, what it sees, what it keeps, and nothing of it afterwards."""

import datetime as dt
import json
import os
import subprocess
import sys

import pytest
from hypothesis import given
from hypothesis import strategies as st

from faulting import run_script
from helpers import linux, lumtak, put, snapshot_of
from lumtak.computers.hands.sent import lookout
from lumtak.computers.linux.watch import program_text
from lumtak.core.setting import SettingRef, State, parse_change
from lumtak.core.upkeep.tasks import Partial
from lumtak.errors import ComputerError
from lumtak.journal import Journal, apply_changes, put_back

WATCH = SettingRef(area="upkeep", key="watch")
DATA = "home/u/.local/share/lumtak-watch"


HOSTILE = """{"format":1,"looks":[{"day":"2026-03-02\\u001b[2J","cpu_pct":12,"ram_pct":34,
"drifted":["drifted: \\u202e"],"told":[]}]}"""


@pytest.fixture
def watched(tree, tmp_path):
    """A computer on which a watch was switched on, and what stood there before."""
    put(tree, "/usr/lib/systemd/user/x.target", "")
    put(tree, "/usr/bin/python3", "")
    (tree / "home/u/.config/systemd").mkdir()
    before = snapshot_of(tree)
    journal = Journal(tmp_path / "home")
    computer = linux(tree)
    computer.settings.note_ceilings(10, 50)
    facts = computer.about.facts()
    done = apply_changes(journal, computer, facts, [parse_change("upkeep:watch=weekly")])
    assert [o.result for o in done] == ["done"]
    yield tree, journal, computer, before
    journal.close()


def script_of(tree):
    (found,) = (tree / "home/u/.local/share/lumtak-undo").glob("undo-*.sh")
    return found


def test_a_watch_is_three_files_and_a_link_and_goes_without_a_trace(watched):
    tree, journal, computer, before = watched
    service = (tree / "home/u/.config/systemd/user/lumtak-watch.service").read_text()
    assert service.endswith('"/home/u/.local/share/lumtak-watch/watch.py" weekly 10 50\n')
    assert (tree / DATA / "watch.py").read_bytes() == program_text()
    assert computer.settings.read(WATCH).value == "weekly"
    assert not [i for i in computer.about.facts().items if "lumtak-watch" in i.key]
    put(tree, f"/{DATA}/found.json", "{}")
    back = put_back(journal, computer)
    assert [o.result for o in back] == ["done"]
    assert snapshot_of(tree) == before


def test_the_undo_script_only_looks_when_told_so_and_puts_it_back_else(watched):
    tree, _, _, before = watched
    put(tree, f"/{DATA}/found.json", "{}")
    stands = snapshot_of(tree)

    def looked():
        told = subprocess.run(
            ["sh", script_of(tree), "--look", tree], capture_output=True, text=True, check=True
        )
        return told.stdout

    assert looked().startswith("as it was left: A short look")
    assert snapshot_of(tree) == stands
    timer = tree / "home/u/.config/systemd/user/lumtak-watch.timer"
    whole = timer.read_bytes()
    timer.write_bytes(b"somebody else's")
    assert looked().startswith("drifted: A short look")
    timer.write_bytes(whole)
    assert run_script(script_of(tree), tree).returncode == 0
    assert snapshot_of(tree) == before


def test_nobody_hides_behind_the_names_of_a_watch(watched):
    tree, _, computer, _ = watched

    def listed():
        items = [i.key for i in computer.about.facts().items if "lumtak-watch" in i.key]
        begun = Partial(task="odd", begun_at="2026-03-02T08:00:00+00:00")
        odd = computer.about.upkeep(begun, lambda _: None)
        return bool(items), any("lumtak-watch" in f.what for f in odd.found)

    assert listed() == (False, False)
    timer = tree / "home/u/.config/systemd/user/lumtak-watch.timer"
    timer.write_bytes(timer.read_bytes() + b"# and more\n")
    assert listed() == (True, True)


def test_whatever_stands_in_its_place_facts_are_told(watched):
    tree, _, computer, _ = watched
    service = tree / "home/u/.config/systemd/user/lumtak-watch.service"
    for spoil in (
        lambda: os.mkfifo(service),
        service.mkdir,
        lambda: service.write_bytes(b"x" * (2 << 20)),
        lambda: service.symlink_to("/dev/zero"),
    ):
        if service.is_dir():
            service.rmdir()
        else:
            service.unlink(missing_ok=True)
        spoil()
        (found,) = [i for i in computer.about.facts().items if str(i.ref) == "upkeep:watch"]
        assert found.value in {None, "off"}


def test_what_cannot_be_a_watch_is_refused(watched):
    _, _, computer, _ = watched
    with pytest.raises(ComputerError, match="cannot be hourly"):
        computer.settings.foresee(WATCH, State(value="hourly"))
    assert computer.settings.foresee(WATCH, State(value="off")).value is None


@pytest.mark.parametrize(
    ("kept", "hint"),
    [
        ('{"format":1,"looks":[]}', None),
        ("[" * 9999, "cannot be read"),
        ('{"format":1,"looks":[{"day":"x"}]}', "cannot be read"),
        (
            HOSTILE,
            "2026-03-0…: CPU 12 %, RAM 34 %, drifted: \ufffd",
        ),
    ],
)
def test_what_the_owners_account_kept_is_a_hint_and_no_more(watched, kept, hint):
    tree, _, computer, _ = watched
    put(tree, f"/{DATA}/found.json", kept)
    told = computer.about.hints()
    assert told == () if hint is None else hint in told[0]


# -- the program -----------------------------------------------------------------------------------

TODAY = dt.date(2026, 3, 2)


@given(st.integers(-400, 400), st.sampled_from(sorted(lookout.DAYS)))
def test_it_is_due_after_its_days_and_when_the_clock_was_set_back(days, every):
    looks = [{"day": (TODAY - dt.timedelta(days=days)).isoformat()}]
    assert lookout.is_due(looks, every, TODAY) == (not 0 <= days < lookout.DAYS[every])


@pytest.mark.parametrize("looks", [[], [3], [{}], [{"day": 5}], [{"day": "yesterday"}]])
def test_what_was_kept_and_is_none_makes_it_due(looks):
    assert lookout.is_due(looks, "weekly", TODAY)


def test_it_looks_once_a_due_date_and_tells_once(tmp_path, monkeypatch):
    folder = tmp_path / "share" / "lumtak-watch"
    folder.mkdir(parents=True)
    scripts = tmp_path / "share" / "lumtak-undo"
    scripts.mkdir()
    (scripts / "undo-1.sh").write_text('[ "$1" = --look ] && echo "drifted: a" && echo "other: b"')
    program = folder / "watch.py"
    program.write_bytes(program_text())
    slow = (
        program.read_text()
        .replace("/var/lib/lumtak", str(tmp_path))
        .replace("APART_S, SCRIPT_S = 1, 12, 12, 5.0", "APART_S, SCRIPT_S = 1, 12, 12, 0.01")
    )
    program.write_text(slow)
    bus = tmp_path / "bin" / "busctl"
    bus.parent.mkdir()
    bus.write_text(f'#!/bin/sh\nprintf "%s\\n" "$@" >>{tmp_path}/told\n')
    bus.chmod(0o755)
    env = {"PATH": f"{bus.parent}:{os.environ['PATH']}"}
    for _ in range(3):
        told = subprocess.run(
            [sys.executable, "-I", program, "weekly", "0", "0"],
            env=env,
            capture_output=True,
            text=True,
            check=True,
        )
        assert told.stderr == ""
    (look,) = json.loads((folder / "found.json").read_text())["looks"]
    assert look["drifted"] == ["drifted: a"]
    assert 0 <= look["cpu_pct"] <= 100
    assert 0 < look["ram_pct"] < 100
    said = (tmp_path / "told").read_text()
    assert said.count("Notify") == 1
    assert "throughout a minute. 1 settings" in said


def test_the_command_line_switches_it_on_says_what_it_kept_and_puts_it_back(home):
    loft = "sim:sail-loft"
    assert "The watch is off." in lumtak("watch", loft, home=home).stdout
    assert "unset → monthly" in lumtak("watch", loft, "monthly", home=home).stdout
    assert json.loads(lumtak("watch", loft, "--json", home=home).stdout)["every"] == "monthly"
    assert "monthly → unset" in lumtak("watch", loft, "off", home=home).stdout
    assert lumtak("last-visit", loft, home=home).returncode == 2
    lumtak("job", "start", loft, "--profile", "sail-making", home=home)
    assert "changed then        nothing" in lumtak("last-visit", loft, home=home).stdout
