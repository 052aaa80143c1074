"""Apply, Put back and End a process, driven in the same process."""

import json

from helpers import bench
from lumtak.core.setting import parse_change
from lumtak.journal import Journal, apply_changes
from lumtak.tui.app import LumtakApp
from lumtak.tui.bench import BenchScreen
from lumtak.tui.confirm import ConfirmScreen
from lumtak.tui.ending import EndingScreen
from lumtak.tui.job_screen import JobScreen
from lumtak.tui.put_back import PutBackScreen
from lumtak.work.audit import make_audit
from lumtak.work.intake import begin_job
from test_screens import WIDE, application, says, until

NAME = "sim:drawing-bench"


def chosen_job(data_folder, *refs, fault=""):
    """A job at Plan with these items chosen."""
    computer = data_folder.computer(f"{NAME}?fault={fault}" if fault else NAME)
    open_job = begin_job(data_folder, computer, data_folder.profile("hull-drafting"))
    make_audit(open_job)
    open_job.keep(chosen=tuple(f.change for f in open_job.job.audit.findings if str(f.ref) in refs))
    open_job.go("plan")
    open_job.close()


def settings_of(data_folder):
    return json.loads((data_folder.home / "simulated/drawing-bench.json").read_text())["settings"]


def set_outside(data_folder, **values):
    """Somebody else changes settings, behind Lumtak's back."""
    path = data_folder.home / "simulated/drawing-bench.json"
    state = json.loads(path.read_text())
    state["settings"] |= {
        key.replace("__", ":").replace("_", "-"): value for key, value in values.items()
    }
    path.write_text(json.dumps(state))


async def open_job(pilot):
    await pilot.press("enter")
    await until(pilot, lambda: isinstance(pilot.app.screen, JobScreen))


async def confirm(pilot, *, yes):
    await until(pilot, lambda: isinstance(pilot.app.screen, ConfirmScreen))
    await pilot.press("right" if yes else "left", "enter")


async def apply_plan(pilot):
    await until(pilot, lambda: says(pilot.app, "Apply"))
    await pilot.press("enter")
    await confirm(pilot, yes=True)


async def test_a_failure_offers_to_put_back_what_was_done(data_folder, sim):
    refs = ("effects:animations", "effects:shadows", "services:fax-bridge", "apps:chat-horn")
    before = settings_of(data_folder)
    chosen_job(data_folder, *refs, fault="refuse:services:fax-bridge")
    app = application(data_folder)
    async with app.run_test(size=WIDE, notifications=True) as pilot:
        await open_job(pilot)
        await apply_plan(pilot)
        await until(
            pilot,
            lambda: says(
                app, "Fax bridge could not be changed", "Animations: on → off", "Keep what was"
            ),
        )
        await confirm(pilot, yes=False)
        await until(
            pilot,
            lambda: says(
                app,
                "1 of 3 changes did not go through",
                "2 changes chosen",
                "a policy of this",
            ),
        )
        assert settings_of(data_folder)["effects:animations"] == "off", (
            "the safe answer keeps what was done"
        )
        await pilot.press("enter")
        await confirm(pilot, yes=True)
        await until(pilot, lambda: not app.screen.busy)
        await pilot.press("b")
        await until(
            pilot,
            lambda: (
                isinstance(app.screen, PutBackScreen)
                and says(app, "2 of 4 changes are still in place")
            ),
        )
        await pilot.press("a", "tab", "enter")
        await confirm(pilot, yes=True)
        await until(pilot, lambda: says(app, "put back or came to nothing"))
        assert settings_of(data_folder) == before


async def test_pause_holds_and_stop_ends_after_the_change(data_folder, sim):
    chosen_job(
        data_folder,
        *(f"effects:{n}" for n in ("animations", "shadows", "glass-panels", "living-backdrop")),
        fault="slow",
    )
    app = application(data_folder)
    app.pace = 100.0
    async with app.run_test(size=WIDE, notifications=True) as pilot:
        await open_job(pilot)
        await apply_plan(pilot)
        await until(pilot, lambda: says(app, "being written"))
        await pilot.press("enter")
        await until(pilot, lambda: says(app, "Held: ", "Go on", "held"))
        await pilot.press("tab", "enter")
        await until(pilot, lambda: not app.screen.busy and says(app, "changes chosen"))
        assert (
            1
            <= sum(
                v == "off" for k, v in settings_of(data_folder).items() if k.startswith("effects:")
            )
            < 4
        )


def interrupt(data_folder, *changes):
    """A plan that was cut off in its second change, before the write."""
    computer, journal = bench(data_folder.home / "simulated"), Journal(data_folder.home)
    wanted = [parse_change(c) for c in changes]
    write = computer.settings.write

    def cut(ref, state):
        if ref == wanted[1].ref:
            raise KeyboardInterrupt
        write(ref, state)

    computer.settings.write = cut
    try:
        apply_changes(journal, computer, computer.about.facts(), wanted)
    except KeyboardInterrupt:
        journal.close()
        return
    raise AssertionError


async def test_an_interrupted_plan_is_shown_before_anything_is_touched(data_folder, sim):
    before = settings_of(data_folder)
    chosen_job(data_folder)
    interrupt(
        data_folder, "effects:animations=off", "services:fax-bridge=off", "apps:chat-horn=off"
    )
    app = application(data_folder)
    async with app.run_test(size=WIDE, notifications=True) as pilot:
        await open_job(pilot)
        await until(
            pilot,
            lambda: says(
                app, "interrupted here: 1 done, 1 not done, 1 not begun", "Nothing has been touched"
            ),
        )
        assert [e.stage for e in data_folder.journal.entries()] == ["verified", "intent"]
        await pilot.press("tab", "enter")
        await until(pilot, lambda: says(app, "Nothing is chosen, and nothing was changed."))
        assert [e.stage for e in data_folder.journal.entries()] == ["undone", "not done"]
        assert settings_of(data_folder) == before


async def test_drift_is_marked_and_a_conflict_is_a_question_of_its_own(data_folder, sim):
    computer = data_folder.computer(NAME)
    changes = ("effects:animations=off", "services:fax-bridge=off", "apps:chat-horn=off")
    apply_changes(
        data_folder.journal, computer, computer.about.facts(), [parse_change(c) for c in changes]
    )
    computer.close()
    set_outside(data_folder, services__fax_bridge="manual", apps__chat_horn="on")
    app = application(data_folder)
    async with app.run_test(size=WIDE, notifications=True) as pilot:
        await until(pilot, lambda: says(app, "3 changes in place, 2 drifted"))
        await pilot.press("b")
        await until(
            pilot,
            lambda: says(
                app, "without a job", "drifted: now manual", "back as before: now on", "as left"
            ),
        )
        await pilot.press("down", "enter")
        await until(pilot, lambda: says(app, "last right", "if put back"))
        await pilot.press("tab", "enter")
        await until(pilot, lambda: says(app, "Put 2 changes", "1 that somebody changed since"))
        await confirm(pilot, yes=True)
        await until(
            pilot, lambda: says(app, "Fax bridge: was auto, Lumtak made it off, now it is manual")
        )
        await confirm(pilot, yes=False)
        await until(pilot, lambda: isinstance(app.screen, PutBackScreen))
        assert settings_of(data_folder)["services:fax-bridge"] == "manual"
        await pilot.press("escape")
        await until(
            pilot,
            lambda: (
                isinstance(app.screen, BenchScreen) and says(app, "1 change in place, 1 drifted")
            ),
        )
        await pilot.press("b")
        await until(pilot, lambda: says(app, "1 of 3 changes is still in place"))
        await pilot.press("tab", "enter")
        await confirm(pilot, yes=True)
        await until(pilot, lambda: says(app, "came to nothing"))
        assert settings_of(data_folder)["services:fax-bridge"] == "auto"


async def test_ending_a_process_is_asked_and_recorded(data_folder, sim):
    chosen_job(data_folder)
    app = application(data_folder)
    async with app.run_test(size=WIDE, notifications=True) as pilot:
        await open_job(pilot)
        await pilot.press("e")
        await until(
            pilot,
            lambda: (
                isinstance(app.screen, EndingScreen)
                and says(app, "Chart cache", "never ended", "Enter shows them")
            ),
        )
        first = app.screen._found[0]
        await pilot.press("enter")
        await until(
            pilot,
            lambda: says(
                app,
                f"Ask {first.title} (process {first.process.pid}) to end?",
                "cannot be put back",
            ),
        )
        await confirm(pilot, yes=False)
        assert data_folder.casebook.job("drawing-bench-1").actions == ()
        await pilot.press("enter")
        await confirm(pilot, yes=True)
        await until(pilot, lambda: says(app, "ended in this job", "was asked to end; it ended"))
        await pilot.press("escape")
        await until(pilot, lambda: isinstance(app.screen, JobScreen))
        assert [a.target for a in app.screen.job.actions] == [first.title]
        assert app.screen.entries == [], "an action is no change"
    job = data_folder.casebook.job("drawing-bench-1")
    assert job.actions[0].ended


async def test_a_journal_that_was_mended_is_said(data_folder, sim):
    computer = data_folder.computer(NAME)
    apply_changes(
        data_folder.journal,
        computer,
        computer.about.facts(),
        [parse_change("effects:animations=off")],
    )
    computer.close()
    data_folder.close()
    (data_folder.home / "journal.db").write_bytes(b"\xa5" * 9000)
    second = LumtakApp(type(data_folder)(data_folder.home), pace=0.0)
    async with second.run_test(size=WIDE, notifications=True) as pilot:
        await until(pilot, lambda: says(second, "built anew", "1 change in place"))
    second.data_folder.close()
