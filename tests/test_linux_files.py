"""Autostart entries on a real folder: the standard's override, and back to the byte."""

import dataclasses
import os
import sys

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from helpers import CATALOGUE, ENTRY, linux, put, snapshot_of, tree_user
from lumtak.computers.hands.sent.files import owned
from lumtak.computers.hands.sent.files.places import RefusalError
from lumtak.computers.hands.sent.looking import MOST_BYTES
from lumtak.computers.hands.sent.root.settling import RootHand
from lumtak.computers.hands.sent.table import PROGRAMS
from lumtak.computers.hands.whose import chosen_user, folder_hands, local_hands
from lumtak.computers.linux.computer import LinuxComputer
from lumtak.computers.linux.desktop_entry import is_off, program_of, read_entry, with_hidden
from lumtak.computers.linux.folder import UserFolder
from lumtak.core.setting import State, parse_ref
from lumtak.errors import ComputerError, UnknownNameError
from lumtak.roots import why_not_as_root

SYSTEM, OWN = parse_ref("apps:tide-feed"), parse_ref("apps:sail-sync")
OFF, ON = State(value="off"), State(value="on")


def override(tree, name="tide-feed"):
    return tree / f"home/u/.config/autostart/{name}.desktop"


# -- entries ---------------------------------------------------------------------------------------


def test_a_system_entry_is_switched_off_by_the_users_own_copy(tree, box):
    box.settings.write(SYSTEM, OFF)
    text = override(tree).read_text()
    assert "Hidden=true" in text
    assert "Exec=/opt/tide/tide-feed --quiet" in text
    assert (tree / "etc/xdg/autostart/tide-feed.desktop").read_text() == ENTRY


def test_what_is_listed_of_each_entry(tree, box):
    (tree / "home/u/.config/autostart/tide-feed.desktop").write_text(ENTRY)
    put(tree, "/etc/xdg/autostart/mast.desktop", ENTRY + "Comment=Raises it\nHidden=true\n")
    of = {i.key: i for i in box.about.facts().items if i.area == "apps"}
    assert {
        k: (of[k].value, of[k].origin, of[k].started_by) for k in ("tide-feed", "sail-sync", "mast")
    } == {
        "tide-feed": ("on", "package", "starts at login, from the system's list"),
        "sail-sync": ("on", "user", "starts at login"),
        "mast": ("off", "package", "starts at login, from the system's list"),
    }
    assert all(
        of[k].setting.values == ("on", "off") and of[k].at_login
        for k in ("tide-feed", "sail-sync", "mast")
    )
    assert of["mast"].note == "Raises it"


def test_a_new_override_can_be_read_by_everybody_and_an_old_one_keeps_its_mode(tree, box):
    box.settings.write(SYSTEM, OFF)
    assert override(tree).stat().st_mode & 0o777 == 0o644
    override(tree).chmod(0o600)
    box.settings.write(SYSTEM, State(value="on"))
    assert not override(tree).exists() or override(tree).stat().st_mode & 0o777 == 0o600


def test_switching_on_again_sets_hidden_false(tree, box):
    box.settings.write(SYSTEM, OFF)
    box.settings.write(SYSTEM, ON)
    assert read_entry(override(tree).read_bytes())["Hidden"] == "false"
    assert box.settings.read(SYSTEM).value == "on"


def test_an_override_that_only_hides_is_taken_away(tree, box):
    put(tree, "/home/u/.config/autostart/tide-feed.desktop", "[Desktop Entry]\nHidden=true\n")
    assert box.settings.read(SYSTEM).value == "off"
    box.settings.write(SYSTEM, ON)
    assert not override(tree).exists()


def test_ones_own_entry_keeps_every_other_byte(tree, box):
    odd = (
        b"# caf\xe9\r\n[Desktop Entry]\r\nName=X\r\nExec=x\r\n\r\n[Desktop Action"
        b" y]\r\nHidden=maybe\r\n"
    )
    override(tree, "sail-sync").write_bytes(odd)
    box.settings.write(OWN, OFF)
    got = override(tree, "sail-sync").read_bytes()
    assert got.replace(b"Hidden=true\r\n", b"") == odd
    assert is_off(got)


def test_folders_that_were_missing_go_again(tree, box):
    for path in (override(tree, "sail-sync"), override(tree).parent, tree / "home/u/.config"):
        path.unlink() if path.is_file() else path.rmdir()
    before = snapshot_of(tree)
    state = box.settings.read(SYSTEM)
    box.settings.write(SYSTEM, OFF)
    assert override(tree).exists()
    box.settings.write(SYSTEM, state)
    assert snapshot_of(tree) == before


def test_folders_that_somebody_uses_since_stay(tree, box):
    override(tree, "sail-sync").unlink()
    override(tree).parent.rmdir()
    state = box.settings.read(SYSTEM)
    box.settings.write(SYSTEM, OFF)
    put(tree, "/home/u/.config/autostart/new.desktop", ENTRY)
    box.settings.write(SYSTEM, state)
    assert [p.name for p in override(tree).parent.iterdir()] == ["new.desktop"]


def test_a_link_comes_back_as_a_link(tree, box):
    put(tree, "/home/u/dotfiles/sail.desktop", ENTRY)
    own = override(tree, "sail-sync")
    own.unlink()
    own.symlink_to("../../dotfiles/sail.desktop")
    before = snapshot_of(tree)
    state = box.settings.read(OWN)
    box.settings.write(OWN, OFF)
    assert not own.is_symlink()
    assert (tree / "home/u/dotfiles/sail.desktop").read_text() == ENTRY
    box.settings.write(OWN, state)
    assert snapshot_of(tree) == before


def test_what_an_interrupted_write_left_is_cleared(tree, box):
    state = box.settings.read(SYSTEM)
    before = snapshot_of(tree)
    box.settings.write(SYSTEM, OFF)
    (temporary,) = [t for t in [_left_behind(tree, box)] if t]
    assert temporary.exists()
    box.settings.write(SYSTEM, state)
    assert snapshot_of(tree) == before


def _left_behind(tree, box):
    """A temporary file as a killed write leaves it."""
    from lumtak.computers.hands.sent.files.atomic import temporary_name

    path = override(tree).parent / temporary_name("tide-feed.desktop")
    path.write_bytes(b"half")
    return path


def test_another_home_is_not_written_to(tree, box, tmp_path):
    state = box.settings.read(SYSTEM)
    other = dataclasses.replace(tree_user(), config_home="/home/other/.config")
    box = LinuxComputer(folder_hands(str(tree), other), other, CATALOGUE)
    with pytest.raises(ComputerError, match="same HOME"):
        box.settings.write(SYSTEM, state)


@pytest.mark.parametrize("key", ["../../etc/passwd", "a/b", "", "\0", "nowhere"])
def test_keys_that_are_no_entries_are_refused(box, key):
    says = "is not there any more" if key == "nowhere" else "is no name of an autostart entry"
    with pytest.raises(ComputerError, match=says):
        box.settings.write(type(SYSTEM)(area="apps", key=key), OFF)


def test_a_folder_that_others_can_write_is_not_used(tree, box):
    override(tree).parent.chmod(0o777)
    before = snapshot_of(tree)
    with pytest.raises(ComputerError, match="others can write"):
        box.settings.write(SYSTEM, OFF)
    assert snapshot_of(tree) == before


@pytest.mark.parametrize(
    "make", [lambda p: p.mkdir(), os.mkfifo, lambda p: p.write_bytes(b"x" * (1 << 20) + b"y")]
)
def test_what_is_no_entry_is_listed_and_left_alone(tree, make):
    make(override(tree, "odd"))
    box = linux(tree)
    item = box.about.facts().find(parse_ref("apps:odd"))
    assert "by hand" in item.setting.needed
    assert item.at_login
    with pytest.raises(ComputerError):
        box.settings.read(item.ref)


def test_entries_without_end_are_listed_and_not_all_read(tree):
    big = put(tree, "/home/u/.config/autostart/a0.desktop", ENTRY.encode() + b"\n" * (60 << 10))
    for number in range(1, 100):
        override(tree, f"a{number}").symlink_to(big.name)
    put(tree, "/home/u/.config/autostart/b.desktop", ENTRY.encode() + b"#" * (1 << 16))
    of = {i.key: i for i in linux(tree).about.facts().items if i.area == "apps"}
    assert {f"a{n}" for n in range(100)} <= of.keys()
    assert of["a0"].setting.values == ("on", "off")
    assert "more than 4 MiB" in of["a99"].setting.needed
    assert 60 < sum("MiB" not in getattr(i.setting, "needed", "") for i in of.values()) < 80
    for path in big.parent.glob("a*"):
        path.unlink()
    of = {i.key: i for i in linux(tree).about.facts().items if i.area == "apps"}
    assert "is larger than 64 KiB" in of["b"].setting.needed
    with pytest.raises(ComputerError, match="larger than 64 KiB"):
        linux(tree).settings.write(parse_ref("apps:b"), OFF)


def test_a_file_of_a_mebibyte_is_read_and_a_larger_one_is_not(tree, box):
    whole = UserFolder(RootHand(str(tree), homes=("/home/u/.config",)), "/home/u/.config")
    for size, fits in ((MOST_BYTES, True), (MOST_BYTES + 1, False)):
        put(tree, "/home/u/.config/big", b"x" * size)
        for read in (whole.content, whole.exact):
            if fits:
                assert len(getattr(read("big"), "data", read("big"))) == size
            else:
                with pytest.raises(ComputerError, match="larger than 1024 KiB"):
                    read("big")
    (tree / "home/u/.config/big").unlink()
    (tree / "home/u/.config/big").mkdir()
    for read in (whole.content, whole.exact):
        with pytest.raises(ComputerError, match="no ordinary file"):
            read("big")


def test_what_a_hand_says_when_it_fails_is_in_the_sentence(tree):
    class Broken(RootHand):
        def put(self, folder, name, data, mode, keep=False):
            raise OSError("the hand of mia has ended")

    with pytest.raises(
        ComputerError, match=r"/home/u/\.config/x: the hand of mia has ended\. Mend that"
    ):
        UserFolder(Broken(str(tree)), "/home/u/.config").put("x", b"", 0o644)


def test_hostile_names_show_as_text(tree):
    put(
        tree,
        "/home/u/.config/autostart/[b]\x1b[31mx.desktop",
        ENTRY.replace("Tide feed", "\x1b]0;pwn\x07[bold]"),
    )
    (item,) = [i for i in linux(tree).about.facts().items if "x" in i.key and "[b]" in i.key]
    assert item.title == "␛]0;pwn␇[bold]"


BODY = st.lists(st.sampled_from([b"Name=x", b"Hidden=true", b"Hidden = false", b"Hidden=1",
b"[Desktop Entry]", b"[Other]", b"Exec=y", b"", b"#c", b"\xff=\xfe", b"x\r"]),
max_size=8)  # fmt: skip


@given(BODY, st.booleans())
def test_hidden_is_set_in_any_file(lines, hidden):
    data = b"\n".join(lines)
    got = with_hidden(data, hidden=hidden)
    assert is_off(got) == hidden
    assert with_hidden(got, hidden=hidden) == got
    kept = [line for line in got.split(b"\n") if not line.strip().startswith(b"Hidden")]
    original = [line for line in lines if not line.strip().startswith(b"Hidden")]
    assert kept in (
        original,
        [b"[Desktop Entry]", *original],
        original or [b""],
        [b"[Desktop Entry]", *(original or [b""])],
    )


CONTENT = st.one_of(
    st.none(),
    st.binary(max_size=60),
    st.sampled_from([ENTRY.encode(), b"[Desktop Entry]\nHidden=true\n"]),
)


@given(
    own=CONTENT,
    mode=st.sampled_from([0o600, 0o644, 0o640]),
    steps=st.lists(st.sampled_from(["on", "off"]), min_size=1, max_size=4),
)
@settings(suppress_health_check=[HealthCheck.function_scoped_fixture], max_examples=40)
def test_any_changes_then_the_first_state_is_the_identity(tree, own, mode, steps):
    path = override(tree)
    path.unlink(missing_ok=True)
    if own is not None:
        path.write_bytes(own)
        path.chmod(mode)
    before = snapshot_of(tree)
    box = linux(tree)
    state = box.settings.read(SYSTEM)
    for value in steps:
        box.settings.write(SYSTEM, State(value=value))
        assert box.settings.read(SYSTEM).value == value
    box.settings.write(SYSTEM, state)
    assert snapshot_of(tree) == before


@pytest.mark.parametrize(
    ("line", "program"),
    [
        ("/usr/bin/a --b", "a"),
        ('"/opt/my app/run" x', "run"),
        ("env A=1 b", "b"),
        ("sh -c c", "c"),
        ("", ""),
        ("nice -n 5 d", "5"),
    ],
)
def test_programs_of_entries(line, program):
    assert program_of({"Exec": line}) == program


# -- transport and user ----------------------------------------------------------------------------


def test_links_never_lead_out_of_the_folder(tree, tmp_path):
    (tmp_path / "secret").write_text("s")
    transport = RootHand(str(tree))
    for name, target in (
        ("abs", str(tmp_path / "secret")),
        ("up", "../../../../../secret"),
        ("loop", "loop"),
    ):
        (tree / "etc" / name).symlink_to(target)
        with pytest.raises(OSError, match=r"links|No such"):
            transport.read(f"/etc/{name}")
    (tree / "etc/good").symlink_to("/etc/os-release")
    assert transport.read("/etc/good").startswith(b"PRETTY")


def test_no_program_runs_in_a_folder(tree):
    with pytest.raises(OSError, match="no programs"):
        RootHand(str(tree)).run(("true",))


def test_a_program_that_is_not_in_the_table_is_refused_and_one_that_is_missing_an_os_error(
    monkeypatch,
):
    hand = RootHand()
    for arguments in (
        ("false",),
        ("/nowhere/x",),
        ("sh", "-c", "id"),
        ("systemctl", "mask", "--", "x.service"),
    ):
        with pytest.raises(RefusalError):
            hand.run(arguments)
    monkeypatch.setitem(PROGRAMS, "lumtak-is-not-there", r"")
    with pytest.raises(FileNotFoundError):
        hand.run(("lumtak-is-not-there",))


def test_home_and_xdg_count_for_the_caller():
    user = chosen_user(
        None, {"HOME": "/h", "XDG_CONFIG_HOME": "/c", "XDG_CONFIG_DIRS": "/x:/y:rel"}
    )
    assert (user.config_home, user.config_dirs) == ("/c", ("/x", "/y"))
    assert (
        chosen_user(None, {"HOME": "/h", "XDG_CONFIG_HOME": "relative"}).config_home == "/h/.config"
    )


@pytest.mark.parametrize(
    ("mode", "uid", "refused"),
    [(0o755, 0, False), (0o777, 0, True), (0o1777, 0, False), (0o755, 4711, True)],
)
def test_root_runs_nothing_that_others_can_write(tmp_path, monkeypatch, mode, uid, refused):
    folder = put(tmp_path, "/tools/lumtak/x.py", "").parent
    (tmp_path / "tools").chmod(mode)
    real = owned.on_the_way

    def steps(path):
        for place, about in real(path):
            said = list(about)
            said[4:6] = (uid if place.endswith("tools") else 0), 0
            said[0] = said[0] if place.startswith(str(tmp_path)) else 0o40755
            yield place, os.stat_result(said)

    monkeypatch.setattr(owned, "on_the_way", steps)
    monkeypatch.setattr(os, "geteuid", lambda: 0)
    monkeypatch.setattr(sys, "path", [str(folder), *sys.path])
    assert why_not_as_root({}) == ""
    assert bool(why_not_as_root({"SUDO_USER": "u"})) is refused


@pytest.mark.skipif(os.geteuid() != 0, reason="only root has to be careful where its home is")
@pytest.mark.parametrize("name", ["HOME", "XDG_CONFIG_HOME", "XDG_DATA_HOME"])
def test_root_has_no_home_where_somebody_else_decides(tmp_path, name):
    theirs = tmp_path / "theirs"
    theirs.mkdir()
    os.chown(theirs, 65534, 65534)
    assert chosen_user(None, {"HOME": str(tmp_path)}).home == str(tmp_path)
    with pytest.raises(ComputerError, match="belongs to somebody else"):
        chosen_user(None, {"HOME": str(tmp_path), name: str(theirs / "x")})


def test_sudo_means_the_one_who_called(monkeypatch):
    monkeypatch.setattr(os, "geteuid", lambda: 0)
    user = chosen_user(None, {"SUDO_USER": "nobody", "HOME": "/root", "XDG_CONFIG_HOME": "/root/c"})
    assert user.name == "nobody"
    assert not user.config_home.startswith("/root")


def test_an_unknown_user():
    with pytest.raises(UnknownNameError, match="no user on this computer called nobdy"):
        chosen_user("nobdy", {})


@pytest.mark.skipif(os.geteuid() != 0, reason="only root can act for others")
def test_root_writes_as_the_user_and_cannot_be_led_astray(tree, tmp_path):
    import pwd

    nobody = pwd.getpwnam("nobody")
    user = type(tree_user())(
        name="nobody", uid=nobody.pw_uid, gid=nobody.pw_gid, home="/home/u",
        config_home="/home/u/.config", data_home="/x", cache_home="/c",
        config_dirs=("/etc/xdg",),
    )  # fmt: skip
    for path in (
        tmp_path,
        *tmp_path.parents,
    ):  # pytest's own folders, several deep where tests run side by side
        if "pytest-" in str(path):
            path.chmod(0o755)
    for path in (tree / "home/u", *(tree / "home/u").rglob("*")):
        os.chown(path, nobody.pw_uid, nobody.pw_gid)
    config = str(tree / "home/u/.config")
    owner = dataclasses.replace(user, config_home=config, data_home=str(tree / "home/u/data"))
    hands = local_hands(owner)
    folder = UserFolder(hands.user, f"{config}/autostart")
    folder.put("x.desktop", b"x", 0o644)
    assert override(tree, "x").stat().st_uid == nobody.pw_uid
    override(tree).parent.rename(tree / "moved")
    override(tree).parent.symlink_to("/etc")
    with pytest.raises(ComputerError, match=r"permission denied|others can write"):
        folder.put("y.desktop", b"y", 0o644)
    hands.close()
