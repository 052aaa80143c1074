"""What upkeep changes: settings of stopping and updating, and actions by root's hand; what comes
before any other advice.
"""

import os
import struct

import pytest
from hypothesis import given
from hypothesis import strategies as st

from helpers import computer_on, facts, item, linux, profile, put, reading, settings_of, snapshot_of
from lumtak.computers.hands.sent.files.places import RefusalError
from lumtak.computers.hands.sent.root.settling import RootHand
from lumtak.computers.hands.sent.table import (
    UPKEEP,
    is_own_content,
    upkeep_file,
    upkeep_text,
    upkeep_value,
)
from lumtak.computers.linux.disk_health import disk_health
from lumtak.computers.linux.signs import signs
from lumtak.core.audit import audit
from lumtak.core.facts import Sign
from lumtak.core.setting import State, parse_change, parse_ref
from lumtak.core.upkeep.tasks import Partial
from lumtak.errors import ComputerError
from lumtak.journal import Journal, apply_changes, put_back
from lumtak.work.knowledge import shipped_catalogue
from outside import Outside

STOP, HOUR, AUTOMATIC = (
    parse_ref(f"upkeep:{key}") for key in ("stop_seconds", "update_hour", "automatic_updates")
)


@given(st.sampled_from(sorted(UPKEEP)), st.integers(-5, 2_000_000))
def test_only_what_is_within_its_bounds_is_a_file_of_ours(key, number):
    lowest, highest = UPKEEP[key]
    data = upkeep_text(key, str(number))
    fits = lowest <= number <= highest
    assert upkeep_value(key, data) == (str(number) if fits else "")
    assert is_own_content(upkeep_file(key), data) == fits
    assert not is_own_content(upkeep_file(key), data + b"\n")
    assert not is_own_content(upkeep_file(key), data.replace(b"# Left", b"# left"))


@pytest.fixture
def updated(tree):
    """A computer that has all of it, and programs that answer."""
    put(tree, "/usr/bin/unattended-upgrade", "")
    put(tree, "/usr/lib/systemd/system/apt-daily-upgrade.timer", "[Timer]\n")
    return Outside(tree)


def test_settings_of_stopping_and_updating_go_there_and_back(updated, tmp_path):
    computer = computer_on(updated)
    before = snapshot_of(updated.path)
    journal = Journal(tmp_path / "home")
    known = computer.about.facts()
    for words, place, holds in (
        (
            "upkeep:stop_seconds=45",
            "etc/systemd/system.conf.d/90-lumtak.conf",
            "TimeoutStopSec=45s",
        ),
        ("upkeep:automatic_updates=on", "etc/apt/apt.conf.d/zz-lumtak-updates", 'Upgrade "1";'),
        (
            "upkeep:update_hour=7",
            "etc/systemd/system/apt-daily-upgrade.timer.d/90-lumtak.conf",
            "OnCalendar=\nOnCalendar=*-*-* 7:00:00",
        ),
    ):
        (done,) = apply_changes(journal, computer, known, [parse_change(words)])
        assert done.result == "done", done
        assert holds in (updated.path / place).read_text()
    assert computer.settings.read(HOUR).value == "7"
    assert {o.result for o in put_back(journal, computer)} == {"done"}
    after = snapshot_of(updated.path)
    assert {k for k in after.keys() ^ before.keys() if "lumtak" in str(k)} == set()
    assert not (updated.path / "etc/systemd/system.conf.d").exists()
    assert not (updated.path / "etc/systemd/system/apt-daily-upgrade.timer.d").exists()
    journal.close()


@pytest.mark.parametrize(
    ("ref", "value", "why"),
    [
        (STOP, "5", "from 20 to 600"),
        (STOP, "045", "from 20 to 600"),
        (HOUR, "24", "from 0 to 23"),
        (AUTOMATIC, "1", "on or off"),
        (AUTOMATIC, "off", "only way"),
    ],
)
def test_values_that_lose_data_or_security_updates_are_refused(updated, ref, value, why):
    with pytest.raises(ComputerError, match=why):
        settings_of(updated).foresee(ref, State(value=value))


def test_updates_can_stop_installing_themselves_where_another_program_tells_of_them(updated):
    put(updated.path, "/usr/bin/gnome-software", "")
    assert settings_of(updated).foresee(AUTOMATIC, State(value="off")).value == "off"
    os.unlink(updated.path / "usr/bin/unattended-upgrade")
    with pytest.raises(ComputerError, match="unattended-upgrades"):
        settings_of(updated).foresee(AUTOMATIC, State(value="on"))


def test_root_unpacks_and_trims_nothing_that_is_none(tree):
    for hand in (RootHand(), RootHand(str(tree), rules=True)):
        for act in (
            lambda h: h.reinstall_packages(["dpkg"]),
            lambda h: h.trim("/"),
            lambda h: h.superblock("/dev/sda1"),
        ):
            with pytest.raises(RefusalError):
                act(hand)
    root = RootHand(rules=True)
    for names in ([], ["--force-all"], ["a b"], ["no-such-package-here"], [""]):
        with pytest.raises(OSError, match=r"names of packages|not installed|No such file"):
            root.reinstall_packages(names)
    for place in ("/dev/null", "/etc/shadow", "/proc", "/dev/sda1"):
        with pytest.raises(OSError, match="where no ext file system begins"):
            root.superblock(place)


# -- what comes before any other advice ------------------------------------------------------------


def drive(**properties):
    held = {name: {"data": value} for name, value in properties.items()}
    return {
        "org.freedesktop.UDisks2.Drive": {"Model": {"data": "Made-up disk"}},
        "org.freedesktop.UDisks2.Drive.Ata": {"SmartEnabled": {"data": True}, **held},
    }


def test_a_failing_disk_and_a_damaged_file_system_are_said_first(tree):
    put(tree, "/sys/fs/ext4/sda1/errors_count", "2\n")
    put(tree, "/sys/fs/ext4/sdb1/errors_count", "0\n")
    (sign,) = [s for s in signs(RootHand(str(tree)), "6.1") if s.name == "file system"]
    assert sign.grave
    assert sign.says.startswith("sda1 noted 2 errors")
    put(tree, "/usr/libexec/udisks2/udisksd", "")
    hand = RootHand(str(tree))
    hand.run = lambda *_more, **_options: json_of(
        drive(SmartUpdated=1, SmartFailing=True), drive(SmartUpdated=1)
    )
    assert [s.grave for s in disk_health(hand)] == [True, False]
    heavy = item("services", "tide-feed", role="")
    for found in (reading(costs=[("services:tide-feed", 9.0, 900)]), None):
        told = audit(
            facts(heavy, signs=(sign, Sign(name="battery", says="is worn"))),
            profile(),
            shipped_catalogue(),
            found,
        )
        assert told.lines[-1].startswith("First of all: file system sda1 noted 2 errors")
        assert "battery" not in told.lines[-1]


def json_of(*drives):
    import json

    return json.dumps({"data": [{f"/d{n}": one for n, one in enumerate(drives)}]}).encode()


BTRFS = "22 1 0:30 / / rw shared:1 - btrfs /dev/sdc1 rw,discard\n"


def test_other_file_systems_and_arrays_tell_of_their_errors_too(tree):
    put(tree, "/proc/self/mountinfo", BTRFS + "23 1 0:44 / /x rw - fuse.odd /dev/sdd1 rw\n")
    put(tree, "/sys/class/block/sdc1/queue/rotational", "0")
    put(tree, "/sys/class/block/sdc1/queue/discard_max_bytes", "4096")
    put(tree, "/sys/class/block/sdd1/queue/rotational", "0")
    put(tree, "/sys/fs/btrfs/1-2/devices/sdc1/x", "")
    put(tree, "/sys/fs/btrfs/1-2/devinfo/1/error_stats", "write_errs 0\ncorruption_errs 4\n")
    put(tree, "/var/lib/btrfs/scrub.status.1-2", "1-2:1|t_start:1772438400|finished:1\n")
    put(tree, "/sys/block/md0/md/degraded", "1")
    put(tree, "/sys/block/md0/md/mismatch_cnt", "128")
    begun = Partial(task="disks", begun_at="2026-03-02T08:00:00+00:00")
    found = linux(tree).about.upkeep(begun, lambda _: None)
    said = {f.what: (f.kind, f.why) for f in found.found}
    assert said["/"][0] == "damaged"
    assert said["/"][1].startswith("4 errors noted; last scrubbed on 2026-03-02")
    assert said["md0"] == ("look", "its disks differ in 128 blocks, by its last check")
    assert any(f.kind == "failing" and f.what == "md0" for f in found.found)
    assert "/x" not in said, "anybody can mount something by the name of a disk"
    assert "at each deletion" in " ".join(found.notes)


def test_the_superblock_tells_when_a_file_system_was_last_checked(tree):
    put(tree, "/proc/self/mountinfo", "22 1 8:1 / / rw - ext4 /dev/sda1 rw\n")
    put(tree, "/sys/devices/sda/sda1/queue/rotational", "1")
    (tree / "sys/dev/block").mkdir(parents=True)
    (tree / "sys/dev/block/8:1").symlink_to("../../devices/sda/sda1")
    put(tree, "/sys/fs/ext4/sda1/errors_count", "0")
    hand = RootHand(str(tree))
    for state, kind in ((1, "setting"), (2, "damaged")):
        block = bytearray(1024)
        struct.pack_into("<I", block, 0x40, 1772438400)
        struct.pack_into("<H", block, 0x3A, state)
        hand.superblock = lambda device, block=bytes(block): block
        begun = Partial(task="disks", begun_at="2026-03-02T08:00:00+00:00")
        found = computer_on(hand).about.upkeep(begun, lambda _: None)
        assert found.found[0].kind == kind
        assert ("2026-03-02" in found.found[0].why) == (kind == "setting")
