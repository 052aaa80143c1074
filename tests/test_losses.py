"""Damage to Lumtak's own files.

Newer files are refused, lost records stay told, the rest mends itself; no figure claims what is
undone.
"""

import hashlib
import json
import random
import shutil

import msgspec
import pytest

from helpers import ENTRY, bench, database_at, linux, linux_tree, lumtak, put, snapshot_of
from lumtak.casebook.store import Casebook
from lumtak.core.setting import parse_change
from lumtak.errors import LumtakError, NewerError
from lumtak.journal import Journal, apply_changes, put_back
from lumtak.journal.entry import FORMAT, Entry, unsealed
from lumtak.work.audit import choose_all_eased, make_audit
from lumtak.work.handover import content_of
from lumtak.work.intake import begin_job, reopen_job
from lumtak.work.plan import carry_out, restart
from lumtak.work.proof import after_is_due, read_after
from lumtak.work.reading import read_baseline
from test_journal import apply, plain, results


def sealed(document):
    data = json.dumps(document).encode()
    return data, hashlib.sha256(data).hexdigest()


def rewrite(home, number, change, *, row=True, copy=True):
    """One record altered, with its checksum; both copies, or one."""
    (file,) = (home / "before").rglob(f"{number}.json")
    data, checksum = sealed(change(json.loads(file.read_bytes().partition(b"\n")[2])))
    if copy:
        file.write_bytes(checksum.encode() + b"\n" + data + b"\n")
    if row:
        with database_at(home / "journal.db") as database:
            database.execute(
                "UPDATE change SET document = ?, checksum = ? WHERE id = ?",
                (data, checksum, number),
            )


# -- newer, older ----------------------------------------------------------------------------------


@pytest.mark.parametrize("where", [{"copy": False}, {"row": False}, {}])
@pytest.mark.parametrize("damaged", [False, True])
def test_a_newer_record_is_refused_and_nothing_is_touched(home, where, damaged):
    journal = Journal(home)
    apply(journal, plain())
    journal.close()
    rewrite(home, 2, lambda d: {**d, "format": 99, "colour": "blue"}, **where)
    if damaged:
        with database_at(home / "journal.db") as database:
            database.execute("UPDATE change SET checksum = 'x' WHERE id = 3")
    before = {
        n: b
        for n, b in snapshot_of(home).items()
        if "lock" not in n and not n.endswith(("-shm", "-wal"))
    }
    for _ in range(2):
        with pytest.raises(NewerError, match="newer Lumtak"):
            Journal(home)
    assert {n: b for n, b in snapshot_of(home).items() if n in before} == before
    assert not list(home.glob("*damaged*"))


def test_a_newer_schema_is_refused_before_its_damage_is_seen(home):
    for name, store in (("journal.db", Journal), ("casebook.db", Casebook)):
        store(home).close()
        with database_at(home / name) as database:
            database.execute("PRAGMA user_version = 99")
        data = bytearray((home / name).read_bytes())
        data[4096:4196] = b"\xff" * 100
        (home / name).write_bytes(data)
        with pytest.raises(NewerError):
            store(home)
        assert (home / name).read_bytes() == data


def test_records_of_version_1_are_read_and_what_their_notes_said_are_fields():
    journal = {
        "format": 1, "id": 1, "plan": 1, "turn": 3, "computer": "c", "address": "local",
        "user": "u", "job": "", "ref": {"area": "apps", "key": "a"},
        "title": "a", "value": "off", "before": {"value": "on"}, "restore": {"value": "on"},
        "expected": {"value": "off"}, "after": None,
        "stage": "undone", "shows": "login", "boot_id": "b", "session_id": None,
        "note": "taken over by change 12", "begun_at": "", "stage_at": "",
    }  # fmt: skip
    read = unsealed(*sealed(journal), Entry)
    assert (read.taken_over_by, read.rescued, read.format) == (12, False, FORMAT)
    assert unsealed(*sealed({**journal, "note": "rescued"}), Entry).rescued
    assert unsealed(*sealed({**journal, "shoe": 44}), Entry) is None


def test_a_job_of_version_1_opens_where_its_station_is_now_and_its_sentence_is_gone(home):
    open_job = started(home)
    document = json.loads(msgspec.json.encode(open_job.job))
    document.pop("after_stood")
    document |= {"after_provisional": "restart needed for 3", "facts": None, "station": "apply"}
    open_job.data_folder.close()
    with database_at(home / "casebook.db") as database:
        database.execute("UPDATE job SET document = ?", (json.dumps(document).encode(),))
        database.execute("PRAGMA user_version = 3")
    book = Casebook(home)
    assert book.job(open_job.job.id).after_stood is None
    assert book.job(open_job.job.id).station == "plan", "where applying happens now"
    book.close()


# -- lost ------------------------------------------------------------------------------------------


def test_a_record_of_which_both_copies_are_damaged_is_told_and_the_old_script_stays(home, tmp_path):
    box = linux(linux_tree(tmp_path / "root"))
    put(tmp_path / "root", "/etc/xdg/autostart/mast.desktop", ENTRY)
    journal = Journal(home)
    apply_changes(
        journal,
        box,
        box.about.facts(),
        [parse_change("apps:tide-feed=off"), parse_change("apps:sail-sync=off")],
    )
    journal.close()
    scripts = tmp_path / "root/home/u/.local/share/lumtak-undo"
    (old,) = scripts.glob("undo-*.sh")
    kept = old.read_bytes()
    (home / f"before/{box.identity}/1.json").write_bytes(b"half")
    with database_at(home / "journal.db") as database:
        database.execute("UPDATE change SET document = X'00' WHERE id = 1")
    for _ in range(2):
        journal = Journal(home)
        assert journal.lost(box.identity) == [1]
        journal.close()
    journal = Journal(home)
    assert results(
        apply_changes(journal, box, box.about.facts(), [parse_change("apps:mast=off")])
    ) == ["done"]
    assert journal.entries()[-1].id == 3, "no number is given twice"
    assert old.read_bytes() == kept
    assert len(list(scripts.glob("undo-*.sh"))) == 2
    assert results(put_back(journal, box)) == ["done", "done"]
    assert old.read_bytes() == kept, "it alone still knows the lost change"
    journal.close()


def test_a_lost_record_gives_exit_code_3_until_it_is_settled(home):
    assert lumtak("apply", "sim:drawing-bench", "apps:chat-horn=off", home=home).returncode == 0
    (copy,) = (home / "before").rglob("1.json")
    copy.write_bytes(b"\xff" * 50)
    (home / "journal.db").write_bytes(b"\xff" * 5000)
    for command in (("undo", "sim:drawing-bench", "--all"), ("undo", "sim:drawing-bench", "1"),
    ("drift", "sim:drawing-bench"),
                    ("journal", "sim:drawing-bench")):  # fmt: skip
        said = lumtak(*command, home=home)
        assert said.returncode == 3, said
        assert "change 1 is lost" in said.stderr
        assert "nothing to put back" not in said.stdout
    assert lumtak("journal", "sim:drawing-bench", "--settle-lost", home=home).returncode == 0
    assert lumtak("undo", "sim:drawing-bench", "--all", home=home).returncode == 0


# -- damaged databases -----------------------------------------------------------------------------


def started(home):
    from helpers import profile
    from lumtak.work.data_folder import DataFolder

    open_job = begin_job(DataFolder(home), bench(home / "simulated"), profile())
    read_baseline(open_job, seconds=10)
    make_audit(open_job)
    return open_job


def hurt(data, dice):
    """The bytes of a file, damaged in one of several ways."""
    match dice.randrange(5):
        case 0:
            for _ in range(dice.randrange(1, 30)):
                data[dice.randrange(len(data))] = dice.randrange(256)
        case 1:
            data[dice.randrange(100)] = dice.randrange(256)
        case 2:
            del data[dice.randrange(len(data)) :]
        case 3:
            at = dice.randrange(min(len(data), 12_000))
            data[at : at + 200] = dice.randbytes(200)
        case 4:
            for at in (dice.randrange(len(data)) for _ in range(3)):
                data[at : at + 8] = b"\xff" * 8
    return data


def test_a_damaged_store_gives_sentences_and_opens_again(home, tmp_path):
    """What is read of it may be less; it is never a raw error, and the next opening works."""
    open_job = started(home)
    apply(open_job.data_folder.journal, plain())
    open_job.data_folder.close()
    dice = random.Random(20261125)
    for name, store in (("casebook.db", Casebook), ("journal.db", Journal)):
        whole = (home / name).read_bytes()
        for turn in range(60):
            folder = tmp_path / f"{name}-{turn}"
            folder.mkdir()
            (folder / name).write_bytes(hurt(bytearray(whole), dice))
            shutil.copytree(home / "before", folder / "before") if name == "journal.db" else None
            if dice.random() < 0.3:
                (folder / f"{name}-wal").write_bytes(dice.randbytes(5000))
            for _ in range(2):
                try:
                    opened = store(folder)
                except LumtakError as error:
                    assert str(error).endswith(".")
                    continue
                if store is Journal:
                    assert len(opened.entries("sim-plain")) == 3, "the second copies know all of it"
                else:
                    for heading in opened.jobs():
                        opened.job(heading.id)
                        opened.reading(heading.baseline)
                        opened.answers(heading.identity)
                opened.close()


def test_a_check_that_answers_in_no_text_is_damage_like_any_other(home):
    Casebook(home).close()
    data = (home / "casebook.db").read_bytes()
    (home / "casebook.db").write_bytes(
        data.replace(b"sqlite_autoindex_part_1", b"sqlite_autoindex_\xff\xfe\xfd\xfc_1")
    )
    book = Casebook(home)
    assert any("damaged" in n for n in book.notices)
    assert book.jobs() == []
    book.close()
    Casebook(home).close()


# -- what is said of a computer on which everything was put back -----------------------------------


@pytest.mark.parametrize("way", ["put back screen", "undo"])
def test_no_gain_is_claimed_once_the_changes_are_put_back(home, way):
    open_job = started(home)
    choose_all_eased(open_job)
    carry_out(open_job)
    restart(open_job)
    read_after(open_job, seconds=60, at_once=True)
    assert "carries less" in content_of(open_job).verdict
    if way == "undo":
        open_job.computer.close()
        assert lumtak("undo", "sim:drawing-bench", "--all", home=home).returncode == 0
        open_job = reopen_job(
            open_job.data_folder, open_job.data_folder.casebook.job(open_job.job.id)
        )
    else:
        put_back(open_job.data_folder.journal, open_job.computer)
    content = content_of(open_job)
    assert content.after_provisional == "put back"
    assert "less" not in content.verdict
    assert not after_is_due(open_job)
    assert apply_changes(
        open_job.data_folder.journal,
        open_job.computer,
        open_job.computer.about.facts(),
        [parse_change("apps:chat-horn=off")],
    )
    open_job.data_folder.close()
