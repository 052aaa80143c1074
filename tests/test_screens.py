"""Screens and widgets, driven in the same process."""

import asyncio
import os
import threading
import time

import pytest
from rich.text import Text
from textual.app import App
from textual.widgets import Input, Static

from helpers import CATALOGUE, bench, facts, item, profile, put, reading
from lumtak.core.audit import audit
from lumtak.core.profile import Ceilings
from lumtak.core.setting import parse_ref
from lumtak.core.strip import marked
from lumtak.core.strip import strips as cut
from lumtak.errors import StorageError
from lumtak.tui.app import LumtakApp
from lumtak.tui.bench import BenchScreen
from lumtak.tui.confirm import ConfirmScreen
from lumtak.tui.help import HelpScreen
from lumtak.tui.job_screen import JobScreen
from lumtak.tui.saver import Saver
from lumtak.tui.stations import plan_frontier
from lumtak.tui.stations.intake import IntakeStation
from lumtak.tui.theme import DARK, HATCH, HOLLOW, LIGHT
from lumtak.tui.trial_screen import TrialScreen
from lumtak.tui.widgets.ledger import Ledger
from lumtak.tui.widgets.lines import Line, LineList
from lumtak.tui.widgets.route import Route
from lumtak.tui.widgets.trace import Trace
from lumtak.work.audit import make_audit, toggle
from lumtak.work.intake import begin_job
from lumtak.work.reading import read_baseline
from lumtak.work.sampling import take_reading
from lumtak.work.trial import experiment

WIDE, LOW = (142, 44), (80, 24)


class Stage(App[None]):
    """One widget alone."""

    CSS_PATH = "../src/lumtak/tui/app.tcss"

    def __init__(self, widget):
        super().__init__()
        self.register_theme(DARK)
        self.theme = DARK.name
        self.widget = widget
        self.heard = []

    def compose(self):
        yield self.widget

    def on_line_list_selected(self, message):
        self.heard.append(("selected", message.key))

    def on_line_list_opened(self, message):
        self.heard.append(("opened", message.key))

    def on_line_list_marked(self, message):
        self.heard.append(("marked", message.key))

    def on_ledger_picked(self, message):
        self.heard.append(("picked", message.key))

    def on_route_gone(self, message):
        self.heard.append(("gone", message.station))


def row(widget, y):
    return widget.render_line(y).text


# -- widgets ---------------------------------------------------------------------------------------


def strips(**marks):
    items = (
        item("services", "screen", role="graphics"),
        item("services", "fax", role="fax"),
        item("apps", "x"),
    )
    found = audit(facts(*items), profile(), CATALOGUE, None)
    read = reading(
        costs=[("services:screen", 5.0, 1000), ("services:fax", 10.0, 2000), ("apps:x", 5.0, 500)]
    )
    return tuple(
        marked(s, **marks) for s in cut(read, found, ceilings=Ceilings(cpu_pct=10, ram_pct=40))
    )


@pytest.mark.parametrize("size", [(80, 24), (142, 44), (240, 70)])
async def test_the_ledger_tells_stances_apart_without_colour(size):
    ledger = Ledger()
    app = Stage(ledger)
    async with app.run_test(size=size) as pilot:
        ledger.show(None, None)
        assert "no reading yet" in row(ledger, 0)
        ledger.show(
            *strips(chosen=[parse_ref("services:fax")], applied=[parse_ref("apps:x")]),
            total_bytes=8 << 30,
        )
        await pilot.pause()
        for y in (0, 2):
            line = row(ledger, y)
            assert len(line) == size[0]
            assert {"▓", HOLLOW, HATCH, "┃"} <= set(line)
        assert "4.0 of 8.0 GiB  over" in row(ledger, 0)
        assert "ceiling 3.2" in row(ledger, 1)
        ledger.light("services:fax")
        assert "▲" in row(ledger, 1)
        assert "▲" in row(ledger, 3)
        await pilot.hover(Ledger, offset=(row(ledger, 0).index(HOLLOW) + 2, 0))
        assert "fax, 24.4 % of the RAM, 10.0 % of the CPU" in row(ledger, 4)
        await pilot.click(Ledger, offset=(row(ledger, 0).index(HOLLOW) + 2, 0))
        assert app.heard == [("picked", "services:fax")]


@pytest.mark.parametrize("width", [80, 142])
async def test_the_route_goes_where_it_is_clicked(width):
    route = Route()
    app = Stage(route)
    async with app.run_test(size=(width, 24)) as pilot:
        route.show("audit", {"intake", "baseline"})
        line = row(route, 0)
        assert len(line) == width
        for word in ("1 Intake", "3 Audit", "4 Plan", "6 Hand"):
            assert word in line
        await pilot.click(Route, offset=(line.index("4 Plan") + 3, 0))
        await pilot.click(Route, offset=(0, 0))
        assert app.heard == [("gone", "plan")]


async def test_a_list_of_any_length_moves_and_tells():
    lines = LineList()
    app = Stage(lines)
    async with app.run_test(size=(40, 10)) as pilot:
        content = [Line(Text("heading"))] + [
            Line(Text(f"line {i} " + "x" * 60), f"k{i}") for i in range(20000)
        ]
        lines.show(content)
        lines.focus()
        assert lines.selected == "k0"
        await pilot.press("up", "down", "down", "space", "enter")
        assert app.heard[-3:] == [("selected", "k2"), ("marked", "k2"), ("opened", "k2")]
        assert row(lines, 3).rstrip().endswith("…")
        await pilot.press("end")
        assert lines.selected == "k19999"
        assert lines.scroll_offset.y == 20001 - 10
        await pilot.press("home")
        assert lines.selected == "k0"
        await pilot.click(LineList, offset=(10, 4))
        assert lines.selected == "k3"
        await pilot.click(LineList, offset=(1, 5))
        assert app.heard[-1] == ("marked", "k4")
        lines.show(content[:3], "k9")
        assert lines.selected == "k0"
        lines.show([])
        await pilot.press("down", "enter", "space")
        assert lines.selected is None


async def test_a_trace_fits_its_width_and_marks_the_ceiling():
    trace = Trace()
    async with Stage(trace).run_test(size=(60, 20)) as pilot:
        trace.show([10.0 + i % 30 for i in range(500)], ceiling=20.0, settled_from=100)
        await pilot.pause()
        rows = [row(trace, y) for y in range(trace.size.height)]
        assert all(len(r) == 60 for r in rows)
        assert any(r.startswith(" 20 %┄") or "20 %┄" in r for r in rows)
        assert "█" in rows[-1]
        trace.show([], ceiling=20.0)
        assert "ceiling" in "".join(row(trace, y) for y in range(trace.size.height))


async def test_the_safe_answer_is_the_default():
    answers = []
    app = Stage(Static("x"))
    async with app.run_test(size=(90, 30)) as pilot:
        for keys in (["enter"], ["escape"], ["right", "enter"], ["tab", "enter"]):
            app.push_screen(
                ConfirmScreen("Change [b]it[/b]?", "what\x07", yes="Do it"), answers.append
            )
            await pilot.pause()
            await pilot.press(*keys)
            await pilot.pause()
    assert answers == [False, False, True, True]


def test_the_saver_keeps_the_newest_state_and_says_when_it_cannot():
    kept, said = [], []

    class Book:
        def save(self, job):
            if job == "bad":
                raise StorageError("the disk is full.")
            kept.append(job)

    saver = Saver(Book(), said.append)
    for job in [*range(50), "bad", "last"]:
        saver(job)
        if job == "bad":
            while not said:
                pass
    saver.close()
    assert kept[-1] == "last"
    assert said == ["the disk is full."]


# -- the application -------------------------------------------------------------------------------


def application(data_folder):
    bench(data_folder.home / "simulated").close()
    return LumtakApp(data_folder, pace=0.0, demo=True)


async def until(pilot, condition):
    """Waits for a condition, as long as it takes on a busy computer."""
    end = time.monotonic() + 100
    while time.monotonic() < end:
        await pilot.pause()
        if condition():
            return
        await asyncio.sleep(0.01)
    raise AssertionError("waited in vain; on screen:\n" + "\n".join(shown(pilot.app)))


def shown(app):
    """The words on the screen, line by line."""
    return [strip.text for strip in app.screen._compositor.render_strips()]


def says(app, *words):
    text = "\n".join(shown(app))
    return all(word in text for word in words)


async def begin(pilot):
    await pilot.press("enter")
    await until(pilot, lambda: says(pilot.app, "used for"))
    await pilot.press("enter")
    await until(pilot, lambda: says(pilot.app, "complain of", "It was quick when it was new."))
    await pilot.press("enter")
    await until(pilot, lambda: isinstance(pilot.app.screen, JobScreen))
    await until(pilot, lambda: says(pilot.app, "Take the baseline"))


@pytest.mark.parametrize("size", [WIDE, LOW])
async def test_the_whole_job_by_keyboard(data_folder, size, tmp_path, monkeypatch):  # noqa: PLR0915 - a whole job
    monkeypatch.setenv("HOME", str(tmp_path))
    app = application(data_folder)
    async with app.run_test(size=size, notifications=True) as pilot:
        await begin(pilot)
        await pilot.press("enter")
        await until(pilot, lambda: says(pilot.app, "Heaviest", "On to the audit"))
        await pilot.press("enter")
        await until(pilot, lambda: says(pilot.app, "Chart cache", "Space chooses"))
        await pilot.press("enter")
        await until(pilot, lambda: says(pilot.app, "Keeps small copies of chart tiles"))
        await pilot.press("enter", "space")
        await until(pilot, lambda: says(pilot.app, "1 chosen"))
        await pilot.press("a")
        await until(pilot, lambda: says(pilot.app, "15 chosen"))
        await pilot.press("4")
        await until(pilot, lambda: says(pilot.app, "15 changes chosen: CPU", "noticed"))
        await pilot.press("down", "space")
        await until(pilot, lambda: says(pilot.app, "14 changes chosen: CPU"))
        await pilot.press("tab", "enter")
        await until(pilot, lambda: isinstance(app.screen, ConfirmScreen))
        await pilot.press("enter")
        await until(pilot, lambda: isinstance(app.screen, JobScreen))
        assert app.screen.entries == [], "the safe answer changes nothing"
        await pilot.press("enter")
        await until(pilot, lambda: isinstance(app.screen, ConfirmScreen))
        await pilot.press("right", "enter")
        await until(pilot, lambda: says(app, "14 changes are done and read back", "estart needed"))
        await pilot.press("enter")
        await until(pilot, lambda: says(app, "Not proved yet", "Restart now"))
        await pilot.press("enter")
        await until(
            pilot,
            lambda: (
                says(app, "the after reading is due", "Read at the same point")
                and not app.screen.busy
            ),
        )
        await pilot.press("enter")
        await until(pilot, lambda: says(app, "carries less load", "median", "95 % sure"))
        assert "RAM −" in app.screen.job.verdict, "for the bench"
        assert app.screen.after.conditions.uptime_s == pytest.approx(300, abs=2), (
            "as settled in as for the baseline"
        )
        await pilot.press(*["pagedown"] * 5)
        await until(pilot, lambda: says(app, "Projected", "Also tried", "1 start after"))
        await pilot.press("enter")
        await until(pilot, lambda: says(app, "still in place", "as it will print", "Print it"))
        await pilot.press("enter")
        await until(pilot, lambda: says(app, "Written"))
        written = {p.name for p in (tmp_path / "lumtak-report-drawing-bench-1").iterdir()}
        assert written >= {"report.pdf", "sheet.pdf", "load.svg", "bridge.pdf", "changes.csv"}
        await pilot.press("s")
        await until(pilot, lambda: says(app, "Saved: "))
        await pilot.press("p")
        await until(pilot, lambda: says(app, "Print the sheet?"))
        await pilot.press("escape")
        await pilot.press("down", "end", "enter")
        await until(pilot, lambda: says(app, "read back", "again then"))
        assert isinstance(app.screen, JobScreen), "Enter explains, and puts nothing back"
        await pilot.press("escape")
        assert isinstance(app.screen, JobScreen), "Escape closes what is open first"
        await pilot.press("u")
        await until(pilot, lambda: says(app, "Put all 14 changes of this visit back?"))
        await pilot.press("right", "enter")
        await until(pilot, lambda: says(app, "changes of this job are put back"))
        await pilot.press("escape")
        await until(pilot, lambda: isinstance(app.screen, BenchScreen) and says(app, "handover"))


async def test_a_job_opens_where_it_was_left(data_folder):
    app = application(data_folder)
    async with app.run_test(size=WIDE, notifications=True) as pilot:
        await begin(pilot)
        await pilot.press("enter")
        await until(pilot, lambda: says(app, "On to the audit"))
        await pilot.press("3", "down", "down", "space")
        await until(pilot, lambda: says(app, "1 chosen"))
        await pilot.press("q")
    second = LumtakApp(type(data_folder)(data_folder.home), pace=0.0)
    async with second.run_test(size=WIDE) as pilot:
        await until(pilot, lambda: says(second, "visit 1", "audit"))
        await pilot.press("enter")
        await until(
            pilot,
            lambda: (
                isinstance(second.screen, JobScreen) and says(second, "1 chosen", "Chart cache")
            ),
        )
        assert second.screen.job.cursor == "services:tide-feed"
        assert second.screen.job.chosen[0].ref == parse_ref("services:tide-feed")
    second.data_folder.close()


async def test_every_station_by_mouse_and_says_what_it_lacks(data_folder):
    app = application(data_folder)
    async with app.run_test(size=WIDE, notifications=True) as pilot:
        await begin(pilot)
        line = row(app.screen.query_one(Route), 0)
        for word, lacks in (
            ("Intake", "Used for"),
            ("Audit", "no audit yet"),
            ("Plan", "Nothing is chosen"),
            ("Proof", "no baseline"),
            ("Handover", "Nothing was changed in this job"),
        ):
            await pilot.click(Route, offset=(line.index(word), 0))
            await until(pilot, lambda lacks=lacks: says(app, lacks))
        await pilot.press("3", "enter")
        await until(pilot, lambda: says(app, "Nothing is measured yet", "Chart cache"))
        await pilot.press("1", "end", "enter")
        await until(
            pilot, lambda: app.screen.job.profile.name == "writing-and-web" and not app.screen.busy
        )


async def test_a_reading_can_be_stopped_and_other_stations_stay_open(data_folder):
    app = application(data_folder)
    app.pace = 20.0
    async with app.run_test(size=WIDE, notifications=True) as pilot:
        await begin(pilot)
        await pilot.press("enter")
        await until(pilot, lambda: says(app, "samples", "left", "Stop early"))
        await pilot.press("1")
        await until(pilot, lambda: says(app, "Used for"))
        await pilot.press("2")
        await until(pilot, lambda: says(app, "Stop early"))
        await pilot.press("enter")
        await until(pilot, lambda: says(app, "stopped after", "Heaviest"))
        assert 0 < len(app.screen.baseline.samples) < 120


async def test_help_themes_and_what_cannot_be_chosen(data_folder, sim):
    open_job = begin_job(data_folder, sim, data_folder.profile("hull-drafting"))
    read_baseline(open_job, seconds=30)
    make_audit(open_job)
    open_job.go("audit")
    open_job.select("services:display-keeper")
    open_job.close()
    app = application(data_folder)
    async with app.run_test(size=WIDE, notifications=True) as pilot:
        await pilot.press("question_mark")
        await until(
            pilot,
            lambda: isinstance(app.screen, HelpScreen) and says(app, "The bench shows every job"),
        )
        await pilot.press("escape", "ctrl+t", "enter")
        await until(
            pilot, lambda: isinstance(app.screen, JobScreen) and says(app, "Display keeper")
        )
        assert app.theme == LIGHT.name
        await pilot.press("space")
        await until(pilot, lambda: says(app, "Display keeper is guarded"))
        await pilot.press("question_mark")
        await until(pilot, lambda: says(app, "The audit lists everything"))


def colours(theme):
    return {
        theme.accent,
        theme.foreground,
        theme.background,
        theme.panel,
        theme.warning,
        *theme.variables.values(),
    }


def left_of_the_other_theme(app):
    """What is drawn in colours that the theme in use does not have."""
    here, other = (DARK, LIGHT) if app.theme == DARK.name else (LIGHT, DARK)
    parts = [
        part for strip in app.screen._compositor.render_strips() for part in strip if part.style
    ]
    drawn = {
        c.triplet.hex: p.text
        for p in parts
        for c in (p.style.color, p.style.bgcolor)
        if c and c.triplet
    }
    return {hue: text for hue, text in drawn.items() if hue in colours(other) - colours(here)}


async def test_another_theme_is_everywhere_at_once(data_folder, sim):
    open_job = begin_job(data_folder, sim, data_folder.profile("hull-drafting"))
    read_baseline(open_job, seconds=30)
    make_audit(open_job)
    open_job.go("audit")
    open_job.close()
    app = application(data_folder)
    async with app.run_test(size=WIDE, notifications=True) as pilot:
        await until(pilot, lambda: says(app, "hull drafting, "))
        for keys in (
            ["ctrl+t"],
            ["enter"],
            ["ctrl+t"],
            *([k, "ctrl+t"] for k in "123456"),
            ["3", "i", "ctrl+t"],
        ):
            await pilot.press(*keys)
            await until(pilot, lambda: not left_of_the_other_theme(app))


async def test_a_job_that_cannot_be_opened_says_why(data_folder):
    app = application(data_folder)
    async with app.run_test(size=WIDE, notifications=True) as pilot:
        (data_folder.home / "simulated/drawing-bench.json").write_bytes(b"broken")
        await pilot.press("enter")
        await until(pilot, lambda: says(app, "used for"))
        await pilot.press("enter")
        await until(pilot, lambda: says(app, "complain of"))
        await pilot.press("enter")
        await until(pilot, lambda: says(app, "damaged"))
        assert isinstance(app.screen, BenchScreen)


async def test_a_frontier_that_cannot_be_worked_out_is_said_and_nothing_else_waits(
    data_folder, sim, monkeypatch
):
    def fail(_):
        raise ZeroDivisionError("odd")

    monkeypatch.setattr(plan_frontier, "frontier_of", fail)
    open_job = begin_job(data_folder, sim, data_folder.profile("hull-drafting"))
    read_baseline(open_job, seconds=60)
    make_audit(open_job)
    open_job.go("plan")
    open_job.close()
    app = application(data_folder)
    async with app.run_test(size=WIDE, notifications=True) as pilot:
        await pilot.press("enter")
        await until(pilot, lambda: isinstance(app.screen, JobScreen) and says(app, "Nothing is"))
        await pilot.press("p")
        await until(pilot, lambda: says(app, "should not have happened", "ZeroDivisionError"))
        await pilot.press("3", "a", "4")
        await until(pilot, lambda: says(app, "15 changes chosen", "Apply 15 changes"))


@pytest.mark.parametrize("where", ["app", "screen", "widget"])
def test_what_nobody_foresaw_ends_without_a_traceback(data_folder, monkeypatch, capsys, where):
    def fail(*_):
        raise RuntimeError("odd")

    owner = {"app": LumtakApp, "screen": BenchScreen, "widget": LineList}[where]
    monkeypatch.setattr(owner, "on_key", fail, raising=False)
    app = LumtakApp(data_folder, pace=0.0)

    async def press(pilot):
        await pilot.press("x")

    app.run(headless=True, auto_pilot=press)
    assert (str(app.problem), app.return_code) == ("odd", 1)
    assert "Traceback" not in "".join(capsys.readouterr())


def test_textual_still_offers_no_public_way_to_be_told_of_an_exception():
    told = {n for n in dir(App) if not n.startswith("_") and ("exception" in n or "error" in n)}
    assert told == set(), "use it in LumtakApp, in place of _fatal_error"
    assert callable(App._fatal_error), "what LumtakApp stands in for is called otherwise now"


async def test_intake_notes_the_complaint_its_words_and_a_program_that_is_agreed_on(data_folder):
    app = application(data_folder)
    async with app.run_test(size=WIDE, notifications=True) as pilot:
        await begin(pilot)
        desk = app.screen
        await pilot.press("1")
        await until(pilot, lambda: says(app, "◆ slow at everything", "It was quick when it was"))
        await pilot.press("home", "enter")
        await until(pilot, lambda: says(app, "◆ slow to start"))
        assert desk.job.complaint == "start"
        await pilot.press(*["down"] * 5, "enter")
        await until(pilot, lambda: says(app, "What does the owner say?"))
        await pilot.press("home", *"Ah. ", "enter", "tab", "enter")
        await until(pilot, lambda: says(app, "“Ah. It was quick when it was new.”"))
        await pilot.press("down", "enter")
        await until(pilot, lambda: says(app, "Which large program", "/usr/bin/hull-drafting"))
        await pilot.press("down", "enter")
        await until(pilot, lambda: says(app, "Time the start of", "twice a minute"))
        await pilot.press("enter")
        await until(pilot, lambda: app.screen is desk and not desk.busy)
        assert desk.job.program == "", "the safe answer is the default"
        await pilot.press("enter")
        await until(pilot, lambda: says(app, "Which large program"))
        await pilot.press("down", "enter")
        await until(pilot, lambda: says(app, "Time the start of"))
        await pilot.press("right", "enter")
        await until(pilot, lambda: desk.job.program == "/usr/bin/hull-drafting")
        await until(pilot, lambda: app.screen is desk and not desk.busy)
        await pilot.press("enter")
        await until(pilot, lambda: says(app, "no start is timed"))
        await pilot.press("home", "enter")
        await until(pilot, lambda: desk.job.program == "")


async def test_the_sheet_is_saved_opened_and_printed_by_a_key_each(
    data_folder, sim, tmp_path, monkeypatch
):
    open_job = begin_job(data_folder, sim, data_folder.profile("hull-drafting"), told="Slow.")
    read_baseline(open_job, seconds=60)
    make_audit(open_job)
    open_job.go("handover")
    open_job.close()
    programs, seen = tmp_path / "bin", tmp_path / "seen"
    monkeypatch.setenv("PATH", f"{programs}:{os.environ['PATH']}")
    put(programs, "lp", "#!/bin/sh\ncat >/dev/null\necho job quay-3\n").chmod(0o755)
    put(programs, "xdg-open", f"#!/bin/sh\necho $1 >{seen}\n").chmod(0o755)
    app = application(data_folder)
    async with app.run_test(size=WIDE, notifications=True) as pilot:
        await pilot.press("enter")
        await until(pilot, lambda: says(app, "as it will print", "“Slow.”", "You told us"))
        app.screen.query_one("#folder", Input).value = str(tmp_path / "out")
        await pilot.press("tab")
        await pilot.press("s")
        await until(pilot, lambda: says(app, "Saved: "))
        saved = tmp_path / "out/sheet-drawing-bench-1.pdf"
        assert saved.read_bytes().startswith(b"%PDF")
        await pilot.press("o")
        await until(pilot, lambda: says(app, "Opened: ") and seen.exists() and seen.read_text())
        assert seen.read_text().strip() == str(saved)
        await pilot.press("p")
        await until(pilot, lambda: says(app, "Print the sheet?", "by", "lacks:"))
        await pilot.press("enter")
        await until(pilot, lambda: isinstance(app.screen, JobScreen))
        assert not says(app, "Printed:"), "the safe answer is the default"
        await pilot.press("p")
        await until(pilot, lambda: says(app, "Print the sheet?"))
        await pilot.press("right", "enter")
        await until(pilot, lambda: says(app, "Printed: job quay-3"))
        await pilot.press("1")
        await until(pilot, lambda: says(app, "Enter writes down name and telephone"))
        app.screen.query_one("#intake", IntakeStation).query_one(LineList).go_to("owner")
        await pilot.press("enter")
        await until(pilot, lambda: says(app, "Who brought this computer?", "Telephone or mail"))
        await pilot.press(*"Ada", "enter", *"0100", *["tab"] * 4, "enter")
        await until(pilot, lambda: says(app, "Ada · 0100"))
    (job,) = data_folder.casebook.jobs()
    assert data_folder.casebook.job(job.id).owner.name == "Ada"
    assert data_folder.casebook.job(job.id).written == (str(saved),)


async def test_a_change_of_the_plan_is_tried_by_one_key(data_folder):
    crib = data_folder.computer("sim:tide-logger", seed=7)
    profile_of_it = data_folder.profile("tide-logging")
    open_job = begin_job(data_folder, crib, profile_of_it, complaint="programs")
    read_baseline(open_job, seconds=60)
    make_audit(open_job)
    toggle(open_job, parse_ref("power:battery"))
    open_job.go("plan")
    open_job.close()
    app = LumtakApp(data_folder, pace=0.0)
    async with app.run_test(size=WIDE, notifications=True) as pilot:
        await pilot.press("enter")
        await until(pilot, lambda: says(app, "1 change chosen", "Plan on battery"))
        await pilot.press("t")
        await until(pilot, lambda: says(app, "Try Plan on battery?", "24 blocks"))
        await pilot.press("enter")
        await until(pilot, lambda: isinstance(app.screen, JobScreen))
        await pilot.press("t")
        await until(pilot, lambda: says(app, "Try Plan on battery?"))
        await pilot.press("right", "enter")
        await until(pilot, lambda: isinstance(app.screen, TrialScreen))
        await until(pilot, lambda: says(app, "less with it", "All is as it was", "pair  8"))
        assert data_folder.journal.entries()[-1].stage == "undone"
        await until(pilot, lambda: says(app, "  95 % sure  ", "●"))
        await pilot.press("question_mark")
        await until(pilot, lambda: says(app, "drawn by lot"))
        await pilot.press("escape", "escape")
        await until(pilot, lambda: isinstance(app.screen, JobScreen))
        await until(pilot, lambda: says(app, "tried here", "A trial of"))


async def test_what_is_chosen_is_tried_together_paused_and_goes_on(data_folder, sim, monkeypatch):
    paused = threading.Event()

    def first_look(*args, **given):
        assert paused.wait(100)
        return take_reading(*args, **given)

    monkeypatch.setattr(experiment, "take_reading", first_look)
    open_job = begin_job(data_folder, sim, data_folder.profile("hull-drafting"))
    read_baseline(open_job, seconds=60)
    make_audit(open_job)
    for key in ("effects:living-backdrop", "memory:swappiness"):
        toggle(open_job, parse_ref(key))
    open_job.go("plan")
    open_job.close()
    app = LumtakApp(data_folder, pace=0.0)
    async with app.run_test(size=WIDE, notifications=True) as pilot:
        await pilot.press("enter")
        await until(pilot, lambda: says(app, "2 changes chosen"))
        await pilot.press("g")
        await until(pilot, lambda: says(app, "Try 2 changes together?", "worth a trial"))
        await pilot.press("right", "enter")
        await until(pilot, lambda: isinstance(app.screen, TrialScreen))
        await pilot.press("p")
        await until(pilot, lambda: says(app, "p goes on"))
        paused.set()
        await until(pilot, lambda: says(app, "holds it", "p goes on"))
        assert not [e for e in data_folder.journal.entries() if e.is_open]
        await pilot.press("x")
        await until(pilot, lambda: says(app, "nothing is left on"))
        await pilot.press("p")
        await until(pilot, lambda: says(app, "of 2 do something that shows", "as it was before"))
        await until(pilot, lambda: says(app, "block 12", "with Living backdrop", "block  1"))
        await pilot.press("u")
        await until(pilot, lambda: says(app, "Nothing of this trial stands"))
        await pilot.press("escape")
        await until(pilot, lambda: isinstance(app.screen, JobScreen))


async def test_the_least_plan_by_one_key_and_along_the_frontier_by_two(data_folder, sim):
    open_job = begin_job(data_folder, sim, data_folder.profile("hull-drafting"))
    read_baseline(open_job, seconds=120)
    make_audit(open_job)
    open_job.go("plan")
    open_job.close()
    app = application(data_folder)
    async with app.run_test(size=WIDE, notifications=True) as pilot:
        await pilot.press("enter")
        await until(pilot, lambda: isinstance(app.screen, JobScreen) and says(app, "Nothing is"))
        desk = app.screen
        await pilot.press("p")
        await until(pilot, lambda: says(app, "No plan reaches both", "To be asked:"))
        most = len(desk.job.chosen)
        assert most > 6
        assert says(app, "the least plan, disruption", "noticed", "put back")
        await pilot.press("down", *["left"] * 30)
        await until(pilot, lambda: says(app, "step 1 of", "disruption 0"))
        assert desk.job.chosen == ()
        await pilot.press("full_stop", "full_stop")
        await until(pilot, lambda: says(app, "step 3 of"))
        assert 0 < len(desk.job.chosen) < most
        await pilot.press("enter")
        await until(pilot, lambda: says(app, "would save") and desk.job.station == "audit")
        await pilot.press("backspace")
        await until(pilot, lambda: desk.job.station == "plan")
