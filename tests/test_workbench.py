"""The workbench as a technician wants it.

Search, jumps, questions, baselines, bridge, quick look, charts.
"""

import msgspec
import pytest
from rich.text import Text
from textual import events

from helpers import reading
from lumtak.core.bridge import Bridge, BridgeStep
from lumtak.core.record import known
from lumtak.core.setting import parse_ref
from lumtak.core.strip import PIECE_KINDS, Glance
from lumtak.core.window import Window
from lumtak.errors import UsageError
from lumtak.tui.bench import BenchScreen
from lumtak.tui.job_screen import JobScreen
from lumtak.tui.quick_look import QuickLookScreen
from lumtak.tui.theme import Palette
from lumtak.tui.widgets.bridge import bridge_rows
from lumtak.tui.widgets.ledger import Ledger
from lumtak.tui.widgets.live import Live
from lumtak.tui.widgets.mini import glance_line
from lumtak.tui.widgets.stances import Stances
from lumtak.tui.widgets.trace import Trace
from lumtak.work.audit import choose_all_eased, make_audit
from lumtak.work.intake import begin_job
from lumtak.work.plan import carry_out, restart
from lumtak.work.proof import after_is_due, bridges_of, read_after, same_point_s
from lumtak.work.reading import choose_baseline, read_baseline
from test_screens import LOW, WIDE, Stage, application, row, says, shown, until


def audited(data_folder, sim, **kept):
    """A job on the drawing bench that stands at its audit."""
    open_job = begin_job(data_folder, sim, data_folder.profile("hull-drafting"))
    read_baseline(open_job, seconds=60)
    make_audit(open_job)
    open_job.go("audit")
    if kept:
        open_job.keep(**kept)
    open_job.close()
    return open_job


def ready(app):
    return isinstance(app.screen, JobScreen) and says(app, "Space chooses")


async def test_the_audit_is_searched_as_it_is_typed_and_jumps_lead_along_dependencies(
    data_folder, sim
):
    audited(data_folder, sim)
    app = application(data_folder)
    async with app.run_test(size=WIDE, notifications=True) as pilot:
        await pilot.press("enter")
        await until(pilot, lambda: ready(app))
        await pilot.press("slash", *"chart")
        await until(
            pilot,
            lambda: says(app, "2 of 183 shown", "Chart preview") and not says(app, "Sheet index"),
        )
        await pilot.press("enter", "a")
        await until(
            pilot,
            lambda: {c.ref.key for c in app.screen.job.chosen} == {"chart-cache", "chart-preview"},
        )
        await pilot.press("a")
        assert app.screen.job.chosen == (), "once more takes it back"
        await pilot.press("slash", *" cpu>")
        await until(pilot, lambda: says(app, "After cpu> comes a percentage"))
        await pilot.press("escape")
        await until(pilot, lambda: says(app, "Sheet index", "Space chooses"))
        stances = app.screen.query_one(Stances)
        await pilot.click(Stances, offset=(row(stances, 0).index("ask") + 1, 0))
        await until(
            pilot,
            lambda: says(app, "4 of 183 shown", "Moulding link") and not says(app, "Sheet index"),
        )
        await pilot.click(Stances, offset=(row(stances, 0).index("ask") + 1, 0))
        await until(pilot, lambda: says(app, "Sheet index", "Space chooses"))

        await pilot.press("home", "enter")
        await until(pilot, lambda: says(app, "stops with it  ▸ Chart preview"))
        await pilot.press("down", "enter")
        await until(pilot, lambda: says(app, "needs          ▸ Chart cache"))
        assert app.screen.job.cursor == "services:chart-preview"
        await pilot.press("backspace")
        await until(pilot, lambda: app.screen.job.cursor == "services:chart-cache")
        lines = app.screen.query_one("#audit LineList")
        assert lines.selected.startswith("go:services:chart-preview"), (
            "on the link from which the jump began"
        )
        await pilot.press("enter")
        await until(pilot, lambda: app.screen.job.cursor == "services:chart-preview")
        await pilot.press("end")
        await until(pilot, lambda: says(app, "◆balanced", "the sum, which is all there is"))


async def test_letters_typed_right_after_the_key_of_the_search_are_all_searched(data_folder, sim):
    audited(data_folder, sim)
    app = application(data_folder)
    async with app.run_test(size=WIDE) as pilot:
        await pilot.press("enter")
        await until(pilot, lambda: ready(app))
        for key, letter in (("slash", "/"), *((x, x) for x in "chart")):
            app.post_message(events.Key(key, letter))  # all before any of them is seen
        await until(pilot, lambda: says(app, "/ chart", "2 of 183 shown"))


async def test_the_owners_questions_are_asked_one_by_one(data_folder, sim):
    audited(data_folder, sim)
    app = application(data_folder)
    async with app.run_test(size=LOW, notifications=True) as pilot:
        await pilot.press("enter")
        await until(pilot, lambda: ready(app))
        await pilot.press("i")
        await until(pilot, lambda: says(app, "question 1 of 4", "Sail sync"))
        await pilot.press("enter")
        await until(pilot, lambda: says(app, "question 2 of 4", "Photo mirror"))
        await pilot.press("enter")
        await until(pilot, lambda: says(app, "question 3 of 4", "Moulding link"))
        await pilot.press("right", "right", "enter")
        await until(pilot, lambda: says(app, "question 4 of 4", "Offcut finder"))
        await pilot.press("right", "enter")
        await until(pilot, lambda: isinstance(app.screen, JobScreen) and not app.screen.busy)
        found = app.screen.job.audit.by_consumer
        assert found["services:moulding-link"].reason == "the owner does not need it."
        assert sorted(data_folder.answers(app.screen.job.identity).values()) == [
            "needed",
            "not needed",
        ]
        await pilot.press("i", "enter", "enter")
        await until(pilot, lambda: says(app, "the owner said: not needed"))
        await pilot.press("enter", "escape")
        await until(pilot, lambda: isinstance(app.screen, JobScreen) and not app.screen.busy)
        assert list(data_folder.answers(app.screen.job.identity).values()) == ["needed"], (
            "not known yet takes an answer back"
        )


async def test_the_shop_teaches_what_an_item_is_for_and_says_what_was_wrong(data_folder, sim):
    audited(data_folder, sim)
    app = application(data_folder)
    async with app.run_test(size=WIDE, notifications=True) as pilot:
        await pilot.press("enter")
        await until(pilot, lambda: ready(app))
        desk = app.screen
        desk.open_job.select(parse_ref("services:moulding-link"))
        await pilot.press("t")
        await until(pilot, lambda: says(app, "What is Moulding link for?"))
        await pilot.press(*"moulds", "enter", *"none", "enter", "tab", "enter")
        await until(pilot, lambda: app.screen is desk and not desk.busy)
        found = desk.job.audit.by_consumer["services:moulding-link"]
        assert (found.stance, found.role) == ("keep", "own-moulding-link")
        assert "drawing bench" in data_folder.catalogue.find("own-moulding-link").taught
        await pilot.press("w")
        await until(pilot, lambda: says(app, "Was it wrong to say"))
        await pilot.press("enter", "tab", "enter")
        await until(pilot, lambda: says(app, "Every line has to say something"))
        await pilot.press(*"really", "enter", "tab", "enter")
        await until(pilot, lambda: app.screen is desk and not desk.busy)
        assert [w.why for w in desk.job.wrong] == ["really"]
        assert [w.item for w in data_folder.wrongs] == ["services:moulding-link"]
        await pilot.press("enter")
        await until(pilot, lambda: says(app, "said wrong", "really"))


async def test_baselines_are_kept_and_one_counts(data_folder, sim):
    open_job = audited(data_folder, sim)
    with pytest.raises(UsageError, match="no baseline 99"):
        choose_baseline(open_job, 99)
    first = open_job.job.baseline
    read_baseline(open_job, seconds=30)
    make_audit(open_job)
    open_job.go("baseline")
    open_job.close()
    app = application(data_folder)
    async with app.run_test(size=WIDE, notifications=True) as pilot:
        await pilot.press("enter")
        await until(
            pilot, lambda: isinstance(app.screen, JobScreen) and says(app, "Baselines taken")
        )
        await pilot.press("down", "down", "enter")
        await until(pilot, lambda: app.screen.job.baseline == first and not app.screen.busy)
        assert len(app.screen.baseline.samples) == 60


async def test_a_due_reading_is_offered_when_the_job_is_opened_and_the_head_goes_back(
    data_folder, sim
):
    open_job = audited(data_folder, sim)
    choose_all_eased(open_job)
    carry_out(open_job)
    restart(open_job)
    open_job.close()
    assert after_is_due(open_job)
    assert 0 < same_point_s(open_job) <= 900
    app = application(data_folder)
    async with app.run_test(size=WIDE, notifications=True) as pilot:
        await until(pilot, lambda: says(app, "drawing bench", "visit 1", "76 %"))
        await pilot.press("enter")
        await until(
            pilot,
            lambda: (
                isinstance(app.screen, JobScreen)
                and says(app, "the after reading is due", "Read now")
            ),
        )
        await pilot.press("right_square_bracket", "right_square_bracket")
        assert "% of the RAM" in row(app.screen.query_one(Ledger), 4)
        await pilot.click("#head")
        await until(pilot, lambda: isinstance(app.screen, BenchScreen))


def test_the_after_reading_begins_as_long_after_the_start_as_the_baseline(data_folder, sim):
    open_job = begin_job(data_folder, sim, data_folder.profile("hull-drafting"))
    sim.clock.restart()
    sim.clock.wait(40.0)
    before = read_baseline(open_job, seconds=60)
    make_audit(open_job)
    choose_all_eased(open_job)
    carry_out(open_job)
    assert same_point_s(open_job) == 0.0, "the same start: nothing to wait for"
    restart(open_job)
    after = read_after(open_job, seconds=60)
    assert after.conditions.uptime_s == pytest.approx(before.conditions.uptime_s, abs=1)
    assert not after_is_due(open_job)
    cpu, memory = bridges_of(open_job)
    for one in (cpu, memory):
        assert one.baseline + sum(s.measured or 0.0 for s in one.steps) + one.rest == pytest.approx(
            one.after
        )
    assert known(after.times["start: services"]) > 0
    assert known(after.times["login"]) < known(before.times["login"])


async def test_a_quick_look_keeps_nothing(data_folder, sim):
    sim.close()
    app = application(data_folder)
    async with app.run_test(size=LOW, notifications=True) as pilot:
        await pilot.press("l")
        await until(
            pilot,
            lambda: (
                isinstance(app.screen, QuickLookScreen)
                and says(app, "Services, the heaviest", "programs and services", "RAM")
            ),
        )
        await pilot.press("escape")
        await until(pilot, lambda: isinstance(app.screen, BenchScreen))
        assert data_folder.casebook.jobs() == []


async def test_charts_are_saved_from_a_station(data_folder, sim, tmp_path, monkeypatch):
    monkeypatch.setenv("HOME", str(tmp_path))
    audited(data_folder, sim)
    app = application(data_folder)
    async with app.run_test(size=WIDE, notifications=True) as pilot:
        await pilot.press("enter")
        await until(pilot, lambda: ready(app))
        await pilot.press("c")
        await until(pilot, lambda: says(app, "◆ RAM and CPU as strips"))
        await pilot.press("enter")
        await until(pilot, lambda: says(app, "Written:"))
        await pilot.click("#bridge")
        await pilot.click("#pdf")
        await until(pilot, lambda: says(app, "A bridge needs changes"))
        assert [p.name for p in tmp_path.iterdir() if p.suffix in {".svg", ".pdf"}] == [
            "drawing-bench-1-strips.svg"
        ]


@pytest.mark.parametrize("size", [(80, 24), (240, 70)])
@pytest.mark.parametrize("name", ["海図の写し" * 8, "حاسوب الرسم " * 6, "x" * 200, "a\u0301" * 30])
async def test_any_name_leaves_the_columns_where_they_are(data_folder, sim, size, name):
    open_job = audited(data_folder, sim)
    found = open_job.job.audit
    strange = tuple(
        msgspec.structs.replace(f, title=name) if n % 2 else f for n, f in enumerate(found.findings)
    )
    open_job.keep(audit=msgspec.structs.replace(found, findings=strange), computer_name=name)
    app = application(data_folder)
    async with app.run_test(size=size, notifications=True) as pilot:
        await until(pilot, lambda: says(app, "visit 1"))
        await pilot.press("enter")
        await until(pilot, lambda: ready(app))
        lines = [Text(line).cell_len for line in shown(app)]
        assert set(lines) == {size[0]}
        column = {
            Text(line[: line.index(" ease ")]).cell_len
            for line in shown(app)
            if "→" in line and " ease " in line
        }
        assert len(column) == 1
        await pilot.press("enter")
        await pilot.resize_terminal(100, 30)
        await until(pilot, lambda: {Text(line).cell_len for line in shown(app)} == {100})


# -- widgets ---------------------------------------------------------------------------------------


@pytest.mark.parametrize("width", [78, 140, 238])
async def test_a_bridge_sums_and_shows_what_was_projected(width):
    stage = Stage(Ledger())
    async with stage.run_test(size=(80, 24)):
        steps = tuple(
            BridgeStep(title=f"change {n}", projected=-2.0, measured=-1.0 - n / 10)
            for n in range(12)
        )
        told = BridgeStep(title="plan", projected=None, measured=None)
        one = Bridge(quantity="cpu_pct", baseline=40.0, steps=(*steps, told), rest=-1.4, after=20.0)
        rows = [r.plain for r in bridge_rows((one, one), Palette(stage), width)]
        assert all(len(r.rstrip()) <= width for r in rows)
        assert "4 smaller ones" in "\n".join(rows)
        assert any("┄" in r and "−2.1 (−2.0)" in r for r in rows) or any(
            "−2.1 (−2.0)" in r for r in rows
        )
        assert any("┄" in r for r in rows), (
            "where less was measured than projected, the ghost shows"
        )
        assert rows[-1] == " not told apart: plan"
        assert bridge_rows((), Palette(stage), width) == []


async def test_small_strips_are_equally_wide_whatever_is_in_them(data_folder, sim):
    open_job = audited(data_folder, sim)
    stage = Stage(Ledger())
    async with stage.run_test(size=(80, 24)):
        palette = Palette(stage)
        lines = [glance_line(g, palette, 12).plain for g in (None, open_job.job.last)]
        assert len(lines[0]) == len(lines[1]) == 2 * 24
        assert lines[1].count("┃") == 2
    last = open_job.job.last
    assert isinstance(last, Glance)
    assert sum(last.ram.values()) == pytest.approx(1.0)
    assert set(last.cpu) <= set(PIECE_KINDS)


async def test_a_live_reading_draws_only_what_changed_and_says_how_sure_it_is():
    live = Live("Reading")
    stage = Stage(live)
    read = reading([20.0 + n % 7 for n in range(200)])
    async with stage.run_test(size=(100, 40)) as pilot:
        live.begin(10.0)
        window = Window(read.conditions, None)
        live.follow(window)
        trace = live.query_one(Trace)
        painted = []
        refresh = trace.refresh
        trace.refresh = lambda *regions, **options: (
            painted.append(regions),
            refresh(*regions, **options),
        )
        for number, sample in enumerate(read.samples, 1):
            window.add(sample)
            live.note(sample, number, 300)
            live.draw()
        await pilot.pause()
        narrow = [len(regions) == 1 and regions[0].width <= 2 for regions in painted]
        assert sum(narrow) > 0.9 * len(narrow)
        text = "\n".join(strip.text for strip in stage.screen._compositor.render_strips())
        assert "200 of at most 300 samples, 1 min 40 s left at most" in text
        assert "sure enough" in text
        assert "├" in text
