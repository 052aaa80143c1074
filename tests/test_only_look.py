"""A data folder that cannot be written is looked at, and nothing is changed."""

import os

import pytest

from helpers import lumtak
from lumtak.errors import StorageError
from lumtak.work.data_folder import DataFolder
from lumtak.work.handover import write_report
from lumtak.work.intake import reopen_job


@pytest.fixture
def kept(home):
    assert lumtak("apply", "sim:drawing-bench", "effects:shadows=off", home=home).returncode == 0
    assert (
        lumtak(
            "job", "start", "sim:drawing-bench", "--profile", "hull-drafting", home=home
        ).returncode
        == 0
    )
    return home


def test_what_is_there_is_shown_and_nothing_is_kept(kept, tmp_path, monkeypatch):
    before = {p: p.read_bytes() for p in kept.rglob("*") if p.is_file()}
    monkeypatch.setattr(os, "access", lambda path, how: how == os.R_OK)
    data_folder = DataFolder(kept)
    assert [(str(e.ref), e.stage) for e in data_folder.journal.entries()] == [
        ("effects:shadows", "verified")
    ]
    (heading,) = data_folder.casebook.jobs()
    job = data_folder.casebook.job(heading.id)
    assert data_folder.look("sim:drawing-bench")[0].name == "drawing bench"
    assert "cannot be written" in data_folder.notices()[0]
    for change in (
        lambda: data_folder.casebook.save(job),
        lambda: data_folder.casebook.answer("x", "apps:a", "needed", ""),
    ):
        with pytest.raises(StorageError, match="nothing is changed"):
            change()
    with (
        pytest.raises(StorageError, match="nothing is changed"),
        data_folder.journal.writing("sim-drawing-bench"),
    ):
        pass
    open_job = reopen_job(data_folder, job)
    names = {p.name for p in write_report(open_job, tmp_path / "r")}
    assert {"report.pdf", "sheet.pdf"} <= names, "no number of it would have to be kept"
    copy = data_folder.home
    data_folder.close()
    assert not copy.exists()
    assert {p: p.read_bytes() for p in kept.rglob("*") if p.is_file()} == before
