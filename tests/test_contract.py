"""What every computer promises, whatever kind it is."""

import threading

import pytest

from lumtak.computers.recorded import recorded_state
from lumtak.core.facts import Setting
from lumtak.core.load import between
from lumtak.core.setting import SettingRef, State
from lumtak.errors import ComputerError, LumtakError

KINDS = ("sim", "box")


@pytest.fixture(params=KINDS)
def computer(request):
    return request.getfixturevalue(request.param)


def switches(computer):
    return [i for i in computer.about.facts().items if isinstance(i.setting, Setting) and i.area == "apps"]


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
    }
    assert all(facts.find(ref).ref == ref for ref in refs)


def test_facts_without_change_are_the_same(computer):
    assert computer.about.facts().items == computer.about.facts().items


def test_what_is_written_is_read_and_comes_back(computer):
    for item in switches(computer):
        before = computer.settings.read(item.ref)
        other = "off" if before.value == "on" else "on"
        computer.settings.write(item.ref, State(value=other))
        assert computer.settings.read(item.ref).value == other
        assert computer.about.facts().find(item.ref).value == other
        computer.settings.write(item.ref, before)
        assert computer.settings.read(item.ref).same_as(before)


def test_restoring_twice_changes_nothing(computer):
    ref = switches(computer)[0].ref
    before = computer.settings.read(ref)
    computer.settings.write(ref, State(value="off"))
    computer.settings.write(ref, before)
    computer.settings.write(ref, before)
    assert computer.settings.read(ref).same_as(before)


def test_what_is_not_there_is_a_plain_error(computer):
    for action in (computer.settings.read, lambda r: computer.settings.write(r, State(value="off"))):
        with pytest.raises(ComputerError, match="nowhere") as caught:
            action(SettingRef(area="services", key="nowhere"))
        assert caught.value.next_step


def test_counters_never_fall_and_parts_never_exceed_the_whole(computer):
    first = computer.load.sample(memory=True)
    computer.clock.wait(1.0)
    second = computer.load.sample(memory=True)
    assert second.at_s > first.at_s
    assert second.busy_s >= first.busy_s
    assert all(second.cpu_s.get(key, 0) >= value for key, value in first.cpu_s.items())
    assert sum(m.ram_bytes for m in second.memory.values()) <= second.ram_total_bytes
    assert 0 <= second.ram_used_bytes <= second.ram_total_bytes
    got = between(first, second, first.at_s)
    assert 0 <= got.cpu_pct <= 100
    assert sum(got.consumers.values()) <= got.cpu_pct + 1e-6


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
    odd = State(value=before.value, exact=recorded_state({"kind": "of another computer", "folder": "/home/u"}))
    for attempt in (computer.settings.write, computer.settings.foresee):
        with pytest.raises(ComputerError):
            attempt(ref, odd)
    assert computer.settings.read(ref).same_as(before)
