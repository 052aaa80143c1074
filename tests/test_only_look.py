"""A data folder that cannot be written is looked at, and nothing is changed."""

import os

import pytest

from helpers import lumtak
from lumtak.errors import StorageError
from lumtak.work.workshop import Workshop


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


def test_what_is_there_is_shown_and_nothing_is_kept(kept, monkeypatch):
    before = {p: p.read_bytes() for p in kept.rglob("*") if p.is_file()}
    monkeypatch.setattr(os, "access", lambda path, how: how == os.R_OK)
    workshop = Workshop(kept)
    assert [(str(e.ref), e.stage) for e in workshop.journal.entries()] == [
        ("effects:shadows", "verified")
    ]
    (heading,) = workshop.casebook.jobs()
    job = workshop.casebook.job(heading.id)
    assert workshop.look_at("sim:drawing-bench")[0].name == "drawing bench"
    assert "cannot be written" in workshop.notices()[0]
    for change in (
        lambda: workshop.casebook.save(job),
        lambda: workshop.casebook.answer("x", "apps:a", "needed", ""),
    ):
        with pytest.raises(StorageError, match="nothing is changed"):
            change()
    with (
        pytest.raises(StorageError, match="nothing is changed"),
        workshop.journal.writing("sim-drawing-bench"),
    ):
        pass
    copy = workshop.home
    workshop.close()
    assert not copy.exists()
    assert {p: p.read_bytes() for p in kept.rglob("*") if p.is_file()} == before
