"""Background apps other than plain autostart entries.

Units of the user's manager, sandboxes, entries with conditions.
"""

import json
import subprocess

import pytest

from helpers import (
    linux,
    look,
    means_of,
    process,
    put,
    settings_of,
    snapshot_of,
    tree_user,
    way_to,
)
from lumtak.computers.hands.sent.root.settling import RootHand
from lumtak.computers.hands.whose import Hands, folder_hands
from lumtak.computers.linux.desktop_entry import read_entry
from lumtak.computers.linux.sandboxes import Sandboxes
from lumtak.computers.linux.undo_kit import FileUndoKit, UserFolder
from lumtak.core.facts import Fixed
from lumtak.core.setting import State, parse_ref
from lumtak.errors import ComputerError

OWN, SYSTEM = "/home/u/.config/systemd/user", "/usr/lib/systemd/user"
OFF, ON = State(value="off"), State(value="on")


def link(tree, path, target):
    place = put(tree, path, "")
    place.unlink()
    place.symlink_to(target)


@pytest.fixture
def units(tree):
    put(
        tree,
        f"{SYSTEM}/sail-index.service",
        "[Unit]\nDescription=Indexes"
        " sails\n[Service]\nExecStart=/bin/x\n[Install]\nWantedBy=default.target\n",
    )
    put(
        tree,
        f"{SYSTEM}/tide-tray.service",
        "[Unit]\nDescription=Tides\nRequires=sail-index.service\n[Service]\nBusName=org.school.Tides\n",
    )
    put(tree, f"{SYSTEM}/tide-tray.socket", "[Socket]\n")
    put(tree, f"{SYSTEM}/pipewire.service", "[Unit]\nDescription=Sound\n")
    put(tree, f"{SYSTEM}/idle.service", "[Service]\n")
    put(tree, f"{OWN}/own-sync.service", "[Service]\n[Install]\nWantedBy=default.target\n")
    put(tree, f"{OWN}/odd.service", "[Service]\n")
    link(
        tree,
        "/etc/systemd/user/default.target.wants/sail-index.service",
        f"{SYSTEM}/sail-index.service",
    )
    put(tree, f"{SYSTEM}/oakum.service", "[Service]\n")
    link(tree, f"{SYSTEM}/sail-index.service.wants/oakum.service", "../oakum.service")
    link(tree, f"{SYSTEM}/graphical-session.target.wants/oakum.service", "../oakum.service")
    link(tree, f"{SYSTEM}/default.target.wants/oakum.service", "../oakum.service")
    put(tree, f"{SYSTEM}/oakum.timer", "[Timer]\n")
    link(tree, f"{SYSTEM}/timers.target.wants/oakum.timer", "../oakum.timer")
    link(tree, f"{SYSTEM}/sockets.target.wants/tide-tray.socket", "../tide-tray.socket")
    link(tree, f"{OWN}/default.target.wants/own-sync.service", f"{OWN}/own-sync.service")
    link(tree, f"{OWN}/default.target.wants/odd.service", f"{OWN}/odd.service")
    link(tree, "/etc/systemd/user/nobodys.service", "/dev/null")
    group = b"0::/user.slice/user-1000.slice/user@1000.service/%s\n"
    process(tree, 50, b"tide", cgroup=group % b"app.slice/tide-tray.service")
    process(tree, 51, b"pipewire", cgroup=group % b"session.slice/pipewire.service")
    return tree


def test_units_of_the_users_manager_are_apps(units):
    box = linux(units)
    items = {i.key: i for i in box.about.facts().items if i.key.startswith("user/")}
    assert set(items) == {
        *(
            f"user/{n}.service"
            for n in ("sail-index", "tide-tray", "pipewire", "own-sync", "odd", "nobodys", "oakum")
        ),
        "user/oakum.timer",
    }
    tray = items["user/tide-tray.service"]
    assert (tray.running, tray.needs) == (True, ("user/sail-index.service",))
    assert [(t.kind, t.by) for t in tray.triggers] == [
        ("socket", "tide-tray.socket"),
        ("bus", "org.school.Tides"),
    ]
    assert items["user/pipewire.service"].role == "sound"
    assert items["user/sail-index.service"].triggers[0].kind == "login"
    assert sorted((t.kind, t.by) for t in items["user/oakum.service"].triggers) == [
        ("login", ""),
        ("timer", "user/oakum.timer"),
        ("wants", "user/sail-index.service"),
    ]
    assert {k for k, i in items.items() if i.at_login} == {
        *(f"user/{n}.service" for n in ("sail-index", "own-sync", "odd", "oakum")),
        "user/oakum.timer",
    }
    assert items["user/nobodys.service"].value == "off"
    assert [k for k, i in items.items() if isinstance(i.setting, Fixed)] == [
        "user/nobodys.service",
        "user/odd.service",
    ]
    assert "apps:user/tide-tray.service" in box.load.sample().cpu_s


@pytest.mark.parametrize("name", ["sail-index", "own-sync", "tide-tray"])
def test_a_unit_goes_off_and_comes_back_to_the_last_link(units, tmp_path, name):
    before_files = snapshot_of(units / "home/u")
    box, ref = linux(units), parse_ref(f"apps:user/{name}.service")
    before, expected = box.settings.read(ref), box.settings.foresee(ref, OFF)
    box.settings.write(ref, OFF)
    assert box.settings.read(ref).same_as(expected)
    assert box.settings.read(ref).value == "off"
    user = tree_user()
    kit = FileUndoKit(
        user, UserFolder(RootHand(str(units)), "/undo"), folder_hands(str(units), user)
    )
    script = kit.script(
        "0123abcd",
        computer="c",
        contents=[name],
        parts=[kit.part(ref, name, [way_to(before, expected)])],
        made=0,
    )
    (tmp_path / "undo.sh").write_bytes(script)
    said = subprocess.run(
        ["sh", tmp_path / "undo.sh", units], capture_output=True, text=True, check=True
    ).stdout
    assert f"put back: {name}" in said
    assert snapshot_of(units / "home/u") == before_files
    box.settings.write(ref, OFF)
    box.settings.write(ref, ON)
    assert box.settings.read(ref).value == "on"
    box.settings.write(ref, before)
    assert snapshot_of(units / "home/u") == before_files


@pytest.mark.parametrize(
    "key",
    ["user/../../x.service", "user/", "user/gone.service", "user/odd.service", "user/a\0.service"],
)
def test_what_is_no_unit_or_cannot_be_masked_is_refused(units, key):
    with pytest.raises(ComputerError):
        linux(units).settings.write(parse_ref(f"apps:{key}"), OFF)


# -- sandboxes -------------------------------------------------------------------------------------


class Store:
    """A permission store that answers as busctl does."""

    def __init__(self, **held):
        self.held = held

    def exists(self, path):
        return path.endswith("/flatpak/db/background")

    def run(self, words, timeout_s=0.0, partly=False, bus=""):
        method, *rest = words[words.index("org.freedesktop.impl.portal.PermissionStore") + 3 :]
        match method:
            case "List":
                return json.dumps(
                    {"type": "as", "data": [["background"] if self.held else []]}
                ).encode()
            case "Lookup":
                return json.dumps(
                    {
                        "type": "a{sas}v",
                        "data": [{a: [r] for a, r in self.held.items()}, {"type": "y", "data": 0}],
                    }
                ).encode()
            case "SetPermission":
                self.held[rest[4]] = rest[6]
            case "DeletePermission":
                self.held.pop(rest[3])
        return b""


def test_permissions_of_sandboxes_are_set_and_unset_again(tree):
    put(
        tree,
        "/usr/share/dbus-1/services/org.freedesktop.impl.portal.PermissionStore.service",
        "[D-BUS Service]\n",
    )
    transport = RootHand(str(tree))
    transport.live = True
    store = Store(
        **{"org.school.Tides": "yes", "org.school.Sails": "no", "org.school.Masts": "ask"}
    )
    boxes = Sandboxes(means_of(transport, store))
    mine = settings_of(transport, Hands(transport, store, transport))
    items, gaps, _ = boxes.items(look())
    assert not gaps
    assert {i.key: i.value for i in items} == {
        "sandbox/org.school.Masts": None, "sandbox/org.school.Sails": "off",
        "sandbox/org.school.Tides": "on",
    }  # fmt: skip
    for app, raw in dict(store.held).items():
        ref = parse_ref(f"apps:sandbox/{app}")
        before = mine.read(ref)
        mine.write(ref, OFF)
        assert mine.read(ref).same_as(mine.foresee(ref, OFF))
        mine.write(ref, before)
        assert store.held[app] == raw
    new = parse_ref("apps:sandbox/org.school.New")
    before = mine.read(new)
    mine.write(new, ON)
    mine.write(new, before)
    assert "org.school.New" not in store.held
    assert Sandboxes(means_of(transport, Store())).items(look()) == ([], (), {})
    store.run = lambda *words, **_: b"{}"
    assert "is not understood" in boxes.items(look()).gaps[0].reason


# -- entries with conditions -----------------------------------------------------------------------


@pytest.mark.parametrize(
    ("line", "desktops", "why"),
    [
        ("OnlyShowIn=KDE;XFCE;", "GNOME", "starts only on KDE, XFCE"),
        ("OnlyShowIn=KDE;", "kde", ""),
        ("OnlyShowIn=KDE;", "", ""),
        ("NotShowIn=GNOME;", "ubuntu:GNOME", "does not start on GNOME"),
        ("TryExec=not-here", "", "does not start, since not-here is not installed"),
        ("TryExec=/usr/bin/here", "", ""),
        (
            "AutostartCondition=unless-exists done",
            "",
            "does not start while /home/u/.config/done is there",
        ),
        (
            "AutostartCondition=if-exists gone",
            "",
            "does not start until /home/u/.config/gone is there",
        ),
        ("AutostartCondition=GNOME3 if-session x", "", ""),
        ("X-GNOME-HiddenUnderSystemd=true", "GNOME", "the session starts its unit instead"),
        ("X-GNOME-HiddenUnderSystemd=true", "XFCE", ""),
        ("X-systemd-skip=true", "KDE", ""),
    ],
)
def test_an_entry_that_does_not_start_here_says_why(tree, line, desktops, why):
    put(tree, "/usr/bin/here", "")
    put(tree, "/home/u/.config/done", "")
    put(tree, "/usr/lib/systemd/user/gnome-session-manager@.service", "")
    put(tree, "/etc/xdg/autostart/cond.desktop", f"[Desktop Entry]\nName=C\nExec=c\n{line}\n")
    box = linux(tree)
    session = f"UID={tree_user().uid}\nCLASS=user\nDESKTOP={desktops}\n"
    put(tree, "/run/systemd/sessions/1", session)
    item = next(i for i in box.about.facts().items if i.key == "cond")
    assert item.value == ("off" if why else "on")
    assert (why or "starts at login") in item.started_by


def test_the_newest_session_says_which_desktop_it_is(tree):
    put(
        tree,
        "/etc/xdg/autostart/cond.desktop",
        "[Desktop Entry]\nName=C\nExec=c\nOnlyShowIn=KDE;\n",
    )
    for number, desktop in ((1, "KDE"), (2, "GNOME")):
        started = f"REALTIME={number}000000\n"
        put(
            tree,
            f"/run/systemd/sessions/{number}",
            f"UID={tree_user().uid}\nCLASS=user\n{started}DESKTOP={desktop}\n",
        )
    item = next(i for i in linux(tree).about.facts().items if i.key == "cond")
    assert (item.value, item.at_login, isinstance(item.setting, Fixed)) == ("off", False, True)


def test_nothing_is_asked_of_a_store_that_is_not_there_or_in_a_folder(tree):
    hand, store = RootHand(str(tree)), Store(**{"org.school.Tides": "yes"})
    hand.live = True
    assert not Sandboxes(means_of(hand, store)).items(look()).items
    put(
        tree,
        "/usr/share/dbus-1/services/org.freedesktop.impl.portal.PermissionStore.service",
        "[D-BUS Service]\n",
    )
    assert len(Sandboxes(means_of(hand, store)).items(look()).items) == 1
    hand.live = False
    assert not Sandboxes(means_of(hand, store)).items(look()).items


def test_the_switch_of_desktops_own_settings_counts(tree, box):
    ref = parse_ref("apps:switched")
    put(
        tree,
        "/etc/xdg/autostart/switched.desktop",
        "[Desktop Entry]\nExec=c\nX-GNOME-Autostart-enabled=false\n",
    )
    assert box.settings.read(ref).value == "off"
    box.settings.write(ref, ON)
    assert box.settings.read(ref).value == "on"
    own = (tree / "home/u/.config/autostart/switched.desktop").read_bytes()
    assert read_entry(own)["X-GNOME-Autostart-enabled"] == "true"
