"""The planner: the least plan against exhaustive search, the frontier, plan files, computers."""

import itertools
import json
import math
import random
import time
from statistics import NormalDist

import msgspec
import pytest

from helpers import bench, lumtak, profile
from lumtak.computers.simulated.computer import SimulatedComputer
from lumtak.core.audit import Finding, Weight
from lumtak.core.catalogue import Role
from lumtak.core.planner import Choice, Problem, frontier, least, planned
from lumtak.core.planner.disruption import LEVEL_WORDS, level_of, needs_a_yes
from lumtak.core.planner.planned import reaches_of
from lumtak.core.planner.solver import cost_of, disruption_of, needs_of
from lumtak.core.profile import Scale, load_profile
from lumtak.core.units import GIB, MIB
from lumtak.errors import BadFileError
from lumtak.formats.plans import FileChange, Loads, PlanFile, load_plan, to_json
from lumtak.work.audit import make_audit
from lumtak.work.intake import begin_job
from lumtak.work.plan import carry_out
from lumtak.work.planner import (
    choose_from_file,
    choose_places,
    judge_file,
    look_and_plan,
    plan_job,
    problem_for,
)
from lumtak.work.reading import read_baseline
from lumtak.work.sampling import take_reading


def choice(number, **fields):
    given = {
        "address": f"services:s{number:03}", "title": f"S {number}", "before": "auto",
        "value": "off", "cpu_pct": 1.0, "cpu_se_pct": 0.1, "ram_bytes": 50.0 * MIB,
        "ram_se_bytes": MIB, "level": "convenience", "disruption": 3, "shows": "now",
        "asks": False, "projected": True,
    }  # fmt: skip
    return Choice(**{**given, **fields})


def problem(choices, **fields):
    given = {
        "cpu_pct": 20.0, "cpu_se_pct": 0.2, "ram_bytes": 5.0 * GIB, "ram_se_bytes": 5.0 * MIB,
        "ram_total_bytes": 8 * GIB, "cpu_ceiling_pct": 10.0, "ram_ceiling_pct": 50.0,
        "scale": Scale(),
    }  # fmt: skip
    return Problem(choices=tuple(choices), **{**given, **fields})


def dice_problem(dice, count):
    """A small problem as chance makes it."""
    choices = []
    for number in range(count):
        others = dice.sample(range(number), min(number, dice.choice([0, 0, 0, 1, 2])))
        choices.append(
            choice(
                number,
                cpu_pct=dice.choice([0.0, 1.0, dice.uniform(0, 4)]),
                cpu_se_pct=dice.uniform(0, 0.8),
                ram_bytes=dice.choice([0, 50, dice.uniform(0, 400)]) * MIB,
                ram_se_bytes=dice.uniform(0, 30) * MIB,
                disruption=dice.choice([0, 0, 1, 1, 3, 3, 8]),
                shows=dice.choice(["now", "now", "login", "restart"]),
                asks=dice.random() < 0.1,
                with_it=tuple(sorted(others)),
                factor=dice.choice([1.0] * 12 + [0.7, 1.4]),
            )
        )
    return problem(
        choices,
        cpu_pct=dice.uniform(8, 18),
        cpu_se_pct=dice.uniform(0, 0.5),
        ram_bytes=dice.uniform(3.8, 5.0) * GIB,
        refill_bytes=dice.choice([0.0, 100.0 * MIB]),
    )


def every_plan(given):
    """All plans that keep together what belongs together, with at most one power plan."""
    for size in range(len(given.free) + 1):
        for chosen in itertools.combinations(given.free, size):
            mine = set(chosen)
            bound = all(mine.issuperset(given.choices[i].with_it) for i in chosen)
            if bound and sum(given.choices[i].factor != 1.0 for i in chosen) <= 1:
                yield chosen


def rank(given, chosen):
    order = sorted(range(len(given.choices)), key=lambda i: given.choices[i].address)
    return sum(order.index(i) for i in chosen)


@pytest.mark.long
@pytest.mark.parametrize("goal", ["cpu", "ram", "both"])
def test_the_least_plan_is_the_one_that_exhaustive_search_finds(goal):
    dice = random.Random(len(goal))
    reached = 0
    for _ in range(700):
        given = dice_problem(dice, dice.randint(1, 7))
        confidence = dice.choice([0.5, 0.9, 0.99])
        found = least(given, goal, confidence=confidence)
        assert found.proven
        holding = []
        for chosen in every_plan(given):
            factor = math.prod(given.choices[i].factor for i in chosen)
            if all(n.holds(chosen) for n in needs_of(given, goal, confidence, factor)):
                holding.append((round(cost_of(given, chosen), 9), rank(given, chosen), chosen))
        assert (found.chosen is None) == (not holding), given
        if holding:
            reached += 1
            best = min(holding)
            assert round(cost_of(given, found.chosen), 9) == best[0], (given, found, best)
            assert set(found.chosen) <= set(given.free)
    assert reached > 100


def test_a_plan_is_as_sure_as_it_says():
    """Sums of savings are normal as far as chance is concerned: the quantile is in the need."""
    given = problem([choice(n, cpu_pct=1.1, cpu_se_pct=0.5) for n in range(30)], cpu_se_pct=0.0)
    sure, even = (least(given, "cpu", confidence=c).chosen for c in (0.95, 0.5))
    assert len(even) == 10
    assert len(sure) > len(even)
    spread = 0.5 * math.sqrt(len(sure))
    left = 20.0 - 1.1 * len(sure)
    assert left + NormalDist().inv_cdf(0.95) * spread <= 10.0 + 1e-9
    one_less = len(sure) - 1
    assert 20 - 1.1 * one_less + NormalDist().inv_cdf(0.95) * 0.5 * math.sqrt(one_less) > 10.0


def test_a_restart_counts_once_and_ties_end_at_the_first_addresses():
    many = [choice(n, cpu_pct=4.0, cpu_se_pct=0.0, disruption=1, shows="restart") for n in range(6)]
    given = problem(many, cpu_se_pct=0.0)
    found = least(given, "cpu")
    assert found.chosen == (0, 1, 2)
    assert disruption_of(given, found.chosen) == 3 + given.scale.restart


@pytest.mark.long
def test_large_problems_give_the_best_found_in_time_with_how_far_from_the_best():
    dice = random.Random(5)
    made = []
    for number in range(2000):
        deps = dice.sample(range(number), min(number, dice.choice([0, 1, 1, 2])))
        made.append(
            choice(
                number, cpu_pct=dice.uniform(0, 0.2), cpu_se_pct=dice.uniform(0, 0.02),
                disruption=dice.choice([0, 1, 3, 8]), with_it=tuple(deps),
            )
        )  # fmt: skip
    given = problem(made, cpu_pct=60.0)
    found = least(given, "cpu", budget_s=2.0, clock=time.perf_counter)
    assert found.chosen is not None or found.why
    assert found.proven or (0 <= found.gap <= 1 and found.why)
    if found.chosen is not None:
        mine = set(found.chosen)
        assert all(mine.issuperset(given.choices[i].with_it) for i in mine)
    late = least(given, "cpu", budget_s=0.0, clock=time.perf_counter)
    assert late.proven or late.why


def test_the_frontier_goes_from_nothing_to_everything_and_each_point_is_the_best():
    dice = random.Random(11)
    for _ in range(60):
        given = dice_problem(dice, dice.randint(1, 6))
        points = frontier(given)
        costs = [p.disruption for p in points]
        assert costs == sorted(costs)
        falls = [p.shortfall for p in points[: len(points) - 1]]
        assert falls == sorted(falls, reverse=True)
        plans = [(disruption_of(given, c), *shortfalls(given, c)) for c in every_plan(given)]
        for point in points[:-1] or points:
            best = min(larger for d, larger, _ in plans if d <= point.disruption)
            assert point.shortfall == pytest.approx(best, abs=2e-5), (given, point)
        for before, after in itertools.pairwise(points):
            assert set(after.gone) == set(before.chosen) - set(after.chosen)


def shortfalls(given, chosen):
    mine = [given.choices[i] for i in chosen]
    cpu = math.prod(c.factor for c in mine) * (given.cpu_pct - sum(c.cpu_pct for c in mine))
    left = given.ram_left(sum(c.ram_bytes for c in mine))
    both = (
        max(0.0, cpu / given.cpu_ceiling_pct - 1),
        max(0.0, left / given.ram_ceiling_bytes - 1),
    )
    return max(both), sum(both)


def test_what_cannot_be_reached_says_by_how_much_and_which_answers_would_close_it():
    mild = choice(0, cpu_pct=2.0)
    asked = choice(1, cpu_pct=9.0, asks=True, title="Copies")
    alone = planned(problem([mild, asked]), "cpu")
    assert (alone.reached, alone.closes, alone.answers) == (False, True, ("Copies",))
    assert [c.address for c in alone.changes] == ["services:s000"]
    assert alone.reaches[0].misses == pytest.approx(8.0)
    assert "8.0 points over its ceiling of 10.0 %" in alone.headline
    nothing = planned(problem([]), "both")
    assert nothing.headline.startswith("Nothing that may be changed comes nearer: CPU 20.0 %")
    kept = planned(problem([mild], cpu_pct=5.0), "cpu")
    assert (kept.changes, kept.reached) == ((), True)
    # A plan with another clock multiplies; where nothing tells by how much it is named.
    plan = choice(2, cpu_pct=0.0, ram_bytes=0.0, disruption=0, factor=0.4, title="Plan")
    assert [c.title for c in planned(problem([mild, plan]), "cpu").changes] == ["Plan"]
    unknown = msgspec.structs.replace(plan, factor=1.0, projected=False)
    assert planned(problem([mild, unknown]), "cpu").unprojected == ("Plan (auto → off)",)


def test_a_solver_that_fails_and_circles_end_in_the_best_that_is_known(monkeypatch):
    round_about = [choice(n, with_it=((n + 1) % 4,), cpu_pct=3.0) for n in range(4)]
    given = problem([*round_about, choice(4, cpu_pct=11.0, disruption=8)])
    assert least(given, "cpu").chosen == (4,)
    assert least(problem(round_about), "cpu").chosen == (0, 1, 2, 3)

    def fails(_):
        raise RuntimeError("no")

    monkeypatch.setattr("highspy.Highs.run", fails)
    found = planned(given, "cpu")
    assert (found.reached, found.proven, found.gap) == (True, False, 1.0)
    assert "the solver failed (no)" in found.headline
    assert [p.chosen for p in frontier(given)] == [()]


def finding(**fields):
    given = {
        "area": "services", "key": "x", "title": "X", "stance": "ease", "reason": "r.",
        "grade": "expected", "role": "", "value": "auto", "proposal": "off",
        "weight": Weight(cpu_pct=1.0, ram_bytes=1.0, source="x"),
    }  # fmt: skip
    return Finding(**{**given, **fields})


def role(**fields):
    return Role(name="r", title="R", does="d.", stops="s", **fields)


def test_disruption_follows_from_knowledge_the_value_and_the_owner():
    for wanted, found, of in (
        ("copies", finding(), role(loses="sync")),
        ("slower", finding(proposal="demand"), role()),
        ("nothing", finding(answer="not needed"), role(ask="?")),
        ("nothing", finding(), role(missed="nothing")),
        ("nothing", finding(area="power", key="mains"), None),
        ("convenience", finding(area="effects"), None),
        ("convenience", finding(), role()),
        ("function", finding(), role(ask="needed?")),
        ("function", finding(), role(serves="others")),
        ("function", finding(), None),
    ):
        assert level_of(found, of) == wanted
    for days, wanted in ((3, "function"), (60, "convenience"), (400, "nothing")):
        assert level_of(finding(area="apps"), role(), float(days)) == wanted
    assert level_of(finding(), role(loses="backup"), 400.0) == "copies"
    assert needs_a_yes(finding(), "copies")
    assert needs_a_yes(finding(stance="ask"), "function")
    assert not needs_a_yes(finding(answer="not needed"), "copies")
    assert len(set(LEVEL_WORDS.values())) == 5
    text = profile_text() + "\n[disruption]\nslower = 4\n"
    assert load_profile(text, "p.toml").disruption == Scale(slower=4)
    with pytest.raises(BadFileError, match=r"disruption\.copies.* is -1"):
        load_profile(profile_text() + "\n[disruption]\ncopies = -1\n", "p.toml")


def profile_text():
    return 'format = 1\nname = "p"\ntitle = "P"\n[ceilings]\ncpu_pct = 10\nram_pct = 50\n'


# -- whole computers -------------------------------------------------------------------------------


@pytest.fixture(scope="module")
def planned_home(tmp_path_factory):
    home = tmp_path_factory.mktemp("planned")
    bench(home / "simulated").close()
    return home


def plan_json(home, *words):
    done = lumtak("plan", *words, "--json", home=home)
    assert done.returncode == 0, done.stderr
    return json.loads(done.stdout)


@pytest.mark.long
def test_the_drawing_bench_needs_six_changes_for_its_memory_and_each_of_them(
    planned_home, tmp_path
):
    file = tmp_path / "plan.json"
    found = plan_json(planned_home, "sim:drawing-bench", "--reach", "ram", "--save", str(file))
    assert (found["reached"], found["proven"]) == (True, True)
    assert 0 < len(found["changes"]) <= 6
    assert set(found["changes"][0]) >= {
        "address", "from", "to", "disruption", "cpu_pct", "ram_bytes",
    }  # fmt: skip
    left, ceiling = found["reaches"]["ram_bytes"], 4 * GIB
    assert left <= ceiling
    for change in found["changes"]:
        assert left + change["ram_bytes"] > ceiling - 0.03 * GIB, "each is necessary"
    assert load_plan(file).changes[0].address == found["changes"][0]["address"]
    cpu = plan_json(planned_home, "sim:drawing-bench", "--reach", "cpu")
    assert not cpu["reached"]
    assert cpu["misses"]["cpu_pct"] > 1
    assert cpu["answers"]
    steps = plan_json(planned_home, "sim:drawing-bench", "--frontier")["points"]
    assert [p["disruption"] for p in steps] == sorted(p["disruption"] for p in steps)
    assert (steps[0]["changes"], len(steps) > 5) == ([], True)
    said = lumtak("plan", "sim:drawing-bench", "--frontier", home=planned_home).stdout
    assert said.splitlines()[0].split()[:3] == ["disruption", "changes", "CPU"]


def test_other_computers_say_what_is_missing_or_plan_nothing(home):
    loft = plan_json(home, "sim:sail-loft", "--seconds", "120")
    assert not loft["reached"]
    assert "GiB of RAM would" in loft["lasting"]
    room = plan_json(home, "sim:chart-room", "--seconds", "120")
    assert (room["changes"], room["reached"]) == ([], True)
    said = lumtak("plan", "sim:chart-room", "--seconds", "60", home=home).stdout
    assert "By the profile chart-reading, sure to 90 %:" in said
    assert "Nothing has to be changed" in said
    assert lumtak("plan", "sim:nobody", home=home).returncode == 2


@pytest.fixture
def open_job(data_folder, sim):
    made = begin_job(data_folder, sim, data_folder.profile("hull-drafting"))
    read_baseline(made, seconds=120)
    make_audit(made)
    return made


def test_what_copies_the_owners_data_is_never_planned_and_a_plan_is_carried_out(open_job):
    given = problem_for(open_job)
    copies = [c for c in given.choices if c.level == "copies"]
    assert copies
    assert all(c.asks for c in copies)
    found = plan_job(open_job, "ram")
    assert not {c.address for c in copies} & {c.address for c in found.changes}
    choose_places(open_job, given, found.chosen)
    assert {str(c.ref) for c in open_job.job.chosen} == {c.address for c in found.changes}
    assert all(o.result == "done" for o in carry_out(open_job))
    make_audit(open_job)
    again = plan_job(open_job, "ram")
    assert (again.reached, again.changes) == (True, ()), "what stands already counts"
    half = {r.quantity: r.half for r in reaches_of(given, tuple(range(len(given.choices))))}
    assert half["cpu"] > 0


HOSTILE = (
    ("services:net-keeper", "off", "is guarded"),
    ("services:nothing-like-it", "off", "no such setting"),
    ("nonsense", "off", ""),
    ("apps:chat-horn", "sideways\x1b[31m", "cannot be"),
    ("services:paper-spool", "off", "nothing to change"),
    ("apps:sail-sync", "off", "Only the owner can know"),
)


def file_of(*changes):
    return PlanFile(
        computer="sim:other", identity="other", profile="p", reach="both", confidence=0.9,
        reached=True, proven=True,
        changes=tuple(FileChange(address=a, from_="auto", to=v) for a, v in changes),
        reaches=Loads(cpu_pct=0.0, ram_bytes=0.0), misses=Loads(cpu_pct=0.0, ram_bytes=0.0),
    )  # fmt: skip


def test_a_plans_file_is_input_like_any_other(open_job, tmp_path):
    job = open_job.job
    bad = file_of(*((a, v) for a, v, _ in HOSTILE), ("apps:chat-horn", "off"))
    judged = judge_file(bad, job.facts, job.audit)
    for one, (address, _, why) in zip(judged, HOSTILE, strict=False):
        assert one.why_not, address
        assert why in one.why_not, (address, one.why_not)
        assert "\x1b" not in one.why_not
    assert judged[-1].why_not == ""
    assert "it is on here, and was auto there" in judged[-1].note
    choose_from_file(open_job, bad)
    assert [str(c.ref) for c in open_job.job.chosen] == ["apps:chat-horn"]
    path = tmp_path / "plan.json"
    path.write_bytes(to_json(bad))
    assert load_plan(path) == bad
    many = file_of(*((f"services:s{n}", "off") for n in range(20_000)))
    assert all(one.why_not for one in judge_file(many, job.facts, job.audit))
    for data, words in (
        (b"{", "cut short"),
        (b'{"format": 9}', "newer Lumtak"),
        (b'{"format": 1, "changes": 3}', "no plan"),
        (to_json(bad).replace(b'"confidence": 0.9', b'"confidence": 1e300'), "larger than"),
    ):
        path.write_bytes(data)
        with pytest.raises(BadFileError, match=words):
            load_plan(path)


def test_a_job_is_planned_from_the_command_line(home, tmp_path):
    bench(home / "simulated").close()
    for words in (
        ("start", "sim:drawing-bench", "--profile", "hull-drafting"),
        ("baseline", "drawing-bench-1", "--seconds", "120"),
        ("audit", "drawing-bench-1"),
    ):
        assert lumtak("job", *words, home=home).returncode == 0
    file = tmp_path / "p.json"
    planned_now = lumtak("plan", "drawing-bench-1", "--reach", "ram", "--save", file, home=home)
    assert "reach it, the least disruption that does" in planned_now.stdout
    chosen = lumtak("job", "choose", "drawing-bench-1", "--planned", "--reach", "ram", home=home)
    count = len(load_plan(file).changes)
    assert f"{count} chosen, projected" in chosen.stdout
    checked = lumtak("plan", "drawing-bench-1", "--check", file, home=home).stdout
    assert checked.endswith(f"{count} of {count} changes can be chosen here.\n")
    elsewhere = lumtak("plan", "sim:chart-room", "--seconds", "30", "--check", file, home=home)
    assert "can be chosen here" in elsewhere.stdout
    both = lumtak("plan", "drawing-bench-1", "--profile", "play", home=home)
    assert (both.returncode, "A job has its profile" in both.stderr) == (2, True)


def test_a_computer_without_weights_is_planned_as_far_as_it_can_be(data_folder, tmp_path):
    computer = SimulatedComputer("tide-logger", tmp_path / "sim", seed=3)
    reading = take_reading(computer, seconds=60, watched=None)
    silent = msgspec.structs.replace(reading, consumers=())
    _, given = look_and_plan(data_folder, computer.about.facts(), profile(), silent)
    found = planned(given, "cpu")
    assert not found.reached
    assert frontier(given)[0].chosen == ()
