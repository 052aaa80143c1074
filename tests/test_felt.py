"""Felt time: what the owner waits for, the complaint that leads, and a life that comes between."""

import json
import math
import os
import subprocess
import sys
import time
from pathlib import Path

import msgspec
import numpy as np
import pytest

from helpers import lumtak, reading
from lumtak.computers.hands.sent.files.places import RefusalError
from lumtak.computers.hands.sent.hand import Hand
from lumtak.computers.hands.sent.running.feeling import NAME, PART, PARTS, why_not_started
from lumtak.computers.hands.whose import chosen_user, local_hands
from lumtak.computers.linux import starts as journal
from lumtak.computers.linux.programs import packaged
from lumtak.computers.linux.starts import Line, start_in
from lumtak.computers.linux.watching import LinuxWatch
from lumtak.computers.protocol import Life
from lumtak.core.answer import felt_changes, led_by, tries_of, typical
from lumtak.core.attribution import attribution
from lumtak.core.felt import COMPLAINTS, TRIED, Start, Tries, leads
from lumtak.core.plan import Plan
from lumtak.core.proof import complaint_in_words
from lumtak.core.reading import ENDED_WORDS
from lumtak.core.record import NotMeasured
from lumtak.core.setting import parse_ref
from lumtak.core.standing import Standing, in_words
from lumtak.core.verdict import compare_readings, headline
from lumtak.errors import UsageError
from lumtak.work.audit import choose_all_eased, keep_answers, make_audit, toggle
from lumtak.work.handover import content_of, reminders_of
from lumtak.work.intake import begin_job, choose_program, note_complaint
from lumtak.work.plan import carry_out, restart
from lumtak.work.proof import proof_of, read_after
from lumtak.work.reading import read_baseline
from lumtak.work.sampling import Watched, take_reading
from lumtak.work.storage import empty_for, held_by, space_told
from noise import autoregression
from test_charts import step

# -- what is said of tries and starts --------------------------------------------------------------


def with_tries(values, felt="program_start", **fields):
    tries = Tries(at_s=tuple(3.0 * (i + 1) for i in range(len(values))), took=tuple(values))
    return reading((20.0,) * 3 * len(values), felt={felt: tries}, **fields)


def spread(middle, count=40, seed=1, by=0.2):
    return middle * np.exp(by * np.random.default_rng(seed).standard_normal(count))


def test_a_wait_is_compared_by_its_factor_and_told_in_words():
    (found,) = felt_changes([with_tries(spread(0.4))], [with_tries(spread(0.2, seed=2))])
    assert (found.felt, found.finding) == ("program_start", "lower")
    assert found.ci95[0] < -50 < found.ci95[1] < -40
    assert (found.before, found.after) == (pytest.approx(0.4, rel=0.1), pytest.approx(0.2, rel=0.1))
    assert found.sentence.startswith("Start of a small program: ")
    assert "% less (95 % sure: " in found.sentence
    assert found.clause.startswith("Programs start quicker than before (")
    (same,) = felt_changes(*([with_tries(spread(0.4, seed=n, by=0.05))] for n in (1, 2)))
    assert same.finding == "no effect"
    assert ": the same, any difference is under 10 %" in same.sentence
    (unclear,) = felt_changes(
        [with_tries(spread(0.4, 8))], [with_tries(spread(0.42, 8, seed=5) * 1.1)]
    )
    assert unclear.finding == "not known"
    assert "no clear difference" in unclear.sentence
    assert unclear.clause.startswith("No clear difference in what was complained of")
    assert felt_changes([with_tries(spread(0.4, 2))], [with_tries(spread(0.2))]) == (), "too few"


def test_tries_before_the_load_settled_do_not_count():
    early = with_tries([9.0] * 10 + [0.4] * 30, settled_from=30)
    assert tries_of(early, "program_start") == [9.0] + [0.4] * 30
    assert typical(early, "program_start") == pytest.approx(math.exp(
        (math.log(9.0) + 30 * math.log(0.4)) / 31
    ))  # fmt: skip
    damaged = msgspec.structs.replace(early, settled_from=10**6)
    assert len(tries_of(damaged, "program_start")) <= 40
    assert tries_of(early, "wake") == []


def test_a_temperature_is_where_it_is_headed():
    """One that still cools from the start of the computer says so, and one at rest does too."""
    cooling = [60.0 - 20 * (1 - math.exp(-i / 20)) for i in range(50)]
    dice = np.random.default_rng(3)
    hot, cold = (
        with_tries([v + 0.05 * dice.standard_normal() for v in values], "temperature")
        for values in ([60.0] * 50, cooling)
    )
    (found,) = felt_changes([hot], [cold])
    assert (found.finding, found.ci95[0] < -20 < found.ci95[1]) == ("lower", True)
    assert "°C less" in found.sentence
    assert found.clause.startswith("The computer stays cooler than before (40 °C, was 60 °C)")


def start(usable_s, at="2026-03-02T07:00:00+00:00", login_screen_s=20.0):
    return Start(boot_id="b", at=at, login_screen_s=login_screen_s, usable_s=usable_s)


def test_starts_of_the_records_have_an_interval_as_soon_as_one_side_has_two():
    before, after = [start(40.0), start(44.0), start(42.0), start(41.0)], [start(20.0)]
    told = {c.felt: c for c in felt_changes([reading()], [reading()], (before, after))}
    assert (told["usable"].finding, told["usable"].count_before) == ("lower", 4)
    assert told["usable"].ci95[0] < -52 < told["usable"].ci95[1] < -30
    low, high = told["login_screen"].ci95
    assert low < 0 < high, "known to the second, and never surer than that"
    (alone,) = felt_changes(
        [reading()],
        [reading()],
        ([start(40.0, login_screen_s=NotMeasured(not_measured="x"))], [start(20.0)]),
    )
    assert isinstance(alone.ci95, NotMeasured)
    assert "how sure that is cannot be told" in alone.sentence
    assert headline(compare_readings([reading()], [reading()]), "", "", (alone,)).startswith("No ")


def test_a_complaint_has_measures_of_its_own_that_lead():
    assert {c for complaint in COMPLAINTS for c in leads(complaint)} >= {*TRIED, "usable"}
    changes = felt_changes(
        [with_tries(spread(0.4)), with_tries(spread(0.4, seed=9))],
        [with_tries(spread(0.2))],
    )
    assert [c.felt for c in led_by("programs", changes)] == ["program_start"]
    assert led_by("heat", changes) == ()
    assert complaint_in_words("heat", "It roars.") == "fan and heat: “It roars.”"
    assert complaint_in_words("", "") == ""


def test_a_ceiling_is_kept_or_missed_by_how_much():
    over = Standing(what="CPU", value_pct=11.2, ceiling_pct=10.0, was_over=True)
    just = Standing(what="RAM", value_pct=50.01, ceiling_pct=50.0, was_over=False)
    kept = Standing(what="RAM", value_pct=38.0, ceiling_pct=50.0, was_over=True)
    assert in_words((over, kept)) == (
        "CPU 11.2 %, still 1.2 over its ceiling of 10; RAM 38.0 %, now 12 under its ceiling of 50."
    )
    assert just.words == "RAM 50.0 %, now less than 0.1 over"


@pytest.mark.parametrize("factor", [1.0, 0.6, 1.5])
def test_the_interval_holds_the_factor_of_waits_that_follow_each_other(factor):
    """Coverage for effects that multiply; `make calibrate` has more."""
    rng = np.random.default_rng(21)
    a, b = (np.exp(0.3 * autoregression(rng, 150, 60, 0.6)) for _ in range(2))
    held = 0
    for x, y in zip(a, b, strict=True):
        (found,) = felt_changes([with_tries(x)], [with_tries(factor * y)])
        held += found.ci95[0] <= 100 * (factor - 1) <= found.ci95[1]
    assert held >= 0.92 * 150


# -- trying ----------------------------------------------------------------------------------------


def left_in(folder):
    return [p.name for p in Path(folder).iterdir()]


def test_a_round_of_tries_leaves_nothing_and_says_what_could_not_be_tried(tmp_path, monkeypatch):
    hand = Hand()
    found = hand.feel(str(tmp_path), "")
    assert set(found) == {"program_start", "wake", "memory", "file_write", "file_read"}
    assert all(found[n] > 0 for n in ("program_start", "memory", "file_write")), found
    assert isinstance(found["file_read"], str) or found["file_read"] > 0
    assert left_in(tmp_path) == []
    held = os.fstat(hand._feeling._file)
    assert (held.st_nlink, held.st_size >> 20) == (0, PART * PARTS >> 20)
    hand._feeling.close()
    with pytest.raises(RefusalError, match="root tries nothing"):
        Hand(rules=True).feel(str(tmp_path), "")
    missing = Hand().feel(str(tmp_path / "no"), "")
    assert missing["file_write"] == missing["file_read"] == "no such file or directory"
    monkeypatch.setattr("lumtak.computers.hands.sent.running.feeling._LEFT_FREE", 1 << 62)
    assert "too little free space" in Hand().feel(str(tmp_path), "")["file_write"]
    # Where the file system knows no file without a name, what a kill left goes with the next.
    monkeypatch.setattr("lumtak.computers.hands.sent.running.feeling._LEFT_FREE", 0)
    monkeypatch.setattr(os, "O_TMPFILE", os.O_DIRECTORY)
    (tmp_path / NAME).write_text("left behind")
    assert Hand().feel(str(tmp_path), "")["file_write"] > 0
    assert left_in(tmp_path) == []


def test_only_a_program_that_root_alone_can_change_is_started(tmp_path):
    mine = tmp_path / "program"
    mine.write_text("#!/bin/sh\necho 1\n")
    mine.chmod(0o755)
    (tmp_path / "link").symlink_to("/usr/bin/env")
    env = os.path.realpath("/usr/bin/env")
    hand = Hand()
    for path, why in (
        (str(mine), "others than root can write"),
        (str(tmp_path / "link"), "not named by the place where it stands"),
        ("/usr/bin/../bin/env", "not named by the place"),
        ("env", "not named by the place"),
        ("/etc/passwd", "no program"),
        ("/usr/bin/nothing-of-that-name", "no such file"),
        (os.path.realpath("/usr/bin/passwd"), "other rights"),
    ):
        assert why in hand.not_started(path), path
        assert why in hand.feel(str(tmp_path), path)["large_program"], path
    assert why_not_started(env) == ""
    assert hand.feel(str(tmp_path), env)["large_program"] > 0
    assert packaged(hand, [env, str(mine)]) == {env}
    assert "folder" in Hand(str(tmp_path)).not_started(env)


def test_a_watch_that_is_killed_leaves_nothing_and_readings_go_on(tmp_path, monkeypatch):
    monkeypatch.setenv("HOME", str(tmp_path))
    user = chosen_user(None, {"HOME": str(tmp_path)})
    hands = local_hands(user)
    watch = LinuxWatch(hands, user, now_s=time.monotonic, every_s=0.05, program="")
    try:
        until(lambda: len(watch.tries()) > 0 and watch.life() is not None)
        assert watch.life()[1].power_source in {"mains", "battery"}
        before = watch.pid
        os.kill(before, 9)
        until(lambda: watch.pid not in {0, before})
        until(lambda: any(not isinstance(t.took, NotMeasured) for t in watch.tries()))
    finally:
        watch.close()
    assert watch.pid == 0
    assert left_in(tmp_path) == []
    hands.close()


def until(true, seconds=60.0):
    """Wait for a condition, and never for time."""
    end = time.monotonic() + seconds
    while not true():
        assert time.monotonic() < end, "it never came about"
        time.sleep(0.02)


# -- a life that comes between ---------------------------------------------------------------------


class Lived:
    """A simulated computer with somebody at it, as a story of (from second, what is seen) tells."""

    def __init__(self, sim, story):
        self._sim, self._story = sim, story
        self.about, self.clock, self.load = sim.about, sim.clock, self
        self.address, self.identity = sim.address, sim.identity
        self._from_s = sim.clock.now_s()
        self.sample = sim.load.sample

    def watch(self, **_):
        return self

    def tries(self):
        return []

    def close(self):
        pass

    def life(self):
        now = self._sim.clock.now_s()
        seen = [life for at, life in self._story if at <= now - self._from_s]
        last = msgspec.structs.replace(seen[-1])
        if last.touched_s is not None:
            shifted = (self._from_s + last.touched_s[0], self._from_s + last.touched_s[1])
            last = msgspec.structs.replace(last, touched_s=shifted)
        return now, last


AWAY = Life(power_source="mains", lid="open", locked="off", sessions=("1",), touched_s=(-100, -100))


@pytest.mark.parametrize(
    ("ended", "change"),
    [
        ("power", {"power_source": "battery"}),
        ("lid", {"lid": "closed"}),
        ("lock", {"locked": "on"}),
        ("login", {"sessions": ("1", "2")}),
        ("returned", {"touched_s": (20, 20)}),
    ],
)
def test_what_comes_between_cuts_a_reading_and_is_never_averaged_over(sim, ended, change):
    story = [(0, AWAY), (20, msgspec.structs.replace(AWAY, **change))]
    got = take_reading(Lived(sim, story), seconds=60)
    assert (got.ended, len(got.samples)) == (ended, 19), "nothing of what came after"
    assert ENDED_WORDS[got.ended].startswith("cut when")
    assert got.felt == {}


def test_who_was_there_all_along_or_touches_lumtak_itself_cuts_nothing(sim):
    busy = [(t, msgspec.structs.replace(AWAY, touched_s=(t, t))) for t in range(60)]
    assert take_reading(Lived(sim, busy), seconds=50).ended == "complete"
    silent = [(0, Life()), (9, Life(power_source="mains", lid="open", touched_s=(9, 9)))]
    assert take_reading(Lived(sim, silent), seconds=20).ended == "complete"
    # The first answer of a busy computer took 12 s: the next one, told at once, is no touch.
    slow = [(0, msgspec.structs.replace(AWAY, touched_s=(-112, -100))), (9, AWAY)]
    assert take_reading(Lived(sim, slow), seconds=20).ended == "complete"
    back = [(0, AWAY), (20, msgspec.structs.replace(AWAY, touched_s=(20, 20)))]
    own = Watched(touched=sim.clock.now_s)
    assert take_reading(Lived(sim, back), seconds=40, watched=own).ended == "complete"
    with pytest.raises(UsageError, match="cut when it changed between mains and battery before"):
        take_reading(
            Lived(sim, [(0, AWAY), (1.5, msgspec.structs.replace(AWAY, power_source="battery"))]),
            seconds=40,
            interval_s=2.0,
        )


def test_whoever_touches_what_was_to_be_left_alone_comes_between_wherever_they_were(sim):
    busy = [(t, msgspec.structs.replace(AWAY, touched_s=(t, t))) for t in range(5, 60)]
    story = [(0, msgspec.structs.replace(AWAY, touched_s=(-1, -1))), *busy]
    left = Watched(since_s=sim.clock.now_s())
    got = take_reading(Lived(sim, story), seconds=50, watched=left)
    assert (got.ended, len(got.samples) <= 5) == ("returned", True)
    own = Watched(since_s=sim.clock.now_s(), touched=sim.clock.now_s)
    assert take_reading(Lived(sim, story), seconds=50, watched=own).ended == "complete"
    before = Watched(since_s=sim.clock.now_s() - 3)
    with pytest.raises(UsageError, match="somebody came back to it before its first sample"):
        take_reading(Lived(sim, story), seconds=50, watched=before)


# -- starts, as a journal tells of them ------------------------------------------------------------

BOOT = "0123456789abcdef0123456789abcdef"


def said(at_s, kind, **fields):
    return Line(kind, BOOT, int((1_772_000_000 + at_s) * 1e6), int(at_s * 1e6), fields)


def begun(unit, at_s, took_s, field="UNIT"):
    return [
        said(at_s, journal._STARTING, **{field: unit}),
        said(at_s + took_s, journal._STARTED, **{field: unit}),
    ]


A_START = [
    *begun("slow.service", 2.0, 6.5),
    *begun("quick.service", 2.0, 0.1),
    *begun("user@1000.service", 30.0, 2.0),
    *begun("plymouth-quit-wait.service", 3.0, 9.0),
    said(9.0, journal._STARTED, UNIT="lightdm.service"),
    said(11.0, journal._SESSION, USER_ID="lightdm", SESSION_ID="c1"),
    said(
        14.0,
        journal._STARTED_UP,
        MESSAGE="Startup finished in 8.0s (firmware) + 1min 2.5s (loader) + 3s (kernel) + 9s (x).",
    ),
    said(30.0, journal._SESSION, USER_ID="mia", SESSION_ID="2"),
    *begun("app-sync@autostart.service", 34.0, 5.5, "USER_UNIT"),
    *begun("quick.service", 45.0, 0.1),
    *begun("session-7.scope", 46.0, 0.1),
    *begun("much-later.service", 60.0, 40.0),
]


def test_a_start_as_the_journal_tells_of_it():
    found = start_in(A_START, "mia", None)
    assert found.login_screen_s == pytest.approx(8.0 + 62.5 + 11.0), "firmware and loader with it"
    assert found.usable_s == pytest.approx(9.5), "what came ten seconds and more later is no part"
    assert [(w.name, w.took_s) for w in found.waited_for] == [
        ("slow.service", pytest.approx(6.5)),
        ("app-sync@autostart.service", pytest.approx(5.5)),
    ]
    assert found.in_words().startswith(
        "login screen after 1 min 22 s; usable 10 s after the login; "
    )
    assert "did not log in" in start_in(A_START, "eve", None).usable_s.not_measured
    assert "still starting" in start_in(A_START, "mia", 41.0).usable_s.not_measured
    bare = start_in([said(14.0, journal._STARTED_UP, MESSAGE="x" * 9000)], "mia", None)
    assert isinstance(bare.login_screen_s, NotMeasured)


def test_lines_of_a_journal_are_hostile_like_everything():
    lines = [
        b'{"_BOOT_ID":"%s","MESSAGE_ID":"%s","__REALTIME_TIMESTAMP":"17","__MONOTONIC_TIMESTAMP":"9"'
        b',"UNIT":[1,2],"MESSAGE":null}' % (BOOT.encode(), journal._STARTED.encode()),
        b"{" * 5000,
        b'{"_BOOT_ID":"x","__REALTIME_TIMESTAMP":"1","__MONOTONIC_TIMESTAMP":"1"}',
        b"[1]",
        b"\xff\xfe",
        b'{"_BOOT_ID":"%s","__REALTIME_TIMESTAMP":"9e9","__MONOTONIC_TIMESTAMP":"-1"}'
        % BOOT.encode(),
    ]
    read = [line for line in map(journal._line, lines) if line]
    assert [line.at_us for line in read] == [17]
    whole = {"_BOOT_ID": BOOT, "__REALTIME_TIMESTAMP": "17", "__MONOTONIC_TIMESTAMP": "9"}
    for by, kind, field, counts in (
        ("0", journal._SESSION, "USER_ID", True),
        ("1000", journal._SESSION, "USER_ID", False),
        ("1000", journal._STARTED, "UNIT", False),
        ("1000", journal._STARTED, "USER_UNIT", True),
    ):
        line = json.dumps({**whole, "MESSAGE_ID": kind, "_UID": by, field: "x"}).encode()
        assert (journal._line(line) is not None) == counts, "a user forges no start"
    assert start_in(read, "mia", None).waited_for == ()


# -- whole jobs ------------------------------------------------------------------------------------


def worked(data_folder, name, who, complaint, choose):
    """A job on a computer of the fleet from intake to the after reading."""
    computer = data_folder.computer(f"sim:{name}")
    open_job = begin_job(data_folder, computer, data_folder.profile(who), complaint=complaint)
    (program,) = computer.about.programs()
    choose_program(open_job, program.path)
    computer.clock.restart()
    read_baseline(open_job)
    make_audit(open_job)
    choose(open_job)
    carry_out(open_job)
    restart(open_job)
    read_after(open_job)
    return open_job


@pytest.mark.long
def test_the_tool_crib_opens_programs_quicker_and_its_disk_stays_the_brake(data_folder):
    open_job = worked(data_folder, "tool-crib", "tool-lending", "programs", choose_all_eased)
    proof = proof_of(open_job)
    assert [c.felt for c in proof.lead] == ["large_program", "program_start", "file_read"]
    assert all(c.finding == "lower" and c.ci95[1] < 0 for c in proof.lead)
    assert proof.headline.startswith("A large program starts quicker than before (")
    assert proof.brake.startswith(
        "The disk still holds this computer back (one read from it takes "
    )
    assert "a solid-state disk in place of the spinning one would" in proof.brake
    kinds = ["Start of a large", "Start of a small", "Reading from the disk", "CPU load", "Memory"]
    assert [s for s, k in zip(proof.claims, kinds, strict=False) if not s.startswith(k)] == []
    assert [n for n, s in enumerate(proof.claims) if s.startswith("CPU 1")] == [
        len(proof.claims) - 3
    ]
    assert proof.claims[-1].startswith(
        "17.0 GiB of the disk are free, as before; 33.0 GiB are missing of its floor. 28.8 GiB more"
        " are set aside; once they are emptied, from 20"
    ), proof.claims[-1]
    content = content_of(open_job)
    assert content.claims == tuple(proof.claims)
    assert content.felt[0].felt == "large_program"
    assert len(open_job.baseline.felt["program_start"].took) >= 40
    told = {c.felt: c for c in proof.felt}
    assert (told["usable"].count_before, told["usable"].count_after) == (6, 1)
    assert told["usable"].finding == "lower", "of starts that its records tell of"
    # What the owner decides brings it over its floor, and the system's own command would do it too.
    keep_answers(open_job, {"storage:trash": "not needed"})
    toggle(open_job, parse_ref("storage:trash"))
    assert [o.result for o in carry_out(open_job)] == ["done"]
    assert space_told(open_job).now_bytes == proof.space.now_bytes, "moving frees nothing"
    ready, later = held_by(open_job)
    assert (len(ready), len(later)) == (0, 9)
    assert [r for r in reminders_of(open_job) if "empty" in r.name]
    empty_for(open_job, later)
    space = space_told(open_job)
    assert space.now_bytes > space.floor_bytes
    assert "its floor is kept." in space.words
    assert [r for r in reminders_of(open_job) if "empty" in r.name] == []


@pytest.mark.long
def test_the_tide_loggers_plan_gives_quicker_starts_and_no_other_work(data_folder):
    open_job = worked(
        data_folder,
        "tide-logger",
        "tide-logging",
        "programs",
        lambda job: toggle(job, parse_ref("power:battery")),
    )
    note_complaint(open_job, "programs", "  slow\nall day ")
    proof = proof_of(open_job)
    assert proof.headline.startswith("A large program starts quicker than before (")
    assert proof.headline.endswith("At idle work and memory are the same as before.")
    assert proof.told == "slow all day"
    assert proof.brake == "Nothing holds it back at idle any more. Before it was the clock."


def test_starts_from_the_command_line(home):
    told = lumtak("starts", "sim:tool-crib", home=home).stdout
    assert len(told.splitlines()) == 5
    assert all("login screen after 2" in line for line in told.splitlines())
    found = json.loads(lumtak("starts", "sim:tool-crib", "--json", home=home).stdout)
    assert [s["usable_s"] > 3 for s in found["starts"]] == [True] * 5


def test_the_complaint_and_the_program_from_the_command_line(home):
    begin = ("job", "start", "sim:tool-crib", "--profile", "tool-lending", "--complaint")
    assert lumtak(*begin, "cold", home=home).returncode == 2
    assert lumtak(*begin, "start", home=home).stdout == "tool-crib-1\n"
    assert "slow to start" in lumtak("job", "complaint", "tool-crib-1", home=home).stdout
    done = lumtak("job", "complaint", "tool-crib-1", "heat", "--said", "a\x1b[31m", home=home)
    assert done.stdout == "fan and heat: “a␛[31m”\n"
    assert "/usr/bin/lending-desk" in lumtak("job", "program", "tool-crib-1", home=home).stdout
    other = lumtak("job", "program", "tool-crib-1", "/usr/bin/x", "--yes", home=home)
    assert (other.returncode, "there is no such program" in other.stderr) == (2, True)
    agreed = lumtak("job", "program", "tool-crib-1", "/usr/bin/lending-desk", "--yes", home=home)
    assert agreed.stdout == "Readings time the start of /usr/bin/lending-desk.\n"
    assert lumtak("job", "proof", "tool-crib-1", home=home).returncode == 2
    for station, *options in (
        ("baseline", "--seconds", "40"),
        ("choose", "--eased"),
        ("apply",),
        ("after", "--seconds", "40", "--now"),
    ):
        done = lumtak("job", station, "tool-crib-1", *options, home=home)
        assert done.returncode == 0, done.stderr
    found = json.loads(lumtak("job", "proof", "tool-crib-1", "--json", home=home).stdout)
    assert list(found)[:3] == ["complaint", "told", "headline"]
    assert found["complaint"] == "heat"
    assert {c["felt"] for c in found["felt"]} >= {"program_start", "wake", "file_read"}
    none = lumtak("job", "program", "tool-crib-1", "--none", home=home)
    assert none.stdout == "Readings start no program.\n"


# -- a real computer -------------------------------------------------------------------------------

_STEADY = """
import ctypes, os, time
ctypes.CDLL(None).prctl(15, b"steady-load", 0, 0, 0)
os.sched_setaffinity(0, {min(os.sched_getaffinity(0))})
while True:
    end = time.process_time() + 0.005
    while time.process_time() < end:
        pass
    time.sleep(0.015)
"""
_BESIDE = """
import os
os.sched_setaffinity(0, {max(os.sched_getaffinity(0))})
while True:
    pass
"""


def running(code):
    """A program that is nobody's child, so that its load is not Lumtak's own; its process."""
    done = subprocess.run(
        ["/bin/sh", "-c", '"$0" -c "$1" >/dev/null 2>&1 & echo $!', sys.executable, code],
        capture_output=True, text=True, check=True,
    )  # fmt: skip
    return int(done.stdout)


def used_s(pid):
    fields = Path(f"/proc/{pid}/stat").read_text().rpartition(")")[2].split()
    return (int(fields[11]) + int(fields[12])) / os.sysconf("SC_CLK_TCK")


def undisturbed(computer, marks, **told):
    """A reading of twelve seconds; once more where another test's terminal was typed into, which
    cuts it.
    """
    for _ in range(5):
        marks.clear()
        found = take_reading(computer, seconds=12, **told)
        if found.ended != "returned":
            break
    return found


@pytest.mark.long
@pytest.mark.skipif(len(os.sched_getaffinity(0)) < 2, reason="a load beside takes another core")
def test_a_load_of_its_own_is_found_though_something_else_keeps_the_other_core_busy(data_folder):
    computer = data_folder.computer("local")
    load, beside = running(_STEADY), running(_BESIDE)
    marks = []
    try:
        until(lambda: Path(f"/proc/{load}/comm").read_text() == "steady-load\n")

        def mark(*_):
            marks.append((time.monotonic(), used_s(load)))

        before = undisturbed(computer, marks, on_begin=mark, on_sample=mark)
        os.kill(load, 9)
        after = undisturbed(computer, [])
    finally:
        for pid in (load, beside):
            if Path(f"/proc/{pid}").exists():
                os.kill(pid, 9)
        computer.close()
    (from_s, first_s), (to_s, last_s) = marks[0], marks[-1]
    truth = 100 * (last_s - first_s) / (to_s - from_s) / before.cores
    plan = Plan(steps=(step("apps:process/steady-load=off", 0.0, 0),))
    found = attribution(plan, [before], [after], compare_readings([before], [after]))
    assert truth > 1.0
    assert found.changed.points == pytest.approx(-truth, abs=0.5)
    assert set(before.felt) >= {"program_start", "wake", "memory", "file_write"}
    assert before.mean("own_pct") > 0
