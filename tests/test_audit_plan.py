"""Judging items, and plans of changes."""

import msgspec
import pytest
from hypothesis import given
from hypothesis import strategies as st

from helpers import CATALOGUE, facts, item, profile, reading
from lumtak.core.audit import audit, eased_sum, headline
from lumtak.core.audit.headline import NOTHING_TO_GAIN
from lumtak.core.facts import Fixed, Gap, Setting, Trigger
from lumtak.core.needs import Graphs
from lumtak.core.plan import check_changes, guards, make_plan
from lumtak.core.profile import Never
from lumtak.core.reading import ConsumerLoad
from lumtak.core.record import NotMeasured
from lumtak.core.sample import SYSTEM, is_system
from lumtak.core.setting import SettingRef, parse_change, parse_ref
from lumtak.core.units import MIB
from lumtak.errors import UnknownNameError, UsageError


def judged(*items, who=None, costs=(), weighed=True):
    return audit(
        facts(*items), who or profile(), CATALOGUE, reading(costs=costs) if weighed else None
    )


def stance(*items, **options):
    found = judged(*items, **options)
    return {f.key: f.stance for f in found.findings}


@pytest.mark.parametrize("counts", [True, False])
def test_what_a_timer_starts_again_and_again_is_eased_at_its_timer(counts):
    poll = item(
        "services",
        "poll",
        value="demand",
        running=False,
        triggers=(Trigger(kind="timer", by="poll.timer"),),
    )
    timer = item("services", "poll.timer", value="auto" if counts else "manual", running=counts)
    echo = item(
        "services",
        "echo",
        value="demand",
        running=False,
        triggers=(Trigger(kind="wants", by="poll"),),
    )
    found = judged(poll, timer, echo, costs=[("services:poll", 9.4, 0)])
    of = {f.key: f for f in found.findings}
    if not counts:
        assert (of["poll"].stance, of["poll.timer"].stance) == ("keep", "keep")
        return
    assert of["echo"].stance == "keep", (
        "only what the timer starts itself is taken for started again and again"
    )
    assert (of["poll"].stance, of["poll"].proposal, of["poll.timer"].brings) == (
        "ask",
        None,
        ("services:poll",),
    )
    assert "change poll.timer" in of["poll"].fixed
    assert found.with_brought([parse_ref("services:poll.timer")]) == [
        parse_ref("services:poll.timer"),
        parse_ref("services:poll"),
    ]
    plan = make_plan(facts(poll, timer), found, [parse_change("services:poll.timer=manual")])
    assert plan.steps[0].saves_cpu_pct == pytest.approx(9.4)
    assert plan.steps[0].projected == "60 s reading: not seen running, with poll"


def test_each_rule():
    got = stance(
        item("services", "screen", role="graphics"),
        item("services", "plotter", role="plotting", needs=("spool",)),
        item("services", "spool", role="fax"),
        item("services", "index", role="indexing"),
        item("services", "mystery"),
        item("services", "copies", role="backup"),
        item("services", "resting", role="indexing", value="demand", running=False),
        item("effects", "thumbnails", value=None),
        item("effects", "shadows", value=None),
        item("effects", "glass", value="off"),
        item("power", "mains", value="full", setting=Setting(values=("balanced", "full"))),
        item("memory", "swappiness", value="100", setting=Setting(lowest=0, highest=200)),
        item("memory", "swap_mib", value="2048", setting=Setting(lowest=0, highest=9999)),
    )
    assert got == {
        "screen": "guarded", "plotter": "keep", "spool": "keep", "index": "ease", "mystery": "ask",
        "copies": "guarded",
        "resting": "keep", "thumbnails": "keep", "shadows": "ease", "glass": "keep",
        "mains": "set", "swappiness": "set",
        "swap_mib": "keep",
    }  # fmt: skip


def test_an_item_that_the_profile_never_touches_by_its_address():
    who = profile(never=Never(items=("apps:mystery",)))
    assert stance(item("apps", "mystery"), who=who) == {"mystery": "guarded"}


@pytest.mark.parametrize(
    ("values", "role", "proposal"),
    [
        (("auto", "demand", "off"), "indexing", "demand"),
        (("auto", "off"), "indexing", "off"),
        (("auto", "manual", "off"), "tide-data", "manual"),
    ],
)
def test_the_gentlest_value_that_the_setting_has_is_proposed(values, role, proposal):
    (finding,) = judged(item("services", "x", role=role, setting=Setting(values=values))).findings
    assert (finding.proposal, finding.can_choose) == (proposal, True)


def test_what_cannot_be_changed_says_what_would_be_needed():
    (finding,) = judged(item("services", "x", role="fax", setting=Fixed(needed="root"))).findings
    assert (finding.stance, finding.can_choose) == ("ease", False)
    assert "root" in finding.why_not()


def test_a_plan_that_the_computer_does_not_have_is_not_proposed():
    (finding,) = judged(
        item("power", "mains", value="full", setting=Setting(values=("full", "saving")))
    ).findings
    assert (finding.stance, finding.proposal) == ("keep", None)


def test_weights_come_from_the_reading_or_are_said_to_be_missing():
    items = (
        item("services", "a", role="fax"),
        item("services", "b", role="fax"),
        item("effects", "shadows"),
        item("memory", "swappiness", value="1"),
    )
    found = judged(*items, costs=[("services:a", 3.0, 100)])
    by_key = {f.key: f for f in found.findings}
    assert (by_key["a"].weight.cpu_pct, by_key["a"].weight.ram_bytes, by_key["a"].grade) == (
        3.0,
        100 * MIB,
        "expected",
    )
    assert (by_key["b"].weight.cpu_pct, by_key["b"].grade) == (0.0, "no effect")
    assert isinstance(by_key["shadows"].weight.cpu_pct, NotMeasured)
    assert by_key["swappiness"].grade == "depends"
    bare = judged(*items, weighed=False)
    assert all(isinstance(f.weight.cpu_pct, NotMeasured) for f in bare.findings)
    assert bare.headline.startswith("Nothing is measured yet")


def test_the_heaviest_stands_first_in_its_area_and_in_the_headline():
    found = judged(
        item("apps", "light"),
        item("apps", "heavy"),
        item("services", "s"),
        costs=[("apps:heavy", 9.0, 500), ("apps:light", 1.0, 5)],
    )
    assert [f.key for f in found.findings] == ["s", "heavy", "light"]
    assert "heavy" in found.headline
    quiet = judged(item("services", "idle", role="fax")).find(parse_ref("services:idle")).weight
    assert (quiet.cpu_pct, quiet.ram_bytes) == (0.0, 0.0)


@pytest.mark.parametrize(
    ("disk", "value", "running", "expected"),
    [
        ("spinning", "auto", True, ("keep", None)),
        ("spinning", "on", False, ("keep", None)),
        ("spinning", "off", False, ("set", "auto")),
        ("solid", "auto", True, ("ease", "off")),
        ("solid", "auto", False, ("ease", "off")),
        ("solid", "manual", True, ("ease", "off")),
        ("solid", "off", False, ("keep", None)),
        (NotMeasured(not_measured="nobody knows"), "auto", True, ("keep", None)),
    ],
)
def test_prefetching_depends_on_the_disk(disk, value, running, expected):
    fetch = item("services", "fetch", role="launch-prefetch", value=value, running=running)
    hardware = msgspec.structs.replace(facts().hardware, disk=disk)
    (finding,) = audit(facts(fetch, hardware=hardware), profile(), CATALOGUE, reading()).findings
    assert (finding.stance, finding.proposal) == expected


@pytest.mark.parametrize(
    ("cpu", "ram_mib", "grade"),
    [
        (3.0, 0, "expected"),
        (0.0, 1, "expected"),
        (0.2, 0, "no effect"),
        (0.21, 0, "expected"),
        (0.0, 0.99, "no effect"),
        (0.0, 0, "no effect"),
    ],
)
def test_what_can_be_measured_is_expected_to_fall(cpu, ram_mib, grade):
    (finding,) = judged(item("apps", "a"), costs=[("apps:a", cpu, ram_mib)]).findings
    assert finding.grade == grade
    assert finding.weight.heft == pytest.approx(cpu + 100 * ram_mib / (8 * 1024))


def test_where_the_weight_of_each_area_comes_from():
    bare = ConsumerLoad(key="services:s", cpu_pct=2.0, cpu_se_pct=0.1, ram_bytes=1.0)
    items = (
        item("power", "mains", value="full"),
        item("memory", "swappiness", value="1"),
        item("effects", "shadows"),
        item("services", "s"),
    )
    found = audit(
        facts(*items), profile(), CATALOGUE, msgspec.structs.replace(reading(), consumers=(bare,))
    )
    of = {f.key: f.weight for f in found.findings}
    assert {k for k, w in of.items() if isinstance(w.cpu_pct, NotMeasured)} == {
        "mains",
        "swappiness",
        "shadows",
    }
    assert [of[k].heft for k in ("mains", "swappiness", "shadows")] == [0.0, 0.0, 0.0]
    assert (of["s"].source, of["mains"].source.startswith("a plan or a rule")) == (
        "60 s reading",
        True,
    )


@pytest.mark.parametrize("value", ["off", "manual", "demand"])
def test_what_rests_already_is_kept(value):
    (finding,) = judged(item("services", "a", role="fax", value=value, running=False)).findings
    assert (finding.stance, finding.reason) == ("keep", f"it is {value} already and does not run.")


def test_of_many_that_stop_with_it_the_first_are_named():
    items = [
        item("services", "base", role="fax"),
        *(item("services", f"n{i:02}", needs=("base",)) for i in range(25)),
    ]
    assert len(judged(*items).find(parse_ref("services:base")).stops_with) == 20


@pytest.mark.parametrize(
    ("note", "asks"),
    [
        ("Tells tides.", "Does anybody here use “Tides”? It says of itself: Tells tides."),
        ("", "Does anybody here use “Tides”?"),
        ("Tides", "Does anybody here use “Tides”?"),
    ],
)
def test_the_question_says_what_the_item_says_of_itself(note, asks):
    (finding,) = judged(item("apps", "tides", title="Tides", note=note)).findings
    assert finding.question == asks


def test_what_may_start_it_again_is_said_where_it_is_to_stand_still():
    by = (Trigger(kind="app", by="quay"), Trigger(kind="timer", by="t.timer"))
    resting, asked = Setting(values=("auto", "off")), Setting(values=("auto", "demand"))
    for setting, says in ((resting, True), (asked, False)):
        items = (
            item("services", "a", role="fax", setting=setting, triggers=by),
            item("services", "quay"),
        )
        assert ("quay" in judged(*items).find(parse_ref("services:a")).again) is says


def test_what_is_started_by_something_that_stays_takes_its_stance():
    items = (
        item("services", "screen", role="graphics"),
        item("services", "old", role="fax"),
        item(
            "apps",
            "process/a",
            setting=Fixed(needed="x"),
            triggers=(Trigger(kind="wants", by="old", area="services"),),
        ),
        item(
            "apps",
            "process/b",
            setting=Fixed(needed="x"),
            triggers=(Trigger(kind="wants", by="screen", area="services"),),
        ),
        item(
            "apps",
            "kept",
            role="graphics",
            setting=Fixed(needed="x"),
            triggers=(Trigger(kind="wants", by="old", area="services"),),
        ),
    )
    of = {f.key: f for f in judged(*items).findings}
    assert (of["process/a"].stance, of["process/b"].stance, of["kept"].stance) == (
        "ease",
        "keep",
        "guarded",
    )
    assert of["old"].brings == ("apps:process/a",)


def test_what_may_be_saved_counts_what_is_eased_and_what_is_asked():
    items = (
        item("services", "old", role="fax"),
        item("apps", "odd"),
        item("services", "screen", role="graphics"),
    )
    found = judged(
        *items,
        costs=[("services:old", 3.0, 10), ("apps:odd", 2.0, 5), ("services:screen", 40.0, 900)],
    )
    assert eased_sum(found.findings) == (5.0, 15 * MIB)
    assert [is_system(name) for name in (SYSTEM, "system:kernel", "systematic", "apps:system")] == [
        True,
        True,
        False,
        False,
    ]


@pytest.mark.parametrize(
    ("value", "expected"),
    [
        ("2048", ("set", "12288")),
        ("12287", ("set", "12288")),
        ("12288", ("keep", None)),
        ("odd", ("keep", None)),
        (None, ("keep", None)),
    ],
)
def test_too_little_swap_by_the_rule_of_the_profile_is_eased(value, expected):
    size = item("memory", "swap_mib", value=value, setting=Setting(lowest=0, highest=99999))
    rule = msgspec.structs.replace(profile().memory, swap="shop")
    (finding,) = judged(size, who=profile(memory=rule)).findings
    assert (finding.stance, finding.proposal) == expected
    assert finding.value == (value or "unset")


def test_what_something_else_than_a_timer_starts_is_not_started_again_and_again():
    by = (Trigger(kind="wants", by="quay"),)
    items = (
        item("services", "poll", role="fax", value="demand", running=False, triggers=by),
        item("services", "quay"),
    )
    finding = judged(*items, costs=[("services:poll", 9.0, 0)]).find(parse_ref("services:poll"))
    assert (finding.stance, finding.reason) == ("keep", "it is demand already and does not run.")


def test_the_headline_is_what_holds_it_back_what_is_over_and_what_comes_first():
    calm, loaded = reading([5.0] * 60), reading([60.0] * 60)
    items = (item("services", "old", role="fax"),)

    def found(taken, *more):
        return audit(facts(*items, *more), profile(), CATALOGUE, taken)

    under = "CPU and RAM are under their ceilings."
    nothing = found(calm)
    assert nothing.lines == ("Nothing holds this computer back at idle.", under, NOTHING_TO_GAIN)
    assert nothing.nothing_to_gain
    assert nothing.first == ""
    assert found(loaded).lines[:2] == (
        "The processor holds this computer back.",
        "CPU is at 60 %, the ceiling is 10 %.",
    ), "a ceiling is said once"
    heavy = msgspec.structs.replace(
        calm, consumers=reading(costs=[("services:old", 3.0, 10)]).consumers
    )
    assert found(heavy).lines[2] == "First: ease old (10 MiB, 3.0 % of the CPU)."
    assert found(heavy).first == "services:old"
    plan = item("power", "mains", value="full", setting=Setting(values=("balanced", "full")))
    assert found(heavy, plan).lines == found(heavy).lines, (
        "a plan comes first only where the clock or the disk holds it back"
    )
    assert found(calm, plan).lines[2] == "First: set mains (full → balanced)."
    left = headline(
        found(heavy).findings,
        profile(),
        heavy,
        found(heavy).bottleneck,
        {parse_ref("services:old")},
    )
    assert left.lines[2] == NOTHING_TO_GAIN, "what is changed is not proposed again"
    asked = found(
        msgspec.structs.replace(
            calm, consumers=reading(costs=[("services:odd", 3.0, 10)]).consumers
        ),
        item("services", "odd"),
    )
    assert asked.lines[2] == "First ask the owner about odd (10 MiB, 3.0 % of the CPU)."


def test_what_copies_of_files_stand_on_is_asked_until_the_owner_lets_the_copies_go():
    sync = item("services", "sync", role="file-sync", needs=("helper",))
    helper = item("services", "helper", role="fax")
    found = {f.key: f for f in audit(facts(sync, helper), profile(), CATALOGUE, None).findings}
    assert (found["sync"].stance, found["helper"].stance) == ("ask", "ask")
    assert "copies the owner's data" in found["helper"].reason
    assert "helper" in found["helper"].question
    answers = {"services:sync": "not needed"}
    found = {
        f.key: f for f in audit(facts(sync, helper), profile(), CATALOGUE, None, answers).findings
    }
    assert found["helper"].stance == "ease"


def test_gaps_are_handed_on():
    found = audit(facts(gaps=(Gap(area="power", reason="no battery"),)), profile(), CATALOGUE, None)
    assert found.gaps[0].reason == "no battery"


def stops_with(ref, items):
    return tuple(c.partition(":")[2] for c in Graphs(items).stops_with(str(ref)))


def works_through(ref, items):
    return tuple(c.partition(":")[2] for c in Graphs(items).works_through(str(ref)))


KEYS = st.sampled_from([f"k{i}" for i in range(8)])
SYSTEMS = st.lists(
    st.tuples(KEYS, st.sampled_from(["", *(r.name for r in CATALOGUE.role)]), st.lists(KEYS,
    max_size=3), st.sampled_from(["auto", "off", None])),
    max_size=8, unique_by=lambda t: t[0],
)  # fmt: skip


ANSWERS = st.dictionaries(
    KEYS.map("services:{}".format), st.sampled_from(["needed", "not needed"]), max_size=8
)


@given(SYSTEMS, st.sets(st.sampled_from([r.name for r in CATALOGUE.role]), max_size=5), ANSWERS)
def test_nothing_guarded_or_needed_is_ever_eased(system, needed, answers):
    items = [
        item("services", k, role=role, needs=tuple(needs), value=value)
        for k, role, needs, value in system
    ]
    who = profile(needs=type(profile().needs)(roles=tuple(needed)))
    computer = facts(*items)
    found = audit(computer, who, CATALOGUE, None, answers)
    sacred = [i for i in items if i.role in needed or ((r := CATALOGUE.find(i.role)) and r.guarded)]
    kept = {key for i in sacred for key in works_through(i.ref, items)}
    for finding in found.findings:
        role = CATALOGUE.find(finding.role)
        if (role and role.guarded) or finding.role in needed or finding.key in kept:
            assert finding.stance != "ease", finding
            assert not finding.can_choose


@given(SYSTEMS)
def test_closures_are_each_others_inverse_and_end_in_cycles(system):
    items = [item("services", k, needs=tuple(needs)) for k, _, needs, _ in system]
    keys = {i.key for i in items}
    for one in items:
        for other in stops_with(one.ref, items):
            assert (
                one.key in works_through(SettingRef(area="services", key=other), items)
                or other == one.key
            )
        assert set(works_through(one.ref, items)) - keys <= {n for i in items for n in i.needs}


# -- plans -----------------------------------------------------------------------------------------


def planned(items, *changes, costs=()):
    computer = facts(*items)
    found = audit(computer, profile(), CATALOGUE, reading(costs=costs))
    return make_plan(computer, found, [parse_change(c) for c in changes])


def test_dependents_first_and_restarts_last():
    late = Setting(values=("auto", "off"), shows="restart")
    items = [
        item("services", "base", role="fax"),
        item("services", "user", role="fax", needs=("base",)),
        item("services", "a-late", role="fax", setting=late),
    ]
    plan = planned(items, "services:a-late=off", "services:base=off", "services:user=off")
    assert [s.change.ref.key for s in plan.steps] == ["user", "base", "a-late"]
    assert plan.owed == "restart"
    assert "user" in plan.steps[1].stops


def test_savings_are_summed_and_doubt_in_quadrature():
    items = [item("services", k, role="fax") for k in "ab"] + [item("effects", "shadows")]
    plan = planned(
        items,
        "services:a=off",
        "services:b=off",
        "effects:shadows=off",
        costs=[("services:a", 3.0, 100), ("services:b", 1.0, 50)],
    )
    assert plan.saves_cpu == (pytest.approx(4.0), pytest.approx(0.02**0.5))
    assert plan.saves_ram_bytes == 150 * MIB
    assert [s.change.ref.key for s in plan.unprojected] == ["shadows"]


def test_switching_on_saves_nothing():
    plan = planned([item("apps", "a", value="off")], "apps:a=on", costs=[("apps:a", 3.0, 100)])
    assert plan.saves_cpu == (0.0, 0.0)


@pytest.mark.parametrize(
    ("changes", "says"),
    [
        (["services:a=off", "services:a=manual"], "contradict"),
        (["services:screen=off"], "guarded"),
        (["services:a=often"], "it can be auto, demand, manual, off"),
        (["services:fixed=off"], "needs root"),
    ],
)
def test_what_is_refused(changes, says):
    items = [
        item("services", "a"),
        item("services", "screen", role="graphics"),
        item("services", "fixed", setting=Fixed(needed="needs root")),
    ]
    with pytest.raises(UsageError, match=says):
        planned(items, *changes)


def test_an_unknown_setting_names_the_nearest():
    with pytest.raises(UnknownNameError, match="Did you mean services:tide-feed"):
        planned([item("services", "tide-feed")], "services:tidefeed=off")


def test_an_app_may_be_named_by_its_file():
    (change,) = check_changes(
        facts(item("apps", "sail")), [parse_change("apps:sail.desktop=off")], {}
    )
    assert change.ref == parse_ref("apps:sail")


def test_what_runs_cannot_lose_in_the_same_plan_what_it_needs():
    items = [item("services", "spool"), item("services", "chat", value="off", needs=("spool",))]
    with pytest.raises(UsageError, match=r"services:chat=auto and services:spool=off contradict"):
        planned(items, "services:spool=off", "services:chat=auto")


@pytest.mark.parametrize("other", [[], ["services:spool=manual"]])
def test_what_it_needs_may_stay_or_start_in_another_way(other):
    items = [item("services", "spool"), item("services", "chat", value="off", needs=("spool",))]
    assert len(planned(items, "services:chat=auto", *other).steps) == 1 + len(other)


def test_a_plan_that_is_not_of_this_audit_is_refused():
    computer = facts(item("services", "a"), item("services", "b"))
    found = audit(facts(item("services", "a")), profile(), CATALOGUE, None)
    with pytest.raises(UsageError, match="services:b is not in this audit"):
        make_plan(computer, found, [parse_change("services:b=off")])
    with pytest.raises(UnknownNameError, match="Did you mean services:shadows"):
        planned([item("services", "shadows")], "effects:shadows=off")


def test_what_effects_cost_together_at_most():
    here = facts(
        item("effects", "shadows"),
        item("effects", "thumbnails"),
        item("apps", "panel", role="graphics"),
        item("apps", "sail"),
    )
    costs = [("apps:panel", 3.0, 40), ("apps:process/Xorg", 1.0, 1), ("apps:sail", 5.0, 9)]
    whole = audit(here, profile(), CATALOGUE, reading(costs=costs))
    assert (whole.drawing.cpu_pct, whole.drawing.words) == (4.0, "41 MiB, 4.0 %")
    found = {f.key: f for f in whole.findings}
    assert found["shadows"].weight.source.endswith("what draws the screen: 41 MiB, 4.0 %")
    assert "several programs have a part" in found["thumbnails"].weight.source


def test_what_a_step_saves_and_where_that_comes_from():
    items = [
        item("services", "a", role="fax"),
        item("services", "b"),
        item("effects", "shadows"),
        item("services", "c", needs=("a",)),
    ]
    costs = [("services:a", 3.0, 0), ("services:b", 0.0, 40)]
    plan = planned(
        items, "services:a=demand", "services:b=manual", "effects:shadows=off", costs=costs
    )
    a, b, shadows = (
        sorted(plan.steps, key=lambda s: s.change.ref)[1:]
        + sorted(plan.steps, key=lambda s: s.change.ref)[:1]
    )
    assert (a.saves_cpu_pct, a.saves_ram_bytes, b.saves_cpu_pct, b.saves_ram_bytes) == (
        3.0,
        0,
        0.0,
        40 * MIB,
    )
    assert a.projected == "60 s reading, memory counted"
    assert shadows.projected.startswith("not projected: drawn by the desktop itself")
    assert [s.change.ref.key for s in plan.unprojected] == ["shadows"]
    assert a.stops == ("c", CATALOGUE.find("fax").stops)
    assert b.stops == ()
    assert plan.owed == "now"
    (on,) = planned(
        [item("apps", "x", value="off")], "apps:x=on", costs=[("apps:x", 3.0, 100)]
    ).steps
    assert (on.saves_cpu_pct, on.saves_ram_bytes, on.saves_cpu_se_pct, on.stops) == (
        0.0,
        0.0,
        0.0,
        (),
    )


def test_what_is_measured_in_part_is_projected():
    cost = ConsumerLoad(
        key="apps:a",
        cpu_pct=2.0,
        cpu_se_pct=0.1,
        ram_bytes=NotMeasured(not_measured="not looked at"),
    )
    computer = facts(item("apps", "a"))
    found = audit(
        computer, profile(), CATALOGUE, msgspec.structs.replace(reading(), consumers=(cost,))
    )
    (step,) = make_plan(computer, found, [parse_change("apps:a=off")]).steps
    assert step.projected == "60 s reading"
    assert found.findings[0].grade == "expected"


def test_what_shows_at_once_comes_before_a_login_and_that_before_a_restart():
    shows = {"a": "restart", "b": "login", "c": "now"}
    items = [
        item("apps", key, setting=Setting(values=("on", "off"), shows=when))
        for key, when in shows.items()
    ]
    plan = planned(items, *(f"apps:{key}=off" for key in shows))
    assert [s.change.ref.key for s in plan.steps] == ["c", "b", "a"]
    assert planned(items[1:], "apps:b=off", "apps:c=off").owed == "login"


@pytest.mark.parametrize("between", ["b", "bc", "bcd", "bcde"])
def test_what_touches_the_same_thing_moves_up_to_its_like_and_no_further(between):
    items = [item("apps", k, touches="x") for k in ("a", "y")] + [item("apps", k) for k in between]
    items += [item("apps", "z", touches="other")]
    plan = planned(items, *(f"apps:{i.key}=off" for i in items))
    assert "".join(s.change.ref.key for s in plan.steps) == f"ay{between}z"


def test_what_touches_nothing_stays_where_it_is():
    items = [
        item("apps", "b"),
        item("apps", "c", touches="x"),
        item("apps", "f"),
        item("apps", "g", touches="y"),
    ]
    plan = planned(items, *(f"apps:{i.key}=off" for i in items))
    assert "".join(s.change.ref.key for s in plan.steps) == "bcfg"


def test_settings_that_touch_one_thing_stand_together_without_breaking_the_order():
    items = [
        item("apps", "a", touches="x"),
        item("apps", "b"),
        item("apps", "c", touches="x"),
        item("apps", "d", touches="x", needs=("b",)),
        item("apps", "e", touches="x", setting=Setting(values=("on", "off"), shows="restart")),
    ]
    plan = planned(items, *(f"apps:{key}=off" for key in "abcde"))
    assert [s.change.ref.key for s in plan.steps] == ["a", "c", "d", "b", "e"]


def test_what_a_guarded_item_cannot_work_without_is_refused_with_the_path():
    items = [
        item("services", "screen", role="graphics", needs=("seat",)),
        item("services", "seat", needs=("old-fax",)),
        item("services", "old-fax", role="fax"),
    ]
    found = guards(facts(*items), CATALOGUE)
    with pytest.raises(
        UsageError, match=r"old-fax is guarded .*: screen \(through seat\) cannot work without it"
    ):
        check_changes(facts(*items), [parse_change("services:old-fax=off")], found)
