"""What the audit knows.

Roles, advice, who depends on whom, what holds a computer back, what the owner said.
"""

import json
from importlib.resources import files

import msgspec
import pytest
from hypothesis import given
from hypothesis import strategies as st
from knowledge import RIGHT, said_of_all

from helpers import CATALOGUE, facts, item, lumtak, profile, reading, sample
from lumtak.computers.simulated.heads import fleet
from lumtak.computers.simulated.spec import load_spec
from lumtak.core.advice import load_advice, search
from lumtak.core.asking import questions
from lumtak.core.audit import audit
from lumtak.core.bottleneck import find_bottleneck
from lumtak.core.catalogue import Role, load_catalogue, read_roles
from lumtak.core.causes import causes, starter_of
from lumtak.core.explain import explain
from lumtak.core.facts import Fixed, Hardware, MemoryNow, Process, Setting, Space, Trigger
from lumtak.core.known import known
from lumtak.core.needs import Graphs
from lumtak.core.plan import guards
from lumtak.core.record import NotMeasured
from lumtak.core.ruling import by_role, is_never_silent, question_of
from lumtak.core.setting import parse_ref
from lumtak.core.shop import Wrong, taught
from lumtak.core.sizing import emptying_the_cache, memory_parts, swap_sizes
from lumtak.core.suggest import suggest
from lumtak.core.units import GIB, MIB
from lumtak.errors import BadFileError
from lumtak.formats.capture import load_capture, make_capture, to_json
from lumtak.work.data_folder import DataFolder
from lumtak.work.described import described
from lumtak.work.knowledge import shipped_profiles

ADVICE = load_advice(
    (files("lumtak") / "data" / "advice.toml").read_text(encoding="utf-8"), "advice.toml"
)


# -- catalogue -------------------------------------------------------------------------------------


def test_the_catalogue_is_complete_and_sane():
    assert len(CATALOGUE.role) >= 60
    names = [r.name for r in CATALOGUE.role]
    assert len(names) == len(set(names))
    for role in CATALOGUE.role:
        assert role.does.endswith(".")
        assert not role.stops.endswith(".")
        assert not (role.guarded and role.ask), "what is guarded is nobody's question"
        assert not role.ask or role.ask.endswith("?")
    guarded = {r.name for r in CATALOGUE.role if r.guarded}
    assert guarded >= {
        "graphics", "login", "sound", "network", "name-service", "vpn", "firewall", "input",
        "security", "storage",
        "network-home", "remote-access",
    }  # fmt: skip


@pytest.mark.parametrize(
    ("name", "role"),
    [
        ("gdm3", "graphics"), ("NetworkManager", "network"), ("cups-browsed", "printing"),
        ("tracker-miner-fs-3", "indexing"),
        ("zramswap", "swap-compression"), ("snapd.seeded", "package-server"), ("steam",
        "game-launcher"), ("libvirtd", "virtual-machines"),
        ("something-else", ""), ("fstrim", "disk-trim"), ("systemd-resolved", "name-service"),
        ("power-profiles-daemon", "power-keeper"),
    ],
)  # fmt: skip
def test_names_of_real_systems_are_known(name, role):
    assert CATALOGUE.role_of(name) == role


ROLE = 'format = 1\n[[role]]\nname = "{}"\ntitle = "t"\ndoes = "d."\nstops = "s"\n{}\n'


def test_ones_own_file_extends_it_and_a_guard_wins():
    more = read_roles(ROLE.format("hull-scan", 'match = ["hullscan*"]'), "own.toml")
    assert CATALOGUE.extended(more, "own.toml").role_of("hullscan-daemon") == "hull-scan"
    lifted = CATALOGUE.extended(
        read_roles(ROLE.format("graphics", "guarded = false"), "own.toml"), "own.toml"
    )
    assert lifted.find("graphics").guarded
    assert "guarded" in lifted.problems[0]
    taken = CATALOGUE.extended(
        read_roles(ROLE.format("mine", 'match = ["gdm*"]'), "own.toml"), "own.toml"
    )
    assert taken.role_of("gdm3") == "graphics"
    assert "the guard wins" in taken.problems[0]


@pytest.mark.parametrize(
    ("text", "says"),
    [
        ("format = ", "not valid TOML"),
        (ROLE.format("a", "colour = 1"), "line 2"),
        (ROLE.format("a", "").replace("format = 1", "format = 9"), "format 9"),
        (
            ROLE.format("a", "") + ROLE.format("a", "").replace("format = 1\n", ""),
            "stands here twice",
        ),
    ],
)
def test_a_catalogue_that_is_none(text, says):
    with pytest.raises(BadFileError, match=says):
        load_catalogue(text, "own.toml")


def test_advice_is_graded_with_its_mechanism_and_found_by_a_word():
    assert sum(a.verdict in {"no effect", "harmful"} for a in ADVICE) >= 15
    assert {"prefetching", "switch-off-or-manual", "all-effects-off"} <= {
        a.name for a in ADVICE if a.verdict == "depends"
    }
    assert all(len(a.why) > 60 and a.instead for a in ADVICE)
    assert search(ADVICE, "CACHE")[0].name == "empty-the-cache"
    assert search(ADVICE, "nothing of the kind") == ()


# -- items of real desktops ------------------------------------------------------------------------


def test_items_of_real_desktops_are_judged_as_a_careful_technician_would():
    every = list(said_of_all())
    assert len(every) == 590
    assert [s.item for s in every if s.is_dangerous] == []
    assert sum(s.is_unsaid for s in every) <= 0.03 * len(every)
    assert sum(RIGHT[s.wanted](s) for s in every) >= 0.9 * len(every)


def test_names_say_little_where_neither_unit_nor_package_is_known():
    for key in ("hull-backup", "pg-mirror-run", "boat-cloud", "tide-polkit-helper", "deck-locker"):
        found = known(parse_ref(f"services:{key}"), "", profile(), CATALOGUE)
        assert (found.stance, bool(found.consequence)) in {("ask", True), ("guarded", True)}
    assert known(parse_ref("apps:nothing-known"), "", profile(), CATALOGUE).role == ""


def test_what_serves_others_copies_data_or_locks_the_screen_is_never_eased_unasked():
    for role in CATALOGUE.role:
        if is_never_silent(role) and not role.guarded:
            ruling = by_role(role, "auto", "off")
            assert ruling.stance in {"ask", "keep"}, role.name
            assert role.stops in ruling.reason or ruling.stance == "keep"
            assert ruling.stance == "keep" or question_of(role, "x", "").endswith("?")


def test_every_role_that_a_profile_needs_can_be_filled():
    made_up = {p.role for spec in map(load_spec, fleet()) for p in (*spec.service, *spec.app)}
    lists = ("packages", "units", "apps", "programs", "match")
    real = {r.name for r in CATALOGUE.role if any(getattr(r, name) for name in lists)}
    needed = {role for p in shipped_profiles().values() for role in p.needs.roles}
    assert needed - real - made_up == set()
    assert {r for r in needed if r in {"chat", "music", "photo-sync"}} <= real


def test_one_way_to_get_updates_always_stays():
    def stances(*keys):
        found = audit(
            facts(*(item("services", k, role=r) for k, r in keys)), profile(), CATALOGUE, None
        )
        return {f.key: f.stance for f in found.findings}

    alone = stances(("packagekit", "software-updates"), ("apticron", "software-updates"))
    assert set(alone.values()) == {"keep"}
    both = stances(("packagekit", "software-updates"), ("apt-daily-upgrade", "security-updates"))
    assert both == {"packagekit": "ask", "apt-daily-upgrade": "guarded"}


def test_questions_are_few_and_asked_together():
    items = [item("apps", f"folks-{n}", role="calendar", running=True) for n in range(5)]
    items += [item("services", f"odd-{n}") for n in range(9)]
    first, later = questions(audit(facts(*items), profile(), CATALOGUE, None))
    assert len(first) == 5
    assert [len(q.about) for q in (*first, *later) if "calendar" in q.words] == [5]
    assert len(first) + len(later) == 10
    answers = dict.fromkeys((f.consumer for q in first for f in q.about), "needed")
    again, left = questions(audit(facts(*items), profile(), CATALOGUE, None, answers))
    assert (len([q for q in again if not q.answer]), len(left)) == (5, 0)


def test_the_shops_own_knowledge_adds_to_a_role(tmp_path):
    (tmp_path / "knowledge").mkdir()
    (tmp_path / "knowledge" / "own.toml").write_text(
        'format = 1\n[[role]]\nname = "printing"\ntitle = "printing"\ndoes = "Prints."\n'
        'stops = "nothing can be printed"\nbetter = "demand"\nunits = ["sail-spool"]\n'
    )
    own = DataFolder(tmp_path).catalogue
    assert own.role_for("services", "sail-spool") == "printing"
    assert own.role_for("services", "cups") == "printing", "one more does not take away the others"


def test_the_pocket_reference(home):
    ran = lumtak("known", "apps:user/tracker-miner-fs-3.service", "--json", home=home)
    found = json.loads(ran.stdout)
    assert (found["role"], found["stance"], found["serves"]) == ("indexing", "ease", "person")
    assert found["consequence"]
    assert found["reasons"]
    said = lumtak("known", "services:smbd", "--package", "samba", home=home).stdout
    assert "others in the network too" in said
    assert "Do others open folders of this computer?" in said
    assert lumtak("known", "nowhere:x", home=home).returncode == 2


@pytest.mark.parametrize("name", sorted(shipped_profiles()))
def test_plain_desktops_keep_what_they_stand_on_whatever_the_profile(name):
    chosen = shipped_profiles()[name]
    here = {}
    for one in described():
        role = CATALOGUE.role_for(one.ref.area, one.ref.key, package=one.package)
        made = item(one.ref.area, one.ref.key, role=role, running=True, package=one.package)
        for desktop in one.places:
            here.setdefault(desktop, []).append(made)
    assert len(here) == 6
    for desktop, items in here.items():
        found = audit(facts(*items), chosen, CATALOGUE, None)
        roles = {f.key: CATALOGUE.find(f.role) for f in found.findings}
        eased = [f for f in found.findings if f.stance == "ease"]
        assert not [f.key for f in eased if roles[f.key] is None or is_never_silent(roles[f.key])]
        updates = [f for f in found.findings if (r := roles[f.key]) and r.loses == "updates"]
        assert [f for f in updates if f.stance in {"guarded", "keep"}], desktop
        for role in chosen.needs.roles:
            assert not [f.key for f in eased if f.role == role]
        first, _ = questions(found)
        assert len(first) <= 5
        assert sum(f.stance == "guarded" for f in found.findings) > 100


@pytest.mark.parametrize("why", ["essential", "early", "phase"])
def test_evidence_guards_what_nobody_knows_and_nothing_else(why):
    odd = item("services", "odd", evidence=(why,))
    known_one = item("services", "fax", role="fax", evidence=(why,))
    found = {f.key: f for f in audit(facts(odd, known_one), profile(), CATALOGUE, None).findings}
    assert (found["odd"].stance, found["fax"].stance) == ("guarded", "ease")
    assert "others may stand on it" in found["odd"].reason
    assert set(guards(facts(odd, known_one), CATALOGUE)) == {odd.ref}


def test_what_others_here_need_is_asked_with_their_names():
    called = item(
        "apps", "odd", triggers=(Trigger(kind="bus", by="org.example.Odd"),), running=True
    )
    needed = item("services", "odd", stood_on_by=("chart-table", "hull", "keel"))
    found = {f.area: f for f in audit(facts(called, needed), profile(), CATALOGUE, None).findings}
    assert {f.stance for f in found.values()} == {"ask"}
    assert "asked for it on the bus as org.example.Odd" in found["apps"].reason
    assert "packages chart-table, hull and 1 more need its package" in found["services"].reason


@pytest.mark.parametrize("why", ["server", "listens"])
def test_what_seems_to_serve_other_computers_is_asked_by_whom_it_serves(why):
    odd = item("services", "oddd", evidence=(why,))
    known_one = item("services", "fax", role="fax", evidence=(why,))
    found = {f.key: f for f in audit(facts(odd, known_one), profile(), CATALOGUE, None).findings}
    assert (found["oddd"].stance, found["fax"].stance) == ("ask", "ease")
    assert found["oddd"].question.startswith("Does any other computer use")
    assert guards(facts(odd, known_one), CATALOGUE) == {}


def test_what_a_shop_teaches_is_checked_exported_and_taken_over(home, tmp_path):
    own = DataFolder(home)
    (odd,) = audit(facts(item("services", "kiln-watch")), profile(), CATALOGUE, None).findings
    entry = taught(odd, "the kiln", "the kiln is not watched", "keep", "mia, 2026-03-02, bench")
    own.teach(entry)
    own.say_wrong(
        Wrong(item="services:kiln-watch", role="", stance="ask", why="we need it", at="2026-03-02",
              by="mia", computer="bench")
    )  # fmt: skip
    assert own.catalogue.find("own-kiln-watch") == entry, "it reads back as it was written"
    (home / "knowledge" / "more.toml").write_text(ROLE.format("x", 'apps = ["baloo_file"]'))
    checked = json.loads(lumtak("knowledge", "check", "--json", home=home).stdout)
    (change,) = checked["changes"]
    assert (change["item"], change["role_before"], change["role"]) == (
        "apps:baloo_file", "indexing", "x",
    )  # fmt: skip
    out, other = tmp_path / "shop.json", tmp_path / "other"
    assert lumtak("knowledge", "export", "--out", out, home=home).returncode == 0
    assert lumtak("knowledge", "import", out, home=other).returncode == 0
    there = DataFolder(other)
    assert there.catalogue.role_for("services", "kiln-watch") == "own-kiln-watch"
    assert [w.why for w in there.wrongs] == ["we need it"]
    assert lumtak("knowledge", "import", out, home=other).returncode == 1, "not a second time"
    assert lumtak("knowledge", "import", __file__, "--name", "y", home=other).returncode == 2


# -- graphs ----------------------------------------------------------------------------------------


def test_the_three_graphs_are_kept_apart():
    items = [
        item("services", "bus", aliases=("dbus",)),
        item("services", "desk", needs=("dbus", "gone")),
        item("services", "post", needs=("desk",), triggers=(Trigger(kind="wants", by="bell"),)),
        item("services", "bell", triggers=(Trigger(kind="timer", by="quarter-hour"),)),
        item(
            "apps",
            "process/log",
            triggers=(Trigger(kind="wants", by="post", area="services"),),
            setting=Fixed(needed="x"),
        ),
    ]
    graphs = Graphs(items)
    assert graphs.stops_with("services:bus") == (
        "services:desk",
        "services:post",
    ), "a timer's bell does not stop with it"
    assert graphs.works_through("services:post") == ("services:desk", "services:bus")
    assert graphs.missing("services:desk") == ("services:gone",)
    assert (
        graphs.chain_in_words("apps:process/log")
        == "is started by post, which is started by bell, which is started by the timer"
        " quarter-hour"
    )
    assert graphs.carriers(["services:post"])["services:bus"] == (
        "services:post",
        "services:desk",
        "services:bus",
    )


EDGES = st.lists(st.tuples(st.integers(0, 12), st.integers(0, 14)), max_size=40)


@given(EDGES)
def test_cycles_and_missing_units_end_every_walk_and_both_ways_agree(edges):
    needs = {n: [] for n in range(13)}
    for a, b in edges:
        needs[a].append(f"k{b}")
    items = [
        item(
            "services",
            f"k{n}",
            needs=tuple(keys),
            triggers=tuple(Trigger(kind="wants", by=k) for k in keys),
        )
        for n, keys in needs.items()
    ]
    graphs = Graphs(items)
    for one in graphs.items:
        assert len(graphs.chain(one)) <= len(items) + 1
        for other in graphs.stops_with(one):
            assert one in graphs.works_through(other) or one == other
    carried = graphs.carriers(["services:k0"])
    assert set(carried) == set(graphs.works_through("services:k0")) - {"services:k0"}
    assert all(path[0] == "services:k0" and path[-1] == one for one, path in carried.items())


# -- judging ---------------------------------------------------------------------------------------


def judged(*items, answers=None, read=None, **fields):
    found = audit(facts(*items, **fields), profile(), CATALOGUE, read, answers or {})
    return {f.key: f for f in found.findings}, found


def test_what_a_guarded_item_stands_on_is_guarded_with_the_path():
    by_key, _ = judged(
        item("services", "screen", role="graphics", needs=("seat",)),
        item("services", "seat", needs=("bus",)),
        item("services", "bus", role="fax"),
        answers={"services:bus": "not needed"},
    )
    assert by_key["bus"].stance == "guarded"
    assert "screen (through seat)" in by_key["bus"].reason


def test_answers_settle_what_only_the_owner_knows():
    unknown = item("apps", "thing", note="Keeps a thing.")
    by_key, _ = judged(unknown)
    assert (by_key["thing"].stance, by_key["thing"].can_choose, by_key["thing"].question) == (
        "ask",
        True,
        "Does anybody here use “thing”? It says of itself: Keeps a thing.",
    )
    assert judged(unknown, answers={"apps:thing": "needed"})[0]["thing"].stance == "keep"
    eased = judged(unknown, answers={"apps:thing": "not needed"})[0]["thing"]
    assert (eased.stance, eased.proposal, eased.answer) == ("ease", "off", "not needed")
    assert eased.question.startswith("Does anybody here use"), (
        "what was answered may be asked again"
    )
    assert judged(item("services", "old", role="fax"))[0]["old"].question == ""
    asked = judged(item("services", "docker", role="containers"))[0]["docker"]
    assert (asked.stance, asked.question[-1]) == ("ask", "?")


@pytest.mark.parametrize(
    ("disk", "value", "stance", "proposal"),
    [
        ("spinning", "auto", "keep", None),
        ("spinning", "off", "set", "auto"),
        ("solid", "auto", "ease", "off"),
        ("solid", "off", "keep", None),
        (NotMeasured(not_measured="no disk tells"), "auto", "keep", None),
    ],
)
def test_prefetching_depends_on_the_disk(disk, value, stance, proposal):
    hardware = Hardware(cores=4, ram_bytes=8 * GIB, nominal_mhz=2000.0, disk=disk, battery=False)
    one = item(
        "services", "read-ahead", role="launch-prefetch", value=value, running=value == "auto"
    )
    found = judged(one, hardware=hardware)[0]["read-ahead"]
    assert (found.stance, found.proposal) == (stance, proposal)


def test_a_stray_takes_its_starters_stance_and_goes_with_it():
    read = reading(
        values=[60.0] * 60, costs=[("apps:process/log", 30.0, 400), ("services:post", 0.1, 10)]
    )
    by_key, found = judged(
        item(
            "services",
            "post",
            role="telemetry",
            value="demand",
            running=False,
            triggers=(Trigger(kind="wants", by="bell"),),
        ),
        item(
            "services",
            "bell",
            role="telemetry",
            value="demand",
            running=False,
            triggers=(Trigger(kind="timer", by="t"),),
        ),
        item(
            "apps",
            "process/log",
            triggers=(Trigger(kind="wants", by="post", area="services"),),
            setting=Fixed(needed="x"),
        ),
        read=read,
    )
    assert (by_key["process/log"].stance, by_key["process/log"].can_choose) == ("ease", False)
    assert (by_key["post"].stance, by_key["post"].proposal, by_key["post"].brings) == (
        "ease",
        "off",
        ("apps:process/log",),
    )
    assert found.lines[2].startswith("First: ease post, which starts process/log (400 MiB")
    assert found.first == "services:post", "what can be changed is what is named"
    assert by_key["bell"].stance == "keep", (
        "only what started it itself is taken for what leaves it running"
    )


# -- bottleneck, memory, swap ----------------------------------------------------------------------


@pytest.mark.parametrize(
    ("changes", "fields", "kind"),
    [
        ({"cpu_pct": 3.0}, {}, "nothing"),
        ({"cpu_pct": 40.0}, {}, "processor"),
        ({"swap_in_bytes": 9.0 * MIB}, {}, "memory"),
        ({"swap_in_bytes": 9.0 * MIB, "cpu_pct": 60.0}, {}, "memory"),
        ({"disk_busy_pct": 80.0, "iowait_pct": 20.0}, {}, "disk"),
        ({"cpu_pct": 40.0, "clock_ratio": 0.4}, {"power_plan": "saving"}, "clock"),
        ({"cpu_pct": 40.0, "clock_ratio": 0.4}, {"power_plan": "balanced"}, "processor"),
        (
            {"cpu_pct": 40.0, "clock_ratio": 0.4, "swap_in_bytes": 9.0 * MIB},
            {"power_plan": "saving"},
            "memory",
        ),
    ],
)
def test_the_bottleneck_follows_from_figures(changes, fields, kind):
    given = {"cpu_pct": 5.0, **changes}
    read = msgspec.structs.replace(
        reading(), samples=tuple(sample(t_s=i + 1.0, **given) for i in range(60))
    )
    computer = facts(system=msgspec.structs.replace(facts().system, **fields))
    found = find_bottleneck(computer, profile(), read, (0.0, 0.0))
    assert found.kind == kind
    assert bool(found.figures) == (kind != "nothing")
    plan = item("power", "mains", value="full", setting=Setting(values=("balanced", "full")))
    headline = audit(
        msgspec.structs.replace(computer, items=(plan,)), profile(), CATALOGUE, read, {}
    ).headline
    assert f"The {kind} holds this computer back" in headline or kind == "nothing"
    assert "First: set mains (full → balanced)." in headline


def test_what_settings_will_not_fix_is_said_with_what_would():
    read = reading()
    tight = profile(ceilings=msgspec.structs.replace(profile().ceilings, ram_pct=20))
    assert audit(facts(), tight, CATALOGUE, read, {}).lines[1] == (
        "RAM is at 50 %, the ceiling is 20 %; CPU is at 20 %, the ceiling is 10 %."
    )
    lasting = find_bottleneck(facts(), tight, read, (0, 0))
    assert "Settings will not fix this" in lasting.not_by_settings
    assert "32 GiB of RAM would" in lasting.not_by_settings
    full = facts(space=Space(total_bytes=100.0 * GIB, free_bytes=2.0 * GIB))
    assert "2 of 100 GiB free" in find_bottleneck(full, profile(), read, (0, 0)).not_by_settings


def test_the_parts_of_memory_sum_to_the_total():
    read = reading(costs=[("apps:a", 1.0, 500), ("services:b", 1.0, 700)])
    for memory in (
        MemoryNow(),
        MemoryNow(shared_bytes=0.3 * GIB),
        MemoryNow(shared_bytes=99.0 * GIB),
    ):
        parts = memory_parts(facts(memory=memory), read)
        assert sum(p.size_bytes for p in parts) == pytest.approx(8 * GIB)
        assert all(p.size_bytes >= 0 for p in parts)
    assert "1.0 GiB of cache" in emptying_the_cache(read)


def test_three_rules_for_swap_with_their_arithmetic():
    computer = facts(
        hardware=Hardware(
            cores=4, ram_bytes=6 * GIB, nominal_mhz=2000.0, disk="solid", battery=False
        ),
        memory=MemoryNow(commit_peak_bytes=8.0 * GIB, hibernates=True),
        space=Space(total_bytes=500.0 * GIB, free_bytes=200.0 * GIB),
    )
    shop, hibernation, measured = swap_sizes(computer, None)
    assert shop.mib == (9216, 18432)
    assert hibernation.mib == (6144, 6144)
    assert measured.mib == (4096, 4096)
    assert "8192 MiB × 1.25 = 10240 MiB, minus 6144 MiB RAM" in measured.arithmetic
    small = msgspec.structs.replace(
        computer, space=Space(total_bytes=20.0 * GIB, free_bytes=10.0 * GIB)
    )
    assert swap_sizes(small, None)[0].mib == (9216, 9216)
    assert swap_sizes(small, None)[0].bounded
    assert isinstance(swap_sizes(facts(), None)[2].mib, NotMeasured)


# -- explain, suggest, capture ---------------------------------------------------------------------


def test_explain_names_functions_lost_unless_another_fills_them():
    items = [
        item("services", "spool", role="printing"),
        item("services", "fax", role="fax", needs=("spool",)),
        item("services", "spool2", role="printing"),
    ]
    found = explain(items[0], facts(*items), CATALOGUE)
    assert found.stops_with == ("services:fax",)
    assert found.functions_lost == ("no fax can be sent or taken in",)
    alone = explain(items[0], facts(*items[:2]), CATALOGUE)
    assert "nothing can be printed" in alone.functions_lost


def test_a_profile_is_suggested_by_what_runs_and_a_plain_one_otherwise(data_folder):
    profiles = list(data_folder.profiles().values())
    best = suggest(
        facts(item("services", "plot", role="plotting", title="Plotter queue")), profiles, CATALOGUE
    )[0]
    assert best.profile == "hull-drafting"
    assert "plotting: Plotter queue runs" in best.reasons
    assert suggest(facts(), profiles, CATALOGUE)[0].profile == "writing-and-web"


def test_a_capture_holds_no_names_and_comes_back(tmp_path):
    person = facts(
        item("apps", "sync", title="Sync of anna on loft-7", note="anna's"),
        name="loft-7",
        system=msgspec.structs.replace(facts().system, user="anna", users=("anna", "bert")),
    )
    path = tmp_path / "c.json"
    path.write_bytes(to_json(make_capture(person, reading(), names=False)))
    assert not any(name in path.read_text() for name in ("anna", "bert", "loft-7"))
    back = load_capture(path)
    assert back.facts.items[0].title == "Sync of user on computer"
    assert back.reading == reading()
    path.write_bytes(to_json(make_capture(person, None, names=True)))
    assert load_capture(path).facts == person


@pytest.mark.parametrize(
    ("data", "says"),
    [
        (b"", "damaged or cut short"),
        (b"[" * 200_000, "damaged or cut short|no capture"),
        (b'{"format": 99}', "newer Lumtak"),
        (b'{"format": 1, "facts": {}}', "no capture"),
        (b'{"format": 1, "facts": ' + b'{"a":' * 5000 + b"1" + b"}" * 5001, "no capture|damaged"),
        (b"\xff\xfe", "damaged"),
    ],
)
def test_a_hostile_capture_is_one_sentence(tmp_path, data, says):
    path = tmp_path / "c.json"
    path.write_bytes(data)
    with pytest.raises(BadFileError, match=says):
        load_capture(path)


def test_a_huge_capture_is_not_even_opened(tmp_path):
    path = tmp_path / "c.json"
    with path.open("wb") as file:
        file.truncate(1 << 30)
    with pytest.raises(BadFileError, match="larger than a capture"):
        load_capture(path)


def test_markup_and_escapes_in_a_capture_reach_no_terminal(tmp_path, home):
    evil = facts(
        item(
            "apps",
            "x\x1b[2Jy",
            title="\x1b]0;boo\x07[red]",
            note="\u202eevil",
            setting=Setting(values=("on", "off")),
        )
    )
    path = tmp_path / "c.json"
    path.write_bytes(
        to_json(make_capture(evil, reading(costs=[("apps:x\x1b[2Jy", 2.0, 100)]), names=False))
    )
    for command in (
        ("audit", path, "--profile", "hull-drafting"),
        ("explain", path, "apps:x\x1b[2Jy"),
    ):
        shown = lumtak(*command, home=home)
        assert shown.returncode == 0, shown.stderr
        assert not {"\x1b", "\x07", "\u202e"} & set(shown.stdout)


def test_the_chain_of_any_process_ends_in_what_started_it():
    items = [
        item("services", "cron", triggers=(Trigger(kind="system"),)),
        item("apps", "process/burner", triggers=(), setting=Fixed(needed="x")),
    ]
    given = {"cpu_s": 0.0, "rss_bytes": 1}
    processes = (
        Process(pid=10, name="cron", consumer="services:cron", parent=1, **given),
        Process(pid=11, name="sh", consumer="apps:process/sh", parent=10, **given),
        Process(pid=12, name="burner", consumer="apps:process/burner", parent=11, **given),
        Process(pid=20, name="orphan", consumer="apps:process/orphan", parent=1, **given),
        Process(pid=30, name="ouro", consumer="apps:process/o", parent=31, **given),
        Process(pid=31, name="boros", consumer="apps:process/b", parent=30, **given),
    )
    computer = facts(*items, processes=processes)
    words = [c.words for c in causes(processes[2], computer)]
    assert words == [
        "started by hand or by a script from sh (process 11)",
        "started from cron (process 10)",
        "belongs to cron (services:cron)",
        "starts with the system",
    ]
    assert "has ended" in causes(processes[3], computer)[-1].words
    assert causes(processes[4], computer)[-1].words == "a cycle"
    by_pid = {p.pid: p for p in processes}
    assert starter_of(processes[2], by_pid, {"services:cron"}) == Trigger(
        kind="wants", by="cron", area="services"
    )
    assert starter_of(processes[4], by_pid, set()) is None


# -- the fleet -------------------------------------------------------------------------------------


@pytest.fixture(scope="module")
def fleet_home(tmp_path_factory):
    return tmp_path_factory.mktemp("fleet")


TROUBLES = [
    ("drawing-bench", "hull-drafting", "processor", ("Chart cache", "Sheet index")),
    ("tool-crib", "tool-lending", "disk", ("Reading ahead", "solid-state", "465 GiB free")),
    ("tide-logger", "tide-logging", "clock", ("Plan on battery (saving → balanced)",)),
    ("sail-loft", "sail-making", "memory", ("Settings will not fix this", "4 GiB of RAM would")),
    (
        "steam-box",
        "steam-watching",
        "processor",
        ("log-boiler", "Post of measurements"),
    ),
    ("chart-room", "chart-reading", "nothing", ("Nothing to gain",)),
]


@pytest.mark.parametrize(("name", "who", "kind", "words"), TROUBLES)
def test_each_computers_trouble_is_found_first(fleet_home, name, who, kind, words):
    assert lumtak("restart", f"sim:{name}", home=fleet_home).returncode == 0
    shown = lumtak("audit", f"sim:{name}", "--profile", who, "--json", home=fleet_home)
    assert shown.returncode == 0, shown.stderr
    found = json.loads(shown.stdout)
    assert found["bottleneck"]["kind"] == kind
    assert any(word in found["headline"] for word in words)
    assert name == "drawing-bench" or all(word in found["headline"] for word in words)
    services = [f for f in found["findings"] if f["area"] == "services"]
    assert 150 <= len(services) <= 250
    eased = [f for f in found["findings"] if f["stance"] == "ease"]
    assert (eased == []) == (name == "chart-room")
    suggested = json.loads(
        lumtak("profile", "suggest", f"sim:{name}", "--json", home=fleet_home).stdout
    )
    assert suggested["profile"] == who
    times = json.loads(lumtak("facts", f"sim:{name}", "--json", home=fleet_home).stdout)["times"]
    assert times["start: services"] > 0
    assert times["login"] > 0


def test_memory_as_its_sum_and_a_profile_in_words(fleet_home):
    found = json.loads(lumtak("memory", "sim:sail-loft", "--json", home=fleet_home).stdout)
    assert sum(p["size_bytes"] for p in found["parts"]) == pytest.approx(2 * GIB, rel=1e-6)
    assert [s["rule"] for s in found["swap"]] == ["shop", "hibernation", "measured"]
    shown = lumtak("memory", "sim:sail-loft", home=fleet_home).stdout
    assert "1.5 × 2048 MiB" in shown
    profile_words = lumtak("profile", "show", "tide-logging", home=fleet_home).stdout
    assert "the log of tides, charts, mobile broadband" in profile_words
    causes_of = lumtak("explain", "sim:steam-box", "999999", home=fleet_home)
    assert causes_of.returncode == 2


def test_items_of_one_origin_alone(fleet_home):
    command = (
        "audit",
        "sim:drawing-bench",
        "--profile",
        "hull-drafting",
        "--seconds",
        "0",
        "--json",
        "--origin",
        "user",
    )
    found = json.loads(lumtak(*command, home=fleet_home).stdout)["findings"]
    assert {f["origin"] for f in found} == {"user"}


def test_the_marks_of_advice_are_told(fleet_home):
    shown = lumtak("audit", "sim:tide-logger", "--profile", "tide-logging", home=fleet_home).stdout
    assert "Somebody followed advice here: the boot entry says nr_cpus=4" in shown
    assert "harmful" in shown


def test_answers_are_kept_with_the_computer(fleet_home):
    name, key = "sim:drawing-bench", "apps:chat-horn"
    assert lumtak("answer", name, key, "needed", home=fleet_home).returncode == 0
    assert json.loads(lumtak("answer", name, "--json", home=fleet_home).stdout)["answers"] == {
        key: "needed"
    }
    found = json.loads(
        lumtak(
            "audit", name, "--profile", "hull-drafting", "--seconds", "0", "--json", home=fleet_home
        ).stdout
    )
    assert next(f for f in found["findings"] if f["key"] == "chat-horn")["stance"] == "keep"
    lumtak("answer", name, key, "forget", home=fleet_home)
    assert "Nothing was asked" in lumtak("answer", name, home=fleet_home).stdout


def test_capture_and_audit_elsewhere_agree(fleet_home, tmp_path):
    path = tmp_path / "steam.json"
    made = lumtak("capture", "sim:steam-box", "--out", path, "--seconds", "60", home=fleet_home)
    assert made.returncode == 0, made.stderr
    shown = lumtak("audit", path, "--profile", "steam-watching", home=tmp_path / "other")
    assert "log-boiler" in shown.stdout.splitlines()[2]
    assert lumtak("advice", "cach", home=tmp_path / "other").returncode == 0
    refused = lumtak("advice", "prefetsh", home=tmp_path / "other")
    assert "Did you mean" in refused.stderr
    assert refused.returncode == 2


def test_a_role_of_ones_own_is_used_and_a_contradiction_reported(tmp_path):
    own = tmp_path / "catalogue/mine.toml"
    own.parent.mkdir()
    own.write_text(
        ROLE.format("graphics", "guarded = false")
        + '[[role]]\nname = "bridge"\ntitle = "t"\ndoes = "d."\nstops = "s"\n'
    )
    shown = lumtak(
        "audit", "sim:chart-room", "--profile", "chart-reading", "--seconds", "0", home=tmp_path
    )
    assert "the file cannot lift that" in shown.stderr
    assert shown.returncode == 0


def test_roles_are_what_they_say():
    assert (
        msgspec.convert({"name": "x", "title": "t", "does": "d.", "stops": "s"}, Role).better
        == "off"
    )
