"""Going through files in an order that is the same each time, and commands as they come."""

import errno
import os
import tempfile
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from lumtak.computers.hands.sent.files import diving, kernel
from lumtak.computers.hands.sent.files.passing import Pass
from lumtak.computers.hands.sent.units.running import programs_in
from lumtak.core.upkeep.files import SEEK_S, fragments_result, integrity_result
from lumtak.core.upkeep.system import Update, stopping_result, updates_result
from lumtak.core.upkeep.tasks import Found, Partial, named

NAMES = st.sampled_from(["a", "b", "B", "a.b", "a-b", "zz", "é", os.fsdecode(b"\xff"), " ", "a b"])
TREES = st.recursive(
    st.none(), lambda inner: st.dictionaries(NAMES, inner, max_size=4), max_leaves=14
).filter(lambda tree: isinstance(tree, dict))


def laid_out(place, tree):
    place.mkdir()
    for name, inner in tree.items():
        if inner is None:
            (place / name).write_text("x")
        else:
            laid_out(place / name, inner)


def passed(place, after=""):
    return [path for path, *_ in Pass(str(place), "/top", after).files()]


@settings(max_examples=60, deadline=None)
@given(TREES)
def test_from_wherever_it_is_gone_on_with_every_file_comes_once(tree):
    with tempfile.TemporaryDirectory() as folder:
        place = Path(folder) / "tree"
        laid_out(place, tree)
        whole = passed(place)
        assert len(whole) == len(set(whole)) == sum(len(names) for *_, names in os.walk(place))
        for n, path in enumerate(whole):
            assert passed(place, path) == whole[n + 1 :]
        gone = "/top/a/never was there"  # the file was deleted meanwhile: what follows it comes
        assert set(passed(place, gone)) <= set(whole)


def test_links_other_volumes_and_folders_that_may_not_be_read_are_passed(tmp_path, monkeypatch):
    def elsewhere(folder, name, flags):
        if name == "other":
            raise OSError(errno.EXDEV, "a mount begins there")
        return kernel.open_inside(folder, name, flags)

    monkeypatch.setattr(diving, "open_inside", elsewhere)
    for name in ("in", "other", "shut"):
        (tmp_path / name).mkdir()
        (tmp_path / name / "file").write_text("x")
    (tmp_path / "link").symlink_to("in")
    (tmp_path / "shut").chmod(0)
    os.mkfifo(tmp_path / "pipe")
    way = Pass(str(tmp_path), "/top", "")
    found = [path for path, *_ in way.files()]
    assert found[0] == "/top/in/file"
    assert "/top/other/file" not in found
    assert not any("link" in path or "pipe" in path for path in found)
    assert way.unread == (0 if os.geteuid() == 0 else 1)


@given(st.text(max_size=200))
def test_no_command_however_it_is_written_ends_the_look(command):
    found = programs_in(command, "/home/u")
    assert all(path.startswith("/") for path in found)
    assert len(found) == len(set(found))


# -- in words --------------------------------------------------------------------------------------


def test_updates_for_security_come_first_and_old_lists_are_something_to_look_at():
    waiting = [
        Update(name="b", old="1", new="2"),
        Update(name="a", old="1", new="2", restart=True),
        Update(name="z", old="1", new="2", security=True),
    ]
    told = updates_result(waiting, "", 3.0, "")
    assert [f.what for f in told.found] == ["z", "a", "b"]
    assert told.state == "found"
    assert updates_result(waiting[:2], "", 3.0, "").state == "fine", "they can wait for the rhythm"
    for days, owed in ((None, ""), (40.0, ""), (1.0, "a kernel")):
        assert updates_result([], "", days, owed).state == "found"
    assert updates_result([], "", 1.0, "").mend == ()


@pytest.mark.parametrize(
    ("menu", "stop", "late", "state", "mends"),
    [
        (3.0, 90.0, (), "fine", 0),
        (None, 90.0, (), "fine", 0),
        (30.0, None, (), "found", 1),
        (0.0, 300.0, ("x",), "found", 1),
        (None, None, (), "not possible", 0),
    ],
)
def test_what_is_longer_than_usual_is_something_to_look_at(menu, stop, late, state, mends):
    told = stopping_result("", menu, stop, late, ())
    assert (told.state, len(told.mend)) == (state, mends)


def test_no_name_of_a_package_is_more_than_a_name_in_a_command_to_type():
    names = ("sail", "lib:amd64", "$(reboot)", "--force", "a b", "x;y")
    found = tuple(Found(kind="damaged", what="/x", why="changed", of=name) for name in names)
    done = Partial(task="integrity", begun_at="", counts={"damaged": 6}, found=found)
    assert integrity_result(done, "").mend == ("apt-get install --reinstall lib:amd64 sail",)


@given(st.integers(1, 9999), st.integers(0, 10**6), st.integers(1, 10**12))
def test_pieces_are_told_by_their_formula(files, more, size):
    counts = {"measured": files, "pieces": files + more, "many": min(files, more)}
    done = Partial(task="fragments", begun_at="", files=files, bytes=float(size), counts=counts)
    told = fragments_result(done, "", [], "spinning")
    assert f"takes {100 * SEEK_S * more / (size / 100e6):.0f} % longer" in told.says
    assert (told.state == "found") == (SEEK_S * more > 0.25 * size / 100e6)


def test_of_many_names_some_are_named():
    assert named([]) == ""
    assert named(["a", "b"]) == "a, b"
    assert named([str(n) for n in range(9)]) == "0, 1, 2, 3, 4 and 4 more"
