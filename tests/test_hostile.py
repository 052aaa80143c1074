"""What the owner of a computer, or somebody in their account, puts in Lumtak's way.

It ends in a refusal with a sentence, or in nothing.
"""

import base64
import hashlib
import json
import os
import shutil
import subprocess
import sys
import tempfile
from pathlib import Path

import msgspec
import pytest
from hypothesis import given
from hypothesis import strategies as st

from helpers import (
    CATALOGUE,
    ENTRY,
    computer_on,
    database_at,
    linux,
    put,
    snapshot_of,
    tree_user,
    way_to,
)
from lumtak.computers.hands import channel
from lumtak.computers.hands.sent.files.places import RefusalError
from lumtak.computers.hands.sent.files.words import escaped, unescaped
from lumtak.computers.hands.sent.states.states import Absent, DesktopKey
from lumtak.computers.hands.sent.table import (
    power_unit_text,
    swap_unit_text,
    sysctl_text,
    why_no_link,
)
from lumtak.computers.hands.whose import User, local_hands
from lumtak.computers.linux.adapter import check_fits
from lumtak.computers.linux.computer import LinuxComputer
from lumtak.computers.linux.folder import UserFolder
from lumtak.computers.linux.undo_kit import FileUndoKit
from lumtak.computers.recorded import recorded_state
from lumtak.core.setting import State, parse_change, parse_ref
from lumtak.errors import ComputerError
from lumtak.journal import Journal, apply_changes, put_back, review
from outside import ETC, FILE, Acting, Outside, hands_of
from test_linux_settings import unit_tree

as_root = pytest.mark.skipif(os.geteuid() != 0, reason="only root works as somebody else")


# -- whatever runs as a user -----------------------------------------------------------------------


SPEAKS = """
import os, sys
from lumtak.computers.hands.sent.root.settling import RootHand
from lumtak.computers.hands.channel import bootstrap
from lumtak.computers.hands.piped import Piped
from lumtak.computers.hands.sent.table import PROGRAMS
PROGRAMS["sh"] = "-c\\0(?s:.*)"
print("terminal", os.open("/dev/tty", os.O_RDWR) > 0)
print(RootHand().run(("sh", "-c", "(: </dev/tty) 2>&1; ls /proc/self/fd | tr '\\n' ' '")).decode())
far = Piped(bootstrap("/usr/bin/python3"), {}, "x", session=False)
print("session", os.getsid(far.about()["pid"]) != os.getsid(0))
"""


def test_what_lumtak_starts_cannot_reach_the_terminal(tmp_path):
    program = tmp_path / "speaks.py"
    program.write_text(SPEAKS)
    said = subprocess.run(
        ["script", "-qec", f"{sys.executable} {program}", "/dev/null"],
        capture_output=True, text=True, timeout=60, check=True, stdin=subprocess.DEVNULL,
    ).stdout  # fmt: skip
    assert "terminal True" in said, "there is one to be reached"
    assert "No such device or address" in said
    assert "0 1 2 3" in said, "three descriptors, and the one that lists them"
    assert "session True" in said, (
        "a hand that stays in the caller's session for sudo's sake leaves it itself"
    )


@pytest.fixture
def owner():
    """A user with a home of their own, outside the test's own folder, which only its owner may
    enter.
    """
    home = Path(tempfile.mkdtemp(prefix="lumtak-owner-"))
    uid, gid = (65534, 65534) if os.geteuid() == 0 else (os.getuid(), os.getgid())
    os.chown(home, uid, gid)
    yield User(
        name="nobody", uid=uid, gid=gid, home=str(home), config_home=f"{home}/.config",
        data_home=f"{home}/.local/share", cache_home=f"{home}/.cache",
        config_dirs=("/etc/xdg",),
    )  # fmt: skip
    shutil.rmtree(home)


def test_nothing_of_a_user_who_is_not_logged_in_is_started_on_a_bus(owner, monkeypatch):
    services = Path(owner.data_home, "dbus-1/services")
    services.mkdir(parents=True)
    ran = Path(owner.home, "ran")
    put(services, "a.service", f"[D-BUS Service]\nName=org.lumtak.Planted\nExec=/bin/touch {ran}\n")
    for path in (Path(owner.home), *Path(owner.home).rglob("*")):
        os.chown(path, owner.uid, owner.gid)
    before = snapshot_of(Path(owner.home))
    monkeypatch.setattr(channel, "code", code_with)
    hands = local_hands(owner)

    def run(*words):
        return hands.user.run(words, bus=owner.bus)

    assert b"org.freedesktop.DBus" in run(
        "dbus-send",
        "--session",
        "--print-reply",
        "--dest=org.freedesktop.DBus",
        "/",
        "org.freedesktop.DBus.ListNames",
    )
    with pytest.raises(OSError, match="failed"):
        run("dbus-send", "--session", "--print-reply", "--dest=org.lumtak.Planted", "/", "a.b.C")
    assert not ran.exists()
    about = run("sh", "-c", "id -u; id -G; env; grep NoNewPrivs /proc/self/status").decode()
    if os.geteuid() == 0:
        assert about.splitlines()[0] == str(owner.uid)
        assert "0" not in about.splitlines()[1].split()
        assert "NoNewPrivs:\t1" in about
    assert "SUDO" not in about
    assert snapshot_of(Path(owner.home)) == before, "it leaves nothing behind"
    hands.close()


CODE = channel.code


def code_with(options):
    """A hand that may also run what the test asks with."""
    program = CODE(options)[4:].replace(
        b"PROGRAMS = {", b'PROGRAMS = {"sh": "-c\\\\0(?s:.*)", "dbus-send": "(?s:.*)", '
    )
    return len(program).to_bytes(4, "big") + program


@as_root
def test_files_of_a_user_are_read_with_the_users_groups_and_only_ordinary_ones(owner, tmp_path):
    secret = Path(owner.home, "secret")
    secret.write_text(ENTRY.replace("Tide feed", "a secret of the group"))
    secret.chmod(0o640)
    os.chown(secret, 0, 0)
    hands = local_hands(owner)
    folder = UserFolder(hands.user, f"{owner.config_home}/autostart")
    Path(folder.path).mkdir(parents=True)
    for name, target in (("group", secret), ("device", "/dev/null"), ("root", "/etc/shadow")):
        Path(folder.path, f"{name}.desktop").symlink_to(target)
        with pytest.raises(ComputerError):
            folder.content(f"{name}.desktop")
    computer = LinuxComputer(hands, owner, CATALOGUE)
    assert "a secret of the group" not in msgspec.json.encode(computer.about.facts()).decode()
    computer.close()


def test_a_unit_of_the_users_own_is_read_as_the_user_and_from_ordinary_files_only(owner):
    units = Path(owner.config_home, "systemd/user")
    (units / "default.target.wants").mkdir(parents=True)
    os.mkfifo(units / "pipe.service")
    (units / "leak.service").symlink_to("/etc/shadow")
    for name in ("leak.service", "pipe.service"):
        (units / "default.target.wants" / name).symlink_to(units / name)
    for path in Path(owner.home).rglob("*"):
        os.chown(path, owner.uid, owner.gid, follow_symlinks=False)
    computer = LinuxComputer(local_hands(owner), owner, CATALOGUE)
    facts = computer.about.facts()
    assert {"user/leak.service", "user/pipe.service"} <= {i.key for i in facts.items}
    assert "root:" not in msgspec.json.encode(facts).decode()
    computer.close()


# -- recorded states -------------------------------------------------------------------------------

SWAPPY = sysctl_text("swappiness", "30")


def b64(data):
    return base64.b64encode(data).decode()


def sysctl(name="swappiness", live="30", kept=SWAPPY):
    return {
        "kind": "sysctl",
        "name": name,
        "live": live,
        "kept": None if kept is None else b64(kept),
    }


def units(links=(), unit="tide.service", active=None):
    return {"kind": "links", "unit": unit, "links": dict(links), "active": active}


def file(folder="/home/u/.config", name="kdeglobals", missing=0, mode=0o644, data=""):
    return {
        "kind": "file",
        "folder": folder,
        "name": name,
        "missing": missing,
        "mode": mode,
        "data": data,
    }


def swap(**parts):
    return {"kind": "swap", "kept": [], "on": [], "masked": [], "used": [], **parts}


def desktop(schema, key, path, raw):
    return {"kind": "gsettings", "schema": schema, "key": key, "path": path, "raw": raw}


WANTS = f"{ETC}/multi-user.target.wants"
ANIMATIONS = (
    "org.gnome.desktop.interface",
    "enable-animations",
    "/org/gnome/desktop/interface/enable-animations",
)
FORGED = {
    "an unknown kind": ("apps:x", {"kind": "shell", "run": "id"}),
    "no kind": ("apps:x", {"bytes": ""}),
    "no record": ("apps:x", ["file"]),
    "a kind that is none": ("apps:x", {**file(), "kind": ["file"]}),
    "a part too many": ("apps:x", {**file(), "run": "id"}),
    "a part too few": ("services:tide", {"kind": "links", "unit": "tide.service", "links": {}}),
    "a link to a unit of the user's": (
        "services:tide",
        units({f"{WANTS}/tide.service": "/home/u/tide.service"}),
    ),
    "a link up and away": (
        "services:tide",
        units({f"{WANTS}/tide.service": f"{FILE}/../../../home/u/tide.service"}),
    ),
    "a link in another place": (
        "services:tide",
        units({"/etc/cron.d/tide.service": f"{FILE}/tide.service"}),
    ),
    "a link with dots in its place": (
        "services:tide",
        units({f"{ETC}/../tide.service": f"{FILE}/tide.service"}),
    ),
    "a link of another unit": (
        "services:tide",
        units({f"{WANTS}/debug-shell.service": f"{FILE}/debug-shell.service"}),
    ),
    "another unit that is started": (
        "services:tide",
        units(unit="debug-shell.service", active=True),
    ),
    "a switch that is a mask": ("services:tide", units({f"{WANTS}/tide.service": "/dev/null"})),
    "a link that is a number": ("services:tide", units({f"{WANTS}/tide.service": 7})),
    "a unit that is no name": ("services:../x", units(unit="../x.service")),
    "contents of somebody's": (
        "memory:swappiness",
        sysctl(kept=b"kernel.core_pattern = |/home/u/x\n"),
    ),
    "no contents": ("memory:swappiness", sysctl(kept=b"")),
    "a file elsewhere": (
        "memory:swappiness",
        {**sysctl(), "file": "/etc/sudoers.d/90-lumtak-swappiness.conf"},
    ),
    "another value of the kernel": ("memory:swappiness", sysctl(name="overcommit_memory")),
    "another value of the kernel that is not kept": (
        "memory:swappiness",
        sysctl(name="vfs_cache_pressure", kept=None),
    ),
    "a value of nobody's": ("memory:overcommit_memory", sysctl(name="overcommit_memory")),
    "a value out of range": ("memory:swappiness", sysctl(live="9999")),
    "a unit that runs something": (
        "power:mains",
        {
            "kind": "clock",
            "policies": {"policy0": "powersave/"},
            "kept": b64(power_unit_text("x; id", "")),
            "link": None,
        },
    ),
    "a policy that is a path": (
        "power:mains",
        {"kind": "clock", "policies": {"../x": "powersave/"}, "kept": None, "link": None},
    ),
    "a governor that is a command": (
        "power:mains",
        {"kind": "clock", "policies": {"policy0": "$(id)/"}, "kept": None, "link": None},
    ),
    "a preference that is a command": (
        "power:mains",
        {"kind": "clock", "policies": {"policy0": "powersave/`id`"}, "kept": None, "link": None},
    ),
    "a clock without a word": (
        "power:mains",
        {"kind": "clock", "policies": {"policy0": "powersave"}, "kept": None, "link": None},
    ),
    "a switch that leads elsewhere": (
        "power:mains",
        {"kind": "clock", "policies": {}, "kept": None, "link": "/home/u/x.service"},
    ),
    "a plan of somebody's": (
        "power:mains",
        {"kind": "property", "bus": "net.hadess.PowerProfiles", "plan": "x"},
    ),
    "another service on the bus": (
        "power:mains",
        {"kind": "property", "bus": "org.evil", "plan": "balanced"},
    ),
    "swap by another unit": (
        "memory:swap_mib",
        swap(masked=["ssh.service"]),
    ),
    "swap of a unit twice": ("memory:swap_mib", swap(used=["x.swap", "x.swap"])),
    "swap of no size": ("memory:swap_mib", swap(kept=[0], on=[])),
    "swap of a size too large": ("memory:swap_mib", swap(kept=[], on=[10_000_000])),
    "swap twice": ("memory:swap_mib", swap(kept=[5, 5], on=[])),
    "swap of another setting": ("memory:swappiness", swap(kept=[], on=[])),
    "a permission of another program": (
        "apps:sandbox/a",
        {"kind": "sandbox", "app": "b", "raw": "yes"},
    ),
    "a permission that is none": ("apps:sandbox/a", {"kind": "sandbox", "app": "a", "raw": "root"}),
    "another key of the desktop": (
        "effects:animations",
        desktop(
            "org.gnome.desktop.lockdown",
            "disable-lock-screen",
            "/org/gnome/desktop/lockdown/disable-lock-screen",
            "true",
        ),
    ),
    "another place of a key": ("effects:animations", desktop(*ANIMATIONS[:2], "/x", "true")),
    "a key of another effect": ("effects:thumbnails", desktop(*ANIMATIONS, "true")),
    "a text that is an option": ("effects:animations", desktop(*ANIMATIONS, "--schemadir")),
    "a text of two lines": ("effects:animations", desktop(*ANIMATIONS, "true\nfalse")),
    "a text without an end": ("effects:animations", desktop(*ANIMATIONS, "x" * (1 << 17))),
    "a file that is nowhere": ("apps:x", file(folder="")),
    "a file in a place that is not whole": ("apps:x", file(folder="home/u")),
    "a file above its folder": ("apps:x", file("/home/u", "../.bashrc")),
    "a file without a name": ("apps:x", file(name="")),
    "a file that is the folder above": ("apps:x", file(name="..")),
    "a file that is its folder": ("apps:x", file(name=".")),
    "a file with an end in its name": ("apps:x", file(name="a\\x00b")),
    "a folder with an end in its name": ("apps:x", file(folder="/home/u\\x00")),
    "bytes that are none": ("apps:x", file(data="%%%")),
    "a mode that is none": ("apps:x", file(mode="rwx")),
    "a mode that is too much": ("apps:x", file(mode=0o10000)),
    "a number that is no number": ("apps:x", file(missing=True)),
    "folders without end": ("apps:x", file(missing=1000)),
    "a link to nowhere": (
        "apps:x",
        {
            **{k: v for k, v in file().items() if k not in {"mode", "data"}},
            "kind": "link",
            "target": "",
        },
    ),
    "a kind of another area": (
        "services:x",
        {"kind": "absent", "folder": "/home/u", "name": "x", "missing": 0},
    ),
}


def with_tides(tree):
    """(hand of root, computer) on a folder where systemd tells of one service."""
    hand = Outside(tree, ["tide.service"])
    return hand, computer_on(hand)


@pytest.mark.parametrize("forged", FORGED)
def test_a_state_that_this_setting_cannot_have_had_is_refused_everywhere(tree, forged):
    address, said = FORGED[forged]
    ref, state = parse_ref(address), State(value="off", exact=recorded_state(said))
    transport, computer = with_tides(unit_tree(tree))
    before = snapshot_of(tree)
    transport.asked.clear()
    kit = FileUndoKit(
        tree_user(), UserFolder(transport, "/home/u/.local/share/lumtak-undo"), hands_of(transport)
    )
    for attempt in (
        lambda: check_fits(ref, state.exact),
        lambda: computer.settings.write(ref, state),
        lambda: computer.settings.foresee(ref, state),
        lambda: kit.part(ref, "x", [way_to(state)]),
    ):
        with pytest.raises(ComputerError):
            attempt()
    assert snapshot_of(tree) == before
    assert not any(words[0] in {"put", "link", "remove"} for words in transport.asked)


@pytest.mark.parametrize(
    ("path", "target", "made"),
    [
        (f"{WANTS}/tide.service", f"{FILE}/tide.service", True),
        (f"{WANTS}/tide.service", "../tide.service", True),
        (f"{WANTS}/getty@tty1.service", f"{FILE}/getty@.service", True),
        (f"{ETC}/sea.service", f"{FILE}/tide.service", True),
        (f"{ETC}/tide.service", "/dev/null", True),
        (f"{ETC}/sea.service", f"{FILE}/tide.timer", False),
        (f"{ETC}/tide.service", "/opt/tide/tide.service", False),
    ],
)
def test_which_links_are_made(path, target, made):
    assert (why_no_link(path, target) == "") is made


def test_a_unit_linked_from_elsewhere_is_not_changed_since_it_could_not_be_put_back(tree):
    link = unit_tree(tree) / f"{ETC}/multi-user.target.wants/tide.service".lstrip("/")
    link.unlink()
    link.symlink_to("/opt/tide/tide.service")
    _, computer = with_tides(tree)
    assert (
        "could not put back"
        in computer.about.facts().find(parse_ref("services:tide")).setting.needed
    )
    with pytest.raises(ComputerError, match="outside the system"):
        computer.settings.foresee(
            parse_ref("services:tide"), computer.settings.read(parse_ref("services:tide"))
        )


def test_own_contents_and_no_others_are_written_as_root(tree):
    root = Acting(unit_tree(tree))
    for path, data in (
        (f"{ETC}/lumtak-power.service", power_unit_text("performance", "")),
        (f"{ETC}/var-lib-lumtak-swap_64.swap", swap_unit_text(64)),
        ("/etc/sysctl.d/90-lumtak-swappiness.conf", SWAPPY),
    ):
        root.own_put(path, data)
        with pytest.raises(RefusalError):
            root.own_put(path, data + b"[Service]\nExecStart=/home/u/x\n")
        root.own_remove(path)
    put(tree, f"{ETC}/of-the-owner.service", "[Service]\n")
    with pytest.raises(RefusalError):
        root.own_remove(f"{ETC}/of-the-owner.service")
    assert (tree / f"{ETC}/of-the-owner.service".lstrip("/")).exists()


def test_a_desktop_that_keeps_files_does_not_lose_one_to_a_key_of_another_desktop(tree):
    put(tree, "/usr/bin/plasmashell", "")
    kept = put(tree, "/home/u/.config/kdeglobals", "[KDE]\nAnimationDurationFactor=1\n")
    with pytest.raises(ComputerError, match="recorded as gsettings, and nothing here keeps it so"):
        linux(tree).settings.write(
            parse_ref("effects:animations"), State(value=None, exact=DesktopKey(*ANIMATIONS, ""))
        )
    other = State(value="on", exact=Absent("/home/u/.config/xfce4", "xfwm4.xml", 0))
    with pytest.raises(ComputerError, match="its place is"):
        linux(tree).settings.write(parse_ref("effects:animations"), other)
    assert kept.read_text() == "[KDE]\nAnimationDurationFactor=1\n"


def test_a_state_of_an_older_journal_that_is_not_written_is_shown_with_what_to_type(tree, home):
    """Version 0.1 changed units that are linked from elsewhere.

    Only a person can know whether that link is right.
    """
    hand, computer = with_tides(unit_tree(tree))
    now = msgspec.to_builtins(computer.settings.read(parse_ref("services:tide")))
    elsewhere = {
        "value": "auto",
        "exact": units({f"{WANTS}/tide.service": "/opt/it's/tide.service"}),
    }
    forge(home, computer, 1, "services:tide", elsewhere, now)
    Journal(home).close()
    with database_at(home / "journal.db") as database:  # as if it had always been in the database
        ((document,),) = database.execute("SELECT document FROM change").fetchall()
        document = json.dumps(
            {**json.loads(document), "rescued": False, "stage": "verified"}
        ).encode()
        database.execute(
            "UPDATE change SET document = ?, checksum = ?",
            (document, hashlib.sha256(document).hexdigest()),
        )
    shutil.rmtree(home / "before")
    journal = Journal(home)
    (outcome,) = put_back(journal, computer, shown=[1])
    assert outcome.result == "failed"
    assert (
        f"sudo ln -sfT '/opt/it'\\''s/tide.service' '{WANTS}/tide.service'; sudo systemctl"
        " daemon-reload" in outcome.note
    )
    assert not [w for w in hand.asked if w[0] in {"link", "put", "remove"}]
    journal.close()


# -- a record beside the journal -------------------------------------------------------------------


def forge(home, computer, number, ref, restore, left):
    entry = {
        "format": 3, "id": number, "plan": 0, "turn": 9, "computer": computer.identity,
        "address": "local", "user": "u", "job": "",
        "ref": {"area": ref.partition(":")[0], "key": ref.partition(":")[2]}, "title": "Tides",
        "value": "manual", "before": restore,
        "restore": restore, "expected": left, "after": left, "stage": "verified", "shows": "now",
        "boot_id": "b", "session_id": None,
        "begun_at": "2026-03-02T08:00:00+00:00", "stage_at": "2026-03-02T08:00:00+00:00",
    }  # fmt: skip
    document = json.dumps(entry).encode()
    put(
        home,
        f"before/{computer.identity}/{number}.json",
        hashlib.sha256(document).hexdigest().encode() + b"\n" + document + b"\n",
    )


def test_a_rescued_record_that_takes_root_is_put_back_only_once_it_was_shown(tree, home):
    _, computer = with_tides(unit_tree(tree))
    now = msgspec.to_builtins(computer.settings.read(parse_ref("services:tide")))
    evil = {"value": "auto", "exact": units({f"{WANTS}/tide.service": "/home/u/tide.service"})}
    fair = {
        "value": "auto",
        "exact": units({f"{WANTS}/tide.service": f"{FILE}/tide.service"}, active=True),
    }
    forge(home, computer, 7, "services:tide", evil, now)
    forge(home, computer, 8, "services:tide", fair, now)
    before = snapshot_of(tree / "etc")
    journal = Journal(home)
    assert any("rescued" in n for n in journal.notices)
    assert {line.number for line in review(journal, computer).lines} == {7, 8}
    assert {o.result for o in put_back(journal, computer, [7])} == {"failed"}
    assert snapshot_of(tree / "etc") == before
    assert {o.result for o in put_back(journal, computer, [8], shown=[8])} == {"done"}
    assert not (tree / f"{ETC}/sea.service".lstrip("/")).is_symlink(), "it is as the record says"
    outcome = put_back(journal, computer, [7], overwrite=True, shown=[7])[0]
    assert outcome.result == "failed"
    assert "outside the system" in outcome.note
    journal.close()


# -- names that are no text ------------------------------------------------------------------------


@given(
    st.binary(max_size=40)
    | st.lists(st.sampled_from([b"\\", b"x", b"5C", b"E9", b"\xc3", b"\xa9", b"\n", b"2d"])).map(
        b"".join
    )
)
def test_a_name_is_escaped_and_comes_back(name):
    text = escaped(os.fsdecode(name))
    assert os.fsencode(unescaped(text)) == name
    assert text.encode("utf-8").isascii() or not text.isascii()
    assert all(c >= " " for c in text)


def test_an_entry_whose_name_is_no_text_goes_off_and_comes_back(tree, home):
    folder = tree / "home/u/.config/autostart"
    odd = os.fsdecode(b"tide \xe9\x1b[31m\n.desktop")
    (folder / odd).write_text(ENTRY)
    (folder / os.fsdecode(b"link\xff.desktop")).symlink_to(os.fsdecode(b"/nowhere/\xfe"))
    computer, journal = linux(tree), Journal(home)
    before = snapshot_of(tree / "home/u/.config")
    facts = computer.about.facts()
    keys = {i.key for i in facts.items if "xE9" in i.key or "xFF" in i.key}
    assert keys == {r"tide \xE9\x1B[31m\x0A", r"link\xFF"}
    assert msgspec.json.encode(facts)
    results = {
        k: apply_changes(journal, computer, facts, [parse_change(f"apps:{k}=off")])[0].result
        for k in keys
    }
    assert results == {
        max(keys, key=len): "done",
        min(keys, key=len): "failed",
    }, "a link that leads nowhere is no entry"
    assert "Hidden=true" in (folder / odd).read_text()
    script = next((tree / "home/u/.local/share/lumtak-undo").glob("undo-*.sh"))
    copy = shutil.copytree(tree, tree.with_name("copy"), symlinks=True)
    subprocess.run(["sh", script, copy], check=True, stdout=subprocess.DEVNULL)
    assert snapshot_of(copy / "home/u/.config") == before
    assert {o.result for o in put_back(journal, computer)} == {"done"}
    assert snapshot_of(tree / "home/u/.config") == before
    journal.close()
