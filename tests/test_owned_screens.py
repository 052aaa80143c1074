"""Deciding together, and programs, driven in the same process."""

from lumtak.core.deciding import latest
from lumtak.journal import Journal
from lumtak.tui.deciding import DecidingScreen
from lumtak.tui.programs import ProgramsScreen
from lumtak.work.intake import begin_job
from test_apply_screens import confirm, open_job
from test_screens import WIDE, application, says, until


def crib(data_folder):
    begin_job(
        data_folder, data_folder.computer("sim:tool-crib"), data_folder.profile("tool-lending")
    ).close()


async def opened(pilot, key, kind, words):
    await open_job(pilot)
    await pilot.press(key)
    await until(pilot, lambda: isinstance(pilot.app.screen, kind) and says(pilot.app, words))


def decided(data_folder):
    """What was said, as it stands on the disk."""
    job = data_folder.casebook.job(data_folder.jobs()[0].id)
    return {path.rpartition("/")[2]: one.decision for path, one in latest(job.decided).items()}


async def test_two_people_decide_stop_and_take_it_up_again(data_folder):
    crib(data_folder)
    app = application(data_folder)
    async with app.run_test(size=WIDE, notifications=True) as pilot:
        await opened(pilot, "f", DecidingScreen, "17 of 17 to decide")
        await pilot.press("g")  # the first may be an only copy: its own yes, and the safe answer
        await confirm(pilot, yes=False)
        await pilot.press("h", "z")
        await until(pilot, lambda: says(app, "15 of 17 to decide", "launch-day-2019.mkv"))
        await pilot.press("g", "backspace", "g", "g", "g")
        await until(pilot, lambda: says(app, "Nothing would stay"))
        await pilot.press("slash", *"copies", "enter")  # one of them goes already
        await until(pilot, lambda: says(app, "7 things by the rule"))
        await pilot.press("g")
        await until(pilot, lambda: says(app, "3 things, 13.0 GiB", "3 stay"))
        await confirm(pilot, yes=False)
        await pilot.press("escape")
        await pilot.press("slash", *"disk-image", "enter")
        await until(pilot, lambda: says(app, "4 things by the rule"))
        await pilot.press("g")
        await confirm(pilot, yes=True)
        await until(pilot, lambda: says(app, "are to go and are free once emptied"))
        await pilot.press("escape")
        await until(pilot, lambda: not isinstance(app.screen, DecidingScreen))
        said = decided(data_folder)
        assert said["ledger-2023.img"] == "keep"
        assert said["ledger-2021.img"] == "later"
        assert said["launch-day-2019.mkv"] == said["keel-laying (copy).mkv"] == "aside"
        assert "keel-laying.mkv" not in said
        assert sum(name.startswith("drawing-suite-5") for name in said) == 1
        await pilot.press("f")
        await until(pilot, lambda: says(app, "12 of 17 to decide"))
        await pilot.press("right", "right", "right", "enter")
        await until(pilot, lambda: says(app, "exist anywhere else"))
        await pilot.press("enter")
        await confirm(pilot, yes=True)
        await until(pilot, lambda: says(app, "changes made", "12 of 14 to decide"))
    entries = Journal(data_folder.home).entries("sim-tool-crib")
    assert sorted(e.ref.key.rpartition("/")[2] for e in entries if e.is_open) == [
        "chosen",
        "keel-laying (copy).mkv",
        "launch-day-2019.mkv",
    ]
    job = data_folder.casebook.job(data_folder.jobs()[0].id)
    assert {one.elsewhere for one in job.decided if one.decision == "aside"} == {"yes"}


async def test_a_program_is_removed_with_what_only_it_needs_and_the_list_is_kept(data_folder):
    crib(data_folder)
    app = application(data_folder)
    async with app.run_test(size=WIDE, notifications=True) as pilot:
        await opened(pilot, "m", ProgramsScreen, "drawing-suite")
        await pilot.press("enter")
        await until(pilot, lambda: says(app, "with what nothing needs then"))
        await pilot.press("down", "enter")
        await confirm(pilot, yes=False)
        await until(pilot, lambda: isinstance(app.screen, ProgramsScreen))
        await pilot.press("enter")
        await until(pilot, lambda: says(app, "with what nothing needs then"))
        await pilot.press("down", "enter")
        await confirm(pilot, yes=True)
        await until(pilot, lambda: says(app, "removed: drawing-suite", "apt-get install"))
        await pilot.press("end", "enter")
        await until(pilot, lambda: says(app, "nobody could log in any more"))
    (action,) = data_folder.casebook.job(data_folder.jobs()[0].id).actions
    assert action.kind == "remove"
    assert len(action.packages) == 3
    assert action.again[1] == "apt-mark auto drawing-suite-parts drawing-suite-help"
