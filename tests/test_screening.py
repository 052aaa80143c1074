"""Screenings: several changes in the same blocks, and chance counted for all of them together."""

import itertools
import json
import os
import re
import threading

import msgspec
import numpy as np
import pytest

from helpers import CATALOGUE, facts, item, lumtak, profile
from lumtak.core.audit import audit
from lumtak.core.setting import State, parse_change, parse_ref
from lumtak.core.trial import Shown, design
from lumtak.core.trial.effects import could_see, seen
from lumtak.core.trial.inference import block_spread
from lumtak.core.trial.record import Made, ScreenedBlock, Screening, Trial, Tried
from lumtak.core.trial.screening import drawn_order, screening
from lumtak.core.trial.words import apart_words, in_words, ranked, screened_rows
from lumtak.errors import UsageError
from lumtak.report.tongue import tongue_of
from lumtak.report.trial_chart import chart_of_trial
from lumtak.work.changes import changes_of
from lumtak.work.data_folder import DataFolder
from lumtak.work.trial.screening import ScreeningRun
from lumtak.work.trial.under_way import finish_interrupted
from lumtak.work.trials_kept import keep_trial, kept_trials, next_id
from noise import autoregression

EFFECTS = ("living-backdrop", "animations", "shadows", "thumbnails", "smooth-fonts")
CHANGES = tuple(f"effects:{key}=off" for key in EFFECTS)
SHAPES = [(2, 8), (3, 16), (3, 24), (4, 12), (7, 12), (7, 48)]


@pytest.mark.parametrize(("changes", "blocks"), SHAPES)
def test_every_change_is_on_in_half_of_the_blocks_and_balanced_against_all_others(changes, blocks):
    layout = screening(changes, blocks, seed=4)
    table = np.where(np.array(layout.rows), 1, -1).reshape(layout.rounds, -1, changes)
    for one in table:
        assert (one.sum(axis=0) == 0).all()
        assert (one.T @ one == layout.round_blocks * np.eye(changes)).all()
    assert layout.freedom(1) >= 4
    assert layout.rounds * layout.spends == pytest.approx(0.05)
    assert layout.length_s == blocks * 45
    if layout.rounds > 1:  # folded over: everything the other way round
        mirrored = {tuple(-row) for row in table[0]}
        assert {tuple(row) for row in table[1]} == mirrored
        both = table[:2].reshape(-1, changes)
        for i, j in itertools.combinations(range(changes), 2):
            assert (both.T @ (both[:, i] * both[:, j]) == 0).all(), "free of what two do together"


@pytest.mark.parametrize(
    ("changes", "blocks"), [(1, 12), (8, 12), (4, 8), (3, 20), (3, 60), (7, 16), (2, 0)]
)
def test_what_leaves_nothing_to_judge_by_is_refused(changes, blocks):
    with pytest.raises(UsageError, match="not possible"):
        screening(changes, blocks, seed=1)


def test_a_seed_draws_the_same_layout_for_ever():
    assert drawn_order("3", 6) == [1, 5, 4, 0, 2, 3]
    assert screening(5, seed=9) == screening(5, seed=9)
    assert len({screening(5, seed=n).rows for n in range(30)}) == 30


def means_of(layout, load, truths):
    """Block means of a load of one sample a second, to which the changes add."""
    parts = [load[i * 45 + 15 : (i + 1) * 45].mean() for i in range(len(layout.rows))]
    return list(np.array(parts) + np.array(layout.rows) @ truths)


def whole(means, layout, threshold=0.0):
    for rounds in range(1, layout.rounds + 1):
        found = seen(means[: rounds * layout.round_blocks], layout, threshold)
        if found.ends:
            return found
    raise AssertionError("it does not end")


@pytest.mark.parametrize("first", [0.0, -6.0])
def test_of_screenings_in_which_the_others_do_nothing_at_most_one_in_twenty_alarms(first):
    rng = np.random.default_rng(8)
    loads = autoregression(rng, 300, 24 * 45, 0.9)
    alarms = shown = 0
    for seed, load in enumerate(loads):
        layout = screening(6, seed=seed)
        found = whole(means_of(layout, load, np.array([first, 0, 0, 0, 0, 0])), layout)
        alarms += any(e.finding != "not known" for e in found.effects[1:])
        shown += found.effects[0].finding == "lower"
    assert alarms <= 300 * 0.05 + 2 * (300 * 0.05 * 0.95) ** 0.5
    assert shown >= (290 if first else 0)


def test_it_ends_early_where_all_is_known_and_says_what_is_confounded():
    rng = np.random.default_rng(5)
    layout = screening(4, seed=2)
    (load,) = autoregression(rng, 1, 24 * 45, 0.3)
    assert seen([1.0] * 11, layout, 1.0) is None
    found = whole(means_of(layout, load, np.array([-9.0, -5.0, 0.0, 0.0])), layout, 2.0)
    assert (found.rounds, found.ends) == (1, True)
    assert [e.finding for e in found.effects] == ["lower", "lower", "no effect", "no effect"]
    assert found.effects[0].difference == pytest.approx(-9, abs=0.5)
    assert "a third" in layout.confounded(1)
    assert "in no figure" in layout.confounded(2)
    assert "Every combination" in screening(3, 8, seed=1).confounded(1)
    nothing = whole([5.0] * 24, layout, 0.0)
    assert all(e.ci95 == pytest.approx((0, 0), abs=1e-6) for e in nothing.effects)
    (long,) = autoregression(rng, 1, 2000, 0.3)
    half = could_see(block_spread(list(long), 30), layout)
    (again,) = autoregression(rng, 1, 24 * 45, 0.3)
    unknown = whole(means_of(layout, again, np.zeros(4)), layout)
    low, high = unknown.effects[0].ci95
    assert 0.5 < half / ((high - low) / 2) < 2


# -- on a computer ---------------------------------------------------------------------------------


@pytest.fixture
def bench(data_folder):
    return data_folder.computer("sim:drawing-bench", seed=7)


def run_of(data_folder, computer, changes=CHANGES, measure="ram", **given):
    layout = given.pop("layout", None) or screening(
        len(changes), given.pop("blocks", 24), given.pop("block_s", 30.0), seed=3
    )
    wanted = [parse_change(c) for c in changes]
    judged_by = data_folder.profile("hull-drafting")
    return ScreeningRun(data_folder, computer, judged_by, wanted, measure, layout, **given)


def as_it_was(data_folder, computer):
    stood = {c: computer.settings.read(parse_ref(c.partition("=")[0])).value for c in CHANGES}
    open_ones = [e for e in data_folder.journal.entries() if e.is_open]
    marks = list((data_folder.home / "trials").glob("*/under-way.json"))
    assert (set(stood.values()) <= {"on", None}, open_ones, marks) == (True, [], []), stood
    return True


def test_the_effects_of_the_drawing_bench_are_ranked_as_its_model_has_them(data_folder, bench):
    """190, 36, 20, 22 and 4 MiB: what is closer than can be told apart may change places."""
    blocks = []
    layout = screening(5, 48, 60.0, seed=3)
    tight = msgspec.structs.replace(data_folder.profile("hull-drafting"))
    run = ScreeningRun(data_folder, bench, tight, [parse_change(c) for c in CHANGES], "ram", layout)
    done = run.run(lambda t: blocks.append(len(t.blocks)))
    assert done.state == "done"
    assert blocks == list(range(blocks[-1] + 1))
    truth = dict(zip(EFFECTS, (190, 20, 36, 22, 4), strict=True))
    sizes = {
        t.ref.key: -e.difference / 2**20 for t, e in zip(done.tried, done.seen.effects, strict=True)
    }
    order = [done.tried[place].ref.key for place in ranked(done)]
    assert order[0] == "living-backdrop"
    apart = done.seen.apart / 2**20
    for one, other in itertools.combinations(EFFECTS, 2):
        if abs(truth[one] - truth[other]) > apart:
            assert (sizes[one] > sizes[other]) == (truth[one] > truth[other]), (one, other, sizes)
    assert {e.trial for e in data_folder.journal.entries()} == {done.id}
    assert [e.trial for e in changes_of(data_folder, bench).entries] == [done.id], "one line"
    assert as_it_was(data_folder, bench)
    found = audit_of(data_folder, bench).find(parse_ref("effects:living-backdrop"))
    assert (found.grade, "A screening of" in found.tried) == ("expected", True)


def audit_of(data_folder, computer):
    about = computer.about.facts()
    trials = kept_trials(data_folder.home, computer.identity)
    judged_by = data_folder.profile("hull-drafting")
    return audit(about, judged_by, data_folder.catalogue, None, {}, trials)


@pytest.mark.parametrize(
    ("changes", "why"),
    [
        (("power:mains=full", "effects:shadows=off"), "takes a trial of its own"),
        (("effects:glass-panels=off", "effects:shadows=off"), "new login"),
        (("services:net-keeper=off", "effects:shadows=off"), "guarded|restart|not tried"),
        (("effects:shadows=off", "effects:shadows=on"), "named twice|on already"),
        (("effects:shadows=off", "effects:nowhere=off"), "nowhere"),
        (("services:paper-spool=off", "services:plot-queue=off"), "stops with it|guarded"),
    ],
)
def test_what_is_not_screened_is_refused_with_the_reason(data_folder, bench, changes, why):
    with pytest.raises(UsageError, match=why):
        run_of(data_folder, bench, changes, blocks=12).run()
    assert as_it_was(data_folder, bench)


def test_whoever_changes_one_of_them_ends_it_in_a_conflict(data_folder, bench):
    ref = parse_ref("memory:swappiness")

    def meddle(trial):
        if len(trial.blocks) == 4:
            bench.settings.write(ref, State(value="77"))

    changes = ("memory:swappiness=10", *CHANGES[:3])
    done = run_of(data_folder, bench, changes).run(meddle)
    assert (done.state, "77" in done.note) == ("conflict", True)
    assert bench.settings.read(ref).value == "77", "what they set is theirs"
    (left,) = [e for e in data_folder.journal.entries() if e.is_open]
    assert left.ref == ref, "all others are as they were"


def test_a_change_that_is_refused_ends_it_where_it_began(data_folder):
    computer = data_folder.computer("sim:drawing-bench?fault=refuse:effects:shadows")
    done = run_of(data_folder, computer).run()
    assert (done.state, bool(done.note)) == ("failed", True)
    assert as_it_was(data_folder, computer)


def test_while_somebody_holds_it_all_is_as_it_was_and_then_it_goes_on(data_folder, bench):
    hold, stop, seen_held = threading.Event(), threading.Event(), []

    def watch(trial):
        if len(trial.blocks) == 3 and not seen_held:
            hold.set()
        if "holds it" in trial.note:
            seen_held.append(as_it_held(data_folder))
            hold.clear()

    done = run_of(data_folder, bench, blocks=12).run(watch, stop, hold)
    assert (seen_held, done.state, len(done.values)) == ([True], "done", 12)
    assert as_it_was(data_folder, bench)


def as_it_held(data_folder):
    return not [e for e in data_folder.journal.entries() if e.is_open]


@pytest.mark.parametrize("after", [1, 2, 5, 11])
def test_killed_at_any_block_all_settings_are_restored_at_the_next_start(home, after):
    child = os.fork()
    if child == 0:  # as a kill: nothing is cleaned up
        folder = DataFolder(home)
        computer = folder.computer("sim:drawing-bench", seed=7)
        run_of(folder, computer).run(lambda t: os._exit(9) if len(t.blocks) >= after else None)
        os._exit(0)
    assert os.waitstatus_to_exitcode(os.waitpid(child, 0)[1]) == 9
    folder = DataFolder(home)
    computer = folder.computer("sim:drawing-bench")
    stood = [e for e in folder.journal.entries() if e.is_open]
    shown_there = [e for e in changes_of(folder, computer).entries if e.is_open]
    assert len(shown_there) == len(stood), "none of them is hidden behind another"
    told = finish_interrupted(folder)
    assert len(told) == len(stood)
    assert as_it_was(folder, folder.computer("sim:drawing-bench"))
    assert [t.state for t in kept_trials(home, "sim-drawing-bench")] == ["interrupted"]
    folder.close()


def test_from_the_command_line(home):
    run = ("trial", "sim:drawing-bench", *CHANGES, "--measure", "ram", "--seed", "3")
    said = lumtak(*run, home=home)
    assert said.returncode == 0, said
    assert re.search(r"effects:living-backdrop +off +\S+ MiB .*less with it", said.stdout)
    assert "may as well stand the other way round" in said.stdout
    assert "to prove it here, try that change alone" in said.stdout
    assert "All is as it was before." in said.stdout
    listed = lumtak("trial", "sim:drawing-bench", "--list", home=home).stdout
    assert listed.count("effects:") == 5
    data = json.loads(lumtak("trial", "sim:drawing-bench", "--list", "--json", home=home).stdout)
    (kept,) = data["trials"]
    assert (kept["kind"], len(kept["seen"]["effects"])) == ("screening", 5)
    drawn = lumtak("trial", "sim:drawing-bench", "--chart", home / "s.svg", home=home)
    assert drawn.returncode == 0, drawn
    assert "Living backdrop" in (home / "s.svg").read_text()
    for wrong in (("--keep",), ("--blocks", "16")):
        assert lumtak(*run, *wrong, home=home).returncode == 2


# -- what it means ---------------------------------------------------------------------------------


def made(differences, finding="lower", **fields):
    """A screening that found the same of all."""
    layout = screening(len(differences), 12, seed=1)
    rng = np.random.default_rng(1)
    (load,) = autoregression(rng, 1, 12 * 45, 0.1)
    found = seen(means_of(layout, load, np.array(differences)), layout, 1.0)
    system = facts().system
    given = {
        "id": 1, "identity": "c", "address": "local", "user": "u", "measure": "cpu",
        "threshold": 1.0, "layout": layout, "begun_at": "2026-03-02T10:00:00", "state": "done",
        "tried": tuple(
            Tried(ref=parse_ref(f"effects:e{i}"), title=f"Effect {i}", off="on", on="off")
            for i in range(len(differences))
        ),
        "seen": found, "power_source": system.power_source, "kernel": system.kernel,
        "power_plan": system.power_plan if isinstance(system.power_plan, str) else "",
    }  # fmt: skip
    return Screening(**{**given, **fields})


def test_what_a_screening_found_is_expected_and_nothing_more():
    screened = made([-6.0, 0.0, -3.0, 5.0])
    assert ranked(screened)[:2] == [0, 3]
    assert "less with it" in screened_rows(screened)[0][-1]
    words = in_words(screened)
    assert words.startswith("A screening of 2026-03-02 of 4 changes in 12 blocks: CPU load, 95 %")
    assert words.index("Effect 0") < words.index("Effect 3") < words.index("Effect 2")
    assert "points" in apart_words(screened)
    items = [item("effects", f"e{i}", value="on") for i in range(4)]

    def found(*trials, number=0):
        whole_audit = audit(facts(*items), profile(), CATALOGUE, None, {}, trials)
        return whole_audit.find(parse_ref(f"effects:e{number}"))

    assert found().grade != "expected"
    assert (found(screened).grade, found(screened).weight.source) == (
        "expected", "screening of 2026-03-02",
    )  # fmt: skip
    assert found(screened, number=3).grade == found(number=3).grade, "more: one alone must say so"
    shared = set(Made.__struct_fields__)
    alone = Trial(
        **{field: getattr(screened, field) for field in shared},
        ref=parse_ref("effects:e0"), title="Effect 0", off="on", on="off", design=design(seed=1),
        shown=Shown(pairs=12, difference=-0.1, ci95=(-0.4, 0.2), finding="no effect", ends=True),
    )  # fmt: skip
    assert found(screened, alone).grade == "no effect", "one alone says more"
    stopped = msgspec.structs.replace(screened, state="stopped", note="somebody stopped it")
    assert found(stopped).grade == found().grade
    assert "came to nothing (stopped: somebody stopped it)" in in_words(stopped)
    elsewhere = msgspec.structs.replace(screened, kernel="another")
    assert found(elsewhere).grade == found().grade


def test_its_chart_names_every_change(data_folder):
    tongue = tongue_of(data_folder.settings)
    drawn = chart_of_trial(made([-6.0, 0.0, -3.0]), tongue).file("svg").decode()
    assert all(f"Effect {i}" in drawn for i in range(3))
    assert chart_of_trial(made([-6.0, 0.0], seen=None), tongue) is None


@pytest.mark.parametrize(
    ("old", "new"),
    [
        (b'"tried":[{', b'"tried":[],"was":[{'),
        (b'"round_blocks":12', b'"round_blocks":0'),
        (b'"round_blocks":12', b'"round_blocks":5'),
        (b'"effects":[{', b'"effects":[],"was":[{'),
        (b'"rows":[[', b'"rows":[],"was":[['),
        (b'"place":3', b'"place":300'),
        (b'"rows":[[', b'"rows":[[true,'),
    ],
)
def test_a_file_that_contradicts_itself_is_left_out(home, old, new):
    screened = made([-6.0, 0.0, -3.0])
    blocks = tuple(
        ScreenedBlock(place=i, at="", ended="complete", values={"cpu": 1.0}) for i in range(12)
    )
    keep_trial(home, msgspec.structs.replace(screened, blocks=blocks))
    (path,) = (home / "trials/c").iterdir()
    assert len(kept_trials(home, "c")) == 1
    written = path.read_bytes()
    assert old in written
    path.write_bytes(written.replace(old, new, 1))
    assert kept_trials(home, "c") == []
    assert next_id(home, "c") == 2, "it is not written over"
