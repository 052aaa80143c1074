"""Files whole or not there; databases that are durable, migrate, and refuse what is newer."""

import errno
import io
import os
import threading
import unicodedata

import msgspec
import pytest

from helpers import CATALOGUE, database_at, facts, item, lumtak, profile, reading
from lumtak.casebook.job import Job
from lumtak.casebook.store import Casebook
from lumtak.commands.terminal import Harmless, in_plain_words
from lumtak.core.audit import audit
from lumtak.core.text import harmless_json
from lumtak.database import Database
from lumtak.errors import StorageError, UnknownNameError
from lumtak.journal import Journal
from lumtak.storage import write_whole
from lumtak.work.data_folder import DataFolder

STEPS = ("open", "fsync", "replace")


@pytest.mark.parametrize("step", STEPS)
def test_a_write_that_fails_leaves_the_old_file_and_nothing_else(tmp_path, monkeypatch, step):
    path = tmp_path / "x.json"
    write_whole(path, b"old")

    def fail(*args, **options):
        raise OSError(errno.ENOSPC, os.strerror(errno.ENOSPC))

    monkeypatch.setattr(os, step, fail)
    with pytest.raises(StorageError, match="no space left on device") as caught:
        write_whole(path, b"new")
    monkeypatch.undo()
    assert caught.value.next_step
    assert path.read_bytes() == b"old"
    assert list(tmp_path.iterdir()) == [path]


def test_a_folder_is_made_and_a_file_in_its_place_is_said(tmp_path):
    write_whole(tmp_path / "a/b/c", b"x", private=True)
    assert (tmp_path / "a/b").stat().st_mode & 0o777 == 0o700
    with pytest.raises(
        StorageError, match=r"not a directory\. Choose a folder; a file is in the way"
    ):
        write_whole(tmp_path / "a/b/c/d", b"x")
    with pytest.raises(StorageError, match=r"no such file or directory\. Make its folder first"):
        write_whole(tmp_path / "none/x", b"x")
    assert not (tmp_path / "none").exists(), (
        "what somebody asked for goes where they said, or nowhere"
    )


@pytest.mark.parametrize(
    ("name", "known", "hint"),
    [
        ("sim:nothere", ["sim:chart-room", "sim:drawing-bench", "local"], "all of them"),
        (
            "sim:drawing-banch",
            ["sim:chart-room", "sim:drawing-bench", "local"],
            "Did you mean sim:drawing-bench?",
        ),
        (
            "services:tidefeed",
            ["services:tide-feed", "services:mast"],
            "Did you mean services:tide-feed?",
        ),
        ("services:x", ["services:tide-feed", "services:mast"], "all of them"),
    ],
)
def test_only_what_somebody_can_have_meant_is_suggested(name, known, hint):
    assert UnknownNameError("name", name, known, "all of them").next_step == hint


def test_durable_settings_and_numbered_migrations(tmp_path):
    path = tmp_path / "x.db"
    first = Database(path, ["CREATE TABLE a (x)"])
    first.run("INSERT INTO a VALUES (1)")
    first.close()
    second = Database(path, ["CREATE TABLE a (x)", "ALTER TABLE a ADD COLUMN y"])
    assert [tuple(r) for r in second.rows("SELECT * FROM a")] == [(1, None)]
    assert second.rows("PRAGMA journal_mode")[0][0] == "wal"
    assert second.rows("PRAGMA synchronous")[0][0] == 2
    second.close()
    with pytest.raises(StorageError, match="newer Lumtak"):
        Database(path, ["CREATE TABLE a (x)"])


def test_a_migration_that_fails_changes_nothing(tmp_path):
    path = tmp_path / "x.db"
    with pytest.raises(StorageError):
        Database(path, ["CREATE TABLE a (x); CREATE TABLE a (x)"])
    with database_at(path) as database:
        assert database.execute("SELECT count(*) FROM sqlite_master").fetchone() == (0,)


def test_a_damaged_file_is_said_and_a_damaged_journal_set_aside(tmp_path):
    for name in ("casebook.db", "journal.db"):
        (tmp_path / name).write_bytes(b"no database at all, but long enough to be looked at" * 50)
    book = Casebook(tmp_path)
    assert "built anew" in book.notices[0]
    assert book.jobs() == []
    book.close()
    journal = Journal(tmp_path)
    assert "built anew" in journal.notices[0]
    assert {p.name for p in tmp_path.glob("*.damaged-1")} == {
        "casebook.db.damaged-1",
        "journal.db.damaged-1",
    }
    journal.close()


def test_all_or_nothing(tmp_path):
    database = Database(tmp_path / "x.db", ["CREATE TABLE a (x)"])

    def half():
        with database.together():
            database.run("INSERT INTO a VALUES (1)")
            database.run("INSERT INTO nowhere VALUES (1)")

    with pytest.raises(StorageError):
        half()
    assert database.rows("SELECT * FROM a") == []


def test_several_threads(tmp_path):
    database = Database(tmp_path / "x.db", ["CREATE TABLE a (x)"])

    def work():
        for i in range(20):
            with database.together():
                database.run("INSERT INTO a VALUES (?)", (i,))
                database.rows("SELECT * FROM a")

    threads = [threading.Thread(target=work) for _ in range(4)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert database.rows("SELECT count(*) FROM a")[0][0] == 80


def job(number="bench-1", **fields):
    given = {
        "address": "sim:test", "identity": "sim-test", "computer_name": "bench", "user": "u",
        "visit": 1, "profile": profile(),
        "begun_at": "2026-03-02",
    }  # fmt: skip
    return Job(id=number, **{**given, **fields})


def test_jobs_come_back_as_they_were_newest_first(tmp_path):
    book = Casebook(tmp_path)
    one, two = job(), job("bench-2", station="proof", cursor="apps:x")
    book.save(one)
    book.save(two)
    book.save(one)
    assert [j.id for j in book.jobs()] == ["bench-1", "bench-2"]
    assert book.job("bench-2") == two
    full = job(
        "bench-2",
        facts=facts(item("apps", "x")),
        audit=audit(facts(item("apps", "x")), profile(), CATALOGUE, None),
    )
    book.save(full)
    assert book.job("bench-2") == full
    again = Casebook(tmp_path)
    again.save(msgspec.structs.replace(again.job("bench-2"), audit=None, cursor="apps:y"))
    kept = Casebook(tmp_path).job("bench-2")
    assert (kept.audit, kept.facts, kept.cursor) == (None, full.facts, "apps:y")
    again.close()
    kept = book.add_reading(one, "baseline", reading())
    assert book.reading(kept) == reading()
    assert book.reading(None) is None
    with pytest.raises(UnknownNameError, match="Did you mean bench-1"):
        book.job("bench1")
    book.close()


def test_visits_are_counted_and_names_stay_unique(tmp_path):
    book = Casebook(tmp_path)
    assert book.new_id("Drawing bench", "sim-test") == ("drawing-bench-1", 1)
    book.save(job("drawing-bench-1"))
    assert book.new_id("Drawing bench", "sim-test") == ("drawing-bench-2", 2)
    assert book.new_id("Drawing bench", "another") == ("drawing-bench-2", 1)
    assert book.new_id("\x1b[2J", "x")[0] == "2j-1"
    assert book.new_id("图", "y")[0] == "computer-1"
    book.close()


def test_a_job_from_elsewhere_is_said(tmp_path):
    book = Casebook(tmp_path)
    book._db.run("INSERT INTO job VALUES ('x', 'y', 1, ?)", (b'{"id": "x", "shoe_size": 44}',))
    assert book.jobs() == [], "one job that cannot be read does not hide the others"
    assert "newer Lumtak" in book.notices[0]
    with pytest.raises(StorageError, match="newer Lumtak"):
        book.job("x")
    book.close()


def test_lumtaks_own_files_are_its_owners_alone_whoever_opens_first(tmp_path):
    home = tmp_path / "a" / "home"
    os.umask(0)
    try:
        assert lumtak("apply", "sim:drawing-bench", "apps:chat-horn=off", home=home).returncode == 0
        assert lumtak("jobs", home=home).returncode == 0
        assert lumtak("undo", "sim:drawing-bench", "99", home=home).returncode == 2
    finally:
        os.umask(0o022)
    for path in (home.parent, home, *home.rglob("*")):
        assert path.stat().st_mode & 0o077 == 0, path
    assert {"journal.db", "casebook.db", "simulated"} <= {p.name for p in home.iterdir()}


def test_what_a_killed_lumtak_left_half_written_is_swept_and_what_another_writes_now_stays(
    tmp_path,
):
    for name, stays in (
        (".journal-id.999999999.0123abcd.new", False),
        (f".x.json.{os.getpid()}.0123abcd.new", True),
        (".mine.new", True),
    ):
        (tmp_path / name).write_text("half")
        DataFolder(tmp_path).close()
        assert (tmp_path / name).exists() is stays


@pytest.mark.skipif(os.geteuid() != 0, reason="only root is led astray by another's links")
def test_root_keeps_no_data_where_others_decide_what_stands_there(tmp_path):
    theirs = tmp_path / "theirs"
    theirs.mkdir()
    os.chown(theirs, 65534, 65534)
    (tmp_path / "link").symlink_to("theirs")
    (tmp_path / "open").mkdir()
    (tmp_path / "open").chmod(0o777)
    os.chown(tmp_path / "link", 65534, 65534, follow_symlinks=False)
    for home in (theirs, theirs / "deeper", tmp_path / "link", tmp_path / "open" / "x"):
        said = lumtak("jobs", home=home)
        assert said.returncode == 1
        assert "Start Lumtak as yourself" in said.stderr
        assert not list(theirs.iterdir())
    (tmp_path / "open").chmod(0o1777)
    assert lumtak("jobs", home=tmp_path / "open" / "x").returncode == 0


@pytest.mark.parametrize(
    ("said", "plain"),
    [
        (
            "Invalid value for '--seconds': 'abc' is not a valid float.",
            "Invalid value for '--seconds': “abc” is no number.",
        ),
        (
            "Invalid value for '--seed': 0 is not in the range 1<=x<=2147483648.",
            "Invalid value for '--seed': 0 is not from 1 to 2147483648.",
        ),
        (
            "Invalid value for '--t': -1.0 is not in the range x>=0.",
            "Invalid value for '--t': -1.0 is less than 0.",
        ),
        (
            "Invalid value for '--t': 9 is not in the range x<=5.",
            "Invalid value for '--t': 9 is more than 5.",
        ),
        ("No such option: --x", "No such option: --x"),
    ],
)
def test_usage_errors_are_said_in_plain_words(said, plain):
    assert in_plain_words(said) == plain


@pytest.mark.parametrize(
    ("text", "shown"),
    [
        ("a\tb\n", "a\tb\n"),
        ("\x1b[31m\x9b1m\u202e\x07", "␛[31m\ufffd1m\ufffd␇"),
        ("café 海\r\n", "café 海␍\n"),
        ("\udc80", "\ufffd"),
    ],
)
def test_nothing_that_is_said_can_give_orders_to_a_terminal(text, shown):
    raw = io.BytesIO()
    stream = Harmless(raw, encoding="utf-8", newline="\n")
    stream.write(text)
    stream.order("\x1b[K")
    stream.flush()
    assert raw.getvalue().decode() == shown + "\x1b[K"


@pytest.mark.parametrize(
    "text", ["plain", "caf\u00e9 海", "\u009b1m\u202e\u2028", "\U000e0001\u00a0"]
)
def test_json_says_the_same_without_what_a_terminal_obeys(text):
    document = harmless_json(msgspec.json.encode({text: text}))
    assert msgspec.json.decode(document) == {text: text}
    assert all(unicodedata.category(c) not in {"Cc", "Cf", "Zl", "Zp"} for c in document.decode())
