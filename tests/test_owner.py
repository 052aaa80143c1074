"""What is said of an owner: kept where it belongs, and erased to the last page."""

import sqlite3
from types import SimpleNamespace

import msgspec
import pytest
from rich.text import Text

from helpers import lumtak
from lumtak.core.owner import MOST_LINE, MOST_NOTES, owner_of
from lumtak.tui.heading import head_line
from lumtak.work.data_folder import DataFolder
from lumtak.work.intake import begin_job
from lumtak.work.owner import forget_owner, note_owner, what_is_known

SECRET = ("Ada Fenderquill", "0100 5551234", "forty-two crowns", "her cat sleeps on it")
TOLD = "the treacle machine takes all morning"


def all_bytes(home):
    return b"".join(p.read_bytes() for p in home.rglob("*") if p.is_file())


@pytest.fixture
def noted(home):
    data_folder = DataFolder(home)
    computer = data_folder.computer("sim:tool-crib")
    open_job = begin_job(data_folder, computer, data_folder.profile("tool-lending"), told=TOLD)
    for times in range(30):  # rows that grow and shrink leave copies in free pages
        note_owner(open_job, notes=f"{SECRET[3]} {times} " * (times % 7 + 1))
    note_owner(open_job, name=SECRET[0], contact=SECRET[1], agreed=SECRET[2], notes=SECRET[3])
    open_job.close()
    return home, data_folder, open_job.job


def test_forgetting_erases_the_owner_from_every_file_and_nothing_else(noted):
    home, data_folder, job = noted
    written = home / "sheet.pdf"
    written.write_text("a sheet")
    job = msgspec.structs.replace(job, written=(str(written), "/gone.pdf"))
    assert all(words.encode() in all_bytes(home) for words in (*SECRET, TOLD))
    other = sqlite3.connect(home / "casebook.db")
    other.execute("BEGIN")
    other.execute("SELECT count(*) FROM job").fetchone()
    with pytest.raises(Exception, match=r"in use|locked"):
        forget_owner(data_folder, job)
    other.close()
    assert forget_owner(data_folder, job).named == (str(written),)
    left = all_bytes(home)
    assert not [words for words in (*SECRET, TOLD, "sleeps") if words.encode() in left]
    assert written.read_text() == "a sheet"
    kept = data_folder.casebook.job(job.id)
    assert (kept.owner.name, kept.told) == ("", "")
    assert kept == msgspec.structs.replace(job, owner=kept.owner, told="")
    data_folder.close()


def test_nobody_forgets_while_another_lumtak_could_keep_it_again(noted):
    home, data_folder, job = noted
    said = lumtak("forget", job.id, "--yes", home=home)
    assert (said.returncode, "Another Lumtak" in said.stderr) == (1, True)
    data_folder.close()
    assert lumtak("forget", job.id, home=home).returncode == 2, "nobody is there to answer"
    assert SECRET[0].encode() in all_bytes(home)
    assert lumtak("forget", job.id, "--yes", home=home).returncode == 0
    assert "Nothing is said" in lumtak("job", "owner", job.id, home=home).stdout
    again = lumtak("job", "owner", job.id, "--name", "Bo\u202eb\n\x1b[31m x", home=home)
    assert "\x1b" not in again.stdout, "what is typed is text"
    assert "Bo" in again.stdout


def test_the_complaint_stands_in_the_head_at_every_width(noted):
    _, data_folder, job = noted
    palette = SimpleNamespace(accent="white", soft="white", ink="white")
    long = msgspec.structs.replace(
        job, complaint="programs", told="everything is ever so slow " * 9, user="u" * 30
    )
    for width in (78, 100, 140, 240):
        for right in ("", "restart needed for 3", "reading, 4 minutes left"):
            line = head_line(long, Text(right), width, palette)
            assert line.cell_len <= width
            assert "slow to open programs"[:20] in line.plain
            assert line.plain.endswith(right)
    short = head_line(long, Text(), 240, palette).plain
    assert "visit 1" in short
    data_folder.close()


@pytest.mark.parametrize("field", ["name", "contact", "agreed", "notes"])
def test_what_is_typed_of_an_owner_is_one_line_of_bounded_length(field):
    given = dict.fromkeys(("name", "contact", "agreed", "notes"), "")
    long = owner_of(**{**given, field: "a  b\n\tc \x1b[31m " + "w" * 5000})
    value = getattr(long, field)
    assert value.startswith("a b c ")
    assert value.isprintable()
    assert len(value) == (MOST_NOTES if field == "notes" else MOST_LINE)
    assert getattr(owner_of(**given), field) == "", "all of it may be empty"


def test_nothing_is_asked_where_nothing_is_known(home):
    data_folder = DataFolder(home)
    computer = data_folder.computer("sim:chart-room")
    job = begin_job(data_folder, computer, data_folder.profile("chart-reading")).job
    assert not what_is_known(job)
    data_folder.close()
    said = lumtak("forget", job.id, home=home)
    assert (said.returncode, said.stderr) == (0, "")
