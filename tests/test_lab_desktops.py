"""On real desktops: a session of Xfce at a display without a monitor, and the stores of settings of
three families.

Every setting is read, changed, seen in force or said not to be, and put back: unset again, or to
what the user had.
"""

import os
import shutil
import signal
import subprocess
import time
from itertools import count
from pathlib import Path

import pytest

from helpers import CATALOGUE
from lumtak.computers.hands.sent.desktop.desktop_data import DESKTOPS
from lumtak.computers.hands.sent.root.settling import RootHand
from lumtak.computers.hands.whose import Hands, User
from lumtak.computers.linux.computer import LinuxComputer
from lumtak.computers.linux.session import environment_of, process_of
from lumtak.core.facts import Fixed
from lumtak.core.setting import IN_FORCE, Change
from lumtak.journal import apply_changes, put_back
from lumtak.work.data_folder import DataFolder

_TOOLS = ("Xvfb", "dbus-run-session", "xfce4-session", "xfwm4", "xfsettingsd", "gsettings", "dconf")
_MISSING = [tool for tool in _TOOLS if not shutil.which(tool)]
_KEEPERS = Path("/usr/lib").glob("*/xfce4/xfconf/xfconfd")
WHY = f"missing: {', '.join(_MISSING)}" if _MISSING else ""
pytestmark = [
    pytest.mark.lab,
    pytest.mark.timeout(600),
    pytest.mark.skipif(bool(WHY) and not os.environ.get("CI"), reason=WHY or "desktops can run"),
]
TOP = ("effects", "power")


def until(true, seconds=60.0):
    """Wait for a condition, and never for time."""
    end = time.monotonic() + seconds
    while not true():
        assert time.monotonic() < end, "it never came about"
        time.sleep(0.1)


def user_at(home, desktop):
    return User(
        name="user", uid=os.getuid(), gid=os.getgid(), home=str(home), desktops=(desktop,),
        config_home=f"{home}/.config", data_home=f"{home}/.local/share",
        cache_home=f"{home}/.cache", config_dirs=("/etc/xdg",),
    )  # fmt: skip


def computer_of(home, desktop):
    hands = Hands(RootHand(), RootHand(homes=(str(home),)), None, "the tests have no root")
    return LinuxComputer(hands, user_at(home, desktop), CATALOGUE)


@pytest.fixture
def journal(tmp_path):
    opened = DataFolder(tmp_path / "lumtak")
    yield opened.journal
    opened.close()


class Session:
    """A display and what runs at it, all of which ends with it."""

    def __init__(self, home, *command):
        self.home = home
        (home / ".config").mkdir(parents=True)
        self.display = next(n for n in count(90) if not Path(f"/tmp/.X11-unix/X{n}").exists())
        name = f":{self.display}"
        self._server = self._started(
            "Xvfb", name, "-screen", "0", "1280x800x24", "-nolisten", "tcp"
        )
        until(Path(f"/tmp/.X11-unix/X{self.display}").exists)
        self._programs = self._started(
            "dbus-run-session", "--", *command,
            DISPLAY=name, HOME=str(home), XDG_CONFIG_HOME=f"{home}/.config",
            XDG_RUNTIME_DIR=str(home), XDG_CURRENT_DESKTOP="XFCE", XDG_CONFIG_DIRS="/etc/xdg",
        )  # fmt: skip

    @staticmethod
    def _started(*command, **environment):
        return subprocess.Popen(
            command, env={"PATH": os.environ["PATH"], **environment}, start_new_session=True,
            stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, stdin=subprocess.DEVNULL,
        )  # fmt: skip

    def says(self):
        try:
            return RootHand().display(f":{self.display}", "")
        except OSError:
            return {}

    def end(self):
        for program in (self._programs, self._server):
            os.killpg(program.pid, signal.SIGTERM)
            program.wait(30)


@pytest.fixture
def session(tmp_path):
    begun = []

    def begin(*command):
        begun.append(Session(tmp_path / "home", *command))
        return begun[-1]

    yield begin
    for one in begun:
        one.end()


def answers(home):
    """Whether the keeper of the desktop's settings has its name on the bus, and not only runs."""
    keeper = process_of(RootHand(), user_at(home, ""), ("xfconfd",))
    said = environment_of(RootHand(), keeper) if keeper else {}
    bus = ("org.freedesktop.DBus", "/org/freedesktop/DBus", "org.freedesktop.DBus")
    asked = subprocess.run(
        ["busctl", "--user", "call", *bus, "NameHasOwner", "s", "org.xfce.Xfconf"],
        env={"PATH": os.environ["PATH"], **said}, capture_output=True, text=True, check=False,
    )  # fmt: skip
    return asked.stdout.strip() == "b true"


def changed_and_back(journal, box, item, value):
    """(the outcome of the change, of putting it back): and it is as it was."""
    before = box.settings.read(item.ref)
    (done,) = apply_changes(journal, box, box.about.facts(), [Change(ref=item.ref, value=value)])
    assert (done.result, box.settings.read(item.ref).value) == ("done", value), done
    (back,) = put_back(journal, box)
    assert back.result == "done", back
    assert box.settings.read(item.ref).same_as(before), item.key
    return done, back


def another(item):
    """A value that an item does not have."""
    if not item.setting.values:
        return "1260" if item.value != "1260" else "600"
    return "on" if (item.value or item.default) == "off" else "off"


def settings_on(box):
    found = [i for i in box.about.facts().items if i.area in TOP]
    return [i for i in found if not isinstance(i.setting, Fixed)]


def test_a_running_session_is_changed_seen_in_force_and_put_back(session, journal):
    desk = session("xfce4-session")
    until(lambda: desk.says().get("composed") and desk.says().get("passed on"))
    box = computer_of(desk.home, "XFCE")
    items = settings_on(box)
    assert len(items) >= 14
    seen = {}
    for item in items:
        done, _ = changed_and_back(journal, box, item, another(item))
        seen[item.key] = done.force
    told = {"compositing", "animations", "cursor-blinking", "event-sounds", "smooth-fonts"}
    assert {key for key, force in seen.items() if force == IN_FORCE} == told
    # A value of the user's own, changed, and put back by the script that was left there.
    file = desk.home / ".config/xfce4/xfconf/xfce-perchannel-xml/xsettings.xml"
    (blinking,) = (i for i in items if i.key == "cursor-blinking")
    plan = (box, box.about.facts())
    apply_changes(journal, *plan, [Change(ref=blinking.ref, value="off")])
    until(lambda: file.exists() and b'"CursorBlink" type="bool" value="false"' in file.read_bytes())
    mine = box.settings.read(blinking.ref)
    (done,) = apply_changes(journal, *plan, [Change(ref=blinking.ref, value="on")])
    assert (done.result, done.force, mine.value) == ("done", IN_FORCE, "off")
    (script,) = (desk.home / ".local/share/lumtak-undo").glob("undo-*.sh")
    keeper = process_of(RootHand(), user_at(desk.home, ""), ("xfconfd",))
    said = environment_of(RootHand(), keeper)
    ran = subprocess.run(
        ["sh", script], env={"PATH": os.environ["PATH"], **said}, capture_output=True, text=True,
        check=False,
    )  # fmt: skip
    assert (ran.returncode, ran.stdout.count("put back")) == (0, 1), ran.stdout + ran.stderr
    assert box.settings.read(blinking.ref).value is None, "as it was before the first change"


def test_what_is_stored_and_does_nothing_is_said(session, journal):
    desk = session(*map(str, list(_KEEPERS)[:1]))
    box = computer_of(desk.home, "XFCE")
    until(lambda: any(i.setting.shows == "now" for i in settings_on(box) if i.area == "effects"))
    until(lambda: answers(desk.home))
    items = {i.key: i for i in settings_on(box)}
    done, back = changed_and_back(journal, box, items["compositing"], "on")
    assert done.force == "stored, not in force: no window manager runs"
    assert done.note == back.note == done.force
    done, _ = changed_and_back(journal, box, items["cursor-blinking"], "off")
    assert "no program passes settings of the desktop on" in done.force
    assert (items["shadows"].running, items["compositing"].running) == (True, False)


FAMILIES = [
    d for d in DESKTOPS if any(k.store == "gsettings" for k in d.here) and d.names != ("*",)
]


@pytest.mark.parametrize("family", FAMILIES, ids=lambda d: d.names[0])
def test_every_key_of_a_family_is_changed_and_put_back(tmp_path, journal, family):
    box = computer_of(tmp_path, family.names[0])
    items = {str(i.ref): i for i in settings_on(box)}
    keys = [k for k in family.here if f"{k.area}:{k.setting}" in items]
    assert len(keys) >= 12, "this machine has its schemas"
    for key in keys:
        item = items[f"{key.area}:{key.setting}"]
        assert item.value is None
        if another(item) == "on" and not key.on:
            continue  # a list that is empty has nothing to be switched on
        done, _ = changed_and_back(journal, box, item, another(item))
        assert not key.force or done.force, key
        assert box.settings.read(item.ref).value is None, "unset again"
    # The same from a value of the user's own, which is none that Lumtak sets.
    key = next(k for k in keys if k.setting == "image-thumbnails")
    RootHand().run(
        ("gsettings", "set", key.at, key.name, "'always'"), bus=user_at(tmp_path, "").bus
    )
    item = next(i for i in settings_on(box) if i.key == key.setting)
    changed_and_back(journal, box, item, "off")
    assert (item.value, box.settings.read(item.ref).exact.raw) == ("on", "'always'")
