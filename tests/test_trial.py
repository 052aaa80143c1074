"""Trials: the order is drawn beforehand, and chance is counted, not modelled."""

import itertools
import json
import math
import os
import re
import shutil
import threading
from datetime import timedelta

import msgspec
import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from helpers import CATALOGUE, facts, item, lumtak, profile, reading
from lumtak.core.audit import audit
from lumtak.core.profile import PowerWishes
from lumtak.core.setting import State, parse_change, parse_ref
from lumtak.core.trial import Shown, could_show, design, shown
from lumtak.core.trial.design import ERROR, FEWEST, MOST, looks_of, tosses
from lumtak.core.trial.inference import (
    block_spread,
    could_show_by,
    interval,
    subset_means,
)
from lumtak.core.trial.record import MEASURED, Trial, measure_for, title_of, why_missing
from lumtak.core.trial.words import in_words
from lumtak.errors import UsageError
from lumtak.journal import apply_changes, put_back
from lumtak.report.tongue import Tongue
from lumtak.work.audit import make_audit, toggle
from lumtak.work.changes import changes_of
from lumtak.work.data_folder import DataFolder
from lumtak.work.intake import begin_job
from lumtak.work.plan import carry_out
from lumtak.work.proof import read_after
from lumtak.work.reading import read_baseline
from lumtak.work.sampling import take_reading
from lumtak.work.sheet import sheet_now
from lumtak.work.storage import judged
from lumtak.work.trial import experiment as work_trial
from lumtak.work.trial.switchback import Switchback
from lumtak.work.trial.under_way import alone, finish_interrupted, note_begun
from lumtak.work.trials_kept import keep_trial, kept_trials
from noise import autoregression

DIFFERENCES = st.lists(
    st.floats(-100, 100, allow_nan=False).map(lambda x: round(x, 3)), min_size=1, max_size=9
)


def gone_through(differences, planned, threshold=0.0):
    """As a trial goes: looked at after each pair, until it ends."""
    for count in range(1, len(differences) + 1):
        found = shown(differences[:count], planned, threshold)
        if found.ends:
            return found
    raise AssertionError("it does not end")


@pytest.mark.parametrize("pairs", [6, 7, 8, 9])
def test_of_all_orders_that_could_be_drawn_at_most_one_in_twenty_alarms(pairs):
    """Every one of them, of a load on which the change does nothing: no simulation, no model."""
    planned = design(2 * pairs if pairs != 7 else 14, seed=3)
    for seed in range(3):
        sizes = np.abs(np.random.default_rng(seed).standard_t(2, pairs)) + 0.01
        alarms = 0
        for signs in itertools.product((-1, 1), repeat=pairs):
            low, high = gone_through(list(sizes * signs), planned).ci95
            alarms += not low <= 0 <= high
        assert 0 < alarms <= ERROR * 2**pairs


@pytest.mark.parametrize("blocks", range(FEWEST, MOST + 1, 2))
def test_the_error_is_spent_by_the_looks_and_no_look_is_in_vain(blocks):
    looks = looks_of(blocks // 2)
    assert sum(look.spends for look in looks) == pytest.approx(ERROR)
    assert looks[-1].pairs == blocks // 2
    assert [look.pairs for look in looks] == sorted({look.pairs for look in looks})
    assert all(look.spends >= 2 / 2**look.pairs for look in looks), "it could end the trial"


@given(DIFFERENCES, st.floats(-50, 50), st.floats(0.05, 0.9))
def test_the_interval_goes_where_the_differences_go(differences, by, error):
    low, high = interval(differences, error)
    moved = interval([d + by for d in differences], error)
    assert (low <= high) or math.isinf(low)
    if math.isinf(low):
        assert moved == (low, high), "so few cannot be that sure"
        return
    assert moved == pytest.approx((low + by, high + by))
    turned = interval([-d for d in differences], error)
    assert turned == pytest.approx((-high, -low))
    assert low <= sum(differences) / len(differences) <= high
    wider = interval(differences, error / 2)
    assert wider[0] <= low
    assert wider[1] >= high


@given(DIFFERENCES)
def test_the_means_of_all_subsets(differences):
    every = [
        sum(part) / size
        for size in range(1, len(differences) + 1)
        for part in itertools.combinations(differences, size)
    ]
    assert list(subset_means(differences)) == pytest.approx(sorted(every))


def test_pairs_are_balanced_and_their_order_is_drawn_from_the_seed():
    planned = design(seed=7)
    assert (planned.pairs, planned.length_s) == (12, 24 * 45)
    states = planned.states()
    assert all({states[2 * i], states[2 * i + 1]} == {True, False} for i in range(12))
    assert design(seed=7) == planned
    orders = {design(seed=n).on_first for n in range(40)}
    assert len(orders) > 35
    share = np.mean([first for n in range(200) for first in design(seed=n).on_first])
    assert 0.45 < share < 0.55


@pytest.mark.parametrize(
    "wrong", [{"blocks": 10}, {"blocks": 13}, {"blocks": 42}, {"block_s": 1.0}, {"washout_s": -1.0}]
)
def test_what_could_never_show_anything_is_refused_beforehand(wrong):
    with pytest.raises(UsageError, match="not possible"):
        design(**{"seed": 1, **wrong})


def test_an_effect_ends_a_trial_early_and_no_effect_needs_all_of_the_interval():
    planned = design(seed=1)
    large = [-3.0 + 0.1 * (n % 3) for n in range(12)]
    assert not shown(large[:7], planned, 1.0).ends, "never before the design allows it"
    assert shown([], planned, 1.0).ci95 is None
    found = gone_through(large, planned, 1.0)
    assert (found.pairs, found.finding) == (8, "lower")
    tiny = [0.02 * (-1) ** n for n in range(12)]
    assert gone_through(tiny, planned, 1.0).finding == "no effect"
    wild = [3.0 * (-1) ** n for n in range(12)]
    assert gone_through(wild, planned, 1.0).finding == "not known"
    assert gone_through(wild, planned, 1.0).pairs == 12


def test_it_says_beforehand_what_it_can_show():
    rng = np.random.default_rng(2)
    planned = design(seed=1)
    (long,) = autoregression(rng, 1, 3000, 0.8)
    smallest = could_show(block_spread(list(long), 30), planned)
    halves, by_pairs = [], []
    for n in range(40):
        (load,) = autoregression(rng, 1, 24 * 45, 0.8)
        order = design(seed=n)
        means = [load[i * 45 + 15 : (i + 1) * 45].mean() for i in range(24)]
        pairs = zip(means[::2], means[1::2], strict=True)
        signed = [a - b if f else b - a for (a, b), f in zip(pairs, order.on_first, strict=True)]
        low, high = gone_through(signed, order).ci95
        halves.append((high - low) / 2)
        by_pairs.append(could_show_by(signed[:4], order))
    assert 0.5 < smallest / np.median(halves) < 1.5
    assert 0.5 < np.median(by_pairs) / np.median(halves) < 1.5
    a_minute = could_show(block_spread(list(long[:60]), 30), planned)
    assert 0.3 < a_minute / np.median(halves) < 3
    assert block_spread([1.0] * 5, 30) is None
    assert could_show_by([1.0, 2.0], planned) is None


# -- on a computer ---------------------------------------------------------------------------------


@pytest.fixture
def logger(data_folder):
    """The computer whose power plan is stuck on saving."""
    return data_folder.computer("sim:tide-logger", seed=7)


def switchback(data_folder, computer, change, measure="cpu", **given):
    planned = given.pop("planned", None) or design(given.pop("blocks", 24), seed=3)
    profile = given.pop("profile", None) or data_folder.profile("tide-logging")
    return Switchback(
        data_folder, computer, profile, parse_change(change), measure, planned, **given
    )


PLAN = "power:battery=balanced"


def as_it_was(data_folder, computer, value="saving", ref="power:battery"):
    """Nothing of a trial stands any more."""
    open_ones = [e for e in data_folder.journal.entries() if e.is_open]
    marks = list((data_folder.home / "trials").glob("*/under-way.json"))
    now = computer.settings.read(parse_ref(ref)).value
    assert (now, open_ones, marks) == (value, [], [])
    return True


def test_the_power_plan_starts_programs_quicker_and_works_no_less(data_folder, logger):
    quicker = switchback(data_folder, logger, PLAN, "program_start").run()
    assert (quicker.state, quicker.shown.finding) == ("done", "lower")
    assert quicker.shown.pairs < quicker.design.pairs, "it ended early"
    assert 100 * math.expm1(quicker.shown.difference) == pytest.approx(-51, abs=4)
    work = switchback(data_folder, logger, PLAN, "work").run()
    assert work.shown.finding == "no effect"
    flips = data_folder.journal.entries()
    assert {e.trial for e in flips} == {1, 2}
    assert {e.number for e in flips} == {1}, "at most one of them stands at a time"
    assert as_it_was(data_folder, logger)
    facts = logger.about.facts()
    found = judged(data_folder, facts, data_folder.profile("tide-logging"))
    plan = found.find(parse_ref("power:battery"))
    assert (plan.grade, plan.stance) == ("proven here", "set")
    assert "start of a small program" in plan.tried
    logger.settings.write(parse_ref("memory:swappiness"), State(value="10"))
    other = msgspec.structs.replace(facts.system, kernel="another")
    later = judged(data_folder, msgspec.structs.replace(facts, system=other), quicker_profile())
    assert later.find(parse_ref("power:battery")).grade != "proven here", "conditions are others"


def quicker_profile():
    return profile(power=PowerWishes(mains="balanced", battery="balanced"))


@pytest.mark.parametrize(
    ("name", "change", "measure", "why"),
    [
        ("tool-crib", "storage:thumbnails=aside", "cpu", "owner's data"),
        ("tide-logger", "power:battery=saving", "cpu", "saving already"),
        ("tide-logger", "power:battery=turbo", "cpu", "it can be"),
        ("tide-logger", "services:nowhere=off", "cpu", "nowhere"),
        ("tide-logger", "apps:chat-horn=off", "cpu", "new login"),
        ("drawing-bench", "services:crash-courier=off", "cpu", "restart|guarded|tried"),
        ("tide-logger", PLAN, "pressure", "cannot be judged here|not tried"),
    ],
)
def test_what_is_not_tried_is_refused_with_the_reason(data_folder, name, change, measure, why):
    computer = data_folder.computer(f"sim:{name}")
    if (name, measure) == ("tide-logger", "pressure"):
        pytest.importorskip("numpy")
        blank = msgspec.structs.replace(reading(), samples=reading().samples)
        assert why_missing(blank, "large_program") != ""
        return
    try:
        trial = switchback(data_folder, computer, change, measure, blocks=12)
        trial = trial.run()
        assert name == "drawing-bench", "everything else is refused"
    except UsageError as error:
        assert re.search(why, str(error)), error
    assert [e for e in data_folder.journal.entries() if e.is_open] == []


def test_a_setting_that_a_change_holds_and_a_second_trial_are_refused(data_folder, logger):
    facts = logger.about.facts()
    apply_changes(data_folder.journal, logger, facts, [parse_change(PLAN)])
    with pytest.raises(UsageError, match=r"held by a change|already"):
        switchback(data_folder, logger, "power:battery=full").run()
    put_back(data_folder.journal, logger)
    with (
        alone(data_folder, logger.identity),
        pytest.raises(UsageError, match="Another trial"),
    ):
        switchback(data_folder, logger, PLAN).run()
    assert as_it_was(data_folder, logger)


def test_whoever_changes_the_value_meanwhile_ends_the_trial_in_a_conflict(data_folder, logger):
    ref = parse_ref("power:battery")

    def meddle(trial):
        if len(trial.blocks) == 4:
            logger.settings.write(ref, State(value="full"))

    done = switchback(data_folder, logger, PLAN).run(meddle)
    assert done.state == "conflict"
    assert logger.settings.read(ref).value == "full", "what they set is theirs"


def test_a_change_that_is_refused_ends_it_where_it_began(data_folder):
    computer = data_folder.computer("sim:tide-logger?fault=refuse:power:battery")
    done = switchback(data_folder, computer, PLAN).run()
    assert done.state == "failed"
    assert done.note
    assert as_it_was(data_folder, computer)


def test_it_can_be_stopped_and_left_on(data_folder, logger):
    stop = threading.Event()
    done = switchback(data_folder, logger, PLAN).run(
        lambda t: stop.set() if len(t.blocks) == 6 else None, stop
    )
    assert (done.state, len(done.blocks)) == ("stopped", 6)
    assert as_it_was(data_folder, logger)
    kept = switchback(data_folder, logger, PLAN, "program_start", keep=held()).run()
    assert (kept.state, kept.kept_on) == ("done", True)
    assert logger.settings.read(parse_ref("power:battery")).value == "balanced"
    (entry,) = [e for e in data_folder.journal.entries() if e.is_open]
    assert entry.trial == kept.id
    put_back(data_folder.journal, logger)
    with pytest.raises(RuntimeError, match="in the middle"):
        switchback(data_folder, logger, PLAN).run(broken)
    assert logger.settings.read(parse_ref("power:battery")).value == "saving"


def held():
    event = threading.Event()
    event.set()
    return event


def broken(trial):
    if len(trial.blocks) == 3 or len(trial.blocks) == 4:
        raise RuntimeError("in the middle")


def test_a_pair_that_is_disturbed_is_made_again_in_its_order(data_folder, logger, monkeypatch):
    disturbed = iter([False, False, False, True, *[False] * 60])

    def cut(*args, **given):
        found = take_reading(*args, **given)
        if given.get("stop") is not None and next(disturbed):
            return msgspec.structs.replace(found, ended="power")
        return found

    monkeypatch.setattr(work_trial, "take_reading", cut)
    said = []
    tried = switchback(data_folder, logger, PLAN, "program_start")
    done = tried.run(lambda t: said.append(t.note))
    assert (done.state, done.note) == ("done", "")
    (pause,) = [note for note in dict.fromkeys(said) if note]
    assert "pauses for a minute: a block was cut when it changed between mains" in pause
    again = [b for b in done.blocks if b.pair == 1]
    assert [b.ended for b in again].count("power") == 1
    assert [b.on for b in again[-2:]] == [done.design.on_first[1], not done.design.on_first[1]]
    assert len(done.differences) == done.shown.pairs
    monkeypatch.setattr(
        work_trial,
        "take_reading",
        lambda *a, **g: (
            msgspec.structs.replace(take_reading(*a, **g), ended="returned")
            if g.get("stop") is not None
            else take_reading(*a, **g)
        ),
    )
    never = switchback(data_folder, logger, PLAN, blocks=12).run()
    assert (never.state, "the last was cut when somebody came back" in never.note) == (
        "disturbed", True,
    )  # fmt: skip
    assert as_it_was(data_folder, logger)


@pytest.mark.parametrize(
    ("field", "value", "why"),
    [
        ("power_source", "mains", "made on mains, and the trial began on battery"),
        ("power_plan", "full", "made with the power plan full, and the trial began with saving"),
    ],
)
def test_a_block_under_other_conditions_than_the_first_does_not_count(
    data_folder, logger, monkeypatch, field, value, why
):
    """Also where they changed between two blocks, so that no reading was cut."""
    calls = itertools.count()

    def elsewhere(*args, **given):
        found = take_reading(*args, **given)
        if next(calls) in {3, 4}:
            there = msgspec.structs.replace(found.conditions, **{field: value})
            return msgspec.structs.replace(found, conditions=there)
        return found

    monkeypatch.setattr(work_trial, "take_reading", elsewhere)
    said, stood = [], []

    def note(trial):
        said.append(trial.note)
        if trial.note:
            stood.extend(e for e in data_folder.journal.entries() if e.is_open)

    done = switchback(data_folder, logger, "memory:swappiness=10", blocks=12).run(note)
    assert (done.state, len(done.differences)) == ("done", 6)
    assert any(why in one for one in said), said
    assert stood == [], "while it pauses all is as it was before"
    assert why in {b.why for b in done.blocks}
    assert as_it_was(data_folder, logger)


def test_sleep_between_a_switch_and_its_block_spoils_that_block(data_folder, logger, monkeypatch):
    clock = type(logger.clock)
    wall, wait, washouts = clock.wall, clock.wait, []

    def asleep(self, seconds, stop=None):
        washouts.extend([seconds] if seconds == 15.0 else [])
        wait(self, seconds, stop)

    def later(self):
        return wall(self) + timedelta(hours=1 if len(washouts) >= 3 else 0)

    monkeypatch.setattr(clock, "wait", asleep)
    monkeypatch.setattr(clock, "wall", later)
    done = switchback(data_folder, logger, "memory:swappiness=10", blocks=12).run()
    assert (done.state, len(done.differences)) == ("done", 6)
    assert [b.why for b in done.blocks if b.why] == ["cut by sleep"]
    assert as_it_was(data_folder, logger)


def test_stopped_in_the_first_look_nothing_was_begun(data_folder, logger, monkeypatch):
    stop = threading.Event()

    def stopped(*args, **given):
        stop.set()
        return take_reading(*args, **{**given, "stop": None})

    monkeypatch.setattr(work_trial, "take_reading", stopped)
    with pytest.raises(UsageError, match="stopped before it began"):
        switchback(data_folder, logger, PLAN).run(stop=stop)
    assert (data_folder.journal.entries(), kept_trials(data_folder.home, logger.identity)) == (
        [], [],
    )  # fmt: skip


@pytest.mark.parametrize("after", [1, 2, 3, 5, 8])
def test_killed_at_any_block_the_starting_state_is_restored_at_the_next_start(home, after):
    child = os.fork()
    if child == 0:  # as a kill: nothing is cleaned up
        folder = DataFolder(home)
        computer = folder.computer("sim:tide-logger", seed=7)
        trial = switchback(folder, computer, PLAN)
        trial.run(lambda t: os._exit(9) if len(t.blocks) >= after else None)
        os._exit(0)
    assert os.waitstatus_to_exitcode(os.waitpid(child, 0)[1]) == 9
    data_folder = DataFolder(home)
    stood = [e for e in data_folder.journal.entries() if e.is_open]
    told = finish_interrupted(data_folder)
    assert len(told) == len(stood)
    assert all("is saving again, as before it" in line for line in told)
    assert as_it_was(data_folder, data_folder.computer("sim:tide-logger"))
    assert [t.state for t in kept_trials(home, "sim-tide-logger")] == ["interrupted"]
    assert finish_interrupted(data_folder) == [], "once"
    data_folder.close()


def test_all_flips_of_a_trial_are_one_line_of_put_back(data_folder, logger):
    first = switchback(data_folder, logger, PLAN, "program_start", keep=held()).run()
    flips = [e for e in data_folder.journal.entries() if e.trial == first.id]
    assert len(flips) > 5
    shown_there = changes_of(data_folder, logger)
    (line,) = shown_there.entries
    assert (line.id, line.is_open) == (flips[-1].id, True)
    put_back(data_folder.journal, logger)
    switchback(data_folder, logger, PLAN, "program_start").run()
    assert [e.trial for e in changes_of(data_folder, logger).entries] == [1, 2]
    shutil.rmtree(data_folder.home / "trials")
    assert switchback(data_folder, logger, PLAN, "program_start").run().id == 3, "flips have 1, 2"


def test_what_a_trial_was_to_leave_is_not_restored_with_a_later_one(home):
    folder = DataFolder(home)
    computer = folder.computer("sim:tide-logger", seed=7)
    switchback(folder, computer, PLAN, "program_start", keep=held()).run()
    marker = made("off", "cpu", "lower", -1.0, id=2, identity=computer.identity)
    note_begun(folder, msgspec.structs.replace(marker, address="sim:tide-logger"))
    assert finish_interrupted(folder) == []
    assert computer.settings.read(parse_ref("power:battery")).value == "balanced"
    folder.close()


def test_what_somebody_changed_after_a_kill_is_left_to_them(home):
    child = os.fork()
    if child == 0:
        folder = DataFolder(home)
        computer = folder.computer("sim:tide-logger", seed=7)

        def until_on(trial):
            if computer.settings.read(parse_ref("power:battery")).value == "balanced":
                os._exit(9)

        switchback(folder, computer, PLAN).run(until_on)
        os._exit(0)
    assert os.waitstatus_to_exitcode(os.waitpid(child, 0)[1]) == 9
    folder = DataFolder(home)
    computer = folder.computer("sim:tide-logger")
    computer.settings.write(parse_ref("power:battery"), State(value="full"))
    computer.close()
    folder.close()
    said = lumtak("jobs", home=home)
    assert "was left alone" in said.stderr
    assert "full" in said.stderr
    assert lumtak("jobs", home=home).stderr == "", "it is told once, and stays in the journal"
    assert "conflict" in lumtak("journal", "sim:tide-logger", home=home).stdout


def test_from_the_command_line(home):
    run = ("trial", "sim:tide-logger", PLAN, "--measure", "program_start", "--seed", "3")
    said = lumtak(*run, home=home)
    assert said.returncode == 0, said
    assert "start of a small program, %: less with it." in said.stdout
    assert "It is saving again, as before." in said.stdout
    listed = lumtak("trial", "sim:tide-logger", "--list", home=home).stdout
    assert "power:battery" in listed
    assert "less with it" in listed
    data = json.loads(lumtak("trial", "sim:tide-logger", "--list", "--json", home=home).stdout)
    assert data["trials"][0]["shown"]["finding"] == "lower"
    assert lumtak("trial", "sim:chart-room", home=home).returncode == 2
    for form in ("svg", "pdf"):
        path = home / f"t.{form}"
        drawn = lumtak("trial", "sim:tide-logger", "--chart", path, home=home)
        assert drawn.returncode == 0, drawn
    assert "95 % interval" in (home / "t.svg").read_text()
    assert lumtak("trial", "sim:tide-logger", "--chart", home / "t.x", home=home).returncode == 2
    assert lumtak("trial", "sim:tide-logger", PLAN, "--blocks", "7", home=home).returncode == 2


# -- what it means for the audit -------------------------------------------------------------------


def made(change, measure, finding, difference, ref="effects:shadows", **fields):
    half = abs(difference) / 4
    found = Shown(
        pairs=8, difference=difference, ci95=(difference - half, difference + half),
        finding=finding, ends=True,
    )  # fmt: skip
    given = {
        "id": 1, "identity": "c", "address": "local", "user": "u", "ref": parse_ref(ref),
        "title": "Shadows", "off": "on", "on": change, "measure": measure, "threshold": 1.0,
        "design": design(seed=1), "begun_at": "2026-03-02T10:00:00", "state": "done",
        "shown": found,
    }  # fmt: skip
    return Trial(**{**given, **fields})


def with_made(*trials):
    system = facts().system
    plan = system.power_plan
    here = {
        "power_source": system.power_source,
        "power_plan": plan if isinstance(plan, str) else "",
        "kernel": system.kernel,
    }
    known = [msgspec.structs.replace(t, **here) for t in trials]
    shadows = item("effects", "shadows", value="on")
    (found,) = audit(facts(shadows), profile(), CATALOGUE, reading(), {}, known).findings
    return found


def test_what_was_proven_here_takes_the_place_of_what_is_expected():
    plain = with_made()
    assert plain.grade != "proven here"
    assert plain.proposal == "off"
    proven = with_made(made("off", "cpu", "lower", -2.0))
    assert (proven.grade, proven.weight.cpu_pct) == ("proven here", 2.0)
    assert proven.weight.source == "trial of 2026-03-02"
    assert proven.can_choose
    nothing = with_made(made("off", "cpu", "no effect", 0.1))
    assert (nothing.stance, nothing.grade, nothing.can_choose) == ("keep", "no effect", False)
    more = with_made(made("off", "cpu", "higher", 2.0), made("off", "ram", "lower", -1e8))
    assert (more.grade, more.can_choose) == ("harmful", False)
    for other in (
        made("on", "cpu", "lower", -2.0),
        made("off", "cpu", "lower", -2.0, state="stopped"),
        made("off", "cpu", "lower", -2.0, off="off"),
        made("off", "cpu", "not known", -0.5),
    ):
        assert with_made(other).grade == plain.grade, other


@pytest.mark.parametrize(
    ("measure", "difference", "english", "german"),
    [
        ("cpu", -2.3, "the processor is busy 2.3 % less of the time", "2,3 % der Zeit weniger"),
        ("ram", -2.0 * 2**28, "with it 0.5 GiB less", "Damit ist 0,5 GiB weniger"),
        ("program_start", -0.5, "it alone takes 39 % off", "Das allein nimmt 39 % von"),
        ("work", -0.5, "", ""),
    ],
)
def test_the_owner_reads_what_a_trial_proved_of_a_change_that_stands(
    data_folder, logger, measure, difference, english, german
):
    open_job = begin_job(data_folder, logger, data_folder.profile("tide-logging"))
    read_baseline(open_job, seconds=60)
    make_audit(open_job)
    given = {"ref": "power:battery", "identity": logger.identity, "title": "Plan on battery"}
    keep_trial(data_folder.home, made("balanced", measure, "lower", difference, **given))

    def sheet(language):
        parts = sheet_now(open_job, Tongue({"en": "en_US", "de": "de_DE"}[language])).parts
        lines = " ".join(line.words for part in parts for line in part.lines)
        return lines.replace("\u00a0", " ").replace("\u202f", " ")

    assert "drawn by lot" not in sheet("en"), "nothing of it stands"
    toggle(open_job, parse_ref("power:battery"))
    carry_out(open_job)
    read_after(open_job, seconds=60)
    if english:
        assert "“Plan on battery” was switched 16 times in an order drawn by lot" in sheet("en")
        assert english in sheet("en"), sheet("en")
        assert german in sheet("de"), sheet("de")
    else:
        assert "drawn by lot" not in sheet("en"), "no owner knows what that is"


@pytest.mark.long
def test_what_does_nothing_is_hardly_ever_taken_for_something(data_folder):
    """Readiness to swap, where nothing is ever swapped."""
    room = data_folder.computer("sim:chart-room", seed=11)
    findings = []
    for seed in range(20):
        planned = design(12, 15.0, 5.0, seed=seed)
        given = {"planned": planned, "profile": data_folder.profile("chart-reading")}
        done = switchback(data_folder, room, "memory:swappiness=30", **given).run()
        assert done.state == "done"
        findings.append(done.shown.finding)
    assert sum(f in {"lower", "higher"} for f in findings) <= 2, findings
    assert as_it_was(data_folder, room, value="60", ref="memory:swappiness")


@pytest.mark.parametrize("measure", ["cpu", "work", "ram", "program_start"])
def test_what_is_told_of_a_trial_has_its_unit_and_the_day(measure):
    unit = {"cpu": "points", "work": "core-seconds/s", "ram": "MiB", "program_start": "%"}[measure]
    size = {"cpu": -2.0, "work": -0.2, "ram": -5e8, "program_start": -0.5}[measure]
    trial = made("off", measure, "lower", size)
    words = in_words(trial)
    assert words.startswith("A trial of 2026-03-02 of 8 pairs: ")
    assert "less with it" in words
    assert words.count(unit) >= 3, words
    stopped = in_words(msgspec.structs.replace(trial, state="stopped", note="somebody stopped it"))
    assert "came to nothing (stopped: somebody stopped it)" in stopped
    assert title_of(measure) in {title_of(m) for m in MEASURED}
    assert measure_for("heat") == "work"


def test_a_seed_draws_the_same_order_on_every_computer_and_for_ever():
    """An order that was kept with a trial can be drawn again, years later."""
    assert design(12, seed=0).on_first == (True, False, False, True, False, True)
    assert tosses(5, 8) == tosses(5, 20)[:8]


@pytest.mark.parametrize(
    ("field", "value"),
    [("power_source", "battery"), ("power_plan", "full"), ("kernel", "7.0"), ("off", "auto")],
)
def test_a_trial_counts_only_under_its_own_conditions(field, value):
    here = {"power_source": "mains", "power_plan": "balanced", "kernel": "6.1", "off": "on"}
    trial = made("off", "cpu", "lower", -2.0, **here)
    now = ("mains", "balanced", "6.1", "on")
    assert trial.holds(*now)
    assert not msgspec.structs.replace(trial, **{field: value}).holds(*now)
    assert not msgspec.structs.replace(trial, state="interrupted").holds(*now)
