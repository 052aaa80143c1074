"""Upkeep beside other work: kept, paused, gone on with, out of the way of readings, due again."""

import io
import json
import threading
from datetime import date

import msgspec
import pytest
from hypothesis import given
from hypothesis import strategies as st
from icalendar import Calendar
from pypdf import PdfReader

from helpers import lumtak
from lumtak.computers.hands.sent.hand import Hand
from lumtak.core.profile import Upkeep
from lumtak.core.upkeep.tasks import TASKS, Found, Partial, Result
from lumtak.errors import ComputerError, StoppedError
from lumtak.report.reminders import Reminder, calendar
from lumtak.report.technician import report_pdf
from lumtak.report.tongue import Tongue
from lumtak.tui.upkeep import UpkeepScreen
from lumtak.work import due
from lumtak.work.beside import Beside
from lumtak.work.changes import standing_changes
from lumtak.work.data_folder import DataFolder
from lumtak.work.due import all_due, due_of, next_day
from lumtak.work.handover import content_of
from lumtak.work.intake import begin_job, reopen_job
from lumtak.work.plan import carry_out
from lumtak.work.quiet import is_read, reading_of
from lumtak.work.upkeep import (
    WAITS,
    all_results,
    explain,
    give_up,
    last_result,
    paused,
    run_task,
)
from test_apply_screens import chosen_job, confirm, open_job, set_outside
from test_screens import WIDE, application, says, until

CRIB = "sim:tool-crib"


@pytest.fixture
def crib(data_folder):
    return data_folder.computer(CRIB)


class Counting:
    """About of a computer whose task goes through a hundred files, one at a time."""

    def __init__(self, computer, at_each=lambda n: None):
        self._computer, self.at_each, self.done = computer, at_each, []

    def __getattr__(self, name):
        return getattr(self._computer, name)

    @property
    def about(self):
        return self

    def upkeep(self, begun, tell):
        first = int(begun.after or 0)
        for n in range(first + 1, 101):
            self.at_each(n)
            self.done.append(n)
            tell(msgspec.structs.replace(begun, after=str(n), files=n, whole_files=100))
        return Result(task=begun.task, at="2026-03-02T08:00:00+00:00", state="fine", says="Done.")


def test_a_task_that_is_stopped_goes_on_where_it_was_also_after_a_kill(data_folder, crib):
    stop = threading.Event()
    counting = Counting(crib, lambda n: n == 40 and stop.set())
    with pytest.raises(StoppedError, match="goes on from there"):
        run_task(data_folder, counting, "integrity", stop=stop)
    assert paused(data_folder, crib.identity, "integrity").after == "40"
    assert last_result(data_folder, crib.identity, "integrity") is None

    def lost(n):
        if n == 60:
            raise ComputerError("The disk went away.", "Plug it in.")

    counting.at_each = lost
    with pytest.raises(ComputerError, match="went away"):
        run_task(data_folder, counting, "integrity")
    assert paused(data_folder, crib.identity, "integrity").after == "59"
    counting.at_each = lambda n: None
    run_task(data_folder, counting, "integrity")
    assert counting.done == list(range(1, 101))
    assert paused(data_folder, crib.identity, "integrity") is None
    assert last_result(data_folder, crib.identity, "integrity").says == "Done."
    run_task(data_folder, counting, "integrity")
    assert len(counting.done) == 200


def test_whatever_stands_in_the_kept_files_a_task_begins_anew(data_folder, crib):
    folder = data_folder.home / "upkeep" / crib.identity
    folder.mkdir(parents=True)
    for text in ("", "{", '{"format":1,"task":"odd","begun_at":"x"}', "[" * 9999, '{"format":9}'):
        (folder / "integrity.paused.json").write_text(text)
        (folder / "integrity.json").write_text(text)
        (folder / "explained.json").write_text(text)
        assert paused(data_folder, crib.identity, "integrity") is None
        assert all_results(data_folder, crib.identity) == {}
        run_task(data_folder, Counting(crib), "integrity")
        give_up(data_folder, crib.identity, "integrity")


def test_what_a_kill_left_half_written_is_swept(home):
    left = home / "upkeep/sim-tool-crib/.odd.json.4194305.deadbeef.new"
    left.parent.mkdir(parents=True)
    left.write_text("half")
    DataFolder(home).close()
    assert not left.exists()


def test_a_task_waits_while_a_reading_is_taken_and_says_so(data_folder, crib):
    begun, over, said = threading.Event(), threading.Event(), []

    def read():
        with reading_of(crib.identity):
            begun.set()
            over.wait(30)

    reading = threading.Thread(target=read)

    def at_each(n):
        if n == 30 and not begun.is_set():
            reading.start()
            begun.wait(30)

    def told(partial, waits):
        said.append(waits)
        if waits:
            assert is_read(crib.identity)
            over.set()

    counting = Counting(crib, at_each)
    run_task(data_folder, counting, "integrity", on_progress=told)
    reading.join()
    assert said.count(WAITS) == 1
    assert counting.done == list(range(1, 101))
    assert not is_read(crib.identity)


def test_beside_a_job_tasks_run_one_after_the_other_and_can_be_paused_and_forgotten(
    data_folder, crib
):
    go = threading.Event()
    counting = Counting(crib, lambda n: n == 50 and go.wait(30))
    beside = Beside(data_folder, counting, lambda: data_folder.profile("tool-lending"))
    beside.begin("integrity")
    beside.begin("disks")
    beside.begin("integrity")
    settle(lambda: beside.partial is not None and beside.partial.files == 49)
    assert beside.words == "the system's files: 49 of 100 files"
    assert beside.waiting == ("disks",)
    beside.pause("disks")
    beside.pause("integrity")
    go.set()
    settle(lambda: beside.running is None)
    assert paused(data_folder, crib.identity, "integrity").files == 50
    beside.cancel("integrity")
    assert paused(data_folder, crib.identity, "integrity") is None
    assert last_result(data_folder, crib.identity, "disks") is None

    def broken(n):
        raise RuntimeError("nobody foresaw this")

    counting.at_each = broken
    beside.begin("integrity")
    settle(lambda: beside.problems and beside.running is None)
    assert "RuntimeError" in beside.problems["integrity"]
    beside.close()


def settle(true, patience_s=30.0):
    """Wait until something is so."""
    clock = threading.Event()
    for _ in range(int(patience_s / 0.01)):
        if true():
            return
        clock.wait(0.01)
    raise AssertionError("it never came to that")


def test_what_the_owner_explained_is_told_no_more(data_folder, crib):
    found = run_task(data_folder, crib, "odd").found
    assert len(found) == 2
    explain(data_folder, crib.identity, [found[1]])
    left = all_results(data_folder, crib.identity)["odd"]
    assert left.found == found[:1]
    assert "1 thing more" in left.notes[-1]
    explain(data_folder, crib.identity, found)
    assert all_results(data_folder, crib.identity)["odd"].state == "fine"


# -- due -------------------------------------------------------------------------------------------


@given(st.dates(date(1990, 1, 1), date(2200, 1, 1)))
def test_a_rhythm_keeps_the_day_of_the_month_or_takes_its_last(day):
    assert (next_day(day, "weekly") - day).days == 7
    for every, months in (("monthly", 1), ("quarterly", 3), ("half-yearly", 6)):
        on = next_day(day, every)
        assert (on.year * 12 + on.month) - (day.year * 12 + day.month) == months
        assert on.day == day.day or (on.day < day.day and (on.replace(day=on.day)).day >= 28)
    assert next_day(date(2026, 8, 31), "half-yearly") == date(2027, 2, 28)
    assert next_day(date.max, "monthly") == date.max


def test_what_is_due_counts_from_when_it_was_last_done(data_folder, crib):
    profile = msgspec.structs.replace(
        data_folder.profile("tool-lending"),
        upkeep=Upkeep(odd="weekly", unwanted="monthly", audit="half-yearly"),
    )
    job = begin_job(data_folder, crib, profile).job
    run_task(data_folder, crib, "odd")

    def on(day):
        return {d.task: (d.day, d.is_due, d.last) for d in due_of(data_folder, job, day)}

    assert on(date(2026, 3, 3)) == {
        "odd": ("2026-03-09", False, "2026-03-02"),
        "unwanted": ("2026-04-02", False, ""),
        "audit": ("2026-09-02", False, "2026-03-02"),
    }
    later = on(date(2026, 4, 2))
    assert later["odd"][1]
    assert later["unwanted"][1]
    set_back = {d.task: d for d in due_of(data_folder, job, date(2026, 2, 1))}
    assert set_back["odd"].is_due
    assert "set back" in set_back["odd"].note


def test_the_calendar_has_alarms_and_comes_again(home):
    lumtak("job", "start", CRIB, "--profile", "tool-lending", home=home)
    path = home / "upkeep.ics"
    ran = lumtak("due", "--calendar", path, "--json", home=home)
    assert json.loads(ran.stdout) == {"format": 1, "due": []}
    read = Calendar.from_ical(path.read_bytes())
    events = read.walk("VEVENT")
    assert len(events) == 8
    assert all(len(e.walk("VALARM")) == 1 for e in events)
    assert {str(e["RRULE"].to_ical(), "ascii") for e in events} == {
        "FREQ=WEEKLY",
        "FREQ=MONTHLY",
        "FREQ=MONTHLY;INTERVAL=3",
        "FREQ=MONTHLY;INTERVAL=6",
    }
    assert "lumtak upkeep sim:tool-crib odd" in " ".join(str(e["SUMMARY"]) for e in events)
    hostile = Reminder(day="2026-03-02", name="x\nBEGIN:VEVENT", words="a\r\nATTACH:x;\x1b[2J" * 99)
    again = Calendar.from_ical(calendar([hostile], "2026-03-02T08:00:00+00:00"))
    assert len(again.walk("VEVENT")) == 1
    assert "ATTACH" not in again.walk("VEVENT")[0]


# -- the command line and the screen ---------------------------------------------------------------


def test_the_command_line_runs_tasks_and_remembers(home):
    assert "never run" in lumtak("upkeep", CRIB, home=home).stdout
    ran = lumtak("upkeep", CRIB, "integrity", home=home)
    assert ran.returncode == 3
    assert "/usr/bin/label-queue" in ran.stdout
    said = json.loads(lumtak("upkeep", CRIB, "--json", home=home).stdout)
    states = {t["task"]: t["state"] for t in said["tasks"]}
    assert (states["integrity"], states["odd"]) == ("found 2", "never run, due")
    assert lumtak("upkeep", "sim:sail-loft", "all", home=home).returncode == 0
    ran = lumtak("upkeep", CRIB, "odd", home=home)
    assert "  2  login key" in ran.stdout
    assert "former-helper" in lumtak("upkeep", CRIB, "odd", "--explained", 2, home=home).stdout
    assert "former-helper" not in lumtak("upkeep", CRIB, "odd", home=home).stdout
    assert lumtak("upkeep", CRIB, "odd", "--explained", 9, home=home).returncode == 2
    assert "Say of which" in lumtak("upkeep", CRIB, "--explained", 1, home=home).stderr
    assert lumtak("upkeep", CRIB, "integrity", "--forget", home=home).returncode == 0
    everything = json.loads(lumtak("upkeep", CRIB, "all", "--json", home=home).stdout)
    assert [r["task"] for r in everything["results"]] == list(TASKS)


def test_of_all_tasks_one_that_fails_ends_no_other(home, monkeypatch):
    def lost(*_more, **_options):
        raise ComputerError("The scanner went away.", "Start it.")

    monkeypatch.setattr(Hand, "scan", lost)
    ran = lumtak("upkeep", "sim:sail-loft", "unwanted", home=home)
    assert ran.returncode == 1
    assert "The scanner went away." in ran.stderr
    ran = lumtak("upkeep", "sim:sail-loft", "all", "--json", home=home)
    found = {r["task"]: r["state"] for r in json.loads(ran.stdout)["results"]}
    assert list(found) == list(TASKS)
    assert found["unwanted"] == "not possible"


def test_trim_is_an_action_of_solid_disks_only(home):
    lumtak("job", "start", "sim:steam-box", "--profile", "steam-watching", home=home)
    assert "190 days ago" in lumtak("upkeep", "sim:steam-box", "disks", home=home).stdout
    assert "was told" in lumtak("trim", "sim:steam-box", home=home).stdout
    assert "0 days ago" in lumtak("upkeep", "sim:steam-box", "disks", home=home).stdout
    assert lumtak("trim", CRIB, home=home).returncode == 1


def test_damaged_packages_are_unpacked_once_more_and_files_put_together(home):
    assert lumtak("repair", CRIB, "--yes", home=home).returncode == 2
    lumtak("upkeep", CRIB, "integrity", home=home)
    look = lumtak("repair", CRIB, "--look", home=home)
    assert "Inst label-maker" in look.stdout
    assert "Damaged are label-maker" in lumtak("repair", CRIB, "other", home=home).stderr
    assert lumtak("repair", CRIB, home=home).returncode == 2
    assert "unpacked once more" in lumtak("repair", CRIB, "--yes", home=home).stdout
    assert lumtak("upkeep", CRIB, "integrity", home=home).returncode == 0
    found = lumtak("upkeep", CRIB, "fragments", home=home).stdout
    assert "28 % longer" in found
    assert "pieces before" in lumtak("gather", CRIB, "--yes", home=home).stdout
    again = lumtak("upkeep", CRIB, "fragments", home=home).stdout
    assert "14 % longer" in again
    assert lumtak("gather", CRIB, "/home/crib/nothing", "--yes", home=home).returncode == 1
    assert "wears it" in lumtak("gather", "sim:sail-loft", "/x", "--yes", home=home).stderr


async def test_upkeep_goes_on_beside_the_job_and_shows_what_it_found(data_folder):
    begin_job(data_folder, data_folder.computer(CRIB), data_folder.profile("tool-lending")).close()
    app = application(data_folder)
    async with app.run_test(size=WIDE, notifications=True) as pilot:
        await open_job(pilot)
        await pilot.press("r")
        await until(pilot, lambda: isinstance(app.screen, UpkeepScreen) and says(app, "never run"))
        await pilot.press("down", "space", "escape")
        await until(pilot, lambda: not isinstance(app.screen, UpkeepScreen))
        await until(
            pilot, lambda: last_result(data_folder, "sim-tool-crib", "integrity") is not None
        )
        await pilot.press("r")
        await until(pilot, lambda: says(app, "found 2"))
        await pilot.press("down", "enter")
        await until(pilot, lambda: says(app, "label-queue", "--reinstall label-maker"))
        await pilot.press("a")
        await until(pilot, lambda: says(app, "3 updates wait", "17.0 GiB of 465.0 GiB", "fine"))


async def test_a_finding_is_set_aside_on_the_owners_word_and_the_watch_is_switched_on(data_folder):
    begin_job(data_folder, data_folder.computer(CRIB), data_folder.profile("tool-lending")).close()
    for task in ("unwanted", "odd"):
        run_task(data_folder, data_folder.computer(CRIB), task)
    app = application(data_folder)

    def settings():
        state = data_folder.home / "simulated/tool-crib.json"
        return json.loads(state.read_text())

    async with app.run_test(size=WIDE, notifications=True) as pilot:
        await open_job(pilot)
        await pilot.press("r")
        await until(pilot, lambda: says(app, "found 1", "found 2"))
        await pilot.press("down", "down", "enter")  # what starts from odd places
        await until(pilot, lambda: says(app, "former-helper"))
        await pilot.press("down", "enter")
        await until(pilot, lambda: says(app, "The owner knows what it is for"))
        await pilot.press("up", "enter")
        await until(pilot, lambda: says(app, "found 1", "which the owner explained"))
        await pilot.press("up", "enter", "down", "enter")  # folded, then what the scanner found
        await until(pilot, lambda: says(app, "free-fonts-installer.run"))
        await pilot.press("down", "enter")
        await until(pilot, lambda: says(app, "Set it aside"))
        await pilot.press("up", "up", "enter")
        await until(pilot, lambda: says(app, "set aside"))
        await until(pilot, lambda: any("free-fonts" in key for key in settings()["held"]))
        await pilot.press("w")
        await confirm(pilot, yes=True)
        await until(pilot, lambda: settings()["settings"]["upkeep:watch"] == "weekly")
        await pilot.press("w")
        await confirm(pilot, yes=True)
        await until(pilot, lambda: settings()["settings"]["upkeep:watch"] is None)


def test_what_is_due_stands_on_the_bench_and_in_the_report(data_folder, crib, monkeypatch):
    profile = msgspec.structs.replace(
        data_folder.profile("tool-lending"), upkeep=Upkeep(odd="weekly", updates="weekly")
    )
    job = begin_job(data_folder, crib, profile)
    run_task(data_folder, crib, "updates")
    content = content_of(job)
    assert [r.task for r in content.upkeep] == ["updates"]
    assert {d.task: d.last for d in content.due} == {"odd": "", "updates": "2026-03-02"}
    report = PdfReader(io.BytesIO(report_pdf(content, [], Tongue("en"))))
    text = "".join(p.extract_text() for p in report.pages)
    assert "When to look again" in text
    assert "3 updates wait" in text
    monkeypatch.setattr(due, "today_of", lambda *_: date(2026, 3, 10))
    (stands,) = standing_changes(data_folder).values()
    assert stands.in_words() == "2 tasks of upkeep due"
    assert len([d for d in all_due(data_folder) if d.is_due]) == 2


def test_the_second_visit_says_what_became_of_the_first(data_folder):
    chosen_job(data_folder, "apps:chat-horn", "services:fax-bridge")
    first = reopen_job(data_folder, data_folder.casebook.job("drawing-bench-1"))
    assert first.last is None
    assert [o.result for o in carry_out(first)] == ["done", "done"]
    run_task(data_folder, first.computer, "stopping")
    first.close()
    set_outside(data_folder, services__fax_bridge="auto")
    computer = data_folder.computer("sim:drawing-bench")
    second = begin_job(data_folder, computer, first.job.profile)
    rows = second.last.in_rows(None)
    said = dict(rows)
    assert said["changed then"] == "2 settings, 1 as they were left, 1 not"
    assert "off then, auto now" in said["drifted since"]
    assert "did not stop in time" in said["upkeep since"]
    assert "not read yet" in said["load then and now"]
    assert said["free on the disk"].endswith(("as then", "looked at then", "less", "more"))
    second.close()
    again = reopen_job(data_folder, second.job)
    assert again.last == second.last
    again.close()


def test_a_result_of_many_things_names_some_and_counts_all():
    many = tuple(Found(kind="look", what=str(n), why="x") for n in range(3))
    result = Result(task="odd", at="", state="found", says="", found=many, found_count=9)
    assert not result.is_grave
    assert Partial(task="odd", begun_at="", files=5, whole_files=10).share == 0.5
    assert Partial(task="odd", begun_at="").share == 0.0
