"""The journal: forth, back, in any order, and through every fault."""

import json
import sqlite3
from itertools import permutations

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from helpers import Plain, bench, linux, snapshot_of
from lumtak.core.setting import SettingRef, State, parse_change
from lumtak.errors import ComputerError, StorageError, UnknownNameError
from lumtak.journal import Journal, apply_changes, owed_now, put_back, recover

CHANGES = [parse_change(c) for c in ("apps:a=off", "apps:b=off", "services:c=manual")]


def plain(**fields):
    return Plain({"apps:a": "on", "apps:b": None, "services:c": "auto"}, **fields)


@pytest.fixture
def journal(home):
    made = Journal(home)
    yield made
    made.close()


def apply(journal, computer, changes=CHANGES, **options):
    return apply_changes(journal, computer, computer.facts(), changes, **options)


def results(outcomes):
    return [o.result for o in outcomes]


def test_forth_and_back(journal):
    computer = plain()
    before = dict(computer.values)
    assert results(apply(journal, computer)) == ["done"] * 3
    assert computer.values == {"apps:a": "off", "apps:b": "off", "services:c": "manual"}
    assert {e.stage for e in journal.entries()} == {"verified"}
    assert results(put_back(journal, computer)) == ["done"] * 3
    assert computer.values == before, "unset is unset again"
    assert {e.stage for e in journal.entries()} == {"undone"}
    assert put_back(journal, computer) == []


def test_the_before_value_is_on_disk_twice_before_the_write(journal, home):
    computer = plain()
    seen = []

    def look(ref, value):
        rows = sqlite3.connect(home / "journal.db").execute("SELECT stage, before FROM change").fetchall()
        (copy,) = (home / "before").rglob("*.json")
        check, body = copy.read_bytes().split(b"\n", 1)
        seen.append((rows, check, json.loads(body)))
        return value

    computer.trouble = look
    apply(journal, computer, CHANGES[:1])
    ((rows, check, body),) = seen
    assert rows[0][0] == "intent"
    assert json.loads(rows[0][1])["value"] == "on"
    assert body["before"]["value"] == "on"
    assert len(check) == 64
    computer.trouble = lambda ref, value: value
    put_back(journal, computer)
    assert list((home / "before").rglob("*.json")) == []


def test_what_has_its_value_already_is_left_alone(journal):
    computer = plain()
    assert results(apply(journal, computer, [parse_change("apps:a=on")])) == ["as it was"]
    assert computer.writes == 0
    assert journal.entries() == []


def test_a_refusal_stops_the_plan_and_leaves_nothing_open(journal):
    computer = plain()

    def refuse(ref, value):
        if ref.key == "b":
            raise ComputerError("refused.")
        return value

    computer.trouble = refuse
    assert results(apply(journal, computer)) == ["done", "failed", "not tried"]
    assert [e.stage for e in journal.entries()] == ["verified", "failed"]
    assert results(put_back(journal, computer)) == ["done"]


def test_a_value_that_goes_back_by_itself_is_a_failure(journal):
    computer = plain()
    computer.trouble = lambda ref, value: computer.values[str(ref)]
    assert results(apply(journal, computer)) == ["failed", "not tried", "not tried"]
    assert "went back" in journal.entries()[0].note


def test_a_third_value_is_a_conflict_and_can_be_put_back(journal):
    computer = plain()
    computer.trouble = lambda ref, value: "auto"
    (first, *_) = apply(journal, computer)
    assert first.result == "conflict"
    assert "neither" in first.note
    computer.trouble = lambda ref, value: value
    assert results(put_back(journal, computer)) == ["done"]
    assert computer.values["apps:a"] == "on"


def test_somebody_elses_value_is_left_alone_until_told(journal):
    computer = plain()
    apply(journal, computer)
    computer.values["apps:a"] = "auto"
    outcomes = {o.change.ref.key: o for o in put_back(journal, computer)}
    assert outcomes["a"].result == "conflict"
    assert all(word in outcomes["a"].note for word in ("was on", "made it off", "now it is auto"))
    assert computer.values["apps:a"] == "auto"
    assert results(put_back(journal, computer, overwrite=True)) == ["done"]
    assert computer.values["apps:a"] == "on"


def test_what_somebody_put_back_already_is_noticed(journal):
    computer = plain()
    apply(journal, computer)
    computer.values["apps:a"] = "on"
    assert results(put_back(journal, computer)) == ["done"] * 3


def test_stopping_leaves_the_rest_untried(journal):
    import threading

    computer, stop = plain(), threading.Event()
    outcomes = apply(journal, computer, on_step=lambda _: stop.set(), stop=stop)
    assert results(outcomes) == ["done", "not tried", "not tried"]


def test_a_number_that_is_not_there(journal):
    computer = plain()
    apply(journal, computer)
    with pytest.raises(UnknownNameError, match="no change on this computer called 99"):
        put_back(journal, computer, [99])


@pytest.mark.parametrize("order", list(permutations([1, 2, 3])))
def test_several_changes_of_one_setting_in_any_order(journal, order):
    computer = plain()
    for value in ("off", "auto", "manual"):
        apply(journal, computer, [parse_change(f"apps:a={value}")])
    open_values = {1: ("on", "off"), 2: ("off", "auto"), 3: ("auto", "manual")}
    left = [1, 2, 3]
    for number in order:
        assert results(put_back(journal, computer, [number])) == ["done"]
        left.remove(number)
        wanted = open_values[left[-1]][1] if left else "on"
        assert computer.values["apps:a"] == wanted
    assert not any(e.is_open for e in journal.entries())


@given(
    st.lists(st.tuples(st.sampled_from("ab"), st.sampled_from(["on", "off", "auto", None])), min_size=1, max_size=7),
    st.data(),
)
@settings(suppress_health_check=[HealthCheck.function_scoped_fixture], max_examples=40)
def test_any_changes_put_back_in_any_order_are_the_identity(tmp_path_factory, steps, data):
    journal = Journal(tmp_path_factory.mktemp("j"))
    computer = plain()
    before = dict(computer.values)
    for key, value in steps:
        apply(journal, computer, [parse_change(f"apps:{key}={value or 'unset'}")])
    numbers = [e.id for e in journal.entries()]
    for number in data.draw(st.permutations(numbers)):
        put_back(journal, computer, [number])
    assert computer.values == before
    journal.close()


def test_a_second_lumtak_is_told_who_is_at_work(journal, home):
    import os

    computer = plain()
    other = Journal(home)
    with other.writing(computer.identity), pytest.raises(StorageError, match=f"process {os.getpid()}"):
        apply(journal, computer)
    assert computer.writes == 0
    assert results(apply(journal, computer)) == ["done"] * 3
    other.close()


def test_what_is_owed(journal):
    computer = plain(shows="login")
    apply(journal, computer, CHANGES[:2])
    owed = owed_now(journal, computer)
    assert (owed.restart, owed.login) == ((), ("a", "b"))
    computer.shows = "restart"
    apply(journal, computer, CHANGES[2:])
    assert owed_now(journal, computer).in_words() == "restart owed for 3"
    computer.restart(login_only=True)
    assert owed_now(journal, computer).restart == ("c",)
    computer.restart()
    assert not owed_now(journal, computer).anything
    put_back(journal, computer)
    assert owed_now(journal, computer).restart == ("c",), "putting back owes a restart too"


# -- faults: at every step, power is cut or the disk fails -------------------------------------------------------------------------


class PowerCut(BaseException):
    """Nothing after this line runs."""


class Outside:
    """Counts journal writes and outside writes, and cuts the power before or after the n-th."""

    def __init__(self, journal, computer, cut_at, error=PowerCut):
        self.count, self.cut_at, self.error = 0, cut_at, error
        self._run, self._write = journal._db.run, computer.write
        journal._db.run = self.run
        computer.write = self.write

    def step(self):
        self.count += 1
        if self.count == self.cut_at:
            raise self.error

    def run(self, statement, values=()):
        if statement.startswith(("INSERT", "UPDATE", "DELETE")):
            self.step()
            result = self._run(statement, values)
            self.step()
            return result
        return self._run(statement, values)

    def write(self, ref: SettingRef, state: State):
        self.step()
        self._write(ref, state)
        self.step()


def sim_world(folder):
    computer = bench(folder / "simulated")
    changes = [parse_change(c) for c in ("effects:shadows=off", "services:fax-bridge=off", "apps:chat-horn=off")]
    return computer, changes, lambda: dict(computer._state.settings)


def box_world(folder):
    from helpers import linux_tree

    tree = linux_tree(folder / "root")
    changes = [parse_change(c) for c in ("apps:tide-feed=off", "apps:sail-sync=off")]
    return linux(tree), changes, lambda: snapshot_of(tree / "home")


def fault_points(world, tmp_path, act):
    """How many steps the act takes when nothing goes wrong."""
    computer, changes, _ = world(tmp_path / "count")
    journal = Journal(tmp_path / "count/home")
    outside = Outside(journal, computer, 0)
    act(journal, computer, changes)
    journal.close()
    return outside.count


def apply_all(journal, computer, changes):
    apply_changes(journal, computer, computer.facts(), changes)


def apply_and_put_back(journal, computer, changes):
    apply_all(journal, computer, changes)
    put_back(journal, computer)


@pytest.mark.parametrize("world", [sim_world, box_world])
@pytest.mark.parametrize("act", [apply_all, apply_and_put_back])
def test_power_cut_at_every_step_loses_nothing(world, act, tmp_path):
    points = fault_points(world, tmp_path, act)
    assert points >= 12
    for cut_at in range(1, points + 1):
        folder = tmp_path / f"cut-{cut_at}"
        computer, changes, look = world(folder)
        before = look()
        journal = Journal(folder / "home")
        Outside(journal, computer, cut_at)
        with pytest.raises(PowerCut):
            act(journal, computer, changes)
        journal.close()

        computer, changes, look = world_again(world, folder)
        journal = Journal(folder / "home")
        recover(journal, computer)
        for entry in journal.entries():
            assert entry.stage in {"verified", "undone", "not done"}, (cut_at, entry)
            now = computer.read(entry.ref)
            wanted = entry.value if entry.stage == "verified" else entry.before.value
            assert now.value == wanted, (cut_at, entry)
        put_back(journal, computer)
        assert look() == before, cut_at
        journal.close()


def world_again(world, folder):
    if world is sim_world:
        return sim_world(folder)
    tree = folder / "root"
    return linux(tree), [], lambda: snapshot_of(tree / "home")


@pytest.mark.parametrize("world", [sim_world, box_world])
def test_a_disk_that_fails_at_every_step_is_one_sentence_and_loses_nothing(world, tmp_path):
    points = fault_points(world, tmp_path, apply_all)
    for cut_at in range(1, points + 1):
        folder = tmp_path / f"fail-{cut_at}"
        computer, changes, look = world(folder)
        before = look()
        journal = Journal(folder / "home")
        outside = Outside(journal, computer, cut_at, error=StorageError("the disk is full."))
        with pytest.raises(StorageError, match="full"):
            apply_all(journal, computer, changes)
        outside.cut_at = 0
        put_back(journal, computer)
        assert look() == before, cut_at
        journal.close()


def test_no_second_copy_no_write(home, journal):
    computer = plain()
    home.mkdir(exist_ok=True)
    (home / "before").write_text("in the way")
    with pytest.raises(StorageError, match="cannot be written"):
        apply(journal, computer)
    assert computer.writes == 0
    assert journal.entries() == []
