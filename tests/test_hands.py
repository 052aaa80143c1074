"""A hand: what it does, what it refuses, and what either end does about whatever the other says."""

import contextlib
import inspect
import io
import json
import os
import random
import signal
import subprocess
from pathlib import Path

import pytest
from sent import faults

from helpers import linux_tree, put, snapshot_of
from lumtak.computers.hands import channel
from lumtak.computers.hands.channel import bootstrap
from lumtak.computers.hands.piped import Piped
from lumtak.computers.hands.sent.files.places import NotOrdinaryError, RefusalError
from lumtak.computers.hands.sent.operations import OPERATIONS, ROLES, VERSION
from lumtak.computers.hands.sent.root.settling import RootHand
from lumtak.computers.hands.sent.table import UNITS, sysctl_text
from lumtak.computers.hands.sent.wire import lengths, packed, serve, unpacked
from lumtak.computers.hands.whose import PYTHON

OLD = sorted(
    p
    for p in Path.home().glob(".pyenv/versions/3.*/bin/python3")
    if p.resolve().name in {"python3.8", "python3.9", "python3.10"}
)
"""Older interpreters, where this machine has any."""

NOT_ASKED = {
    "end", "run", "feel", "walk", "survey", "aside_empty", "aside_look", "copies", "integrity",
    "remove_packages", "reinstall_packages", "gather", "scan", "scanner", "fragments", "superblock",
    "trim",
}  # fmt: skip
"""What acts, takes long, or answers in parts, which whoever asks has to take."""


def far(**options):
    return Piped(bootstrap(PYTHON), {"roles": ROLES, **options}, "the hand of the test")


# -- what it is ------------------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("text", "wrong"),
    [
        ("import msgspec\n", "standard library"),
        ("from lumtak.core import text\n", "standard library"),
        ("import os\nos.chmod('/x', 0o777)\n", "by a path"),
        ("import os\nos.open(p, os.O_RDWR | os.O_CREAT)\n", "by a path"),
        ("open(p, 'w')\n", "by a path"),
        ("import os\nos.unlink('x', dir_fd=folder)\n", ""),
    ],
)
def test_what_is_sent_is_held_to_its_rules(text, wrong):
    assert not [f for name, sent in channel.sent().items() for f in faults(name, sent)]
    assert wrong in " ".join(faults("x", text))
    assert bool(list(faults("x", text))) is bool(wrong)


def test_every_operation_of_the_table_is_a_method_of_the_hand_with_these_arguments():
    for name, operation in OPERATIONS.items():
        given = list(inspect.signature(getattr(RootHand, name)).parameters)[1:]
        assert given == [one.name for one in operation.given], name


@pytest.mark.parametrize("python", [PYTHON, *map(str, OLD)])
def test_both_ends_give_the_same(tmp_path, python):
    home = str(tmp_path / "home")
    near = RootHand(homes=(home,))
    there = Piped(bootstrap(python), {"homes": (home,), "roles": ROLES}, "the hand of the test")
    put(tmp_path, "file", b"\x00\xff" * 10)
    (tmp_path / "link").symlink_to("file")
    odd = os.fsdecode(b"od\xffd")
    try:
        for hand in (near, there):
            hand.put(home, odd, b"bytes \xff", 0o640)
            hand.put_link(home, "l", odd)
        for name, given in {
            "read": (str(tmp_path / "file"), 5), "names": (home,), "link": (f"{home}/l",),
            "exists": (f"{home}/no",),
            "look": (home, odd), "missing": (f"{home}/a/b",), "read_many": ([f"{home}/{odd}",
            "/no"], 100), "run": (["true"], 5.0, False, ""), "not_started": (f"{home}/l",),
        }.items():  # fmt: skip
            assert getattr(near, name)(*given) == getattr(there, name)(*given), name
        assert [p for part in there.walk(home) for p in part] == [
            p for part in near.walk(home) for p in part
        ]
        for hand, errors in ((near, []), (there, [])):
            for what, given in (("read", ("/no",)), ("read", ("/dev/zero",)), ("run", (["sh", "-c",
            "id"],)), ("put", ("/etc", "x", b"", 0o644)),
                                ("leave_script", ("0123abcd", "[]"))):  # fmt: skip
                with pytest.raises(OSError, match=r".") as error:
                    getattr(hand, what)(*given)
                errors.append(type(error.value))
            assert errors == [
                FileNotFoundError,
                NotOrdinaryError,
                RefusalError,
                RefusalError,
                RefusalError,
            ]
        assert there.counters()[str(os.getpid())].startswith(b"%d (" % os.getpid())
        there.remove(home, "l")
        near.remove(home, odd, 5)
        assert not Path(home).exists()
    finally:
        there.close()


def test_a_hand_that_ended_is_started_again_and_one_that_hangs_is_ended():
    hand = far()
    os.kill(hand.about()["pid"], signal.SIGKILL)
    with pytest.raises(OSError, match="has ended"):
        hand.read("/etc/hostname")
    assert hand.exists("/etc/hostname")
    os.kill(hand.about()["pid"], signal.SIGSTOP)
    with pytest.raises(OSError, match="does not answer"):
        hand.ask("exists", "/", answer_s=0.3)
    assert not hand.is_open


def test_a_hand_ends_with_whoever_asked_it():
    hand = far()
    pid = hand.about()["pid"]
    process = hand._process
    process.stdin.close()
    assert process.wait(timeout=20) == 0
    assert not Path(f"/proc/{pid}").exists()
    hand.close()


# -- fuzz: the hand's end --------------------------------------------------------------------------

PATHS = (
    "/etc/passwd", "/", "", "relative", "/proc/self/mem", "/proc/1/root/etc/shadow", "/dev/zero",
    "/home/u/.config/a", "/home/u/.config/../../..",
    f"{UNITS}/multi-user.target.wants/x.service", f"{UNITS}/../x.service",
    "/etc/sysctl.d/90-lumtak-swappiness.conf", "/nul\0", "/" + "x" * 5000,
    "/proc/sys/vm/swappiness", "/etc/shadow/../passwd", "//etc//passwd",
    "/proc/sys/kernel/core_pattern",
)  # fmt: skip
VALUES = (
    *PATHS, b"", b"\xff" * 100, sysctl_text("swappiness", "30"), 0, -1, 1, 2**70, 0.5, float("inf"),
    True, False, None, [], ["true"], ["true", "x"],
    ["systemctl", "stop", "--", "ssh.service"], ["sh", "-c", "touch /tmp/x"], [1], [["x"]],
    {"#": [0, 10**9]}, {"#": "x"}, "/usr/lib/systemd/system/x.service",
    "/dev/null", "60", "x.desktop", "..", "a/b", {"a": {"b": [1]}},
)  # fmt: skip


def message(dice):
    """A request: right, nearly right, or nothing of the kind."""
    name = dice.choice(list(OPERATIONS))
    given = []
    for one in OPERATIONS[name].given:
        right = [v for v in VALUES if not one.kind.why_not(v)]
        given.append(dice.choice(right if right and dice.random() < 0.8 else VALUES))
    if dice.random() < 0.1:
        given = given[:-1] if dice.random() < 0.5 else [*given, dice.choice(VALUES)]
    request = dice.choice(
        [{"do": name, "with": given}] * 8
        + [{"do": "__init__", "with": []}, {"do": name}, [], None, {"with": given}]
    )
    data = bytearray(packed(request))
    match dice.randrange(8):
        case 0:
            data[dice.randrange(len(data))] = dice.randrange(256)
        case 1:
            del data[dice.randrange(len(data)) :]
        case 2:
            data = bytearray(dice.randbytes(dice.randrange(60)))
        case 3:
            head = ("[" * dice.choice([5, 5000]) + "]" * 5).encode()
            data = bytearray(len(head).to_bytes(4, "big") + bytes(4) + head)
    return bytes(data)


def is_answer(value):
    return isinstance(value, dict) and bool(value.keys() & {"is", "error", "more"})


@pytest.mark.parametrize("rules", [True, False])
def test_ten_thousand_messages_end_in_answers_and_write_nothing_outside_the_table(
    tmp_path, rules, monkeypatch
):
    tree = linux_tree(tmp_path / "root")
    (tree / "etc/systemd/system").mkdir(parents=True)
    (tree / "etc/sysctl.d").mkdir(parents=True)
    put(tree, "/etc/shadow", "secret")
    hand = RootHand(str(tree), rules=rules, homes=("/home/u/.config",))
    monkeypatch.setattr(
        RootHand, "end", lambda *_: "runs"
    )  # no number of a process is safe from dice
    allowed = (
        "home/u/.config",
        *(("etc/systemd/system", "etc/sysctl.d", "proc/sys/vm", "var", "sys") if rules else ()),
    )
    before = {n: v for n, v in snapshot_of(tree).items() if not n.startswith(allowed)}
    dice = random.Random(13)
    answers = 0
    for _ in range(100):
        source = io.BytesIO(b"".join(message(dice) for _ in range(50)))
        sink = io.BytesIO()
        while source.tell() < len(source.getbuffer()):
            serve(
                hand, source, sink
            )  # a message that is none ends the hand, and the next begins where it stopped
        sink.seek(0)
        while head := sink.read(8):
            json_length, blob_length = lengths(head)
            assert is_answer(unpacked(sink.read(json_length), sink.read(blob_length)))
            answers += 1
    assert answers >= 5000
    assert {n: v for n, v in snapshot_of(tree).items() if not n.startswith(allowed)} == before
    if rules:
        written = [p for p in (tree / "etc").rglob("*") if p.is_file() and "lumtak" in p.name]
        assert all(p.read_bytes() == sysctl_text("swappiness", "30") for p in written)


# -- fuzz: the asker's end -------------------------------------------------------------------------


class Lying(Piped):
    """The other end says whatever the dice say."""

    def __init__(self, dice):
        super().__init__((), {}, "the hand that lies")
        self._dice = dice
        self._said = b""

    def open(self):
        self._about = {"pid": 1}

    def _send(self, message, within_s):
        self._said = b"".join(self._any() for _ in range(self._dice.randrange(1, 4)))

    def _any(self):
        dice = self._dice
        value = dice.choice(VALUES)
        for _ in range(dice.randrange(3)):
            value = dice.choice(
                [
                    [value],
                    {"x": value},
                    {"kind": value, "mode": value, "bytes": value},
                    [value, value, value],
                ]
            )
        data = bytearray(
            packed(
                dice.choice(
                    [
                        {"is": value},
                        {"more": value},
                        {"error": value},
                        {"error": [2, "x", "refused"]},
                        value,
                    ]
                )
            )
        )
        if dice.random() < 0.3:
            data[dice.randrange(len(data))] = dice.randrange(256)
        return bytes(data)

    def _bytes(self, count, end):
        if len(self._said) < count:
            raise hand_broken("has ended")
        found, self._said = self._said[:count], self._said[count:]
        return found


def hand_broken(words):
    from lumtak.computers.hands.channel import _BrokenError

    return _BrokenError(words)


def test_twenty_thousand_answers_end_in_values_of_their_kind_or_an_os_error():
    dice = random.Random(31)
    hand = Lying(dice)
    asked = {
        "read": (("/x",), bytes), "read_many": ((["/x"],), list), "names": (("/x",), list),
        "link": (("/x",), (str, type(None))), "exists": (("/x",), bool),
        "look": (("/x", "y"), dict), "missing": (("/x",), int), "space": (("/x",), list),
        "counters": ((), dict), "feel": (("/x", ""), dict), "touched": (("", ""), (int, float)),
        "not_started": (("/x",), str),
        "run": ((["true"],), bytes), "end": ((2, 1, False, 0.0), str), "put": (("/x", "y", b"", 0),
        type(None)),
    }  # fmt: skip
    good = 0
    for turn in range(20_000):
        name = list(asked)[turn % len(asked)]
        given, kind = asked[name]
        try:
            value = getattr(hand, name)(*given)
        except OSError as error:
            assert str(error)
            continue
        assert isinstance(value, kind), (name, value)
        good += 1
    for _ in range(500):
        try:
            for part in hand.walk("/x"):
                assert isinstance(part, list)
        except OSError:
            continue
    assert good > 100


def test_a_hand_that_sudo_gives_answers_to_nothing_but_what_root_is_needed_for():
    hand = far(rules=True, roles=["root"])
    try:
        assert hand.about()["version"] == VERSION
        for what, given in (
            ("read", ("/etc/shadow", 5)),
            ("names", ("/root",)),
            ("walk", ("/root", 5)),
            ("end", (1, 1, True, 0.0)),
            ("look", ("/root", "x")),
        ):
            with pytest.raises(RefusalError, match="not there for that"):
                hand.ask(what, *given)
        for what in ("make_swap", "own_put", "run_as_root", "__init__", "asked"):
            with pytest.raises(RefusalError, match="no such operation"):
                hand.ask(what, 1)
    finally:
        hand.close()


def test_a_real_hand_goes_on_whatever_it_is_asked(tmp_path):
    """Over real pipes, with limits that only a real hand has.

    Where a message is none it ends, and never by itself otherwise.
    """
    dice = random.Random(77)
    home = str(tmp_path / "home")
    hand = far(homes=(home,))
    values = [v for v in VALUES if not isinstance(v, bytes | dict)] + [
        "[" * 100_000,
        json.dumps([{"area": 1}]),
    ]
    try:
        for turn in range(1500):
            name = dice.choice([n for n in OPERATIONS if n not in NOT_ASKED])
            with contextlib.suppress(OSError):
                hand.ask(name, *(dice.choice(values) for _ in OPERATIONS[name].given))
            if turn == 0:
                pid = hand.about()["pid"]
        for path in ("/nul\0", "/nowhere", "x" * 5000):
            with pytest.raises(OSError, match=r"."):
                list(hand.walk(path))
        assert hand.about()["pid"] == pid, "it is the same one"
    finally:
        hand.close()


# -- root: places ----------------------------------------------------------------------------------


@pytest.mark.skipif(os.geteuid() != 0, reason="only root has to be careful where it reads")
def test_a_hand_of_root_follows_no_link_that_another_user_could_have_planted(tmp_path, monkeypatch):
    monkeypatch.chdir("/")
    tmp_path.chmod(0o755)
    secret = put(tmp_path, "secret", "s")
    theirs = tmp_path / "theirs"
    theirs.mkdir()
    os.chown(theirs, 65534, 65534)
    (theirs / "link").symlink_to(secret)
    (theirs / "plain").write_text("theirs")
    shared = tmp_path / "shared"
    shared.mkdir()
    shared.chmod(0o1777)
    (shared / "link").symlink_to(secret)
    (shared / "mine").write_text("mine")
    (shared / "planted").symlink_to(secret)
    os.chown(shared / "planted", 65534, 65534, follow_symlinks=False)
    (tmp_path / "good").symlink_to("secret")
    hand = RootHand(rules=True)
    assert hand.read(str(tmp_path / "good")) == b"s"
    assert hand.read(str(shared / "mine")) == b"mine"
    assert hand.read(str(shared / "link")) == b"s"
    for place in (
        theirs / "link",
        theirs / "plain",
        shared / "planted",
        theirs / ".." / "theirs" / "plain",
    ):
        with pytest.raises(RefusalError):
            hand.read(str(place))
    for place in (
        f"/proc/{os.getpid()}/root{theirs}/plain",
        f"/proc/self/cwd{theirs}/plain",
        f"/proc/..{theirs}/plain",
    ):
        with pytest.raises(RefusalError):
            hand.read(place)
    with pytest.raises(RefusalError):
        hand.put(str(tmp_path), "x", b"", 0o644)
    assert subprocess.run(["cat", secret], capture_output=True, check=True).stdout == b"s"
