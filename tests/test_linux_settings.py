"""Services, effects, plans and memory of a real Linux computer, on folders and on programs that
answer from here.
"""

import hashlib
import os
import subprocess
from dataclasses import replace

import pytest
from hypothesis import given
from hypothesis import strategies as st

from helpers import computer_on, linux, look, means_of, put, settings_of, tree_user, way_to
from lumtak.computers.hands import whose
from lumtak.computers.hands.sent.desktop.desktop_data import KEYS
from lumtak.computers.hands.sent.files.places import RefusalError
from lumtak.computers.hands.sent.root.back import root_script
from lumtak.computers.hands.sent.root.settling import RootHand
from lumtak.computers.hands.sent.script.shell import beside
from lumtak.computers.hands.sent.states.states import SwapAreas
from lumtak.computers.hands.sent.system.swaps import areas_in_use
from lumtak.computers.hands.sent.table import swap_unit_text
from lumtak.computers.hands.sent.units.links import installing, links
from lumtak.computers.hands.whose import Hands
from lumtak.computers.linux import channel_text, ini_text
from lumtak.computers.linux.clock_plan import ClockPlan, plan_in_force
from lumtak.computers.linux.ini_text import value_in, with_value
from lumtak.computers.linux.memory_settings import MemorySettings
from lumtak.computers.linux.profile_plan import ProfilePlan
from lumtak.computers.linux.services import Services
from lumtak.computers.linux.swap import Swap
from lumtak.computers.linux.undo_kit import FileUndoKit, UserFolder
from lumtak.computers.linux.units import all_units
from lumtak.core.facts import Fixed
from lumtak.core.setting import State, parse_ref
from lumtak.errors import ComputerError
from outside import ETC, FILE, SDA2, Acting, Outside, hands_of, put_clocks, shown

TAG = "0123abcd"


TIDE = shown(
    Id="tide.service", Names="tide.service", LoadState="loaded", ActiveState="active",
    UnitFileState="enabled",
    FragmentPath=f"{FILE}/tide.service",
)  # fmt: skip
INSTALL = (
    "[Unit]\nDescription=Tides\nRequires=net.service\n[Service]\nExecStart=/bin/x\n[Install]\nWantedBy=multi-user.target"
    " graphical.target\nAlias=sea.service\n"
)


def unit_tree(root):
    put(root, f"{FILE}/tide.service", INSTALL)
    put(root, f"{FILE}/plain.service", "[Service]\nExecStart=/bin/y\n")
    put(root, f"{FILE}/t@.service", "[Service]\n")
    put(
        root,
        f"{FILE}/odd\\x20{'n' * 180}.service",
        "[Unit]\nDescription=\x1b[31m\xff\n".encode("latin-1"),
    )
    put(root, "/run/systemd/system/x", "")
    for place in (f"{ETC}/multi-user.target.wants/tide.service", f"{ETC}/sea.service"):
        target = put(root, place, "")
        target.unlink()
        target.symlink_to(f"{FILE}/tide.service")
    mask = put(root, f"{ETC}/masked.service", "")
    mask.unlink()
    mask.symlink_to("/dev/null")
    return root


def test_unit_files_that_nothing_loaded_are_listed_too(tree):
    units = {u["Id"]: u for u in all_units(Acting(unit_tree(tree)))}
    assert units["tide.service"]["UnitFileState"] == "enabled"
    assert units["plain.service"]["UnitFileState"] == "static"
    assert units["masked.service"]["LoadState"] == "masked"
    assert "sea.service" not in units, "another name is no unit of its own"
    assert "t@.service" not in units
    items = {i.key: i for i in Services(means_of(Acting(tree))).items(look()).items}
    assert items["tide"].needs == ("net",)
    assert items[f"odd\\x20{'n' * 180}"].title.startswith("␛[31m")
    assert "off" in items["tide"].setting.values


def test_links_of_a_unit_and_what_its_install_section_asks_for(tree):
    transport = Acting(unit_tree(tree))
    mine = links(transport)["tide.service"]
    assert mine == {
        f"{ETC}/multi-user.target.wants/tide.service": f"{FILE}/tide.service",
        f"{ETC}/sea.service": f"{FILE}/tide.service",
    }
    wanted = installing("tide.service", f"{FILE}/tide.service", INSTALL)
    assert set(wanted) == set(mine) | {f"{ETC}/graphical.target.wants/tide.service"}


@pytest.mark.parametrize("value", ["manual", "demand", "off"])
def test_a_service_goes_and_comes_back_to_the_last_link(tree, value):
    transport = Acting(unit_tree(tree), {"systemctl show": TIDE})
    mine, ref = settings_of(transport), parse_ref("services:tide")
    before = mine.read(ref)
    expected = mine.foresee(ref, State(value=value))
    mine.write(ref, State(value=value))
    assert links(transport).get("tide.service", {}) == expected.exact.links
    assert ("systemctl", "--no-ask-password", "stop", "tide.service") in transport.asked
    assert mine.read(ref).between(before, expected)
    mine.write(ref, before)
    assert mine.read(ref).same_as(before)


def test_a_write_that_stops_half_way_is_between_both_states(tree):
    transport = Acting(
        unit_tree(tree), {"systemctl show": TIDE}, refuses="remove /etc/systemd/system/sea.service"
    )
    mine, ref = settings_of(transport), parse_ref("services:tide")
    before, expected = mine.read(ref), mine.foresee(ref, State(value="manual"))
    with pytest.raises(ComputerError):
        mine.write(ref, State(value="manual"))
    half = mine.read(ref)
    assert half.between(before, expected)
    more = {**half.exact.links, f"{ETC}/other.wants/tide.service": "/x"}
    assert not State(value=None, exact=replace(half.exact, links=more)).between(before, expected)
    assert not half.between(State(value="auto"), expected), (
        "what is not known exactly is not half of anything"
    )


def test_what_sudo_does_not_give_is_a_sentence(tree, monkeypatch):
    monkeypatch.setattr(whose, "sudo", lambda: "/bin/false")
    hand = Acting(unit_tree(tree), {"systemctl show": TIDE})
    mine = settings_of(hand, Hands(hand, hand, None))
    with pytest.raises(ComputerError, match="takes root, and sudo did not allow it"):
        mine.write(parse_ref("services:tide"), State(value="off"))
    assert not [w for w in hand.asked if w[0] in {"link", "remove", "put"}]


def test_what_is_not_in_the_table_is_refused(tree):
    root = Acting(unit_tree(tree))
    for path in (
        "/etc/passwd",
        f"{ETC}/../../passwd",
        f"{ETC}/a/b.service",
        "/etc/sysctl.d/99-mine.conf",
        f"{ETC}/x.service\0",
    ):
        with pytest.raises(RefusalError, match="nothing that Lumtak writes"):
            root.own_put(path, b"x")
    for verb, unit in (("mask", "tide.service"), ("start", "x.mount"), ("stop", "a/b.service"),
    ("start", "poweroff.target"),
                       ("start", "systemd-poweroff.service"), ("start", "debug-shell.service"),
                       ("stop", "--all")):  # fmt: skip
        with pytest.raises(RefusalError, match="not run by root"):
            RootHand.units(root, verb, unit)
    with pytest.raises(RefusalError, match="not set by Lumtak"):
        root.set_kernel("/proc/sys/kernel/core_pattern", "x")


def test_values_of_the_kernel_that_are_there_are_listed(tree):
    put(tree, "/proc/sys/vm/swappiness", "60\n")
    listed = MemorySettings(means_of(Acting(tree))).items(look()).items
    assert [(i.key, i.value, i.setting.lowest, i.setting.highest, i.running) for i in listed] == [
        ("swappiness", "60", 0, 200, True)
    ]
    put(tree, "/proc/sys/vm/vfs_cache_pressure", "-1\n")
    assert [i.value for i in MemorySettings(means_of(Acting(tree))).items(look()).items] == [
        "60",
        "-1",
    ]
    put(tree, "/proc/sys/vm/swappiness", "odd\n")
    assert [i.key for i in MemorySettings(means_of(Acting(tree))).items(look()).items] == [
        "vfs_cache_pressure"
    ]
    folder = {i.key: i for i in linux(tree).about.facts().items}
    assert "not a computer that is switched on" in folder["vfs_cache_pressure"].setting.needed


def test_memory_is_kept_over_a_restart_by_a_file_of_its_own(tree):
    put(tree, "/proc/sys/vm/swappiness", "60\n")
    put(tree, "/etc/sysctl.d/x", "")
    transport = Acting(tree)
    mine, ref = settings_of(transport), parse_ref("memory:swappiness")
    before = mine.read(ref)
    mine.write(ref, State(value="10"))
    assert mine.read(ref).same_as(mine.foresee(ref, State(value="10")))
    assert (
        (tree / "etc/sysctl.d/90-lumtak-swappiness.conf")
        .read_text()
        .endswith("vm.swappiness = 10\n")
    )
    mine.write(ref, before)
    assert mine.read(ref).same_as(before)
    assert not (tree / "etc/sysctl.d/90-lumtak-swappiness.conf").exists()
    with pytest.raises(ComputerError, match="from 0 to 200"):
        mine.foresee(ref, State(value="201"))
    with pytest.raises(ComputerError, match="cannot be changed here"):
        mine.read(parse_ref("memory:nr_hugepages"))
    with pytest.raises(ComputerError, match="cannot be changed here"):
        mine.foresee(parse_ref("memory:nr_hugepages"), State(value="1"))


@pytest.mark.parametrize(
    "bus", ["net.hadess.PowerProfiles", "org.freedesktop.UPower.PowerProfiles"]
)
def test_the_plan_by_either_name_of_the_service(tree, bus):
    answers = {
        f"{bus} Profiles": (
            b'aa{sv} 2 1 "Profile" s "power-saver" 1 "Profile" s "balanced"\ns "balanced"\n'
        ),
    }
    put(tree, f"/usr/share/dbus-1/system-services/{bus}.service", "[D-BUS Service]\n")
    transport = Acting(tree, answers)
    mine = settings_of(transport)
    (item,) = ProfilePlan(means_of(transport)).items(look()).items
    assert (item.key, item.value, item.setting.values) == (
        "mains",
        "balanced",
        ("saving", "balanced"),
    )
    ref = parse_ref("power:mains")
    mine.write(ref, State(value="saving"))
    assert ("ActiveProfile", "s", "power-saver") in [words[-3:] for words in transport.asked]
    with pytest.raises(ComputerError, match="not offered here"):
        mine.foresee(ref, State(value="full"))


@pytest.mark.skipif(os.geteuid() != 0, reason="the script is root's")
@pytest.mark.parametrize("shell", [["sh"], ["dash"], ["busybox", "sh"]])
def test_the_script_puts_links_and_files_back_on_a_disk_that_is_mounted_elsewhere(
    tree, tmp_path, shell
):
    user = tree_user()
    transport = Acting(unit_tree(tree), {"systemctl show": TIDE})
    kit = FileUndoKit(user, UserFolder(transport, "/undo"), hands_of(transport))
    mine, ref = settings_of(transport), parse_ref("services:tide")
    before = mine.read(ref)
    expected = mine.foresee(ref, State(value="off"))
    assert kit.part(ref, "Tides", [way_to(before, expected)]) == b"", (
        "it stands in the script of root's"
    )
    script = tmp_path / "undo.sh"
    script.write_bytes(root_script(TAG, kit._of_root))
    subprocess.run(["shellcheck", "-s", "sh", "-e", "SC2317", script], check=True)
    mine.write(ref, State(value="off"))
    result = subprocess.run([*shell, script, tree], capture_output=True, text=True, check=False)
    assert "1 as before, 0 left alone, 0 failed" in result.stdout, result
    assert mine.read(ref).same_as(before)


def test_two_scripts_are_left_one_of_roots_and_their_sums_are_told(tree):
    hand = Acting(unit_tree(tree), {"systemctl show": TIDE})
    user, ref = tree_user(), parse_ref("services:tide")
    mine = settings_of(hand)
    before, expected = mine.read(ref), mine.foresee(ref, State(value="off"))

    def left(*parts):
        kit = FileUndoKit(user, UserFolder(hand, f"{user.data_home}/lumtak-undo"), hands_of(hand))
        bodies = [kit.part(*part) for part in parts]
        kit.leave(TAG, kit.script(TAG, computer="c", contents=[], parts=bodies, made=0))
        return kit

    left((ref, "Tides $(id) `id` \n'", [way_to(before, expected)]))
    mine.write(ref, State(value="off"))  # from here on root has a receipt of what was before
    kit = left((ref, "Tides $(id) `id` \n'", [way_to(before, expected)]))
    root_file = tree / f"var/lib/lumtak/put-back-{TAG}.sh"
    assert [s.command for s in kit.left(TAG)] == [
        f"sh {user.data_home}/lumtak-undo/undo-{TAG}.sh",
        f"sudo sh /var/lib/lumtak/put-back-{TAG}.sh",
    ]
    assert kit.left(TAG)[1].sha256 == hashlib.sha256(root_file.read_bytes()).hexdigest()
    subprocess.run(["shellcheck", "-s", "sh", "-e", "SC2317,SC2016", root_file], check=True)
    hand.asked.clear()
    left((ref, "Tides $(id) `id` \n'", [way_to(before, expected)]))
    assert "leave script" not in str(hand.asked), (
        "what stands there as it should is not written again, and nothing is asked for"
    )
    hand.leave_script(
        TAG,
        '[{"area": "services", "key": "tide", "title": "x", "ways": [{"number": 1,'
        ' "word": "x", "accepted": [], "restore": {"kind": "links", "unit": "tide.service",'
        f' "active": null, "links": {{"{ETC}/tide.service": "/home/u/x.service"}}}}}}]}}]',
    )
    assert b"/home/u" not in root_file.read_bytes(), "of that root has no receipt"
    mine.write(ref, before)
    kit.remove(TAG, 0)
    assert kit.left(TAG) == []
    assert not root_file.parent.exists()


# -- effects that stand in files -------------------------------------------------------------------


def _find(key, data):
    if key.store == "ini":
        return ini_text.find(data, key.under, key.name)
    return channel_text.find(data, key.name, {"b": "bool", "s": "string"}.get(key.kind, "int"))


def _get(key, data):
    place = _find(key, data)
    return value_in(data, place) if place.there else None


def _set(key, data, value):
    return with_value(data, _find(key, data), value)


@pytest.mark.parametrize(
    "key", [k for k in KEYS if k.store != "gsettings"], ids=lambda k: f"{k.at}-{k.name}"
)
@given(data=st.binary(max_size=200), value=st.sampled_from(["on", "off"]))
def test_any_file_takes_the_value_and_keeps_the_rest(key, data, value):
    if key.store == "xfconf":
        data = (
            b'<channel name="xfwm4">\n'
            + data.replace(b"<", b"").replace(b'"', b"")
            + b"\n</channel>\n"
        )
    on, off = (key.on, key.off) if key.off != "false" or key.on != "true" else ("true", "false")
    wanted = on if value == "on" else off
    changed = _set(key, data.replace(b"\r", b""), wanted)
    assert _get(key, changed) == wanted
    assert _set(key, changed, wanted) == changed
    other = _set(key, changed, off if value == "on" else on)
    assert _set(key, other, wanted) == changed
    gone = (
        ini_text.without(changed, key.under, key.name)
        if key.store == "ini"
        else channel_text.without(changed, key.name)
    )
    assert _get(key, gone) is None


INI = next(k for k in KEYS if k.name == "AnimationDurationFactor")
XML = next(k for k in KEYS if k.name == "/general/use_compositing")
TOP = next(k for k in KEYS if k.name == "/misc-thumbnail-mode")
OTHER = (
    b'<property name="o" type="empty">\n<property name="p" type="int" value="1"/>\n</property>\n'
)
HOLDER = b'  <property name="general" type="empty">\n%s  </property>\n'
LINE = b'    <property name="use_compositing" type="bool" value="%s"/>\n'


@pytest.mark.parametrize(
    ("key", "data", "value", "after"),
    [
        (INI, b"", None, b"[KDE]\nAnimationDurationFactor=0\n"),
        (INI, b"[A]\nx=1", None, b"[A]\nx=1\n\n[KDE]\nAnimationDurationFactor=0\n"),
        (INI, b"[A]\nx=1\n", None, b"[A]\nx=1\n\n[KDE]\nAnimationDurationFactor=0\n"),
        (INI, b"[A]\n\n", None, b"[A]\n\n[KDE]\nAnimationDurationFactor=0\n"),
        (INI, b"[KDE]\ny=1\n[B]\nz=1\n", None,
        b"[KDE]\nAnimationDurationFactor=0\ny=1\n[B]\nz=1\n"),
        (INI, b"[KDE]", None, b"[KDE]\nAnimationDurationFactor=0\n"),
        (INI, b"AnimationDurationFactor=9\n[KDE]\ny=1\n", None,
        b"AnimationDurationFactor=9\n[KDE]\nAnimationDurationFactor=0\ny=1\n"),
        (INI, b"[KDE]\nAnimationDurationFactor = 2  \r\n[B]\n", "2",
        b"[KDE]\nAnimationDurationFactor = 0  \r\n[B]\n"),
        (INI, b"[KDE]\nAnimationDurationFactor=1\n[KDE]\nAnimationDurationFactor=3\n", "3",
         b"[KDE]\nAnimationDurationFactor=1\n[KDE]\nAnimationDurationFactor=0\n"),
        (INI, b"[KDE]\nAnimationDurationFactor=\n", "", b"[KDE]\nAnimationDurationFactor=0\n"),
        (INI, b"[KDE][Sub]\nAnimationDurationFactor=3\n", None,
        b"[KDE][Sub]\nAnimationDurationFactor=3\n\n[KDE]\nAnimationDurationFactor=0\n"),
        (XML, b"<channel>\n" + HOLDER % (LINE % b"true") + b"</channel>\n", "true",
        b"<channel>\n" + HOLDER % (LINE % b"false") + b"</channel>\n"),
        (XML, b"<channel>\n" + LINE % b"true" + b"</channel>\n", None,
        b"<channel>\n" + LINE % b"true" + HOLDER % (LINE % b"false") + b"</channel>\n"),
        (XML, b"<channel>\n" + HOLDER % b"" + LINE % b"true" + b"</channel>\n", None,
         b"<channel>\n" + HOLDER % (LINE % b"false") + LINE % b"true" + b"</channel>\n"),
        (XML, b"<channel>\n" + OTHER + HOLDER % (LINE % b"x") + b"</channel>\n",
         "x", b"<channel>\n" + OTHER + HOLDER % (LINE % b"false") + b"</channel>\n"),
        (XML, b'<channel>\n  <property name="general" type="empty"/>\n</channel>\n', None,
         (b'<channel>\n  <property name="general" type="empty">\n'
         b'    <property name="use_compositing" type="bool" value="false"/>\n'
         b"  </property>\n</channel>\n")),
        (XML, b"", None, HOLDER % (LINE % b"false")),
        (TOP, b"<channel>\n</channel>\n", None,
         (b'<channel>\n  <property name="misc-thumbnail-mode" type="string"'
         b' value="THUNAR_THUMBNAIL_MODE_NEVER"/>\n</channel>\n')),
    ],
)  # fmt: skip
def test_where_a_value_stands_and_where_it_is_added(key, data, value, after):
    assert _get(key, data) == value
    assert _set(key, data, key.off) == after
    assert _get(key, after) == key.off


@pytest.mark.parametrize(
    ("program", "effect", "path", "begins"),
    [
        (
            "xfwm4",
            "shadows",
            "xfce4/xfconf/xfce-perchannel-xml/xfwm4.xml",
            b'<?xml version="1.0" encoding="UTF-8"?>\n\n<channel name="xfwm4"',
        ),
        ("plasmashell", "cursor-blinking", "kdeglobals", b"[KDE]\n"),
    ],
)
def test_a_file_that_is_not_there_is_made_as_the_desktop_makes_it(
    tree, program, effect, path, begins
):
    put(tree, f"/usr/bin/{program}", "")
    linux(tree).settings.write(parse_ref(f"effects:{effect}"), State(value="off"))
    made = tree / "home/u/.config" / path
    assert made.read_bytes().startswith(begins)
    assert made.stat().st_mode & 0o777 == 0o600


def test_files_that_cannot_be_read_are_said_and_the_others_are_not_lost(tree):
    put(tree, "/usr/bin/plasmashell", "")
    put(tree, "/usr/bin/kwin_x11", "")
    put(tree, "/home/u/.config/breezerc", "[Common]\nShadowSize=ShadowNone\n")
    put(tree, "/home/u/.config/klaunchrc", b"x" * (10 << 20))
    (tree / "home/u/.config/kdeglobals").mkdir()
    found = linux(tree).about.facts()
    listed = {i.key: i.value for i in found.items if i.area == "effects"}
    assert (listed["shadows"], "animations" in listed) == ("off", False)
    reasons = " ".join(g.reason for g in found.gaps if g.area == "effects")
    assert "animations cannot be told" in reasons
    assert "is larger than" in reasons


def test_what_the_administrator_set_or_locked_is_a_default_and_is_not_fought(tree):
    put(tree, "/usr/bin/plasmashell", "")
    put(tree, "/etc/xdg/kdeglobals", "[KDE]\nAnimationDurationFactor=0\nCursorBlinkRate[$i]=0\n")
    put(tree, "/home/u/.config/breezerc", "[Common][$i]\nShadowSize=ShadowLarge\n")
    box = linux(tree)
    of = {i.key: i for i in box.about.facts().items if i.area == "effects"}
    assert (of["animations"].value, of["animations"].default) == (None, "off")
    for key in ("cursor-blinking", "shadows"):
        assert "the administrator" in of[key].setting.needed
        with pytest.raises(ComputerError, match="the administrator"):
            box.settings.foresee(parse_ref(f"effects:{key}"), State(value="off"))


CHANNEL = "/home/u/.config/xfce4/xfconf/xfce-perchannel-xml/xfwm4.xml"


def test_a_property_is_put_back_to_the_byte_or_alone_where_its_file_went_on(tree):
    put(tree, "/usr/bin/xfwm4", "")
    box, ref = linux(tree), parse_ref("effects:shadows")
    before = box.settings.read(ref)
    box.settings.write(ref, State(value="off"))
    box.settings.write(ref, before)
    assert not (tree / CHANNEL[1:]).exists()
    odd = b'<channel>\n <property name="general" type="empty">\n </property>\n\n</channel>'
    put(tree, CHANNEL, odd)
    before = box.settings.read(ref)
    box.settings.write(ref, State(value="off"))
    off = (tree / CHANNEL[1:]).read_bytes()
    box.settings.write(ref, before)
    assert (tree / CHANNEL[1:]).read_bytes() == odd
    more = off.replace(b"</channel>", b'<property name="n" type="int" value="1"/>\n</channel>')
    put(tree, CHANNEL, more)
    box.settings.write(ref, before)
    left = (tree / CHANNEL[1:]).read_bytes()
    assert box.settings.read(ref).same_as(before)
    assert channel_text.others(left, "/general/show_frame_shadow") == [(b"n", b"int", b"1")]


def test_a_running_desktop_is_asked_over_its_bus(tree):
    put(tree, "/usr/bin/xfwm4", "")
    put(tree, "/proc/77/comm", "xfconfd\n")
    put(tree, "/proc/77/status", f"Uid:\t{tree_user().uid}\t{tree_user().uid}\t0\t0\n")
    put(tree, "/proc/77/environ", "A=b\0DBUS_SESSION_BUS_ADDRESS=unix:path=/tmp/x\0")
    put(tree, CHANNEL.replace("/home/u/.config", "/etc/xdg"), LOCKED_CHANNEL)
    hand, ref = Outside(tree), parse_ref("effects:shadows")
    box = computer_on(hand)
    of = {i.key: i for i in box.about.facts().items if i.area == "effects"}
    assert (of["shadows"].value, of["shadows"].setting.shows) == (None, "now")
    assert "the administrator" in of["compositing"].setting.needed
    before = box.settings.read(ref)
    box.settings.write(ref, State(value="off"))
    assert (box.settings.read(ref).value, "SetProperty" in str(hand.asked)) == ("off", True)
    box.settings.write(ref, before)
    assert box.settings.read(ref).same_as(before)
    hand.fails = "ResetProperty"
    with pytest.raises(ComputerError, match="was refused"):
        box.settings.write(ref, before)
    hand.fails = "GetAllProperties"
    gaps = [g.reason for g in box.about.facts().gaps if g.area == "effects"]
    assert gaps == ["What the desktop keeps of xfwm4 cannot be told: busctl failed: no"]


LOCKED_CHANNEL = (
    b'<channel name="xfwm4"><property name="general" type="empty">'
    b'<property name="use_compositing" type="bool" value="true" locked="*"/></property></channel>'
)


def test_a_desktop_in_files_is_changed_and_put_back_to_the_byte(tree):
    put(tree, "/usr/bin/plasmashell", "")
    box, ref = linux(tree), parse_ref("effects:animations")
    items = {i.key: i for i in box.about.facts().items if i.area == "effects"}
    assert items["animations"].value is None, "unset is a value of its own"
    before = box.settings.read(ref)
    box.settings.write(ref, State(value="off"))
    assert (
        b"[KDE]\nAnimationDurationFactor=0\n" in (tree / "home/u/.config/kdeglobals").read_bytes()
    )
    assert box.settings.read(ref).value == "off"
    box.settings.write(ref, before)
    assert box.settings.read(ref).same_as(before)
    assert not (tree / "home/u/.config/kdeglobals").exists()


@pytest.mark.parametrize(
    ("place", "data", "address"),
    [
        (
            "xfce4/xfconf/xfce-perchannel-xml/thunar.xml",
            b'<property name="open" type="empty">\n',
            "effects:thumbnails",
        ),
        (
            "autostart/sail-sync.desktop",
            b"[Desktop Entry]\n" + b"#\n" * 9000 + b"Hidden=false\n",
            "apps:sail-sync",
        ),
    ],
)
def test_a_file_that_would_not_read_back_as_wanted_is_not_written(tree, place, data, address):
    put(tree, "/usr/bin/thunar", "")
    path = put(tree, f"/home/u/.config/{place}", data)
    with pytest.raises(ComputerError, match="cannot be changed"):
        linux(tree).settings.write(parse_ref(address), State(value="off"))
    assert path.read_bytes() == data


# -- the clock, where no profile service runs ------------------------------------------------------


def clocks(
    root, driver, held="powersave/balance_performance", offered="performance powersave schedutil"
):
    put(root, "/run/systemd/system/x", "")
    put_clocks(root, driver, held, offered)
    transport = Acting(root, refuses="busctl")
    return transport, settings_of(transport)


@pytest.mark.parametrize(
    ("driver", "held", "offered", "plan", "plans"),
    [
        (
            "intel_pstate",
            "powersave/balance_performance",
            "performance powersave",
            "balanced",
            ("saving", "balanced", "full"),
        ),
        (
            "amd-pstate-epp",
            "powersave/power",
            "performance powersave",
            "saving",
            ("saving", "balanced", "full"),
        ),
        (
            "intel_pstate",
            "performance/performance",
            "performance powersave",
            "full",
            ("saving", "balanced", "full"),
        ),
        ("intel_pstate", "powersave/", "performance powersave", "balanced", ("balanced", "full")),
        ("intel_pstate", "performance/performance", "performance", "full", ("full",)),
        ("intel_pstate", "powersave/", "powersave", "balanced", ("balanced",)),
        (
            "acpi-cpufreq",
            "powersave/",
            "performance powersave schedutil",
            "saving",
            ("saving", "balanced", "full"),
        ),
        ("acpi-cpufreq", "userspace/", "userspace performance", "userspace", ("full",)),
    ],
)
def test_the_governor_and_its_preference_as_a_plan(tree, driver, held, offered, plan, plans):
    hand, _ = clocks(tree, driver, held, offered)
    (item,) = ClockPlan(means_of(hand)).items(look()).items
    assert (item.value, item.setting.values, item.running, item.key) == (plan, plans, True, "mains")
    assert plan_in_force(hand, None) == plan


def test_a_clock_that_cannot_be_changed_or_is_not_there_says_why(tree):
    hand, mine = clocks(tree, "intel_pstate")
    (tree / "run/systemd/system/x").unlink()
    (tree / "run/systemd/system").rmdir()
    (item,) = ClockPlan(means_of(hand)).items(look()).items
    assert "without systemd nothing would keep it" in item.setting.needed
    (item,) = [i for i in linux(tree).about.facts().items if i.area == "power"]
    assert "not a computer that is switched on" in item.setting.needed
    for policy in ("policy0", "policy1"):
        (tree / f"sys/devices/system/cpu/cpufreq/{policy}/scaling_governor").unlink()
    assert [g.reason for g in ClockPlan(means_of(hand)).items(look()).gaps] == [
        "the kernel offers no choice of clocks here"
    ]
    assert plan_in_force(hand, None).not_measured == "the kernel offers no choice of clocks here"
    with pytest.raises(ComputerError, match="the kernel offers no choice of clocks"):
        mine.read(parse_ref("power:mains"))


def test_policies_that_do_not_agree_are_no_plan_and_what_a_plan_writes(tree):
    hand, mine = clocks(tree, "intel_pstate")
    ref = parse_ref("power:mains")
    put(tree, "/sys/devices/system/cpu/cpufreq/policy1/energy_performance_preference", "power\n")
    assert mine.read(ref).value == "mixed"
    hand.asked.clear()
    mine.write(ref, State(value="full"))
    assert [w[0] for w in hand.asked if w[0] != "busctl"] == ["put", "link", "systemctl"]
    assert hand.asked[-1][-1] == "daemon-reload"
    governor = tree / "sys/devices/system/cpu/cpufreq/policy0/scaling_governor"
    assert governor.read_text() == "performance"


def test_a_plan_of_the_clock_is_kept_by_a_unit_and_all_of_it_comes_back(tree, tmp_path):
    transport, power = clocks(tree, "intel_pstate")
    put(
        tree,
        "/sys/devices/system/cpu/cpufreq/policy1/energy_performance_preference",
        "balance_power\n",
    )
    ref = parse_ref("power:mains")
    before, expected = power.read(ref), power.foresee(ref, State(value="saving"))
    assert before.value == "balanced"
    power.write(ref, State(value="saving"))
    assert power.read(ref).same_as(expected)
    unit = (tree / "etc/systemd/system/lumtak-power.service").read_text()
    assert "echo powersave >" in unit
    assert "echo power >" in unit
    part = FileUndoKit(tree_user(), UserFolder(transport, "/undo"), hands_of(transport))
    part.part(ref, "Plan", [way_to(before, expected)])
    script = root_script(TAG, part._of_root)
    (tmp_path / "undo.sh").write_bytes(script)
    subprocess.run(["shellcheck", "-s", "sh", "-e", "SC2317", tmp_path / "undo.sh"], check=True)
    here = script.replace(b"'/sys/", b"'%s/sys/" % bytes(tree)).replace(b'[ -n "$root" ] || ', b"")
    here = here.replace(b"PATH=/usr/sbin", b"PATH=%s:/usr/sbin" % bytes(tmp_path))
    (tmp_path / "undo.sh").write_bytes(here)
    put(tmp_path, "systemctl", "#!/bin/sh\n").chmod(0o755)
    done = subprocess.run(
        ["sh", tmp_path / "undo.sh", tree],
        env={"PATH": f"{tmp_path}:/usr/bin:/bin"},
        capture_output=True,
        text=True,
        check=False,
    )
    assert "put back: Plan" in done.stdout, done
    assert power.read(ref).same_as(before)
    power.write(ref, State(value="full"))
    assert power.read(ref).value == "full"
    power.write(ref, before)
    assert power.read(ref).same_as(before)
    assert not (tree / "etc/systemd/system/lumtak-power.service").exists()
    assert not (tree / "etc/systemd/system/multi-user.target.wants").exists(), (
        "it was made for the unit"
    )
    with pytest.raises(ComputerError, match="not offered"):
        power.foresee(ref, State(value="turbo"))


# -- swap ------------------------------------------------------------------------------------------


def swap(transport):
    return settings_of(transport), parse_ref("memory:swap_mib")


@pytest.mark.parametrize("wanted", [500, 300, 120, 0])
def test_swap_becomes_more_or_less_and_comes_back(tree, tmp_path, wanted):
    transport = Outside(tree)
    mine, ref = swap(transport)
    before, expected = mine.read(ref), mine.foresee(ref, State(value=str(wanted)))
    assert before.value == "300"
    mine.write(ref, State(value=str(wanted)))
    after = mine.read(ref)
    assert after.same_as(expected)
    assert sum(mib for _, mib, _ in transport.swaps.values()) == wanted
    kit = FileUndoKit(tree_user(), UserFolder(transport, "/undo"), hands_of(transport))
    kit.part(ref, "Swap", [way_to(before, expected)])
    script = root_script(TAG, kit._of_root)
    (tmp_path / "undo.sh").write_bytes(script)
    subprocess.run(["shellcheck", "-s", "sh", "-e", "SC2317", tmp_path / "undo.sh"], check=True)
    mine.write(ref, before)
    assert mine.read(ref).same_as(before)
    assert not [
        p for p in (tree / "etc/systemd/system").rglob("*swap*") if p.is_symlink() or p.is_file()
    ]


def test_what_the_computer_hibernates_into_and_compressed_memory_stay(tree):
    transport = Outside(tree, swaps={**SDA2, "/dev/zram0": ("partition", 200, 0)})
    put(tree, "/proc/cmdline", "quiet resume=/dev/sda2\n")
    mine, ref = swap(transport)
    (item,) = Swap(means_of(transport)).items(look(SwapTotal=1)).items
    assert item.setting.lowest == 500
    assert "compressed memory" in item.note
    with pytest.raises(ComputerError, match="Choose again"):
        mine.foresee(ref, State(value="100"))


def test_swap_is_not_switched_off_where_memory_is_not_free_for_it(tree):
    transport = Outside(tree, swaps={"/dev/sda2": ("partition", 300, 250 * 1024)}, ram_free=100)
    mine, ref = swap(transport)
    before = mine.read(ref)
    with pytest.raises(ComputerError, match="250 MiB are in the swap that would go"):
        mine.write(ref, State(value="0"))
    assert mine.read(ref).same_as(before)
    assert "stop" not in str(transport.asked)


@pytest.mark.parametrize(
    ("kind", "says"),
    [
        ("ext3", ""),
        ("ext4", ""),
        ("xfs", ""),
        ("btrfs", "is on btrfs"),
        ("", "an unknown file system"),
    ],
)
def test_on_which_file_systems_a_swap_file_is_made(tree, kind, says):
    hand = Outside(tree)
    put(tree, "/proc/self/mountinfo", f"1 0 8:1 / / rw - {kind} /dev/sda1 rw\n" if kind else "")
    (item,) = Swap(means_of(hand)).items(look(SwapTotal=1)).items
    assert says in getattr(item.setting, "needed", "")
    assert isinstance(item.setting, Fixed) is bool(says)
    if says:
        with pytest.raises(ComputerError, match="cannot be changed"):
            settings_of(hand).foresee(parse_ref("memory:swap_mib"), State(value="0"))


def test_what_may_stay_of_swap_and_what_could_be_hibernated_into(tree):
    def lowest(**swaps):
        hand = Outside(tree)
        hand.tell(
            swaps={
                f"/dev/{name}" if kind != "file" else f"/{name}": (kind, mib, 0)
                for name, (kind, mib) in swaps.items()
            }
        )
        (item,) = Swap(means_of(hand)).items(look(SwapTotal=1)).items
        return item.setting.lowest

    assert lowest(sda2=("partition", 300)) == 0
    put(tree, "/sys/power/state", "freeze disk\n")
    assert lowest(sda2=("partition", 999)) == 0, "less than the memory cannot hold it"
    assert lowest(sda2=("partition", 1000)) == 1000
    put(tree, "/sys/power/state", "freeze mem\n")
    assert lowest(sda2=("partition", 1000)) == 0
    put(tree, "/proc/cmdline", "quiet resume=/dev/sdb7\n")
    assert lowest(sda2=("partition", 300)) == 0, "it wakes from another one"
    put(tree, "/run/systemd/generator/swapfile.swap", "[Swap]\nWhat=/swapfile\n")
    assert lowest(swapfile=("file", 300)) == 300, "which file it is, only an offset tells"
    put(tree, "/proc/cmdline", "quiet\n")
    assert lowest(swapfile=("file", 300)) == 0
    assert lowest(swap_5=("file", 300)) == 300, "no unit keeps it"
    put(tree, "/etc/systemd/system/swap_5.swap", "[Swap]\nWhat=/swap_5\n")
    assert lowest(swap_5=("file", 300)) == 300, (
        "no link of Lumtak's may stand where the owner's own unit is"
    )


@pytest.mark.parametrize(
    ("used_kib", "free_mib", "wanted", "fits"),
    [
        (102400, 125, "0", True),
        (102401, 125, "0", False),
        (102400, 124, "0", False),
        (256000, 125, "150", True),
        (256001, 125, "150", False),
    ],
)
def test_memory_must_have_room_for_what_is_in_swap(tree, used_kib, free_mib, wanted, fits):
    hand = Outside(tree, swaps={"/dev/sda2": ("partition", 300, used_kib)}, ram_free=free_mib)
    mine, ref = swap(hand)
    if fits:
        mine.write(ref, State(value=wanted))
        assert mine.read(ref).value == wanted
    else:
        with pytest.raises(ComputerError, match="are in the swap that would go"):
            mine.write(ref, State(value=wanted))
    put(tree, "/proc/meminfo", "MemTotal: 1024000 kB\n")


def test_what_a_swap_write_does_in_which_order(tree):
    hand = Outside(tree)
    mine, ref = swap(hand)
    before = mine.read(ref)
    begun = put(tree, beside(f"{ETC}/dev-sda2.swap"), "")
    hand.asked.clear()
    mine.write(ref, State(value="120"))
    acts = [
        w[0] if w[0] != "systemctl" else w[2:] for w in hand.asked if w[:2] != ("systemctl", "show")
    ]
    assert acts == [
        "make swap", "put", "link", ("daemon-reload",), ("start", "var-lib-lumtak-swap_120.swap"),
        "link", ("stop", "dev-sda2.swap"), ("daemon-reload",),
    ]  # fmt: skip
    assert not begun.exists(), "what a killed write left is gone"
    unit = tree / "etc/systemd/system/var-lib-lumtak-swap_120.swap"
    assert unit.read_bytes() == swap_unit_text(120)
    begun = put(tree, beside(f"{ETC}/dev-sda2.swap"), "")
    hand.asked.clear()
    mine.write(ref, before)
    acts = [
        w[0] if w[0] != "systemctl" else w[2:] for w in hand.asked if w[:2] != ("systemctl", "show")
    ]
    assert acts == [
        "remove", ("daemon-reload",), ("start", "dev-sda2.swap"), ("stop",
        "var-lib-lumtak-swap_120.swap"), "remove", "remove", "drop swap", ("daemon-reload",),
    ]  # fmt: skip
    assert not begun.exists()
    assert not (tree / "var/lib/lumtak").exists()


@pytest.mark.parametrize(
    ("masked", "used", "is_masked", "is_on"),
    [
        ((), (), False, False),
        (("dev-sda2.swap",), ("dev-sda2.swap",), True, True),
        (("dev-sda2.swap",), (), True, False),
    ],
)
def test_what_stood_is_masked_or_not_and_in_use_or_not(tree, masked, used, is_masked, is_on):
    hand = Outside(tree)
    mine, ref = swap(hand)
    mine.write(ref, State(value="0"))
    assert (hand.link(f"{ETC}/dev-sda2.swap"), hand.swaps) == ("/dev/null", {})
    mine.write(ref, State(value="x", exact=SwapAreas((), (), masked, used)))
    assert (hand.link(f"{ETC}/dev-sda2.swap") == "/dev/null", "/dev/sda2" in hand.swaps) == (
        is_masked,
        is_on,
    )


def test_a_mask_goes_where_its_swap_could_not_be_switched_off_and_one_that_stood_stays(tree):
    hand = Outside(tree)
    mine, ref = swap(hand)
    hand.fails = "stop"
    with pytest.raises(ComputerError):
        mine.write(ref, State(value="0"))
    assert hand.link(f"{ETC}/dev-sda2.swap") is None
    hand.own_link(f"{ETC}/dev-sda2.swap", "/dev/null")
    with pytest.raises(ComputerError):
        mine.write(ref, State(value="x", exact=SwapAreas((), (), ("dev-sda2.swap",), ())))
    assert hand.link(f"{ETC}/dev-sda2.swap") == "/dev/null"


def test_lines_of_swap_that_are_none_are_passed_over(tree):
    hand = Outside(tree)
    put(
        tree,
        "/proc/swaps",
        "Filename Type Size Used Priority\n/a b c\n/b file x 7 -2\n/c file 7 x -2\n/d file 4096"
        " 0\n/e\\040f file 8192 1 -2\n",
    )
    assert [(a.path, a.mib, a.used_bytes) for a in areas_in_use(hand)] == [
        ("/d", 4, 0),
        ("/e f", 8, 1024),
    ]


def test_links_whose_names_are_none_of_units_are_passed_over(tree):
    hand = Acting(unit_tree(tree))
    for place in (
        "a b.service",
        "odd",
        "multi-user.target.wants/c d.service",
        "multi-user.target.wants/plain",
        "e f.wants/g.service",
    ):
        target = put(tree, f"{ETC}/{place}", "")
        target.unlink()
        target.symlink_to(f"{FILE}/tide.service")
    assert set(links(hand)) == {"tide.service", "masked.service"}
    assert len(links(hand)["tide.service"]) == 2


def test_rights_are_taken_and_given_back(tree):
    class Told(Hands):
        def take(self, *, ask):
            told.append(ask)

        def give_back(self):
            told.append("back")

    told = []
    hand = Acting(tree)
    mine = settings_of(hand, Told(hand, hand, hand))
    mine.take_rights(ask=True)
    mine.take_rights(ask=False)
    mine.give_back_rights()
    assert told == [True, False, "back"]


def test_as_much_swap_as_there_is_masks_nothing(tree):
    mine, ref = swap(Outside(tree))
    assert mine.foresee(ref, State(value="300")).exact == SwapAreas((), (), (), ("dev-sda2.swap",))
    assert mine.foresee(ref, State(value="299")).exact == SwapAreas(
        (299,), (299,), ("dev-sda2.swap",), ()
    )


def test_a_file_of_another_name_or_elsewhere_is_not_lumtaks(tree):
    hand = Outside(
        tree, swaps={"/var/lib/lumtak/other": ("file", 10, 0), "/srv/swap_7": ("file", 7, 0)}
    )
    assert settings_of(hand).read(parse_ref("memory:swap_mib")).exact == SwapAreas((), (), (), ())


@pytest.mark.parametrize("fails", ["start", "stop"])
def test_a_swap_that_fails_half_way_is_known(tree, fails):
    transport = Outside(tree)
    mine, ref = swap(transport)
    before, expected = mine.read(ref), mine.foresee(ref, State(value="120"))
    transport.fails = fails
    with pytest.raises(ComputerError):
        mine.write(ref, State(value="120"))
    assert mine.read(ref).between(before, expected)
    transport.fails = ""
    mine.write(ref, before)
    assert mine.read(ref).same_as(before)
