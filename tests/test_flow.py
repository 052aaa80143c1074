"""What keys mean: questions, commands, finding a job, settings; driven in the same process."""

from textual import events
from textual.widgets import Static

from helpers import bench
from lumtak.tui.confirm import ConfirmScreen
from lumtak.tui.job_screen import JobScreen
from lumtak.tui.keys import BY_NAME, KEYS, mapped
from lumtak.tui.palette import PaletteScreen
from lumtak.tui.quick_look import QuickLookScreen
from lumtak.tui.theme import LIGHT
from lumtak.tui.widgets.lines import LineList
from lumtak.work.audit import make_audit
from lumtak.work.intake import begin_job
from lumtak.work.reading import read_baseline
from test_screens import WIDE, Stage, application, begin, says, shown, until


async def test_a_question_that_comes_by_itself_is_not_answered_by_the_key_before_it():
    answers = []
    app = Stage(Static("x"))
    async with app.run_test(size=(90, 30)) as pilot:
        for keys in (["enter", "escape", "left", "enter"], ["n", "enter", "right", "enter"]):
            question = ConfirmScreen("Put it back?", "what", yes="Yes", by_itself=True)
            app.push_screen(question, answers.append)
            await pilot.pause()
            for key in keys:
                assert app.screen is question
                await pilot.press(key)
            await pilot.pause()
    assert answers == [False, True]


async def test_what_would_cut_a_reading_short_is_asked_first(data_folder):
    app = application(data_folder)
    app.pace = 20.0
    async with app.run_test(size=WIDE, notifications=True) as pilot:
        await begin(pilot)
        await pilot.press("enter")
        await until(pilot, lambda: says(app, "Stop early"))
        for key in ("q", "escape"):
            await pilot.press(key)
            await until(pilot, lambda: says(app, "A reading is being taken"))
            await pilot.press("enter")
            await until(pilot, lambda: isinstance(app.screen, JobScreen))
        assert app.screen.doing == "baseline"
        await pilot.press("q")
        await until(pilot, lambda: says(app, "A reading is being taken"))
        await pilot.press("right", "enter")
        await until(pilot, lambda: app.return_code == 0 or not app.is_running)
    assert data_folder.casebook.reading(data_folder.casebook.jobs()[0].baseline) is not None


async def test_nothing_to_gain_leads_straight_to_the_handover(data_folder):
    room = data_folder.computer("sim:chart-room")
    open_job = begin_job(data_folder, room, data_folder.profile("chart-reading"))
    read_baseline(open_job, seconds=60)
    make_audit(open_job)
    open_job.go("baseline")
    open_job.close()
    app = application(data_folder)
    async with app.run_test(size=WIDE, notifications=True) as pilot:
        await pilot.press("enter")
        await until(pilot, lambda: says(app, "Nothing to gain: on to the handover"))
        await pilot.press("enter")
        await until(pilot, lambda: says(app, "Nothing was changed, and the sheet says so"))
        await pilot.press("4")
        await until(pilot, lambda: says(app, "Nothing to gain", "On to the handover"))


async def test_the_palette_has_every_command_and_its_key(data_folder):
    app = application(data_folder)
    async with app.run_test(size=WIDE, notifications=True) as pilot:
        await begin(pilot)
        await pilot.press("ctrl+p")
        await until(pilot, lambda: isinstance(app.screen, PaletteScreen))
        words = [c.words for c in app.screen._commands]
        assert words[:3] == ["Intake", "Baseline", "Take the baseline"]
        assert {"Quick look", "The owner's questions", "Write the report"} <= set(words)
        for command in app.screen._commands:
            assert command.key in BY_NAME or len(command.key) < 10, command
        await pilot.press(*"audit")
        await until(pilot, lambda: says(app, "Search the audit") and not says(app, "Baseline  "))
        await pilot.press("enter")
        await until(pilot, lambda: app.screen.job.station == "audit")
        await pilot.press("ctrl+p", *"baseline take", "enter")
        await until(pilot, lambda: app.screen.baseline is not None and not app.screen.busy)


async def test_jobs_are_searched_sorted_and_put_away(data_folder):
    for number in range(40):
        job = begin_job(
            data_folder, bench(data_folder.home / "simulated"), data_folder.profile("play")
        )
        job.keep(computer_name=f"desk {number:02}", verdict=f"CPU −{number}.5 points")
        job.close()
    app = application(data_folder)
    async with app.run_test(size=WIDE, notifications=True) as pilot:
        await until(pilot, lambda: says(app, "desk 39", "/ searches, o sorts, x archives"))
        for key, letter in (("slash", "/"), *((x, x) for x in "desk")):
            app.post_message(events.Key(key, letter))  # all before any of them is seen
        await until(pilot, lambda: says(app, "desk 39") and app.screen._words == "desk")
        await pilot.press("space", *"07")
        await until(pilot, lambda: says(app, "CPU −7.5 points") and not says(app, "desk 39"))
        await pilot.press("down", "x")
        await until(pilot, lambda: data_folder.casebook.job("drawing-bench-8").archived)
        await pilot.press("escape")
        await until(pilot, lambda: says(app, "1 archived, not shown (v)", "desk 39"))
        assert not says(app, "desk 07")
        await pilot.press("v", "o", "o", "home")
        await until(pilot, lambda: says(app, "by computer", "archived, play"))
        assert shown(app)[4].split()[:2] == ["desk", "00"]
        await pilot.press("end")
        await until(pilot, lambda: says(app, "Computers seen before", "Other computers"))


async def test_settings_are_kept_at_once_and_keys_that_clash_are_named(data_folder):
    app = application(data_folder)
    async with app.run_test(size=WIDE, notifications=True) as pilot:
        await pilot.press("s")
        await until(
            pilot,
            lambda: says(app, "report folder", "paper of sheets", "dark or light (everywhere)"),
        )
        await pilot.press("down", "enter")
        await until(pilot, lambda: app.theme == LIGHT.name)
        for key, seen in (("b", "is the key of both"), ("1", "cannot be the key of")):
            app.screen.query_one(LineList).go_to("keys.look")
            await pilot.press("enter")
            await until(pilot, lambda: says(app, "Which key for"))
            await pilot.press("end", "backspace", *key, "enter", "tab", "enter")
            await until(pilot, lambda seen=seen: says(app, seen))
        assert data_folder.settings.keys == {}
        await pilot.press("enter", "end", "backspace", "z", "enter", "tab", "enter")
        await until(pilot, lambda: data_folder.settings.keys == {"look": "z"})
        await pilot.press("escape")
        await until(pilot, lambda: says(app, "z takes a quick look"))
        await pilot.press("z")
        await until(pilot, lambda: isinstance(app.screen, QuickLookScreen))
    assert data_folder.read_settings().theme == "light"


def test_no_key_means_two_things_and_those_that_would_are_both_named():
    assert mapped({})[1] == ()
    keys, wrong = mapped({"search": "p", "least": "F5", "nonsense": "x", "sort": "enter"})
    assert keys == {k.name: k.key for k in KEYS} | {"search": "p", "least": "f5"}
    assert len(wrong) == 2
    keys, wrong = mapped({"chart": "u"})
    assert "chart" in wrong[0]
    assert "this-visit" in wrong[0]
    assert keys == {k.name: k.key for k in KEYS}


async def test_settings_that_cannot_be_read_are_said_and_nothing_is_lost(data_folder):
    path = data_folder.settings_path
    path.parent.mkdir(exist_ok=True)
    path.write_text("format = 1\ntheme = 7\n")
    app = application(data_folder)
    async with app.run_test(size=WIDE, notifications=True) as pilot:
        await until(pilot, lambda: says(app, "settings.toml", "as if nothing were set"))
        await pilot.press("ctrl+t")
        await until(pilot, lambda: app.theme == LIGHT.name)
    assert path.read_text() == "format = 1\ntheme = 7\n"
