"""What is read from /proc, /sys and systemd; odd and hostile machines."""

import os
import socket
from datetime import date

import msgspec
import pytest

from helpers import (
    CATALOGUE,
    EVENING,
    computer_on,
    item,
    linux,
    look,
    means_of,
    process,
    put,
    tree_user,
)
from lumtak.computers.hands.sent.hand import Hand
from lumtak.computers.hands.sent.root.settling import RootHand
from lumtak.computers.linux import hardware
from lumtak.computers.linux.listening import is_open, with_listening
from lumtak.computers.linux.login_starts import LoginStart
from lumtak.computers.linux.packages import owners_of_files, with_packages
from lumtak.computers.linux.proc import Processes, cpu_times, meminfo
from lumtak.computers.linux.services import Services
from lumtak.computers.linux.units import blocks
from lumtak.core.facts import Process, longest_starts
from lumtak.core.record import NotMeasured
from lumtak.core.sample import between
from lumtak.core.setting import parse_ref
from lumtak.errors import ComputerError


def test_cpu_times_leave_guests_out_and_tell_waiting_apart():
    cores, busy, iowait, steal, total = cpu_times(
        b"cpu  10 20 30 40 50 6 7 8 9 9\ncpu0 1\ncpu1 1\nintr\n", 1
    )
    assert (cores, busy, iowait, steal, total) == (2, 73, 50, 8, 171)


def test_old_kernels_with_fewer_columns():
    assert cpu_times(b"cpu 1 2 3 4\ncpu0 1 2 3 4\n", 1) == (1, 6, 0, 0, 10)


def test_meminfo_in_bytes(tree):
    sizes = meminfo((tree / "proc/meminfo").read_bytes())
    assert sizes["MemAvailable"] == 2048000 * 1024


def test_facts_of_the_folder(box):
    facts = box.about.facts()
    assert facts.name == "loft"
    assert facts.hardware.ram_bytes == 4096000 * 1024
    assert facts.system.name == "Slipway 4"
    assert {p.name for p in facts.processes} == {"tide-feed", "big) (one", "kworker/0:1"}
    assert {g.area for g in facts.gaps} == {"services", "power", "effects"}
    assert facts.find(parse_ref("apps:tide-feed")).running
    assert isinstance(facts.system.session_id, NotMeasured)
    assert facts.find(parse_ref("apps:process/big) (one")).setting.needed


def test_snapshot_of_the_folder(box):
    snapshot = box.load.sample(memory=True)
    assert snapshot.ram_used_bytes == (4096000 - 2048000) * 1024
    assert snapshot.cache_bytes == 1024000 * 1024
    assert snapshot.swap_used_bytes == 100000 * 1024
    assert isinstance(snapshot.clock_ratio, NotMeasured)
    assert snapshot.memory["apps:tide-feed"].how == "resident minus shared"
    assert snapshot.memory["apps:tide-feed"].ram_bytes == (9000 - 200) * 4096
    assert "system:kernel" not in snapshot.memory


def test_proportional_memory_where_it_may_be_read(tree):
    put(
        tree,
        "/proc/10/smaps_rollup",
        "5-7 ---p [rollup]\nRss: 90 kB\nPss: 50 kB\nPss_Anon:  30 kB\nPss_Shmem: 5 kB\nSwapPss: 7"
        " kB\n",
    )
    memory = linux(tree).load.sample(memory=True).memory["apps:tide-feed"]
    assert (memory.ram_bytes, memory.how) == (42 * 1024, "proportional")


def test_no_proc_is_one_sentence(tree):
    (tree / "proc/stat").unlink()
    with pytest.raises(ComputerError, match="/proc/stat cannot be read"):
        linux(tree).load.sample()


def processes(tree):
    found = Processes(Hand(str(tree)), None)
    found.look()
    return found


def test_cpu_of_processes_that_come_go_and_change_their_number(tree):
    found = processes(tree)
    process(tree, 10, ticks=(150, 50))
    process(tree, 13, b"new", ticks=(30, 0))
    found.look()
    assert found.cpu_s()["apps:process/tide-feed"] == pytest.approx(0.5)
    assert found.cpu_s()["apps:process/new"] == pytest.approx(0.3), (
        "all it used fell into the interval"
    )
    process(tree, 13, b"other", ticks=(20, 0), started=900)
    (tree / "proc/10/stat").unlink()
    found.look()
    assert found.cpu_s()["apps:process/tide-feed"] == pytest.approx(0.5), "never falls"
    assert found.cpu_s()["apps:process/other"] == pytest.approx(0.2), (
        "a number used again is another process"
    )


@pytest.mark.parametrize(
    "garbage", [b"", b"13 (", b"13 (x) S 1", b"\x00\xff", b"13 (x) S " + b"y " * 40]
)
def test_garbage_in_a_process_is_passed_over(tree, garbage):
    put(tree, "/proc/13/stat", garbage)
    assert 13 not in [p.pid for p in processes(tree).look()]


def test_names_in_bytes_that_are_no_text(tree):
    process(tree, 13, b"\xff\x1b[2J\n")
    assert "\ufffd␛[2J␊" in [p.name for p in processes(tree).look()]


def test_consumers_by_control_group(tree):
    process(tree, 20, b"x", cgroup=b"0::/system.slice/tide.service\n")
    process(
        tree,
        21,
        b"y",
        cgroup=b"1:name=systemd:/system.slice/system-getty.slice/getty@tty1.service\n",
    )
    process(
        tree,
        22,
        b"z",
        cgroup=b"0::/user.slice/app.slice/app-gnome-sail\\x2dsync@autostart.service\n",
    )
    found = Processes(Hand(str(tree)), None)
    process(
        tree,
        23,
        b"b",
        cgroup=(
            b"0::/user.slice/user@1000.service/app.slice/app-flatpak-org.school.Tides-77.scope\n"
        ),
    )
    found.services = True
    found.starts.learn([LoginStart("apps:sail-sync", ("sail",), "", os.getuid(), 0.0)])
    found.units = frozenset({"apps:sandbox/org.school.Tides"})
    consumers = {p.pid: p.consumer for p in found.look()}
    assert consumers[20] == "services:tide"
    assert consumers[21] == "services:getty@tty1"
    assert consumers[22] == "apps:sail-sync"
    assert consumers[23] == "apps:sandbox/org.school.Tides"
    assert consumers[12] == "system:kernel"


@pytest.mark.parametrize("version", [1, 2])
def test_a_control_group_counts_what_came_and_went(tree, version):
    group = "/system.slice/tide.service"
    cgroup = (
        b"1:name=systemd:/\n0::%s\n"
        if version == 2
        else b"4:cpu,cpuacct:/odd\n1:name=systemd:%s\n0::/\n"
    )
    process(tree, 20, b"x", cgroup=cgroup % group.encode())

    def counted(seconds, anon=5 << 20):
        if version == 2:
            put(tree, "/sys/fs/cgroup/cgroup.controllers", "cpu memory\n")
            put(
                tree,
                f"/sys/fs/cgroup{group}/cpu.stat",
                f"usage_usec {seconds * 1_000_000}\nuser_usec 1\n",
            )
            put(tree, f"/sys/fs/cgroup{group}/memory.stat", f"anon {anon}\nfile 99\n")
            put(tree, f"/sys/fs/cgroup{group}/memory.swap.current", "1048576\n")
        else:
            put(
                tree, f"/sys/fs/cgroup/cpuacct{group}/cpuacct.usage", f"{seconds * 1_000_000_000}\n"
            )
            put(
                tree,
                f"/sys/fs/cgroup/memory{group}/memory.stat",
                f"rss 1\ntotal_rss {anon}\ntotal_swap 1048576\n",
            )

    counted(100)
    found = Processes(Hand(str(tree)), None)
    found.services = True
    found.look()
    assert found.cpu_s()["services:tide"] == 0
    counted(103)
    found.look()
    assert found.cpu_s()["services:tide"] == 3
    counted(1)  # started anew
    found.look()
    assert found.cpu_s()["services:tide"] == 4
    memory = found.memory()["services:tide"]
    assert (memory.ram_bytes, memory.how) == (6 << 20, "counted by its control group")


def test_a_process_on_this_machine_leaves_itself_out():
    import os

    found = Processes(Hand(), os.getpid())
    assert os.getpid() not in [p.pid for p in found.look()]


SHOWN = """Id=tide.service
Description=Tide tables = all day
LoadState=loaded
ActiveState=active
UnitFileState=enabled
Requires=system.slice net.service sysinit.target
BindsTo=

Id=gone.service
LoadState=not-found

Id=ssh.service
Description=\x1b[31mSecure
LoadState=loaded
ActiveState=inactive
UnitFileState=static

Id=masked.service
LoadState=masked
UnitFileState=masked

nonsense
Id=x.mount
"""


def services(transport):
    return Services(means_of(transport))


def test_units_as_systemd_shows_them():
    found, _ = services(Hand()).parse(blocks(SHOWN))
    items = {i.key: i for i in found}
    assert set(items) == {"tide", "ssh", "masked"}
    assert (items["tide"].value, items["tide"].running, items["tide"].needs) == (
        "auto",
        True,
        ("net",),
    )
    assert items["tide"].title == "Tide tables = all day"
    assert (items["ssh"].role, items["ssh"].value, items["ssh"].title) == (
        "remote-access",
        "demand",
        "␛[31mSecure",
    )
    assert items["masked"].value == "off"


UNITS = """Id=dbus-broker.service
Names=dbus-broker.service dbus.service
FragmentPath=/usr/lib/systemd/system/dbus-broker.service
LoadState=loaded
ActiveState=active
UnitFileState=enabled
TriggeredBy=dbus.socket

Id=man-db.service
FragmentPath=/lib/systemd/system/man-db.service
Description=Daily man-db regeneration
LoadState=loaded
ActiveState=inactive
UnitFileState=static
TriggeredBy=man-db.timer
WantedBy=other.service multi-user.target

Id=mine.service
FragmentPath=/etc/systemd/system/mine.service
LoadState=loaded
UnitFileState=disabled
BusName=org.example.Mine
"""


class Asked(RootHand):
    """A system whose programs answer from here."""

    live = True

    def __init__(self, root):
        super().__init__(root)
        self.live = True

    def run(self, arguments, timeout_s=20.0, partly=False, bus=""):
        return UNITS.encode()


def test_causes_aliases_origin_and_package_of_units(tree):
    (tree / "run/systemd/system").mkdir(parents=True)
    put(
        tree,
        "/var/lib/dpkg/info/dbus-broker.list",
        "/.\n/usr/lib/systemd/system/dbus-broker.service\n",
    )
    put(
        tree,
        "/var/lib/dpkg/info/man-db:amd64.list",
        "/lib/systemd/system\n/lib/systemd/system/man-db.service\n/x\n",
    )
    put(
        tree,
        "/var/lib/dpkg/status",
        "Package: dbus-broker\nDescription: message bus\n more\n\nPackage: man-db\nStatus:"
        " x\nSection: contrib/net\nDescription: server of manual pages\n"
        + "".join(
            f"\nPackage: {name}\nStatus: install ok installed\n{more}Depends: libc (>= 2),\n"
            f" {needs}\n"
            for name, more, needs in (
                ("reader", "", "man-db:any (>= 1)"),
                ("man-extra", "Source: man-db\n", "dbus-broker"),
                ("either", "", "man-db | info"),
                ("task-docs", "Section: tasks\n", "man-db"),
            )
        ),
    )
    put(tree, "/var/lib/dpkg/info/tides.list", "/etc/xdg/autostart/tides.desktop\n")
    hand = Asked(str(tree))
    listed, owners = services(hand).items(look()), owners_of_files(hand)
    assert owners["/etc/xdg/autostart/tides.desktop"] == "tides"
    known = with_packages(hand, listed.items, listed.paths, owners, CATALOGUE)
    items = {i.key: i for i in known}
    bus, manual, mine = items["dbus-broker"], items["man-db"], items["mine"]
    assert (bus.aliases, bus.role, bus.origin, bus.package) == (
        ("dbus",),
        "system-core",
        "package",
        "dbus-broker",
    )
    assert [(t.kind, t.by) for t in bus.triggers] == [("system", ""), ("socket", "dbus.socket")]
    assert [(t.kind, t.by) for t in manual.triggers] == [
        ("system", ""),
        ("wants", "other"),
        ("timer", "man-db.timer"),
    ]
    assert manual.note == "Daily man-db regeneration (package man-db: server of manual pages)"
    assert manual.evidence == ("server",)
    assert (manual.stood_on_by, bus.stood_on_by) == (("reader",), ("man-extra",))
    assert (mine.origin, mine.triggers[0].kind) == ("user", "bus")


def test_traces_of_advice_are_seen(tree):
    put(tree, "/proc/cmdline", "quiet nr_cpus=2 mitigations=off mem_sleep_default=deep\n")
    put(
        tree,
        "/etc/cron.d/faster",
        "# drop_caches is not here\n*/5 * * * * root echo 3 > /proc/sys/vm/drop_caches\n",
    )
    put(tree, "/etc/cron.d/calm", "# echo 3 > /proc/sys/vm/drop_caches\n")
    put(tree, "/proc/sys/vm/swappiness", "0\n")
    found = linux(tree).about.facts()
    assert [m.advice for m in found.marks] == [
        "limit-processors-at-boot", "mitigations-off", "empty-the-cache-regularly",
        "swappiness-zero",
    ]  # fmt: skip
    assert found.space.total_bytes > found.space.free_bytes > 0


def test_systemd_that_does_not_answer_is_a_gap(tree):
    (tree / "run/systemd/system").mkdir(parents=True)
    items, gaps, _ = services(Hand(str(tree))).items(look())
    assert not items
    assert "could not be asked" in gaps[0].reason


def test_clock_battery_disk_and_sessions_of_a_laptop(tree):
    for core, khz in ((0, 1000000), (1, 1500000)):
        put(tree, f"/sys/devices/system/cpu/cpu{core}/cpufreq/scaling_cur_freq", f"{khz}\n")
    put(tree, "/sys/devices/system/cpu/cpu0/cpufreq/base_frequency", "2500000\n")
    put(tree, "/sys/devices/system/cpu/cpufreq/policy0/scaling_governor", "powersave\n")
    put(tree, "/sys/class/power_supply/BAT0/type", "Battery\n")
    put(tree, "/sys/class/power_supply/BAT0/status", "Discharging\n")
    put(tree, "/sys/class/power_supply/mouse/type", "Battery\n")
    put(tree, "/sys/class/power_supply/mouse/scope", "Device\n")
    put(tree, "/proc/self/mountinfo", "1 2 8:1 / / rw - ext4 /dev/sda1 rw\n")
    put(tree, "/sys/devices/block/sda/queue/rotational", "1\n")
    (tree / "sys/devices/block/sda/sda1").mkdir()
    (tree / "sys/dev/block").mkdir(parents=True)
    (tree / "sys/dev/block/8:1").symlink_to("../../devices/block/sda/sda1")
    uid = tree_user().uid
    put(tree, "/run/systemd/sessions/3", f"UID={uid}\nCLASS=user\nREALTIME=1772480000000000\n")
    put(tree, "/run/systemd/sessions/4", "UID=99999\nCLASS=user\n")
    box = linux(tree)
    facts = box.about.facts()
    assert facts.hardware.nominal_mhz == 2500
    assert box.load.sample().clock_ratio == pytest.approx(0.5)
    assert facts.hardware.disk == "spinning"
    assert (facts.hardware.battery, facts.system.power_source, facts.system.power_plan) == (
        True,
        "battery",
        "saving",
    )
    assert facts.system.session_id == "3@1772480000000000"
    assert facts.system.since_login_s > 0


def test_a_battery_of_a_mouse_is_none_of_the_computers(tree):
    put(tree, "/sys/class/power_supply/mouse/type", "Battery\n")
    put(tree, "/sys/class/power_supply/mouse/scope", "Device\n")
    assert hardware.battery(Hand(str(tree))) == (False, "mains")


def test_the_nominal_clock_from_the_models_name(tree):
    put(tree, "/proc/cpuinfo", "model name\t: Slip(R) Way @ 2.60GHz\ncpu MHz : 1200\n")
    assert hardware.nominal_mhz(Hand(str(tree))) == 2600


def test_a_static_folder_stands_still(box):
    first, second = box.load.sample(), box.load.sample()
    assert between(first, second, 0.0).cpu_pct == 0.0


def test_pressure_disk_time_users_and_heat(tree):
    for resource, total in (("cpu", 5_000_000), ("memory", 0), ("io", 250_000)):
        put(
            tree,
            f"/proc/pressure/{resource}",
            f"some avg10=0.00 avg60=0.00 avg300=0.00 total={total}\nfull avg10=0 total=9\n",
        )
    put(tree, "/proc/self/mountinfo", "1 2 8:0 / / rw - ext4 /dev/sda rw\n")
    put(tree, "/sys/dev/block/8:0/queue/rotational", "0\n")
    put(tree, "/sys/dev/block/8:0/stat", "1 2 3 4 5 6 7 8 9 1500 11 12\n")
    put(tree, "/sys/class/thermal/thermal_zone0/temp", "41000\n")
    put(tree, "/sys/class/thermal/thermal_zone1/temp", "52500\n")
    put(tree, "/sys/class/thermal/cooling_device0/temp", "99000\n")
    put(tree, "/run/systemd/sessions/1", "UID=1000\nUSER=anna\nCLASS=user\n")
    put(tree, "/run/systemd/sessions/2", "UID=x\nUSER=\x1b[2Jben\nCLASS=user\n")
    box = linux(tree)
    snapshot = box.load.sample()
    assert snapshot.stalled_s == {"cpu": 5.0, "memory": 0.0, "io": 0.25}
    assert snapshot.disk_busy_s == 1.5
    system = box.about.system()
    assert system.temperature_c == 52.5
    assert system.users == ("anna", "␛[2Jben")


def test_old_kernels_say_what_they_do_not_tell(box):
    snapshot = box.load.sample()
    assert snapshot.stalled_s["io"].not_measured == "this kernel has no pressure files"
    assert "disk" in snapshot.disk_busy_s.not_measured
    assert isinstance(box.about.system().users, NotMeasured)


def test_signs_at_the_door(tree):
    put(tree, "/sys/class/power_supply/BAT0/type", "Battery\n")
    put(tree, "/sys/class/power_supply/BAT0/energy_full", "30000000\n")
    put(tree, "/sys/class/power_supply/BAT0/energy_full_design", "50000000\n")
    put(tree, "/sys/class/power_supply/BAT0/cycle_count", "812\n")
    for core, count in ((0, 3), (1, 41)):
        put(
            tree,
            f"/sys/devices/system/cpu/cpu{core}/thermal_throttle/core_throttle_count",
            f"{count}\n",
        )
    put(tree, "/run/reboot-required", "")
    put(tree, "/run/reboot-required.pkgs", "libc6\nlinux-image\nlibc6\n\x1b[2J\na\nb\nc\n")
    put(tree, "/proc/vmstat", "pgpgin 4\ndrop_pagecache 14\n")
    found = linux(tree).about.facts()
    says = {s.name: s.says for s in found.signs}
    assert says["battery"].startswith("holds 60 % of what it was built for, 812 cycles; it is worn")
    assert says["heat"].startswith("slowed the processor 41 times")
    assert says["restart"] == "updates of libc6, linux-image, ␛[2J, a and 2 more wait for one"
    assert ("empty-the-cache", "the cache was emptied 14 times since the start") in [
        (m.advice, m.where) for m in found.marks
    ]


@pytest.mark.parametrize(
    ("modules", "link", "says"),
    [
        (["6.1.0-9"], "vmlinuz-6.1.0-9", ""),
        (["6.1.0-8", "6.1.0-9"], "vmlinuz-6.1.0-8", ""),
        (
            ["6.1.0-8", "6.1.0-11"],
            "vmlinuz-6.1.0-11",
            "the kernel 6.1.0-11 is installed and waits for one; 6.1.0-8 runs",
        ),
        (["6.2.1-uml"], "", ""),
        (["6.2.1-arch"], "", "the kernel 6.1.0-8 was replaced on the disk and waits for one"),
    ],
)
def test_a_kernel_that_waits_for_a_restart(tree, modules, link, says):
    put(
        tree,
        "/proc/sys/kernel/osrelease",
        "6.1.0-9\n" if not says and len(modules) == 1 else "6.1.0-8\n",
    )
    for name in modules:
        put(tree, f"/usr/lib/modules/{name}/{'vmlinuz' if 'arch' in name else 'x'}", "")
    if link:
        (tree / "boot").mkdir(exist_ok=True)
        (tree / "boot/vmlinuz").symlink_to(link)
    assert [s.says for s in linux(tree).about.facts().signs] == ([says] if says else [])


def test_seconds_that_units_took_to_start():
    names = ("InactiveExit", "ActiveEnter", "InactiveEnter")
    stamps = "".join(f"{name}TimestampMonotonic={{}}\n" for name in names)
    text = "".join(
        f"Id={key}.service\nLoadState=loaded\nFragmentPath=/x/{key}.service\n{stamps.format(*at)}\n"
        for key, at in {
            "up": (5_000_000, 8_200_000, 0),
            "once": (5_000_000, 0, 5_500_000),
            "never": (0, 0, 0),
            "starting": (9, 4, 3),
        }.items()
    )
    items, _ = services(Hand("/nowhere")).parse(blocks(text))
    assert {i.key: i.start_s for i in items} == {
        "up": pytest.approx(3.2),
        "once": 0.5,
        "never": None,
        "starting": None,
    }
    assert [i.key for i in longest_starts(items)] == ["up", "once"]


@pytest.mark.parametrize(
    ("group", "counts_for"),
    [
        (b"/system.slice/tide.service", "services:tide"),
        (b"/system.slice/system-tide.slice/tide@1.service/inner", "services:tide@1"),
        (
            b"/user.slice/user-1000.slice/user@1000.service/system.slice/tide.service",
            "apps:user/tide.service",
        ),
        (
            b"/user.slice/user-1000.slice/user@1000.service/app.slice/x/user.slice/user-1000.slice/user@1000.service/tide.service",
            "apps:process/burner",
        ),
        (b"/lxc/box/system.slice/tide.service", "apps:process/burner"),
        (b"/system.slice/tide.service.mine", "apps:process/burner"),
    ],
)
def test_a_group_that_a_user_named_like_a_service_is_none(tree, group, counts_for):
    process(tree, 40, b"burner", cgroup=b"0::" + group + b"\n")
    found = Processes(Hand(str(tree)), None)
    found.services = True
    found.units = frozenset({"apps:user/tide.service"})
    assert {p.consumer for p in found.look() if p.pid == 40} == {counts_for}


def test_who_waits_for_other_computers_is_seen(tree):
    with socket.create_server(("0.0.0.0", 0)), socket.create_server(("127.0.0.1", 0)) as inner:
        odd = item("services", "odd", running=True)
        mine = Process(pid=os.getpid(), name="odd", consumer=odd.consumer, cpu_s=0.0, rss_bytes=0)
        (seen,) = with_listening(Hand(), [odd], [mine], os.geteuid())
        assert seen.evidence == ("listens",)
        known_one = item("services", "fax", role="fax", running=True)
        assert with_listening(Hand(), [known_one], [mine], os.geteuid()) == [known_one]
        _, port = inner.getsockname()
    put(tree, "/proc/net/tcp", f" 0: 0100007F:{port:04X} 00000000:0000 0A 0:0 0:0 0   7 0 8 1\n")
    put(tree, f"/proc/{os.getpid()}/status", "Uid:\t7\t7\t7\t7\n")
    assert with_listening(Hand(str(tree)), [odd], [mine], 0) == [odd], "for this one only"
    put(tree, "/proc/net/tcp6", " 0: 00000000:0050 00000000:0000 0A 0:0 0:0 0   7 0 8 1\n")
    assert with_listening(Hand(str(tree)), [odd], [mine], 0)[0].evidence == ("listens",)
    also = msgspec.structs.replace(mine, consumer="services:other")
    assert with_listening(Hand(str(tree)), [odd], [mine, also], 0) == [odd], "either of them may"
    assert is_open("[::]:631 (Stream) /run/x (Stream)")
    assert not is_open("/run/x (Stream) 127.0.0.1:631 (Stream) [::1]:631 (Stream)")


def test_since_when_it_is_here_and_when_it_was_used_is_told_or_said_not_to_be(tree):
    tides = item("apps", "tides", title="Tide tables", package="tides")
    put(tree, "/var/lib/dpkg/info/tides:amd64.list", "/x\n")
    about = computer_on(Hand(str(tree))).about
    installed, used = about.history(tides)
    assert installed.startswith("installed by 20")
    assert used == "when it was last used is not known: nothing noted it"
    put(
        tree,
        "/var/log/dpkg.log",
        "2024-02-03 10:00:00 install tides:amd64 <none> 1\n2025-01-01 1:1:1 install tidesX:all 1 2",
    )
    opened = ('<xbel><bookmark><info xmlns:b="http://www.freedesktop.org/standards/desktop-'
              'bookmarks"><b:application name="Other" exec="&apos;/usr/bin/tides %u&apos;"'
              ' modified="2024-05-06T07:08:09Z"/></info></bookmark></xbel>')  # fmt: skip
    place = f"{tree_user().data_home}/recently-used.xbel"
    put(tree, place, opened)
    assert about.history(tides) == (
        "installed on 2024-02-03, as the package manager noted",
        "last opened a file on 2024-05-06, as the desktop noted",
    )
    (days,) = about.used_days([tides, item("services", "tides")]).values()
    assert days == (EVENING.date() - date(2024, 5, 6)).days
    for bad in ("<xbel", "<!DOCTYPE x [<!ENTITY a 'aa'>]>" + opened, "\x1b[2J", "x" * 100):
        put(tree, place, bad)
        assert "not known" in about.history(tides)[1]
        assert about.used_days([tides]) == {}
    put(tree, place, opened.replace("2024-05-06", "2024-99-99"))
    assert about.used_days([tides]) == {}, "no day of any calendar"
