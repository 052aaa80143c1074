"""The journal: forth, back, in any order, and through every fault."""

import hashlib
import json
import threading
from datetime import timedelta
from itertools import permutations

import msgspec
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from helpers import EVENING, Once, Plain, database_at, facts, item
from lumtak.core.setting import State, parse_change
from lumtak.errors import ComputerError, StorageError, UnknownNameError
from lumtak.journal import (
    Journal,
    Owed,
    apply_changes,
    drift,
    owed_now,
    put_back,
    recover,
    review,
    warnings,
)
from lumtak.journal.owed import shows_not_yet
from test_through_journal import Whole

CHANGES = [parse_change(c) for c in ("apps:a=off", "apps:b=off", "services:c=manual")]


def plain(**fields):
    return Plain({"apps:a": "on", "apps:b": None, "services:c": "auto"}, **fields)


@pytest.fixture
def journal(home):
    made = Journal(home)
    yield made
    made.close()


def apply(journal, computer, changes=CHANGES, **options):
    return apply_changes(journal, computer, computer.about.facts(), changes, **options)


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
        with database_at(home / "journal.db") as database:
            (row,) = database.execute("SELECT document FROM change").fetchall()
        (copy,) = (home / "before").rglob("*.json")
        check, body = copy.read_bytes().rstrip(b"\n").split(b"\n", 1)
        assert hashlib.sha256(body).hexdigest().encode() == check
        seen.append((json.loads(row[0]), json.loads(body)))
        return value

    computer.trouble = look
    apply(journal, computer, CHANGES[:1])
    ((row, copy),) = seen
    assert row == copy
    assert row["stage"] == "intent"
    assert row["before"]["value"] == "on"
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
    first, *_ = apply(journal, computer)
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
    assert "it was on, Lumtak made it off, and now it is auto; " in outcomes["a"].note
    assert computer.values["apps:a"] == "auto"
    assert results(put_back(journal, computer, overwrite=True)) == ["done"]
    assert computer.values["apps:a"] == "on"


def test_what_somebody_put_back_already_is_noticed(journal):
    computer = plain()
    apply(journal, computer)
    computer.values["apps:a"] = "on"
    assert results(put_back(journal, computer)) == ["done"] * 3


def test_stopping_leaves_the_rest_untried(journal):
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
    st.lists(
        st.tuples(st.sampled_from("ab"), st.sampled_from(["on", "off", "auto", None])),
        min_size=1,
        max_size=7,
    ),
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
    with (
        other.writing(computer.identity),
        pytest.raises(StorageError, match=f"process {os.getpid()}"),
    ):
        apply(journal, computer)
    assert computer.writes == 0
    assert results(apply(journal, computer)) == ["done"] * 3
    other.close()


def test_anything_that_is_owed_makes_readings_provisional():
    owed = [
        Owed(),
        Owed(restart=("a",)),
        Owed(login=("b",)),
        Owed(restart=("a",), login=("b", "c")),
    ]
    assert [o.anything for o in owed] == [False, True, True, True]
    assert [o.in_words() for o in owed] == [
        "",
        "restart needed for 1",
        "new login needed for 1",
        "restart needed for 1, new login for 2",
    ]


def test_what_is_owed(journal):
    computer = plain(shows="login")
    apply(journal, computer, CHANGES[:2])
    owed = owed_now(journal, computer)
    assert (owed.restart, owed.login) == ((), ("a", "b"))
    computer.shows = "restart"
    apply(journal, computer, CHANGES[2:])
    assert owed_now(journal, computer).in_words() == "restart needed for 1, new login for 2"
    computer.clock.restart(login_only=True)
    assert owed_now(journal, computer).restart == ("c",)
    computer.clock.restart()
    assert not owed_now(journal, computer).anything
    old = msgspec.structs.replace(
        journal.entries()[0], shows="login", boot_id="b1", session_id=None
    )
    assert [shows_not_yet(old, boot, "s9") for boot in ("b1", "b2")] == [
        "login",
        "",
    ], "which login it was is not known"
    put_back(journal, computer)
    assert owed_now(journal, computer).restart == ("c",), "putting back owes a restart too"


def test_no_second_copy_no_write(home, journal):
    computer = plain()
    home.mkdir(exist_ok=True)
    (home / "before").write_text("in the way")
    with pytest.raises(StorageError, match="cannot be written"):
        apply(journal, computer)
    assert computer.writes == 0
    assert journal.entries() == []


def test_what_cannot_be_put_back_now_stays_with_the_reason(journal):
    computer = plain()
    apply(journal, computer)
    gone = computer.values.pop("apps:a")
    assert results(put_back(journal, computer)) == ["done", "done", "failed"]
    (left,) = [e for e in journal.entries() if e.is_open]
    assert "not put back yet" in left.note
    assert "gone" in left.note
    computer.values["apps:a"] = gone
    assert results(put_back(journal, computer)) == ["done"]


def test_a_refused_putting_back_stays_and_works_later(journal):
    computer = plain()
    apply(journal, computer, CHANGES[:1])

    def refuse(ref, value):
        raise ComputerError("locked.")

    computer.trouble = refuse
    assert results(put_back(journal, computer)) == ["failed"]
    assert [(e.stage, "locked" in e.note) for e in journal.entries()] == [("verified", True)]
    computer.trouble = lambda ref, value: value
    assert results(put_back(journal, computer)) == ["done"]


def test_an_interrupted_plan_is_told_change_by_change_before_anything_is_touched(journal):
    computer = plain()

    def cut(ref, value):
        if ref.key == "b":
            raise KeyboardInterrupt
        return value

    computer.trouble = cut
    with pytest.raises(KeyboardInterrupt):
        apply(journal, computer)
    computer.trouble = lambda ref, value: value
    writes = computer.writes
    found = review(journal, computer)
    assert [(line.title, line.found) for line in found.lines] == [
        ("a", "done"),
        ("b", "not done"),
        ("c", "not begun"),
    ]
    assert found.in_words() == "1 done, 1 not done, 1 not begun"
    assert computer.writes == writes
    told = []
    with journal.writing(computer.identity):
        recover(journal, computer, on_review=lambda r: told.append((r, computer.writes)))
    assert told == [(found, writes)]
    assert not review(journal, computer).lines


def test_pausing_holds_the_next_change_back(journal):
    computer, pause, stop = plain(), threading.Event(), threading.Event()
    seen = []

    def step(outcome):
        seen.append(outcome.result)
        pause.set()
        threading.Timer(0.05, stop.set).start()

    assert results(apply(journal, computer, on_step=step, stop=stop, pause=pause)) == [
        "done",
        "not tried",
        "not tried",
    ]


def test_what_counts_as_drift_and_what_is_said_of_it(journal):
    computer = Whole({"services:a": "1/1", "services:b": "1/1"})
    wanted = [parse_change("services:a=2/2"), parse_change("services:b=2/2")]
    apply_changes(journal, computer, computer.facts(), wanted)
    written = journal.entries()[0].stage_at
    computer.read = lambda ref: State(value="2/2", exact=Once({"": "edited"}))
    first = drift(journal, computer)[0]
    assert (first.standing, first.is_drift, first.now, first.last_right) == (
        "drifted",
        True,
        "2/2",
        written,
    )
    assert first.note == "the same word, but somebody edited it since"
    del computer.read
    assert [(d.standing, d.is_drift) for d in drift(journal, computer)] == [("as left", False)] * 2
    computer.wall = lambda: EVENING + timedelta(days=1)
    right = drift(journal, computer)[0].last_right
    computer.values["services:a"] = "3/3"
    first = drift(journal, computer)[0]
    assert (first.standing, first.is_drift, first.note, first.last_right) == (
        "drifted",
        True,
        "",
        right,
    )
    assert right > written
    computer.values["services:a"] = "1/1"
    first = drift(journal, computer)[0]
    assert (first.standing, first.is_drift, first.now) == ("back as before", True, "1/1")
    del computer.values["services:a"]
    first = drift(journal, computer)[0]
    assert (first.standing, first.is_drift, first.now) == ("cannot be read", False, "?")
    assert "is gone" in first.note
    computer.read = lambda ref: State(value="2/2", exact=Once({"": "edited"}))
    (conflict,) = put_back(journal, computer, [2])
    assert "now it is 2/2 (the same word, but somebody edited it since);" in conflict.note


def test_drift_says_what_is_no_longer_as_left_and_when_it_was_right(journal):
    computer = plain()
    apply(journal, computer)
    assert [d.standing for d in drift(journal, computer)] == ["as left"] * 3
    seen = {d.entry.ref.key: d.last_right for d in drift(journal, computer)}
    computer.values |= {"apps:a": "on", "services:c": "off"}
    found = {d.entry.ref.key: d for d in drift(journal, computer)}
    assert {k: (d.standing, d.now) for k, d in found.items()} == {
        "a": ("back as before", "on"), "b": ("as left", "off"), "c": ("drifted", "off"),
    }  # fmt: skip
    assert found["c"].last_right == seen["c"] == computer.clock.wall().isoformat(timespec="seconds")
    del computer.values["apps:b"]
    assert [d.standing for d in drift(journal, computer)][1] == "cannot be read"
    assert computer.writes == 3


def test_putting_back_warns_of_what_depends_on_it(journal):
    items = [
        item("services", "spool", value="off"),
        item("services", "chat", value="auto", needs=("spool",)),
    ]
    computer = Plain({"services:spool": "auto", "services:chat": "auto"})
    apply(
        journal, computer, [parse_change("services:chat=off"), parse_change("services:spool=off")]
    )
    entries = journal.entries()
    now = facts(
        *[
            i if i.key == "spool" else item("services", "chat", value="off", needs=("spool",))
            for i in items
        ]
    )
    assert warnings(now, entries, [1]) == ("chat cannot work while spool is off.",)
    assert warnings(now, entries, [2]) == ()
    assert warnings(now, entries, [1, 2]) == ()


def test_a_damaged_second_copy_is_written_anew_and_one_without_a_change_is_said(home):
    computer, journal = plain(), Journal(home)
    apply(journal, computer)
    journal.close()
    copies = sorted((home / "before").rglob("*.json"))
    copies[0].write_bytes(b"half")
    (copies[0].parent / "77.json").write_bytes(b"of nothing")
    journal = Journal(home)
    assert len(copies[0].read_bytes()) > 100
    assert any("77" in notice and "lost" in notice for notice in journal.notices)
    assert results(put_back(journal, computer)) == ["done"] * 3
    journal.close()


def test_a_change_whose_putting_back_was_cut_off_counts_as_taken_over_by_the_newer_one(journal):
    """Its effect stands as long as the newer change does, so that it is owed nothing of its own."""
    computer = plain(shows="restart")
    apply(journal, computer, [parse_change("services:c=manual")])
    apply(journal, computer, [parse_change("services:c=off")])
    older, newer = journal.entries()
    journal.rebase(older, newer, "2026-03-02T09:00:00+00:00")
    older = journal._put(journal.entry(1, computer.identity), stage="undoing", taken_over_by=0)
    recover(journal, computer)
    assert (
        journal.entry(1, computer.identity).stage,
        journal.entry(1, computer.identity).taken_over_by,
    ) == (
        "undone",
        2,
    )
    assert len(owed_now(journal, computer).restart) == 1
    assert results(put_back(journal, computer)) == ["done"]
    assert computer.values["services:c"] == "auto"


def test_each_interrupted_change_is_told_and_what_was_not_done_stands_on_nothing(journal):
    computer = plain()
    apply(journal, computer)
    apply(journal, computer, [parse_change("apps:a=auto")])
    *older, newest = journal.entries()
    for entry in older:
        journal._put(entry, stage="undoing")
    journal._put(newest, stage="intent")
    computer.values["apps:a"] = "off"
    told = [(line.title, line.found) for line in review(journal, computer).lines]
    assert told == [("a", "done"), ("b", "done"), ("c", "done"), ("a", "not done")]
    recover(journal, computer)
    assert [e.stage for e in journal.entries()] == ["verified"] * 3 + ["not done"]
    assert not any("was made on it" in e.note for e in journal.entries())


@pytest.mark.parametrize(
    "part",
    [{"computer": "../../elsewhere"}, {"computer": "sim\0"}, {"format": -1}, {"title": b"\xff"}],
)
def test_a_record_that_is_none_is_mended_from_its_second_copy_and_leads_nowhere(home, part):
    computer, journal = Plain({"apps:a": "on"}), Journal(home)
    apply_changes(journal, computer, computer.about.facts(), [parse_change("apps:a=off")])
    journal.close()
    with database_at(home / "journal.db") as database:
        (document,) = database.execute("SELECT document FROM change").fetchone()
        text = json.dumps(
            {**json.loads(document), **{k: v for k, v in part.items() if isinstance(v, str | int)}}
        ).encode()
        text = text.replace(b'"title": "', b'"title": "\xff') if "title" in part else text
        sums = hashlib.sha256(text).hexdigest()
        database.execute("UPDATE change SET document = ?, checksum = ?", (text, sums))
    journal = Journal(home)
    (entry,) = journal.entries()
    assert (entry.computer, entry.value, entry.rescued) == ("sim-plain", "off", True)
    assert sorted(p.name for p in (home / "locks").iterdir()) == ["journal", "sim-plain.lock"]
    journal.close()
