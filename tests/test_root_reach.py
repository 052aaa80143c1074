"""What root's hand can touch, whoever asks: exactly this, and a test fails when it grows."""

import ctypes
import json
import os
import random
import socket
import time

import pytest

from lumtak.computers.hands.sent import storing
from lumtak.computers.hands.sent.files import deleting, kernel
from lumtak.computers.hands.sent.operations import OPERATIONS, ROOT
from lumtak.computers.hands.sent.states.aside_states import RootAside
from lumtak.computers.hands.sent.system.packages import carries
from lumtak.computers.hands.sent.system.scanning import ANSWER_S, Line
from lumtak.computers.hands.sent.system.scanning import asked as asked_scanner
from lumtak.computers.hands.sent.table import SWAP_FOLDER
from lumtak.computers.hands.sent.units.policy import guard_of
from roots_reach import (
    OWNER,
    REACHED,
    UNITS,
    RootsHand,
    asked,
    build,
    inside,
    links,
    race,
    requests,
    seen,
    touched,
)

pytestmark = pytest.mark.skipif(os.geteuid() != 0, reason="root's hand acts as root")


@pytest.fixture
def root(tmp_path):
    """The throwaway root."""
    tmp_path.chmod(0o755)
    return build(tmp_path / "root")


def within(tree, act):
    said = inside(tree, act)
    assert "error" not in said, said["error"]
    return said["found"]


def test_all_that_can_be_asked_for_touches_exactly_these_places_and_units(root):
    before = seen(root)

    def act():
        units, names = set(), set()
        for name, given in requests():
            hand = RootsHand()
            assert asked(hand, name, given)
            names.add(name)
            units |= set(hand.told)
        return [sorted(units), sorted(names)]

    units, names = within(root, act)
    assert set(units) == UNITS
    assert set(names) == {n for n, o in OPERATIONS.items() if ROOT in o.who} - {"about"}
    assert touched(root, before) == REACHED


@pytest.mark.parametrize("way", ["forth", "back", "believed"])
def test_what_stands_is_what_root_finds_and_not_what_it_is_told(root, way):
    """An alias that somebody made goes with no state that does not name it."""
    before = seen(root)

    def act():
        hand, same = RootsHand(), links("debug-shell")
        given = ["services", "debug-shell", same, same, way]
        return asked(hand, "change", given)

    assert "neither starts nor links nor masks" in within(root, act)
    assert touched(root, before) == set()


def test_a_change_is_noted_before_it_is_made_and_goes_back_by_that(root):
    def act():
        hand, said = RootsHand(), []
        on, off = links("tide", active=True), links("tide", mask=True, active=False)
        said.append(asked(hand, "change", ["services", "tide", on, off, "forth"]))
        said.append(sorted(os.listdir("/var/lib/lumtak/receipts")))
        said.append(oct(os.stat("/var/lib/lumtak/receipts").st_mode))
        said.append(hand.vouched("services", "tide", links("tide")))
        said.append(hand.vouched("services", "tide", links("tide", ["tide"])))
        said.append(
            asked(hand, "change", ["services", "tide", off, {**on, "active": None}, "back"])
        )
        said.append(hand.told[-1])
        said.append(os.path.exists("/var/lib/lumtak"))
        return said

    before = seen(root)
    assert within(root, act) == [
        "done", ["000001.json"], "0o40700", True, False, "done", "start -- tide.service", False,
    ]  # fmt: skip
    assert touched(root, before) == set()


def test_a_change_that_leads_to_what_stood_before_is_noted_all_the_same(root):
    def act():
        hand, said = RootsHand(), []
        was, off = links("tide", active=True), links("tide", mask=True, active=False)
        for before, wanted, way in (
            (was, off, "forth"), (off, was, "forth"), (was, off, "back"), (off, was, "back"),
        ):  # fmt: skip
            said.append(asked(hand, "change", ["services", "tide", before, wanted, way]))
            said.append(hand.vouched("services", "tide", wanted))
            hand.stopped = {"tide.service"} if wanted == off else set()
        return [*said, os.path.exists("/var/lib/lumtak")]

    before = seen(root)
    assert within(root, act) == [
        "done", False, "done", True, "done", False, "done", False, False,
    ]  # fmt: skip
    assert touched(root, before) == set()


def test_what_runs_something_of_somebody_else_s_is_neither_stopped_nor_started(root):
    def act():
        hand = RootsHand()
        return [
            asked(hand, "change", ["services", unit, links(unit), links(unit, mask=True), "forth"])
            for unit in ("theirs", "writable", "dropped")
        ]

    theirs, writable, dropped = within(root, act)
    assert "/home/u belongs to somebody else than root" in theirs
    assert "others than root can write to /usr/lib/systemd/system/writable.service" in writable
    assert "others than root can write to /etc/systemd/system/dropped.service.d/x.conf" in dropped


def test_a_unit_that_was_changed_since_is_not_started_again(root):
    def act():
        hand = RootsHand()
        on, off = links("tide", active=True), links("tide", mask=True, active=False)
        asked(hand, "change", ["services", "tide", on, off, "forth"])
        with open("/usr/bin/run", "w") as file:
            file.write("#!/bin/sh\nanother\n")
        return asked(RootsHand(), "change", ["services", "tide", off, on, "back"])

    assert "was changed since Lumtak recorded it" in within(root, act)


# -- what is set aside -----------------------------------------------------------------------------

CLASS, PLACE = "crash-dumps", "/var/crash"


def look(hand):
    return hand.asked("aside_look", [CLASS, CLASS, [], [], []])


def test_only_the_system_s_own_goes_aside_and_no_mount_goes_along(root):
    before = seen(root)

    def act():
        hand = RootsHand()
        found = look(hand)
        moved = hand.asked("aside_move", [found["handle"]])
        here = sorted(
            os.path.relpath(os.path.join(d, f), PLACE) for d, _, n in os.walk(PLACE) for f in n
        )
        back = hand.asked("aside_back", [found["sha256"]])
        return [moved["files"], here, back["left"]]

    files, here, left = within(root, act)
    assert files == 4
    assert here == ["mounted/below/kept", "of-the-owner.crash"]
    assert left == {}
    assert touched(root, before) == set()


def test_the_script_knows_what_goes_aside_before_it_is_moved(root):
    def act():
        hand = RootsHand()
        found = look(hand)
        held = {"kind": "aside of root", "folder": "/var/lib/lumtak", "half": False}
        way = {"number": 1, "word": "kept", "restore": {**held, "sha256": ""}}
        way["accepted"] = [{**held, "sha256": found["sha256"]}]
        told = [{"area": "storage", "key": CLASS, "title": "Crashes", "ways": [way]}]
        hand.asked("leave_script", ["0123abcd", json.dumps(told)])
        with open("/var/lib/lumtak/put-back-0123abcd.sh") as file:
            first = found["sha256"] in file.read()
        hand.asked("aside_move", [found["handle"]])
        with open("/var/lib/lumtak/put-back-0123abcd.sh") as file:
            return [first, found["sha256"] in file.read()]

    assert within(root, act) == [False, True]


def test_an_old_look_is_looked_at_again_and_what_came_between_stops_it(root):
    def act():
        hand = RootsHand()
        storing._FRESH_S = -1.0
        first = look(hand)
        os.utime(f"{PLACE}/1.crash", (time.time(), time.time()))  # somebody writes to it
        said = [asked(hand, "aside_move", [first["handle"]])]
        again = look(hand)
        said.append(asked(hand, "aside_move", [again["handle"]]))
        said.append(asked(hand, "aside_move", [again["handle"]]))
        return said

    changed, same, twice = within(root, act)
    assert "not the same any more" in changed
    assert same == "done"
    assert "not looked for by this hand" in twice


def test_root_vouches_for_what_it_holds_and_for_nothing_else_set_aside(root):
    def act():
        hand = RootsHand()
        found = look(hand)
        hand.asked("aside_move", [found["handle"]])
        return [
            hand.vouched("storage", CLASS, RootAside(SWAP_FOLDER, sha256, False).said())
            for sha256 in ("", found["sha256"], "f" * 64)
        ]

    assert within(root, act) == [True, True, False]


def test_what_is_mounted_in_what_is_held_is_not_emptied(root):
    def act():
        hand = RootsHand()
        found = look(hand)
        hand.asked("aside_move", [found["handle"]])
        (held,) = (d for d, _, _ in os.walk("/var/lib/lumtak/aside") if d.endswith("/held"))
        inner = next(f"{held}/{n}" for n in os.listdir(held) if os.path.isdir(f"{held}/{n}"))
        libc = ctypes.CDLL(None, use_errno=True)
        assert libc.mount(b"/mnt", os.fsencode(inner), None, 4096, None) == 0
        *_, last = hand.aside_empty(found["sha256"], [])
        said = [last["ended"]["left"], os.path.exists("/mnt/kept"), os.path.exists(inner)]
        libc.umount2(os.fsencode(inner), 2)
        *_, last = hand.aside_empty(found["sha256"], [])
        return [*said, last["ended"]["held"]]

    left, kept, held, after = within(root, act)
    assert list(left) == ["something is mounted in it"]
    assert (kept, held, after) == (True, True, 0)
    assert (root / "mnt/kept").exists()


def test_a_folder_that_becomes_a_link_while_it_is_emptied_changes_nobody_s_rights(root):
    def act():
        hand = RootsHand()
        found = look(hand)
        hand.asked("aside_move", [found["handle"]])
        real = kernel.may_enter

        def exchanged(folder, name):
            about = os.stat(name, dir_fd=folder, follow_symlinks=False)
            os.rename(name, name + ".away", src_dir_fd=folder, dst_dir_fd=folder)
            os.symlink("/root", name, dir_fd=folder)
            assert about
            real(folder, name)

        deleting.may_enter = exchanged
        *_, last = hand.aside_empty(found["sha256"], [])
        return [last["ended"]["left"], oct(os.stat("/root").st_mode)]

    mode = oct((root / "root").stat().st_mode)
    left, after = within(root, act)
    assert left
    assert after == mode
    assert (root / "root/secret").exists()


@pytest.mark.long
def test_a_race_with_somebody_who_reaches_what_goes_aside_changes_nothing_of_anybody_s(root):
    before = seen(root)
    done = within(root, lambda: race(random.Random(1), 3))
    assert all(done[name] for name in ("aside_move", "aside_back", "aside_empty", "change")), done
    lost = {n for n in touched(root, before) if not n.startswith(("tmp/", "var/crash/"))}
    assert lost <= {"tmp", "var/crash"} | REACHED
    assert {"root/secret", "root", "mnt/kept", "mnt", "etc/shadow"} & lost == set()
    assert (root / "var/crash/of-the-owner.crash").exists()


# -- who something is ------------------------------------------------------------------------------


@pytest.mark.parametrize(("owner", "mode"), [(OWNER, 0o755), (0, 0o777), (0, 0o755)])
def test_a_scanner_is_asked_only_where_nobody_else_can_have_made_it(tmp_path, owner, mode):
    tmp_path.chmod(0o755)
    folder = tmp_path / "run"
    folder.mkdir()
    with socket.socket(socket.AF_UNIX, socket.SOCK_STREAM) as standing:
        standing.bind(str(folder / "clamd.ctl"))
        standing.listen()
        os.chown(folder, owner, owner)
        folder.chmod(mode)
        line = Line(str(folder / "clamd.ctl"), frozenset({0}))
        if (owner, mode) == (0, 0o755):
            line.connected(ANSWER_S).close()
            with pytest.raises(PermissionError, match="neither root's nor the scanner's own"):
                Line(str(folder / "clamd.ctl"), frozenset({4711})).connected(ANSWER_S)
            return
        with pytest.raises(PermissionError):
            asked_scanner(line, b"VERSION", ANSWER_S)


@pytest.mark.parametrize(
    ("names", "package", "guard"),
    [
        (["ssh.service"], "", True),
        (["NetworkManager.service"], "", True),
        (["odd.service", "dbus.service"], "", True),
        (["something.service"], "cryptsetup", True),
        (["cups.service"], "cups-daemon", False),
        (["made-up.service"], "", False),
    ],
)
def test_guards_travel_with_the_hand(names, package, guard):
    assert bool(guard_of(names, package)) is guard


@pytest.mark.parametrize(
    "path",
    [
        "/usr/share/initramfs-tools/hooks/cryptroot",
        "/usr/lib/dracut/modules.d/90zfs/module-setup.sh",
        "/usr/sbin/grub-install", "/usr/lib/shim/shimx64.efi.signed", "/boot/grub/fonts",
        "/lib/x86_64-linux-gnu/security/pam_ecryptfs.so", "/sbin/cryptsetup", "/sbin/zpool",
        "/usr/lib/systemd/boot/efi/systemd-bootx64.efi",
    ],
)  # fmt: skip
def test_what_unlocks_disks_and_boots_is_never_removed(path):
    assert carries(f"/.\n/usr\n{path}\n".encode(), b"")
    assert not carries(b"/.\n/usr/share/doc/x\n/usr/bin/x\n", b"")
