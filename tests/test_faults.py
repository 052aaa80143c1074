"""Every fault the journal has to survive, on a simulated computer and on a real folder."""

import os
import signal
import tempfile
from datetime import timedelta
from itertools import count
from pathlib import Path

import pytest

from faulting import (
    KINDS,
    WORLDS,
    Folder,
    Sim,
    apply_all,
    apply_and_put_back,
    change_twice_and_put_back_the_older,
    damage_everywhere,
    strike_everywhere,
    wrong_after,
)
from helpers import EVENING, Plain, database_at, lumtak
from lumtak.cli import cli
from lumtak.commands.change import stopping
from lumtak.core.setting import parse_change
from lumtak.errors import ConflictError, StorageError
from lumtak.journal import Journal, apply_changes, put_back

both = pytest.mark.parametrize("world_kind", WORLDS)


@pytest.fixture
def place():
    """A folder in memory where there is one: a thousand worlds are made in it."""
    with tempfile.TemporaryDirectory(
        dir="/dev/shm" if os.access("/dev/shm", os.W_OK) else None
    ) as folder:
        yield Path(folder)


@pytest.mark.long
@pytest.mark.parametrize(
    ("world_kind", "act", "strike"),
    # Applying alone is the first half of it, a full disk is as a broken one: `make faults` tries
    # all of them everywhere.
    [
        *(
            (world, apply_and_put_back, strike)
            for world in WORLDS
            for strike in ("kill", "broken disk")
        ),
        *((world, change_twice_and_put_back_the_older, "kill") for world in WORLDS),
        (Sim, apply_and_put_back, "full disk"),
        (Folder, change_twice_and_put_back_the_older, "broken disk"),
    ],
)
def test_a_strike_at_any_step_loses_nothing(world_kind, act, strike, place):
    tally = strike_everywhere(world_kind, act, strike, place)
    assert tally.tried == tally.points > 50
    assert tally.lost == []


@pytest.mark.long
@pytest.mark.parametrize("world_kind", KINDS)
@pytest.mark.parametrize("strike", ["kill", "broken disk"])
def test_a_strike_at_any_step_loses_nothing_of_any_kind_of_state(world_kind, strike, place):
    tally = strike_everywhere(world_kind, apply_and_put_back, strike, place, outside=True)
    assert tally.tried == tally.points > 10
    assert tally.lost == []


@both
@pytest.mark.parametrize("suffix", ["", "-wal"])
def test_a_journal_cut_short_or_damaged_is_mended(world_kind, suffix, place):
    tally = damage_everywhere(world_kind, place, suffix)
    assert tally.tried > 10
    assert tally.lost == []


@both
def test_a_newer_journal_is_refused_and_left_alone(world_kind, place):
    world = world_kind(place)
    before = world.look()
    journal = Journal(world.home)
    apply_all(world, journal, world.open())
    journal.close()
    path, applied = world.home / "journal.db", world.look()
    with database_at(path) as database:
        database.execute("PRAGMA user_version = 99")
    with pytest.raises(StorageError, match="newer Lumtak"):
        Journal(world.home)
    assert world.look() == applied
    with database_at(path) as database:
        database.execute("PRAGMA user_version = 1")
    assert wrong_after(world, before) == []


@both
def test_a_clock_that_is_set_back_disturbs_nothing(world_kind, place):
    world = world_kind(place)
    before, journal, computer, ticks = world.look(), Journal(world.home), world.open(), count()
    computer.clock.wall = lambda: EVENING - timedelta(days=next(ticks))
    apply_all(world, journal, computer)
    journal.close()
    assert wrong_after(world, before) == []


def test_a_really_full_disk_under_the_database(home):
    computer, journal = Plain({f"apps:{n}": "on" for n in range(40)}), Journal(home)
    pages = journal._db.rows("PRAGMA page_count")[0][0]
    journal._db.rows(f"PRAGMA max_page_count = {pages + 2}")
    changes = [parse_change(f"apps:{n}=off") for n in range(40)]
    with pytest.raises(StorageError, match="full"):
        apply_changes(journal, computer, computer.about.facts(), changes)
    journal.close()
    journal = Journal(home)
    done = [e.ref.key for e in journal.entries() if e.is_open]
    assert 0 < len(done) < 40
    assert [key.split(":")[1] for key, value in computer.values.items() if value == "off"] == done
    put_back(journal, computer)
    assert set(computer.values.values()) == {"on"}
    journal.close()


def holding(home, then):
    """A child that holds the lock of plain until `then` lets it go."""
    ready, told = os.pipe()
    child = os.fork()
    if child == 0:
        with Journal(home).writing("sim-plain"):
            os.write(told, b".")
            signal.pause()
    os.read(ready, 1)
    try:
        return then(child)
    finally:
        os.kill(child, signal.SIGKILL)
        os.waitpid(child, 0)
        os.close(ready)
        os.close(told)


def test_a_second_lumtak_is_refused_and_a_dead_one_holds_nothing(home):
    computer = Plain({"apps:a": "on"})

    def refused(child):
        journal = Journal(home)
        with pytest.raises(StorageError, match=f"process {child}"):
            apply_changes(journal, computer, computer.about.facts(), [parse_change("apps:a=off")])
        journal.close()

    holding(home, refused)
    assert computer.writes == 0
    journal = Journal(home)
    (outcome,) = apply_changes(
        journal, computer, computer.about.facts(), [parse_change("apps:a=off")]
    )
    assert outcome.result == "done"
    journal.close()


@pytest.mark.parametrize("number", [signal.SIGINT, signal.SIGTERM, signal.SIGHUP])
def test_being_told_to_end_during_a_write_ends_after_it(home, number, capsys):
    computer, journal = Plain({"apps:a": "on", "apps:b": "on"}), Journal(home)

    def told(ref, value):
        os.kill(os.getpid(), number)
        return value

    computer.trouble = told
    with stopping() as stop:
        changes = [parse_change(c) for c in ("apps:a=off", "apps:b=off")]
        outcomes = apply_changes(journal, computer, computer.about.facts(), changes, stop=stop)
    assert [o.result for o in outcomes] == ["done", "not tried"]
    assert "Ending after this change" in capsys.readouterr().err
    journal.close()


@pytest.mark.parametrize("fault", ["refuse", "locked", "powercut", "revert", "respawn", "slow"])
def test_every_fault_of_a_simulated_computer_is_survived(home, fault):
    name = "sim:drawing-bench"
    changes = ("effects:shadows=off", "services:fax-bridge=off")
    before = lumtak("facts", name, "--json", home=home).stdout
    struck = lumtak("apply", f"{name}?fault={fault}:{changes[1][:-4]}", *changes, home=home)
    assert struck.returncode in {0, 3}, struck.stderr
    assert "Traceback" not in struck.stderr
    assert (struck.returncode == 3) == (fault in {"refuse", "locked", "powercut"})
    assert lumtak("undo", name, "--all", home=home).returncode == 0
    assert items_of(lumtak("facts", name, "--json", home=home).stdout) == items_of(before)


def items_of(document):
    import json

    return [(i["area"], i["key"], i["value"]) for i in json.loads(document)["items"]]


def test_a_disk_that_is_full_after_one_of_three_changes_ends_as_partly_done(home, monkeypatch):
    kept = Journal.intend

    def intend(self, entry):
        if self.entries():
            raise StorageError(
                "journal.db cannot be written: no space left on device.", "Make room."
            )
        return kept(self, entry)

    monkeypatch.setattr(Journal, "intend", intend)
    words = [
        "--home",
        str(home),
        "apply",
        "sim:drawing-bench",
        "effects:shadows=off",
        "effects:animations=off",
        "apps:chat-horn=off",
    ]
    with pytest.raises(ConflictError, match="1 of 3 were changed, and then: journal") as caught:
        cli.main(words, standalone_mode=False)
    assert caught.value.exit_code == 3
