"""Whatever a computer says, or does not say, looking at it gives facts or one sentence.

Never anything else.
"""

import random

import msgspec
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from helpers import CATALOGUE, EVENING, linux_tree, process, profile, put, tree_user
from lumtak.computers.hands.sent.root.settling import RootHand
from lumtak.computers.linux.computer import LinuxComputer
from lumtak.core.audit import audit
from lumtak.core.facts import Facts, Setting, in_rows
from lumtak.core.setting import State
from lumtak.errors import ComputerError, LumtakError
from outside import hands_of
from test_linux_apps import link

NASTY = (
    b"", b"\n", b"Id=", b"Id=a.service\n\nId=a.service\n", b"\xff\xfe\x00\x1b[2J",
    "Id=größe.service\nLoadState=geladen\n".encode("latin-1"),
    b"Id=x.service\nLoadState=loaded\nActiveState=active\nUnitFileState=enabled\nFragmentPath=/etc/systemd/system/../x\nTriggeredBy=x.socket\n",
    b"=" * 5000, b's "\\xff"\n', b'aa{sv} 1 "Profile" s "turbo"\n', b'{"data":[[1]]}',
    b"[/]\n=\n[\nx=y", b"Id=%n\\x20.service\nLoadState=loaded\nNames=\n",
    b"UserspaceTimestampMonotonic=99999999999999999999\n", b"bash: package\n: /usr/lib\n\t\n",
)  # fmt: skip
"""What programs may print: nothing, too much, in another language, not UTF-8, cut short, escape
sequences."""


class Odd(RootHand):
    """A computer on which any program may fail, take too long or print anything, and any file may
    vanish or hold anything.
    """

    def __init__(self, root, seed, spared):
        super().__init__(str(root))
        self.live, self._seed, self._spared = True, seed, spared

    def _dice(self, *what):
        return random.Random(f"{self._seed}{what}")

    def run(self, arguments, timeout_s=20.0, partly=False, bus=""):
        dice = self._dice(*arguments)
        if dice.random() < 0.3:
            raise OSError(f"{arguments[0]} failed: timed out after {timeout_s} seconds")
        return dice.choice(NASTY)

    def read(self, path, most=1 << 20):
        dice = self._dice(path)
        if path in self._spared or dice.random() < 0.5:
            return super().read(path, most)
        if dice.random() < 0.5:
            raise FileNotFoundError(path)
        return dice.choice(NASTY)

    def names(self, path):
        if path != "/proc" and self._dice("names", path).random() < 0.2:
            raise PermissionError(path)
        return super().names(path)


@pytest.fixture(scope="module")
def crowded(tmp_path_factory):
    """A folder with something of everything that is looked at."""
    root = linux_tree(tmp_path_factory.mktemp("crowded"))
    for path in (
        "/run/systemd/system/x", "/run/reboot-required", "/usr/bin/plasmashell", "/usr/bin/xfwm4",
        "/sys/fs/cgroup/cgroup.controllers",
        "/usr/share/dbus-1/services/org.freedesktop.impl.portal.PermissionStore.service",
        "/var/lib/x",
    ):  # fmt: skip
        put(root, path, "")
    put(
        root,
        "/proc/swaps",
        "Filename\n/dev/sda2 partition 1000 10 -2\n/x\\040y file 5 5 5\n\n/dev/zram0 partition q"
        " 1 1\n",
    )
    put(root, "/proc/self/mountinfo", "1 0 8:1 / / rw - ext4 /dev/sda1 rw\nshort\n")
    put(root, "/sys/devices/system/cpu/cpufreq/policy0/scaling_governor", "powersave\n")
    put(root, "/sys/class/power_supply/BAT0/type", "Battery\n")
    put(root, "/run/systemd/sessions/1", f"UID={tree_user().uid}\nREALTIME=x\n")
    put(
        root,
        "/usr/lib/systemd/system/odd\\x20name.service",
        b"[Unit]\nDescription=\xff\x1b[2J\n[Install]\nWantedBy=a b\n",
    )
    put(root, f"/usr/lib/systemd/system/{'n' * 200}.service", "[Service]\n")
    put(root, "/usr/lib/systemd/user/u.service", "[Install]\nWantedBy=default.target\n")
    link(root, "/etc/systemd/system/loop.service", "/etc/systemd/system/loop.service")
    link(
        root, "/etc/systemd/user/default.target.wants/u.service", "/usr/lib/systemd/user/u.service"
    )
    put(root, "/etc/xdg/autostart/huge.desktop", b"[Desktop Entry]\nExec=x\n" + b"#" * (10 << 20))
    process(root, 40, b"s", cgroup=b"0::/system.slice/odd\\x20name.service\n")
    process(root, 41, b"(u) R", cgroup=b"0::/user.slice/user@1000.service/app.slice/u.service\n")
    return root


@settings(max_examples=120)
@given(seed=st.integers(0, 1 << 30))
def test_facts_of_a_computer_that_says_anything(crowded, seed):
    spared = {"/proc/stat", "/proc/meminfo", "/proc/uptime"}
    box = LinuxComputer(
        hands_of(Odd(crowded, seed, spared)),
        tree_user(),
        CATALOGUE,
        monotonic=lambda: 1.0,
        wall=lambda: EVENING,
    )
    found = box.about.facts()
    assert msgspec.json.decode(msgspec.json.encode(found), type=Facts) == found
    shown = " ".join(v for _, v in in_rows(found))
    assert "\x1b" not in shown
    judged = audit(found, profile(), CATALOGUE, None)
    assert len(judged.findings) == len(found.items)
    for item in found.items:
        assert "\x1b" not in item.title + item.note + item.started_by
        if isinstance(item.setting, Setting):
            try:
                before = box.settings.read(item.ref)
                box.settings.foresee(
                    item.ref, State(value=(item.setting.values or (str(item.setting.lowest),))[0])
                )
                assert before.exact is not None
            except LumtakError as error:
                assert error.message
                assert error.next_step


@given(seed=st.integers(0, 1 << 30))
def test_a_sample_of_a_computer_that_says_anything(crowded, seed):
    box = LinuxComputer(
        hands_of(Odd(crowded, seed, set())),
        tree_user(),
        CATALOGUE,
        monotonic=lambda: 1.0,
        wall=lambda: EVENING,
    )
    try:
        assert box.load.sample(memory=True).cores >= 0
        box.about.system()
    except ComputerError as error:
        assert error.next_step
