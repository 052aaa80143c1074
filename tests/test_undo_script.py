"""The undo script.

Readable, quoted safely, comparing before it writes, the same under every shell, and enough by
itself.
"""

import os
import shutil
import subprocess
import tempfile
from pathlib import Path
from types import SimpleNamespace

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from faulting import Folder, apply_all, run_script
from helpers import linux, lumtak, put, snapshot_of
from lumtak.computers.hands.sent.script.shell import _format, quoted
from lumtak.computers.linux.put_back import in_home
from lumtak.core.setting import parse_change
from lumtak.errors import StorageError
from lumtak.journal import Journal, apply_changes, put_back
from lumtak.journal.numbers import Numbers, lowest_free

SHELLS = [("sh",), ("dash",), ("busybox", "sh"), ("bash", "--posix")]
BYTES = st.binary(max_size=60) | st.text("-%\\'\"$`\n\t x", max_size=40).map(str.encode)


@pytest.fixture
def world(tmp_path):
    return Folder(tmp_path)


@pytest.fixture
def applied(world):
    before = world.look()
    journal = Journal(world.home)
    apply_all(world, journal, world.open())
    journal.close()
    return world, before


@pytest.mark.parametrize("shell", SHELLS, ids=lambda s: s[0])
def test_it_puts_everything_back_to_the_byte_and_removes_itself(applied, shell):
    world, before = applied
    assert world.script().stat().st_mode & 0o7777 == 0o700
    result = run_script(world.script(), world.tree, shell)
    assert (result.returncode, result.stderr) == (0, "")
    assert result.stdout.count("put back: ") == 3
    assert world.look() == before


@pytest.mark.parametrize("shell", SHELLS, ids=lambda s: s[0])
def test_what_somebody_changed_is_left_alone_and_running_it_twice_does_no_harm(applied, shell):
    world, _ = applied
    changed = world.tree / "home/u/.config/autostart/tide-feed.desktop"
    changed.write_bytes(b"mine\n")
    first = run_script(world.script(), world.tree, shell)
    assert first.returncode == 3
    assert "left alone, somebody changed it since: Tide feed" in first.stdout
    assert changed.read_bytes() == b"mine\n"
    seen = world.look()
    second = run_script(world.script(), world.tree, shell)
    assert second.stdout.count("as it was already") == 2
    assert (second.returncode, world.look()) == (3, seen)


def test_it_passes_the_checkers(applied):
    world, _ = applied
    script = world.script()
    for shell in SHELLS:
        subprocess.run([*shell, "-n", script], check=True)
    beside = script.parent / "put-back"
    found = subprocess.run(
        ["shellcheck", script, beside], capture_output=True, text=True, check=False
    )
    assert found.stdout == ""
    text = script.read_text()
    assert "#   Tide feed (apps:tide-feed): on before, off since (change 1)" in text
    assert "printf 'Name=Sail sync\\n'" in text, "readable"


def test_lumtak_notices_what_the_script_put_back(applied):
    world, before = applied
    run_script(world.script(), world.tree)
    journal = Journal(world.home)
    assert {o.result for o in put_back(journal, world.open())} == {"done"}
    assert not any(e.is_open for e in journal.entries())
    assert world.look() == before
    journal.close()


def test_it_goes_straight_to_what_was_before_the_first_change(world):
    before, journal = world.look(), Journal(world.home)
    for value in ("off", "on", "off"):
        computer = world.open()
        apply_changes(
            journal, computer, computer.about.facts(), [parse_change(f"apps:tide-feed={value}")]
        )
    journal.close()
    assert run_script(world.script(), world.tree).returncode == 0
    assert world.look() == before


def test_nothing_is_changed_where_the_script_cannot_be_left(world):
    (world.tree / "home/u/.local").write_text("in the way")
    before, journal = world.look(), Journal(world.home)
    computer = world.open()
    (outcome,) = apply_changes(
        journal, computer, computer.about.facts(), [parse_change("apps:tide-feed=off")]
    )
    assert outcome.result == "failed"
    assert "undo script" in outcome.note
    assert world.look() == before
    journal.close()


@pytest.mark.skipif(os.getuid() != 0, reason="needs another user to run it as")
def test_somebody_else_cannot_run_it(applied):
    world, _ = applied
    with tempfile.TemporaryDirectory() as folder:
        Path(folder).chmod(0o755)
        script = shutil.copy(world.script(), Path(folder) / "copy.sh")
        script.chmod(0o755)
        result = subprocess.run(
            ["sh", script],
            capture_output=True,
            text=True,
            check=False,
            user=65534,
            group=65534,
            extra_groups=[],
        )
    assert result.returncode == 2
    assert "Run this as the user" in result.stderr


@given(BYTES)
@settings(max_examples=80)
def test_any_bytes_come_out_of_printf_as_they_were(data):
    for shell in (["dash"], ["busybox", "sh"]):
        got = subprocess.run(
            [*shell, "-c", b"printf '%s'" % _format(data)], capture_output=True, check=True
        )
        assert got.stdout == data


@given(st.text(st.characters(exclude_characters="\0", exclude_categories=["Cs"]), max_size=30))
@settings(max_examples=40)
def test_any_name_is_one_word(text):
    got = subprocess.run(
        ["dash", "-c", b"printf %s " + quoted(text)], capture_output=True, check=True
    )
    assert got.stdout == os.fsencode(text)


@given(
    data=BYTES,
    name=st.text("a b'\"$`\n;-%\\é", min_size=1, max_size=12),
    mode=st.sampled_from([0o600, 0o644, 0o755]),
)
@settings(suppress_health_check=[HealthCheck.function_scoped_fixture], max_examples=25)
def test_odd_names_and_bytes_come_back(tmp_path_factory, data, name, mode):
    world = Folder(tmp_path_factory.mktemp("odd"))
    own = put(
        world.tree, f"/home/u/.config/autostart/{name}.desktop", b"[Desktop Entry]\nExec=x\n" + data
    )
    own.chmod(mode)
    before, computer, journal = world.look(), linux(world.tree), Journal(world.home)
    (outcome,) = apply_changes(
        journal, computer, computer.about.facts(), [parse_change(f"apps:{name}=off")]
    )
    assert outcome.result == "done"
    journal.close()
    result = run_script(world.script(), world.tree)
    assert result.returncode == 0, result.stdout + result.stderr
    assert world.look() == before


ACL = bytes.fromhex(
    "0200000001000600ffffffff02000400d204000004000000ffffffff10000600ffffffff20000000ffffffff"
)
"""user::rw-, user:1234:r--, group::---, mask::rw-, other::---; linux/posix_acl_xattr.h"""


@pytest.mark.parametrize("by", ["lumtak", "dash", "busybox", "an edit under another name"])
def test_what_was_replaced_goes_back_itself_with_all_that_belongs_to_it(tmp_path, by):
    world = Folder(tmp_path)
    entry = world.tree / "home/u/.config/autostart/sail-sync.desktop"
    os.setxattr(entry, "system.posix_acl_access", ACL)
    os.setxattr(entry, "user.note", b"mine")
    os.utime(entry, ns=(10**18 + 1, 10**18 + 123_456_789))
    other = world.tree / "home/u/other-name"
    os.link(entry, other)

    def looks():
        about = os.lstat(entry)
        kept = {n: os.getxattr(entry, n) for n in os.listxattr(entry)}
        names = sorted(os.listdir(entry.parent))
        size = about.st_ino, about.st_mode, about.st_nlink, about.st_mtime_ns, about.st_size
        return size, kept, names, entry.read_bytes()

    before, journal, computer = looks(), Journal(world.home), linux(world.tree)
    change = parse_change("apps:sail-sync=off")
    (outcome,) = apply_changes(journal, computer, computer.about.facts(), [change])
    assert outcome.result == "done"
    changed = looks()
    assert changed[1]["system.posix_acl_access"] == ACL  # nobody may do more meanwhile
    if by == "an edit under another name":
        other.write_bytes(b"[Desktop Entry]\nExec=else\n")
    if by in {"lumtak", "an edit under another name"}:
        assert [o.result for o in put_back(journal, computer)] == ["done"]
    else:
        shell = (by, "sh") if by == "busybox" else (by,)
        assert run_script(world.script(), world.tree, shell).returncode == 0
    if by == "an edit under another name":
        assert looks()[3] == before[3]  # what was recorded, and the edit stays under its name
        assert other.read_bytes().endswith(b"else\n")
    else:
        assert looks() == before
    journal.close()


def test_on_this_computer_with_lumtak_gone(tmp_path):
    """The real thing.

    This machine's own folders, a user's home of its own, the script run with nothing but a shell.
    """
    own = put(
        tmp_path,
        "home/.config/autostart/tide-feed.desktop",
        b"[Desktop Entry]\nName=Tide feed\nExec=/bin/true\n",
    )
    before = snapshot_of(tmp_path / "home")
    env = {"HOME": str(tmp_path / "home"), "XDG_CONFIG_HOME": "", "XDG_DATA_HOME": ""}
    done = lumtak("apply", "local", "apps:tide-feed=off", home=tmp_path / "data", env=env)
    assert done.returncode == 0, done.stderr
    assert b"Hidden=true" in own.read_bytes()
    path = done.stdout.split("Without Lumtak: sh ")[1].strip()
    shutil.rmtree(tmp_path / "data")
    result = subprocess.run(
        ["sh", path], capture_output=True, text=True, check=False, env={"PATH": "/usr/bin:/bin"}
    )
    assert (result.returncode, result.stderr) == (0, "")
    assert snapshot_of(tmp_path / "home") == before


# -- one change, by its number ---------------------------------------------------------------------


def by_number(world, shell, *words):
    """put-back alone, on a computer whose disk is mounted at the tree."""
    put_back_file = world.script().parent / "put-back"
    return run_script(put_back_file, world.tree, (*shell,), *words)


@pytest.mark.parametrize("shell", SHELLS, ids=lambda s: s[0])
def test_a_number_puts_back_that_change_and_no_other(applied, shell):
    world, before = applied
    own = "home/u/.config/autostart/sail-sync.desktop"
    listed = by_number(world, shell, "list")
    assert listed.stdout.count("as Lumtak left it") == 3
    seen = world.look()
    assert by_number(world, shell, "9").returncode == 2
    assert by_number(world, shell, "4 2").returncode == 2
    assert by_number(world, shell, "2", "9").returncode == 2
    assert world.look() == seen, "every number is known before anything is done"
    said = by_number(world, shell, "2")
    assert (said.returncode, said.stdout) == (
        0,
        "Change 2 is put back and read back: Sail sync (apps:sail-sync) is on again.\n",
    )
    assert (world.tree / own).read_bytes() == before[own.removeprefix("home/")][-1], world.look()
    changed = {k for k, v in world.look().items() if seen.get(k) != v and "sail-sync" not in k}
    assert not {k for k in changed if k.endswith(".desktop")}
    listed = by_number(world, shell, "list").stdout.splitlines()
    assert [line.split("now: ")[-1] for line in listed] == [
        "as Lumtak left it",
        "put back",
        "as Lumtak left it",
    ]
    assert "already" in by_number(world, shell, "2").stdout
    assert by_number(world, shell, "all").returncode == 0
    assert world.look() == before, "and put-back goes with the last"


def test_a_setting_that_was_changed_twice_goes_back_by_either_number(world):
    before = world.look()
    journal, computer = Journal(world.home), world.open()
    apply_all(world, journal, computer)
    facts = computer.about.facts()
    apply_changes(journal, computer, facts, [parse_change("apps:tide-feed=on")])
    once = [e.number for e in journal.entries()]
    assert once == [1, 2, 3, 4]
    assert "Change 4 is put back" in by_number(world, ("sh",), "4").stdout
    assert computer.settings.read(journal.entries()[0].ref).value == "off"
    said = by_number(world, ("sh",), "1").stdout
    assert said.startswith("Change 1 (with 4) is put back and read back: Tide feed")
    assert [o.result for o in put_back(journal, computer)] == ["as it was", *["done"] * 3]
    assert world.look() == before
    journal.close()


def test_numbers_are_the_lowest_free_and_one_on_a_sheet_is_never_given_again(world):
    journal, computer = Journal(world.home), world.open()
    apply_all(world, journal, computer)
    put_back(journal, computer, [2])
    facts = computer.about.facts()
    again = parse_change("apps:sail-sync=off")
    assert [o.number for o in apply_changes(journal, computer, facts, [again])] == [2]
    journal.numbers.hand_out(computer.identity, [2])
    put_back(journal, computer, [4])
    journal.close()
    journal = Journal(world.home)
    assert [o.number for o in apply_changes(journal, computer, facts, [again])] == [4]
    assert [e.number for e in journal.entries()] == [1, 2, 3, 2, 4]
    assert journal.called(2, computer.identity).id == 4, "the newest that was called so"
    (world.home / "numbers.json").write_text("[")
    with pytest.raises(StorageError, match="Mend it from a copy"):
        apply_changes(journal, computer, facts, [parse_change(world.again)])
    journal.close()


def test_two_shops_may_leave_scripts_and_no_number_is_mistaken(world):
    before = world.look()
    homes = [world.folder / name for name in ("one", "two")]
    for home, change in zip(homes, ("apps:tide-feed=off", "apps:sail-sync=off"), strict=True):
        journal, computer = Journal(home), world.open()
        done = apply_changes(journal, computer, computer.about.facts(), [parse_change(change)])
        assert [o.number for o in done] == [1]
        journal.close()
    said = by_number(world, ("sh",), "1")
    assert said.returncode == 2
    assert "Two shops left a change 1 here" in said.stderr
    lines = [line.split() for line in said.stderr.splitlines() if "undo-" in line]
    assert len(lines) == 2
    shell, script, number = lines[0]
    one = run_script(script, world.tree, (shell,), number)
    assert one.stdout.startswith("Change 1 is put back")
    assert by_number(world, ("sh",), "list").stdout.count("\n") == 2
    journal = Journal(homes[0])
    put_back(journal, world.open())
    journal.close()
    beside = world.tree / "home/u/.local/share/lumtak-undo/put-back"
    assert beside.exists(), "the other shop's script is still there"
    assert by_number(world, ("busybox", "sh"), "all").returncode == 0
    assert not beside.exists()
    journal = Journal(homes[1])
    put_back(journal, world.open())
    journal.close()
    after = world.look()
    assert not [k for k in after if "lumtak" in k]
    left = {k for k, v in after.items() if before.get(k) != v}
    assert left <= {"u/.local", "u/.local/share"}, "which the first shop had found missing"


def test_an_older_script_without_numbers_is_named_and_put_back_with_all(applied):
    world, before = applied
    script = world.script()
    old = script.read_text().replace("numbers='1 2 3' of_root=''\n", "numbers= of_root=\n")
    script.write_text(old)
    assert "without numbers" in by_number(world, ("dash",), "list").stdout
    assert by_number(world, ("dash",), "1").returncode == 2
    assert by_number(world, ("dash",), "all").returncode == 0
    assert world.look() == before


def test_words_that_are_none_change_nothing(applied):
    world, _ = applied
    seen = world.look()
    for word in ("four", "1x", "-1", ";id", "$(id)", "*", "", "1 2"):
        assert by_number(world, ("dash",), word).returncode == 2, word
    assert world.look() == seen
    script = run_script(world.script(), world.tree, ("sh",), "--look", "1")
    assert "as it was left: Tide feed" in script.stdout
    assert world.look() == seen
    foreign = world.tree / "home/u/.config/autostart/tide-feed.desktop"
    foreign.write_bytes(b"mine")
    said = by_number(world, ("sh",), "1")
    assert (said.returncode, foreign.read_bytes()) == (3, b"mine")
    assert "is left alone" in said.stdout
    assert "somebody changed it since" in by_number(world, ("sh",), "list").stdout


@pytest.mark.parametrize(
    ("path", "home", "typed"),
    [
        ("/home/u/.local/share/put-back", "/home/u", "~/.local/share/put-back"),
        ("/home/u/x y/put-back", "/home/u/", "'/home/u/x y/put-back'"),
        ("/srv/d/put-back", "/home/u", "/srv/d/put-back"),
        ("/srv/it's/put-back", "/home/u", "'/srv/it'\\''s/put-back'"),
    ],
)
def test_what_is_typed_is_as_short_as_a_shell_takes_it(path, home, typed):
    assert in_home(path, home) == typed


@given(
    st.lists(st.tuples(st.integers(1, 30), st.booleans()), max_size=20),
    st.sets(st.integers(1, 30), max_size=8),
    st.sets(st.integers(1, 12), max_size=2),
)
def test_a_new_number_is_nobodys_and_no_lower_one_is_free(changes, on_sheets, lost):
    """Lost records have a number that nobody knows: no higher than their place in the journal."""
    entries = [SimpleNamespace(number=n, is_open=stands) for n, stands in changes]
    found = lowest_free(entries, on_sheets, lost)
    taken = {e.number for e in entries if e.is_open} | on_sheets
    assert found not in taken
    assert found > max(lost, default=0)
    between = range(1 + max(lost, default=0), found)
    assert set(between) <= taken, "a lower one is free"


def test_what_stands_on_paper_is_known_to_whoever_opens_the_journal_next(tmp_path):
    path = tmp_path / "numbers.json"
    assert Numbers(path).on_sheets("a") == set()
    Numbers(path).hand_out("a", [])
    assert not path.exists(), "nothing was handed out"
    Numbers(path).hand_out("a", [3, 1])
    Numbers(path).hand_out("b", [1])
    Numbers(path).hand_out("a", [2])
    assert Numbers(path).on_sheets("a") == {1, 2, 3}
    assert path.stat().st_mode & 0o077 == 0
