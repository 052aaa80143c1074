"""What every computer promises, whatever kind it is."""

import os
import threading

import pytest

from helpers import CATALOGUE, ENTRY, Plain, bench, computer_on, linux, linux_tree, put
from lumtak.computers.hands.whose import User, local_hands
from lumtak.computers.linux.computer import LinuxComputer
from lumtak.computers.recorded import recorded_state
from lumtak.core.facts import Setting
from lumtak.core.sample import between
from lumtak.core.setting import Change, SettingRef, State
from lumtak.errors import ComputerError, LumtakError
from lumtak.journal import Journal, apply_changes, drift, put_back
from outside import ETC, FILE, INSTALL, Outside, RootHand
from test_hostile import with_tides
from test_linux_settings import unit_tree
from test_readings_files import Slow
from test_through_journal import Parted, Whole


def real(folder):
    """The computer that the tests run on, and a user whose home is a folder of theirs."""
    put(folder, "home/.config/autostart/tide-feed.desktop", ENTRY)
    home = str(folder / "home")
    user = User(name="u", uid=os.getuid(), gid=os.getgid(), home=home,
    config_home=f"{home}/.config", data_home=f"{home}/.local/share", cache_home=f"{home}/.cache",
                config_dirs=())  # fmt: skip
    return LinuxComputer(local_hands(user), user, CATALOGUE)


def outside(folder, **fields):
    """Programs that answer, and something of every kind."""
    hand = Outside(linux_tree(folder), ["tide.service"], **fields)
    hand.tell(
        permissions={"org.school.Tides": "yes"}, stored={"org.mate.interface cursor-blink": "true"}
    )
    RootHand.own_link(hand, f"{ETC}/multi-user.target.wants/tide.service", f"{FILE}/tide.service")
    RootHand.own_link(hand, f"{ETC}/also-tide.service", f"{FILE}/tide.service")
    put(folder, "/usr/lib/systemd/user/sail-index.service", INSTALL.format("sails"))
    wants = put(folder, "/etc/systemd/user/default.target.wants/sail-index.service", "")
    wants.unlink()
    wants.symlink_to("/usr/lib/systemd/user/sail-index.service")
    return computer_on(hand)


def of_files(folder):
    """A desktop that keeps its effects in files."""
    put(linux_tree(folder), "/usr/bin/plasmashell", "")
    return linux(folder)


COMPUTERS = {
    "simulated": bench,
    "simulated, held up": lambda folder: Slow(bench(folder)),
    "folder": lambda folder: linux(linux_tree(folder)),
    "folder with a desktop": of_files,
    "real": real,
    "outside": outside,
    "outside with a profile service": lambda folder: outside(folder, plan="balanced"),
    "tides": lambda folder: with_tides(unit_tree(linux_tree(folder)))[1],
    "plain": lambda folder: Plain(
        {"apps:tide": "on", "services:quay": "auto", "effects:sails": None}
    ),
    "parted": lambda folder: Parted(
        {"apps:tide": "on/on", "services:quay": "on/off"}, offered=("on/on", "off/off")
    ),
    "whole": lambda folder: Whole({"apps:tide": "on/on"}, offered=("on/on", "off/off")),
}
"""Every kind of computer, and every stand-in of the tests for one."""


@pytest.fixture(params=COMPUTERS)
def computer(request, tmp_path):
    made = COMPUTERS[request.param](tmp_path / "computer")
    yield made
    made.close()


MOST_AN_AREA = 9
"""Of a simulated computer: it has one kind of state, and a hundred settings."""


def switches(computer):
    return [
        i
        for i in computer.about.facts().items
        if isinstance(i.setting, Setting) and i.area == "apps"
    ]


def other_value(item):
    if item.setting.values:
        return next(v for v in (*item.setting.values[::-1],) if v != item.value)
    return str(
        item.setting.lowest if item.value != str(item.setting.lowest) else item.setting.lowest + 1
    )


def can_go(computer, item):
    """Whether anything can be set aside of a class: most stand-ins hold none."""
    try:
        computer.settings.foresee(item.ref, State(value="aside"))
    except ComputerError as error:
        assert "nothing to set aside" in str(error) or "a user's" in str(error), error
        return False
    return True


def test_facts_name_every_item_once(computer):
    facts = computer.about.facts()
    refs = [i.ref for i in facts.items]
    assert len(refs) == len(set(refs)) > 0
    assert facts.identity == computer.identity
    assert facts.hardware.ram_bytes > 0
    assert {i.area for i in facts.items} | {g.area for g in facts.gaps} == {
        "services",
        "apps",
        "effects",
        "power",
        "memory",
    } | ({"storage", "upkeep"} & {x.area for x in (*facts.items, *facts.gaps)})
    assert all(facts.find(ref).ref == ref for ref in refs)


def test_facts_without_change_are_the_same(computer):
    first, second = computer.about.facts(), computer.about.facts()
    running = ("process/",)  # on a real computer programs come and go
    for one, other in zip(
        *([i for i in f.items if not i.key.startswith(running)] for f in (first, second)),
        strict=True,
    ):
        assert one == other


def test_every_setting_goes_there_and_back_through_the_journal(computer, home):
    facts = computer.about.facts()
    every = [i for i in facts.items if isinstance(i.setting, Setting)]
    every = [i for i in every if i.pile is None or can_go(computer, i)]
    wanted = [
        i
        for n, i in enumerate(every)
        if sum(i.area == other.area for other in every[:n]) < MOST_AN_AREA
    ]
    before = {i.ref: computer.settings.read(i.ref) for i in wanted}
    journal = Journal(home)
    for item in wanted:
        change = Change(ref=item.ref, value=other_value(item))
        foreseen = computer.settings.foresee(item.ref, State(value=change.value))
        (outcome,) = apply_changes(journal, computer, facts, [change])
        assert outcome.result == "done", outcome
        assert computer.settings.read(item.ref).same_as(foreseen)
        assert computer.about.facts().find(item.ref).value == change.value
        assert [d.standing for d in drift(journal, computer)] == ["as left"]
        assert [o.result for o in put_back(journal, computer)] == ["done"]
        assert computer.settings.read(item.ref).same_as(before[item.ref])
    changes = [Change(ref=item.ref, value=other_value(item)) for item in wanted]
    assert {o.result for o in apply_changes(journal, computer, facts, changes)} <= {"done"}
    assert {o.result for o in put_back(journal, computer)} <= {"done"}
    for ref, state in before.items():
        assert computer.settings.read(ref).same_as(state)
        assert computer.about.facts().find(ref).value == state.value
    journal.close()


def test_restoring_twice_changes_nothing(computer):
    ref = switches(computer)[0].ref
    before = computer.settings.read(ref)
    computer.settings.write(ref, State(value=other_value(computer.about.facts().find(ref))))
    for _ in range(2):
        computer.settings.write(ref, before)
        assert computer.settings.read(ref).same_as(before)


def test_what_is_not_there_is_a_plain_error(computer):
    for action in (
        computer.settings.read,
        lambda r: computer.settings.write(r, State(value="off")),
    ):
        with pytest.raises(ComputerError, match="nowhere") as caught:
            action(SettingRef(area="services", key="nowhere"))
        assert caught.value.next_step


def test_counters_never_fall_and_parts_never_exceed_the_whole(computer):
    first = computer.load.sample(memory=True)
    computer.clock.wait(1.0)
    second = computer.load.sample(memory=True)
    assert second.at_s > first.at_s
    assert second.busy_s >= first.busy_s
    assert all(
        second.cpu_s.get(key, value) >= value for key, value in first.cpu_s.items()
    )  # programs may end
    assert sum(m.ram_bytes for m in second.memory.values()) <= second.ram_total_bytes
    assert 0 <= second.ram_used_bytes <= second.ram_total_bytes
    # A kernel counts processes exactly and the whole by looking at each tick: on a busy computer
    # the whole is some ticks off, by a share that falls with time; parts counted twice do not.
    while (got := between(first, second, first.at_s)).length_s < 30:
        assert 0 <= got.cpu_pct <= 100
        ticks_pct = 100 * 0.01 * (1 + len(got.consumers)) / got.length_s
        if sum(got.consumers.values()) <= got.cpu_pct + ticks_pct:
            return
        computer.clock.wait(1.0)
        second = computer.load.sample(memory=True)
    raise AssertionError(f"the parts exceed the whole: {got}")


def test_conditions_are_known(computer):
    system = computer.about.system()
    assert system.boot_id == computer.clock.boot_id() != ""
    assert system.session_id == computer.clock.session_id()
    assert system.uptime_s >= 0
    assert computer.clock.wall().tzinfo is not None


def test_waiting_ends_when_told_to_stop(computer):
    stop = threading.Event()
    stop.set()
    computer.clock.wait(3600.0, stop)


def test_a_restart_is_done_or_said_to_be_impossible(computer):
    before = computer.clock.boot_id()
    if computer.about.capabilities().restart:
        with pytest.raises(LumtakError, match="yourself"):
            computer.clock.restart()
        assert computer.clock.boot_id() == before
    else:
        computer.clock.restart()
        assert computer.clock.boot_id() != before
        again = computer.clock.session_id()
        computer.clock.restart(login_only=True)
        assert computer.clock.session_id() != again


def test_a_recorded_state_of_a_kind_that_is_not_known_is_refused_by_every_computer(computer):
    ref = switches(computer)[0].ref
    before = computer.settings.read(ref)
    odd = State(
        value=before.value,
        exact=recorded_state({"kind": "of another computer", "folder": "/home/u"}),
    )
    for attempt in (computer.settings.write, computer.settings.foresee):
        with pytest.raises(ComputerError):
            attempt(ref, odd)
    assert computer.settings.read(ref).same_as(before)
