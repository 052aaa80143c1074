"""Checks that take long: the system's files against what was recorded of them."""

import hashlib
import json
import os
import threading

import pytest

from helpers import computer_on, linux, lumtak, put
from lumtak.computers.hands.hand import Hand
from lumtak.core.upkeep import Damage
from lumtak.errors import ComputerError, StoppedError

STATUS = """Package: sail
Status: install ok installed
Architecture: all
Version: 1
Conffiles:
 /etc/sail.conf {config}
 /etc/gone.conf {config} obsolete

Package: rope
Status: install ok installed
Architecture: all

Package: bare
Status: install ok installed
Architecture: all
"""


def md5(data):
    return hashlib.md5(data, usedforsecurity=False).hexdigest()


@pytest.fixture
def debian(tree):
    """Packages with their files, one diverted, one in a folder that is a link by now."""
    files = {f"usr/lib/sail/{n}": b"%d" % n * 999 for n in range(40)}
    files |= {"usr/bin/sail": b"program" * 99, "bin/tack": b"tack" * 9, "usr/bin/knot": b"sail's"}
    for path, data in files.items():
        place = path.replace("bin/knot", "bin/knot.of-sail") if "knot" in path else path
        put(tree, f"/usr/{place}" if place.startswith("bin") else f"/{place}", data)
    put(tree, "/usr/bin/knot", b"the rope's")
    (tree / "bin").symlink_to("usr/bin")
    for path in ("usr/bin/sail", "usr/bin/knot.of-sail", "usr/bin/tack", "usr/bin/knot"):
        (tree / path).chmod(0o755)
    info = "/var/lib/dpkg/info"
    sums = "".join(f"{md5(data)}  {path}\n" for path, data in files.items())
    put(tree, f"{info}/sail.md5sums", sums + f"{md5(b'x')}  usr/share/doc/sail/read.me\n")
    put(tree, f"{info}/sail.list", "".join(f"/{path}\n" for path in files))
    put(tree, f"{info}/rope.md5sums", f"{md5(b'the rope' + bytes([39]) + b's')}  usr/bin/knot\n")
    put(tree, f"{info}/rope.list", "/usr/bin/knot\n")
    put(tree, "/var/lib/dpkg/diversions", "/usr/bin/knot\n/usr/bin/knot.of-sail\nrope\n")
    put(tree, "/etc/dpkg/dpkg.cfg.d/docs", "path-exclude=/usr/share/doc/*\n")
    put(tree, "/etc/sail.conf", b"as it came")
    put(tree, "/var/lib/dpkg/status", STATUS.format(config=md5(b"as it came")))
    return tree


def checked(tree):
    return linux(tree).about.integrity(lambda _: None, threading.Event())


def test_one_byte_changed_in_a_program_is_found_and_only_that(debian):
    found = checked(debian)
    assert (found.damaged, found.configured, found.strangers) == ((), (), ())
    assert (found.left_out, found.without, found.files) == (1, ("bare",), 46)
    with open(debian / "usr/lib/sail/7", "r+b") as file:
        file.seek(500)
        file.write(b"8")
    found = checked(debian)
    assert found.damaged == (Damage(path="/usr/lib/sail/7", package="sail", why="changed"),)
    assert found.repair == "apt-get install --reinstall sail"
    (debian / "usr/lib/sail/7").write_bytes(b"7" * 999)
    assert checked(debian).damaged == ()


def test_configuration_strangers_links_and_what_is_gone_are_told_apart(debian):
    put(debian, "/etc/sail.conf", b"as the owner set it")
    put(debian, "/usr/lib/sail/own.so", b"nobody's")
    os.unlink(debian / "usr/lib/sail/3")
    os.unlink(debian / "usr/lib/sail/4")
    (debian / "usr/lib/sail/4").symlink_to("/etc/passwd")
    os.unlink(debian / "usr/lib/sail/5")
    os.mkfifo(debian / "usr/lib/sail/5")
    found = checked(debian)
    assert [(d.path, d.why) for d in found.configured] == [("/etc/sail.conf", "changed")]
    assert found.strangers == ("/usr/lib/sail/own.so",)
    assert {(d.path[-1], d.why) for d in found.damaged} == {
        ("3", "missing"),
        ("4", "is no ordinary file any more"),
        ("5", "is no ordinary file any more"),
    }


def test_what_is_no_database_is_said_and_a_check_can_be_stopped(debian):
    put(debian, "/var/lib/dpkg/status", STATUS[:-1])
    assert "cut short" in checked(debian).in_words()
    stop = threading.Event()
    stop.set()
    slow = Hand(str(debian))
    slow.integrity = lambda: iter([{"files": 1, "bytes": 1, "whole": 2, "at": "/x"}] * 3)
    with pytest.raises(StoppedError):
        computer_on(slow).about.integrity(lambda _: None, stop)
    for lie in ([{"ended": {"files": "x"}}], [{"ended": 3}], [7], []):
        slow.integrity = lambda lie=lie: iter(lie)
        with pytest.raises(ComputerError, match="cannot be checked"):
            computer_on(slow).about.integrity(lambda _: None, threading.Event())
    os.unlink(debian / "var/lib/dpkg/status")
    with pytest.raises(ComputerError, match="No package database"):
        checked(debian)


def test_the_command_line_checks_and_remembers(home):
    crib = "sim:tool-crib"
    assert "never checked" in lumtak("upkeep", crib, home=home).stdout
    ran = lumtak("upkeep", crib, "integrity", home=home)
    assert ran.returncode == 3
    assert "/usr/bin/label-queue" in ran.stdout
    said = json.loads(lumtak("upkeep", crib, "--json", home=home).stdout)
    assert said["integrity"]["damaged_count"] == 2
    assert lumtak("upkeep", "sim:sail-loft", "integrity", home=home).returncode == 0
