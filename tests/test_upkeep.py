"""Checks that take long: the system's files against what was recorded of them."""

import hashlib
import os
import shlex
import subprocess

import msgspec
import pytest

from helpers import computer_on, linux, put
from lumtak.computers.hands.sent.files import pieces
from lumtak.computers.hands.sent.files.places import RefusalError
from lumtak.computers.hands.sent.hand import Hand
from lumtak.computers.hands.sent.system import integrity, rpm_files, scanning
from lumtak.computers.hands.sent.units.running import programs_in
from lumtak.computers.linux.upkeep.disks import by_timer
from lumtak.computers.simulated.scanner import StandIn
from lumtak.core.upkeep.files import fragments_result, signatures
from lumtak.core.upkeep.tasks import Found, Partial
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


def checked(tree, begun=None, tell=lambda _: None, task="integrity"):
    begun = begun or Partial(task=task, begun_at="2026-03-02T08:00:00+00:00")
    return linux(tree).about.upkeep(begun, tell)


def told(result, kind):
    return [(f.what, f.why) for f in result.of_kind(kind)]


def test_one_byte_changed_in_a_program_is_found_and_only_that(debian):
    found = checked(debian)
    assert (found.state, found.found, found.found_count) == ("fine", (), 0)
    assert "46 files" in found.says
    assert "1 file left out by" in found.notes[0]
    assert "bare" in found.notes[1]
    with open(debian / "usr/lib/sail/7", "r+b") as file:
        file.seek(500)
        file.write(b"8")
    found = checked(debian)
    assert found.found == (Found(kind="damaged", what="/usr/lib/sail/7", of="sail", why="changed"),)
    assert found.mend == ("apt-get install --reinstall sail",)
    assert found.is_grave
    (debian / "usr/lib/sail/7").write_bytes(b"7" * 999)
    assert checked(debian).found == ()


def test_configuration_strangers_links_and_what_is_gone_are_told_apart(debian):
    put(debian, "/etc/sail.conf", b"as the owner set it")
    put(debian, "/usr/lib/sail/own.so", b"nobody's")
    os.unlink(debian / "usr/lib/sail/3")
    os.unlink(debian / "usr/lib/sail/4")
    (debian / "usr/lib/sail/4").symlink_to("/etc/passwd")
    os.unlink(debian / "usr/lib/sail/5")
    os.mkfifo(debian / "usr/lib/sail/5")
    found = checked(debian)
    assert told(found, "configured") == [("/etc/sail.conf", "changed")]
    assert told(found, "stranger") == [("/usr/lib/sail/own.so", "was brought by no package")]
    assert {(what[-1], why) for what, why in told(found, "damaged")} == {
        ("3", "missing"),
        ("4", "is no ordinary file any more"),
        ("5", "is no ordinary file any more"),
    }


def test_wherever_a_check_is_stopped_it_goes_on_to_the_same_end(debian, monkeypatch):
    for name in ("3", "22", "39"):
        (debian / "usr/lib/sail" / name).write_bytes(b"other")
    monkeypatch.setattr(integrity, "_TELL_S", -1.0)
    whole = checked(debian)
    assert whole.found_count == 3
    steps = []
    checked(debian, tell=steps.append)
    assert len(steps) > 40
    for stopped in steps[:-1]:
        again = checked(debian, begun=stopped)
        assert (again.found, again.says, again.notes) == (whole.found, whole.says, whole.notes)

    def stop(partial):
        raise StoppedError("it")

    with pytest.raises(StoppedError):
        checked(debian, tell=stop)


def test_what_is_no_database_is_said_and_a_lying_hand_is_an_error(debian):
    put(debian, "/var/lib/dpkg/status", STATUS[:-1])
    assert "cut short" in checked(debian).notes[0]
    liar = Hand(str(debian))
    part = {"after": "/x", "files": 1, "bytes": 1, "counts": {}, "found": []}
    lies = ([{**part, "files": "x"}], [{"ended": 3}], [7], [], [part], [{**part, "found": [3]}])
    for lie in lies:
        liar.integrity = lambda after, lie=lie: iter(lie)
        begun = Partial(task="integrity", begun_at="2026-03-02T08:00:00+00:00")
        with pytest.raises(ComputerError, match="cannot be checked"):
            computer_on(liar).about.upkeep(begun, lambda _: None)
    os.unlink(debian / "var/lib/dpkg/status")
    assert checked(debian).state == "not possible"


# -- shown to a scanner ----------------------------------------------------------------------------

KNOWN = b"planted"
SHOWN = "/home/u"


@pytest.fixture
def scanned(tree):
    """Files of the user's, and a scanner that knows one string."""
    for n in range(60):
        put(tree, f"{SHOWN}/files/{n % 7}/{n:02d}", b"text %d" % n)
    put(tree, f"{SHOWN}/files/3/bad\x1b[2J", b"x" * 999 + KNOWN)
    put(tree, f"{SHOWN}/zz/it's; rm -r ~", KNOWN)
    (tree / SHOWN[1:] / os.fsdecode(b"files/5/od\xff")).write_bytes(b"a name that is no text")
    (tree / SHOWN[1:] / "files/link").symlink_to("/etc/passwd")
    os.mkfifo(tree / SHOWN[1:] / "files/pipe")
    folder = tree / "run/clamav"
    folder.mkdir(parents=True)
    version = "Made-Up 1/27/Sat Feb 28 08:00:00 2026"
    standing = StandIn(folder / "clamd.ctl", version, {KNOWN: "Nuisance"})
    yield tree
    standing.close()


def begun_scan(**more):
    return Partial(task="unwanted", top=SHOWN, begun_at="2026-03-02T08:00:00+00:00", **more)


def test_files_are_shown_to_a_scanner_and_what_it_knows_is_told(scanned, monkeypatch):
    found = checked(scanned, begun_scan())
    assert found.found_count == 2
    assert found.of_kind("finding")[0].what == f"{SHOWN}/files/3/bad\\x1B[2J"
    assert {f.why for f in found.found} == {"Nuisance"}
    assert "set it aside" in found.found[0].advice
    assert shlex.split(found.found[1].advice)[-1] == f"{SHOWN}/zz/it's; rm -r ~"
    assert "64 files" in found.says
    assert "Made-Up 1" in found.says
    monkeypatch.setattr(scanning, "_TELL_S", -1.0)
    steps = []
    checked(scanned, begun_scan(), tell=steps.append)
    assert steps[0].whole_files == 64
    monkeypatch.undo()
    for kept in list({s.after: s for s in steps if s.after}.values())[:-1:9]:
        stopped = msgspec.json.decode(msgspec.json.encode(kept), type=Partial)
        again = checked(scanned, stopped)
        assert (again.found, again.says) == (found.found, found.says)


@pytest.mark.parametrize(
    "answer", [b"", b"?\0", b"x" * 5000, b": " + b"N" * 500 + b" FOUND\0", None]
)
def test_a_scanner_that_lies_hangs_or_vanishes_is_no_end_of_ours(scanned, monkeypatch, answer):
    monkeypatch.setattr(scanning, "FILE_S", 0.3)

    def said(self, command, line):
        if command == b"VERSION":
            return b"Liar"
        if answer is None:  # it hangs until the other end has had enough
            line.recv(9)
            line.recv(1)
        line.sendall(answer or b"")
        line.close()
        return b""

    monkeypatch.setattr(StandIn, "_said", said)
    if answer and b"\0" in answer:
        found = checked(scanned, begun_scan())
        assert found.state == "not possible"
        assert "64 files the scanner could say nothing" in found.says
        return
    with pytest.raises(ComputerError, match="cannot be shown to the scanner"):
        checked(scanned, begun_scan())


def test_without_a_scanner_one_sentence_says_how_to_have_one(tree):
    found = checked(tree, begun_scan())
    assert found.state == "not possible"
    assert "clamav-daemon" in found.mend[0]
    with pytest.raises(RefusalError):
        list(Hand(str(tree), rules=True).scan(SHOWN, "", "/run/clamav/clamd.ctl"))
    with pytest.raises(RefusalError):
        list(Hand(str(tree)).scan(SHOWN, "", "/tmp/planted.sock"))


@pytest.mark.parametrize(
    ("days", "words"),
    [(3, "are 3 days old."), (40, "old, have them"), (-2, "future"), (None, "not say")],
)
def test_how_old_signatures_are_is_said(days, words):
    assert words in signatures("Made-Up", days)


# -- in pieces -------------------------------------------------------------------------------------


def test_pieces_of_a_file_are_counted_where_the_file_system_tells(tmp_path):
    place = tmp_path / "file"
    place.write_bytes(bytes(3 << 20))
    with open(place, "rb+") as file:
        os.fsync(file.fileno())
        try:
            assert pieces.pieces(file.fileno()) >= 1
        except OSError as error:
            pytest.skip(f"this file system does not tell: {error}")
    put(tmp_path, "home/small", b"x")
    (tmp_path / "home/large").write_bytes(bytes(range(256)) * 8192)
    os.sync()
    *_, last = Hand(str(tmp_path)).fragments("/home", "")
    assert last["counts"]["measured"] == 1
    assert last["files"] == 2


def test_pieces_matter_on_a_spinning_disk_only_and_by_a_stated_formula():
    done = Partial(
        task="fragments",
        begun_at="",
        files=9,
        bytes=100e6,
        counts={"measured": 2, "pieces": 27, "many": 1},
    )
    worst = [(26, 9_000_000, "/home/u/film")]
    spinning = fragments_result(done, "", worst, "spinning")
    assert "takes 30 % longer" in spinning.says  # 25 pieces more at 12 ms, of one second
    assert (spinning.state, spinning.found_count) == ("found", 1)
    for disk in ("solid", ""):
        assert fragments_result(done, "", worst, disk).state == "fine"


# -- what starts, updates, disks, stopping ---------------------------------------------------------


def test_what_starts_from_odd_places_is_something_to_look_at(tree):
    put(tree, "/usr/sbin/sshd", b"the system's")
    put(tree, "/usr/sbin/fine", b"fine")
    put(tree, "/var/lib/dpkg/info/fine.list", "/usr/sbin/fine\n/etc/cron.d/fine\n/usr/sbin/sshd\n")
    put(tree, "/var/lib/dpkg/info/fine.md5sums", f"{md5(b'other')}  usr/sbin/fine\n")
    put(tree, "/etc/cron.d/fine", "0 3 * * * root test -x /usr/sbin/sshd && /usr/sbin/sshd\n")
    put(tree, "/etc/cron.d/own", "@reboot root sh -c 'cd / && /dev/shm/miner --all'\n")
    units = "/etc/systemd/system"
    put(tree, f"{units}/a.service", "[Service]\nExecStart=-/opt/x/.hidden/run\n")
    put(tree, f"{units}/b.service", "[Service]\nExecStart=/home/u/sshd --now /tmp/no-program\n")
    put(tree, f"{units}/c.service", "[Service]\nExecStart=/usr/sbin/fine\n")
    auto = "/home/u/.config/autostart"
    put(tree, f"{auto}/good.desktop", "[Desktop Entry]\nExec=/home/u/.local/bin/good\n")
    put(tree, f"{auto}/bad.desktop", "[Desktop Entry]\nExec=env A=1 $HOME/.cache/x/bad %U\n")
    key = "AAAAC3NzaC1lZDI1NTE5AAAAIGbn8Ez1yQ5mGzv0mG0tQ1xw2sHkq1YkqQmQmQmQmQmQ"
    put(tree, "/home/u/.ssh/authorized_keys", f'# no\ncommand="x" ssh-ed25519 {key} old friend\n')
    put(tree, "/etc/ld.so.preload", "/usr/lib/odd.so\n")
    found = checked(tree, task="odd")
    said = {what.partition(",")[0]: why for what, why in told(found, "look")}
    assert said["/dev/shm/miner"] == "stands in a temporary folder"
    assert said["/opt/x/.hidden/run"] == "stands in a hidden folder"
    assert "name of a program of the system" in said["/home/u/sshd"]
    assert said["/usr/sbin/fine"] == "was changed since its package brought it"
    assert said["/home/u/.cache/x/bad"] == "stands in a hidden folder"
    assert "that no package brought" in said["/etc/cron.d/own"]
    assert "loaded into every program" in said["/usr/lib/odd.so"]
    assert any(w.startswith("login key SHA256:") and "old friend" in w for w in said)
    assert not {"/tmp/no-program", "/home/u/.local/bin/good", "/etc/cron.d/fine"} & said.keys()


@pytest.mark.parametrize(
    ("command", "wanted"),
    [
        ("/usr/bin/a /tmp/data", ["/usr/bin/a"]),
        ("env X=1 nice -n 5 /opt/b --c /d", ["/opt/b"]),
        ("python3 -u /srv/job.py /tmp/in", ["/srv/job.py"]),
        ("sh -c 'if [ -x /a/b ]; then /a/b -q; fi; exec /c/d'", ["/a/b", "/c/d"]),
        ("~/x && %h/y || /z", ["/home/u/x", "/home/u/y", "/z"]),
        ("'unclosed /q", []),
        ("", []),
    ],
)
def test_programs_in_a_command_are_told_from_their_arguments(command, wanted):
    assert programs_in(command, "/home/u") == wanted


APT = """NOTE: This is only a simulation!
Inst libc6 [2.36-9] (2.36-10 Debian:12.9/stable, Debian-Security:12/stable-security [amd64])
Inst new-one (1.0 Debian:12.9/stable [amd64])
Inst editor [1.0] (1.1 Debian:12.9/stable [all]) []
Conf libc6 (2.36-10 Debian:12.9/stable [amd64])
"""


def answers(tree, **programs):
    """A computer on which programs say this."""
    hand = Hand(str(tree))

    def run(arguments, *_more, **_options):
        said = programs.get(arguments[0].replace("-", "_"))
        if said is None:
            raise OSError("there is no such program")
        return (said(arguments) if callable(said) else said).encode()

    hand.run = run
    return computer_on(hand)


def did(computer, task):
    begun = Partial(task=task, begun_at="2026-03-02T08:00:00+00:00")
    return computer.about.upkeep(begun, lambda _: None)


def test_updates_are_counted_by_the_lists_and_their_age_is_said(tree):
    lists = put(tree, "/var/lib/apt/lists/made-up_InRelease", "x")
    found = did(answers(tree, apt_get=APT), "updates")
    assert "2 updates wait, 1 of them for security. A restart is needed after libc6." in found.says
    assert [f.what for f in found.found] == ["libc6", "editor"]
    assert "day" in found.notes[0]
    os.utime(lists, (0, 0))
    assert "old" in did(answers(tree, apt_get=""), "updates").notes[0]
    os.unlink(lists)
    assert "never fetched" in did(answers(tree, apt_get=""), "updates").notes[0]
    assert did(answers(tree), "updates").state == "not possible"


MOUNTS = """22 1 8:1 / / rw,relatime shared:1 - ext4 /dev/sda1 rw,errors=remount-ro
40 22 0:35 / /proc rw - proc proc rw
41 22 8:17 / /data\\040disk rw - ext4 /dev/sdb1 rw
42 22 7:0 / /snap rw - squashfs /dev/loop0 ro
"""


def test_errors_of_file_systems_come_first_and_trim_is_for_disks_that_take_it(tree):
    put(tree, "/proc/self/mountinfo", MOUNTS)
    for device, numbers, turns, most in (("sda", "8:1", "0", "1048576"), ("sdb", "8:17", "1", "0")):
        put(tree, f"/sys/devices/{device}/queue/rotational", turns)
        put(tree, f"/sys/devices/{device}/queue/discard_max_bytes", most)
        put(tree, f"/sys/devices/{device}/{device}1/partition", "1")
        for folder, name in (("dev/block", numbers), ("class/block", f"{device}1")):
            (tree / "sys" / folder).mkdir(parents=True, exist_ok=True)
            (tree / "sys" / folder / name).symlink_to(f"../../devices/{device}/{device}1")
    put(tree, "/sys/fs/ext4/sdb1/errors_count", "3")
    timer = "Id=fstrim.timer\nUnitFileState=disabled\nActiveState=inactive\nLastTriggerUSec=\n"
    found = did(answers(tree, systemctl=timer), "disks")
    assert found.found[0].what == "/data disk"
    assert found.found[0].kind == "damaged"
    assert "rescue medium" in found.mend[0]
    assert [f.what for f in found.found if f.of == "trim"] == ["/"]
    kernel = '{"MESSAGE":"EXT4-fs error (device sda1): made up"}\n'
    found = did(answers(tree, systemctl=timer, journalctl=kernel), "disks")
    assert "1 error since the start" in found.found[0].why
    on = {"UnitFileState": "enabled", "LastTriggerUSec": "Mon 2026-03-02 00:10:00 UTC"}
    assert by_timer(on, 1772_500_000.0, "/")[0] == []
    assert by_timer(on, 1782_500_000.0, "/")[0] != []


def test_what_holds_up_start_and_stop_is_read(tree):
    put(tree, "/run/systemd/system/x", "")
    put(tree, "/etc/default/grub", 'GRUB_TIMEOUT="30"\n')

    def journal(arguments):
        if "_PID=1" not in arguments:
            return "".join(f'{{"_BOOT_ID":"{c * 32}","_UID":"0"}}\n' for c in "ab")
        late = "State 'stop-sigterm' timed out. Killing."
        return f'{{"UNIT":"slow.service","MESSAGE":"{late}"}}\n{{"MESSAGE":[1]}}\nx\n'

    computer = answers(tree, systemctl="DefaultTimeoutStopUSec=5min\n", journalctl=journal)
    computer._hands.own.live = True
    found = did(computer, "stopping")
    assert [f.what for f in found.of_kind("look")] == ["slow.service", "boot menu", "services"]
    assert len(found.mend) == 2
    os.unlink(tree / "etc/default/grub")
    assert did(linux(tree), "stopping").state == "not possible"


RPM = """/usr/bin/tide\t{whole}\t0\ttide
/usr/bin/knot\t{odd}\t0\ttide
/etc/tide.conf\t{odd}\t1\ttide
/run/ghost\t{odd}\t64\ttide
/usr/share/tide\t\t0\ttide
/usr/bin/gone\tXYZ\t0\ttide
not a line
"""


def test_what_rpm_recorded_is_held_against_what_is_there(tree):
    put(tree, "/usr/bin/tide", b"tide")
    put(tree, "/usr/bin/knot", b"knot")
    put(tree, "/etc/tide.conf", b"own")
    put(tree, "/usr/bin/stranger", b"x").chmod(0o755)
    whole = hashlib.sha256(b"tide").hexdigest()
    hand = Hand(str(tree))
    said = RPM.format(whole=whole, odd="0" * 64)
    (last,) = rpm_files.OfRpm(hand.link, hand._place, said).through("")
    assert [found[:2] for found in last["found"]] == [
        ["configured", "/etc/tide.conf"],
        ["damaged", "/usr/bin/knot"],
        ["stranger", "/usr/bin/stranger"],
    ]
    assert (last["files"], last["ended"]["broken"]) == (3, "")
    (empty,) = rpm_files.OfRpm(hand.link, hand._place, "").through("")
    assert "no files" in empty["ended"]["broken"]


@pytest.mark.skipif(os.geteuid() != 0, reason="a file system is mounted")
def test_a_file_in_pieces_is_put_together_and_its_bytes_stay(tmp_path):
    image, place = tmp_path / "image", tmp_path / "m"
    place.mkdir()
    image.write_bytes(b"")
    os.truncate(image, 64 << 20)
    made = subprocess.run(["mke2fs", "-q", "-t", "ext4", image], check=False).returncode == 0
    if not made or subprocess.run(["mount", "-o", "loop", image, place], check=False).returncode:
        pytest.skip("nothing can be mounted here")
    try:
        with open(place / "a", "wb") as one, open(place / "b", "wb") as other:
            for n in range(120):
                for file in (one, other):
                    file.write(bytes([n]) * 65536)
                    file.flush()
                    os.fsync(file.fileno())
        before = (place / "a").read_bytes(), os.stat(place / "a").st_mtime_ns
        hand = Hand()
        was, now = hand.gather(str(place / "a"))
        assert was > now >= 1
        assert ((place / "a").read_bytes(), os.stat(place / "a").st_mtime_ns) == before
        assert sorted(os.listdir(place)) == ["a", "b", "lost+found"]
        assert hand.gather(str(place / "a")) == [now, now] or now > 1
        with pytest.raises(OSError, match=r"directory|ordinary"):
            hand.gather(str(place / "lost+found"))
        with pytest.raises(RefusalError):
            Hand(rules=True).gather(str(place / "a"))
        assert Hand(rules=True).trim(str(place)) > 0
        with pytest.raises(OSError, match="no volume begins"):
            Hand(rules=True).trim(str(tmp_path))
    finally:
        subprocess.run(["umount", place], check=True)
    checked_by = subprocess.run(["e2fsck", "-fn", image], capture_output=True, check=False)
    assert checked_by.returncode == 0, checked_by.stdout
