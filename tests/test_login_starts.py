"""A login entry accounts for what it started and for nothing else.

Lumtak, and what it runs in, are nobody's question.
"""

import os

import pytest

from helpers import CATALOGUE, facts, item, linux, process, profile, put
from lumtak.computers.hands.reach import real_path
from lumtak.computers.hands.sent.root.settling import RootHand
from lumtak.computers.linux.login_starts import LoginStart, LoginStarts
from lumtak.computers.linux.proc import Processes
from lumtak.core.audit import audit
from lumtak.core.facts import RUNS_LUMTAK, Process, heaviest_of
from lumtak.core.plan import guards
from lumtak.core.sample import LUMTAK
from lumtak.core.setting import parse_ref
from lumtak.errors import ComputerError
from lumtak.work.actions import programs_closely

UID = os.getuid()
TICK = os.sysconf("SC_CLK_TCK")
FEED = LoginStart("apps:tide-feed", ("/opt/tide/tide-feed", "--quiet"), "", UID, 0.0)
RAN = b"/opt/tide/tide-feed\0--quiet\0"


@pytest.fixture
def session(tree):
    """The user logged in 100 s after the start, at a screen."""
    said = (
        f"UID={UID}\nUSER=u\nCLASS=user\nTYPE=x11\nMONOTONIC=100000000\nREALTIME=1772480100000000\n"
    )
    put(tree, "/run/systemd/sessions/3", said)
    put(
        tree,
        "/run/systemd/sessions/9",
        said.replace("TYPE=x11", "TYPE=tty").replace("=100000000\n", "=900000000\n"),
    )
    put(tree, "/opt/tide/tide-feed", b"\x7fELF")
    return tree


def owner_of(tree, entry=FEED, pid=50, *, at_s=103, group="/user.slice/session-3.scope", **fields):
    process(tree, pid, **{"name": b"tide-feed", "started": at_s * TICK, "runs": RAN, **fields})
    starts = LoginStarts(RootHand(str(tree)), TICK)
    starts.learn([entry])
    return starts.consumer_of(pid, fields.get("name", b"tide-feed").decode(), at_s * TICK, group)


@pytest.mark.parametrize(
    ("fields", "its"),
    [
        ({}, True),
        ({"group": "/user.slice/user-1.slice/user@1.service/app.slice/x.scope"}, True),
        ({"group": "/user.slice/session-9.scope"}, False),
        ({"at_s": 60}, False),
        ({"at_s": 3000}, False),
        ({"runs": b"/opt/tide/tide-feed\0"}, False),
        ({"runs": b"/opt/tide/tide-feed\0--quiet\0notes.txt\0"}, False),
        ({"runs": b"/home/u/Downloads/tide-feed\0--quiet\0"}, False),
        ({"runs": b"tide-feed\0--quiet\0"}, True),
        ({"runs": b"/usr/bin/python3\0-u\0/opt/tide/tide-feed\0--quiet\0"}, True),
        ({"runs": b""}, False),
        ({"name": b"sail-sync"}, False),
    ],
)
def test_path_arguments_session_and_time_say_what_an_entry_started(session, fields, its):
    assert owner_of(session, **fields) == ("apps:tide-feed" if its else "")


def test_another_users_process_a_delay_a_script_and_a_link(session):
    assert owner_of(session, FEED._replace(uid=UID + 1)) == ""
    assert owner_of(session, FEED._replace(delay_s=600.0), at_s=700) == "apps:tide-feed"
    put(session, "/usr/bin/tides", b'#!/bin/sh\nexec /opt/lib/tides "$@"\n')
    assert (
        owner_of(session, FEED._replace(runs=("tides",)), name=b"tides", runs=b"/opt/lib/tides\0")
        == "apps:tide-feed"
    )
    (session / "usr/bin/feed").symlink_to("../../opt/tide/tide-feed")
    assert real_path(RootHand(str(session)), "/usr/bin/feed") == "/opt/tide/tide-feed"
    (session / "usr/bin/round").symlink_to("round")
    assert real_path(RootHand(str(session)), "/usr/bin/round").endswith("round")
    through = LoginStart("apps:x", ("/opt/x.sh",), "bash", UID, 0.0)
    assert owner_of(session, through, name=b"bash", runs=b"bash\0/opt/x.sh\0") == "apps:x"


def test_where_nobody_counts_sessions_the_rest_decides(tree):
    assert owner_of(tree, at_s=3000) == "apps:tide-feed"
    assert owner_of(tree, at_s=3000, runs=b"/opt/tide/tide-feed\0") == ""


def test_helpers_of_what_an_entry_started_are_its_own_and_namesakes_are_not(session):
    process(session, 50, started=103 * TICK, runs=RAN, cgroup=b"0::/user.slice/session-3.scope\n")
    process(
        session, 51, started=900 * TICK, runs=b"/opt/tide/tide-feed\0--type=drawing\0", parent=50
    )
    process(session, 52, started=900 * TICK, runs=b"/opt/tide/tide-feed\0notes.txt\0")
    found = Processes(RootHand(str(session)), None)
    found.starts.learn([FEED])
    owners = {p.pid: p.consumer for p in found.look()}
    assert (owners[50], owners[51], owners[52]) == (
        "apps:tide-feed",
        "apps:tide-feed",
        "apps:process/tide-feed",
    )


def test_what_lumtak_starts_is_its_own_and_a_name_makes_nothing_its_own(tree):
    for pid, name, parent in (
        (30, b"bash", 1),
        (31, b"python3", 30),
        (32, b"sudo", 31),
        (33, b"python3", 32),
        (34, b"bash", 1),
    ):
        process(tree, pid, name, rss=90000, parent=parent, runs=name + b"\0", started=pid)
    process(tree, 35, b"sshd", parent=1, cgroup=b"0::/system.slice/afar.service\n")
    process(tree, 30, b"bash", parent=35, runs=b"bash\0", started=40)
    others = {
        40: b"/usr/bin/python3\0/usr/local/bin/lumtak\0",
        41: b"python3\0-P\0-m\0lumtak\0demo\0",
        42: b"python3\0x.py\0",
    }
    for pid, runs in others.items():
        process(tree, pid, b"python3", parent=1, runs=runs, started=pid)
    found = Processes(RootHand(str(tree)), 31)
    found.services = True
    seen = {p.pid: p for p in found.look()}
    assert 31 not in seen, "its own process is counted apart"
    assert {seen[pid].consumer for pid in (32, 33)} == {LUMTAK}
    assert {seen[pid].consumer for pid in (40, 41, 42)} == {"apps:process/python3"}
    assert seen[30].consumer == "apps:process/bash"
    assert seen[34].consumer == "apps:process/bash", "another shell is a program like any other"
    assert seen[33].untouchable == "it is part of Lumtak"
    assert (seen[30].untouchable, seen[35].untouchable) == (RUNS_LUMTAK, RUNS_LUMTAK)
    here = facts(item("services", "afar"), item("services", "tide"), processes=tuple(seen.values()))
    judged = {f.key: f for f in audit(here, profile(), CATALOGUE, None).findings}
    assert (judged["afar"].stance, judged["afar"].reason) == ("guarded", "Lumtak runs in it.")
    assert judged["tide"].stance != "guarded"
    assert parse_ref("services:afar") in guards(here, CATALOGUE)


def test_a_process_is_shown_with_its_command_user_folder_and_what_started_it(tree):
    put(
        tree,
        "/etc/passwd",
        (
            f"root:x:0:0::/root:/bin/sh\nanna:x:{UID}:9::/home/anna:/bin/sh\n"
            if UID
            else "anna:x:0:0::/:/x\n"
        ),
    )
    (tree / "proc/10/cwd").symlink_to("/home/anna/\x1b[2Jtides")
    process(tree, 11, b"loft", parent=10, runs=b"")
    box = linux(tree)
    seen = box.about.facts()
    first, second = (next(p for p in seen.processes if p.pid == pid) for pid in (10, 11))
    assert programs_closely(box, seen, first.consumer) == (
        "process 10: /opt/tide/tide-feed --quiet", "  user anna",
        "  parent has ended, or is not to be seen",
        "  folder /home/anna/␛[2Jtides",
    )  # fmt: skip
    lines = programs_closely(box, seen, second.consumer)
    assert lines[0] == "process 11: not known: it tells none"
    assert lines[2] == "  parent tide-feed (process 10)"
    assert "not known: only its user and root may see that" in lines[3]
    process(tree, 10, started=77)
    with pytest.raises(ComputerError, match="has ended"):
        box.about.closely(first)
    assert programs_closely(box, seen, first.consumer) == ()


def test_the_heaviest_come_first():
    def one(pid, size):
        return Process(pid=pid, name="x", consumer="apps:x", cpu_s=0.0, rss_bytes=size)

    assert [
        p.pid for p in heaviest_of("apps:x", facts(processes=(one(1, 5), one(2, 9), one(3, 7))))
    ] == [2, 3]
