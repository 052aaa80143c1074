"""What desktops keep, what is in force, and who sets the power plan."""

import contextlib
import os
import socket
import struct
import threading
import time

import pytest
from hypothesis import given
from hypothesis import strategies as st

from helpers import CATALOGUE, computer_on, facts, item, look, means_of, profile, put, tree_user
from lumtak.computers.hands.sent.desktop import display
from lumtak.computers.hands.sent.desktop.desktop_data import DESKTOPS, KEYS
from lumtak.computers.hands.sent.root.settling import RootHand
from lumtak.computers.linux.desktop import is_odd, kept_here, raw_of, value_of, words
from lumtak.computers.linux.effects import DesktopEffects, DesktopIdle
from lumtak.computers.linux.in_force import said_of
from lumtak.computers.linux.power_rivals import rivals
from lumtak.computers.linux.session import desktops_of
from lumtak.computers.linux.wireless import Wireless
from lumtak.core.audit import audit
from lumtak.core.facts import Setting, Trigger
from lumtak.core.profile import PowerWishes, load_profile
from lumtak.core.setting import IN_FORCE, SettingRef, State, parse_ref
from lumtak.errors import BadFileError, ComputerError
from outside import Outside

# -- the data --------------------------------------------------------------------------------------


def test_every_setting_of_a_desktop_is_described_and_can_be_stored():
    assert len(DESKTOPS) >= 7
    assert len(KEYS) == len({(k.area, k.setting, k.store, k.at, k.under, k.name) for k in KEYS})
    for key in KEYS:
        said = words()[key.setting]
        assert 0 < len(said.title) <= 26, "a row has no more room"
        assert not said.role or CATALOGUE.find(said.role), key
        assert not said.part_of or said.part_of in words(), key
        assert key.store != "gsettings" or key.under.startswith("/"), key
        for raw in (key.on, key.off, key.default):
            assert key.is_number or not raw or not is_odd(key, raw), (key, raw)
            assert key.fits(raw)
    assert {k.setting for k in KEYS} == words().keys(), "and nothing else is"
    assert len({said.title for said in words().values()}) == len(words())


@given(key=st.sampled_from(KEYS), value=st.sampled_from(["on", "off", "0", "600", "86400"]))
def test_a_value_is_read_back_from_what_is_stored_for_it(key, value):
    ref = SettingRef(area=key.area, key=key.setting)
    if key.is_number == value.isdecimal():
        raw = raw_of(key, ref, value, "['x']")
        assert (value_of(key, raw), is_odd(key, raw)) == (value, False)
    assert raw_of(key, ref, None) == ""


def test_steps_of_a_number_and_what_has_nothing_to_be_switched_on_are_said():
    minutes = next(k for k in KEYS if k.each_s == 60)
    with pytest.raises(ComputerError, match="cannot be 90") as caught:
        raw_of(minutes, parse_ref("power:screen_off_mains"), "90")
    assert "steps of 60" in caught.value.next_step
    empty = next(k for k in KEYS if k.setting == "widgets")
    with pytest.raises(ComputerError, match="nothing to be switched on"):
        raw_of(empty, parse_ref("effects:widgets"), "on")


@pytest.mark.parametrize(
    ("session", "named"),
    [("xfce", ["XFCE"]), ("plasmax11", ["KDE"]), ("ubuntu:GNOME", ["GNOME"]), ("mate", ["MATE"]),
     ("lxqt", ["LXQt"]), ("knots", ["knots"]), ("", [])],
)  # fmt: skip
def test_a_session_is_known_by_its_own_name_or_its_desktops(tree, session, named):
    put(tree, "/run/systemd/sessions/1", f"UID={os.getuid()}\nCLASS=user\nDESKTOP={session}\n")
    assert desktops_of(RootHand(str(tree)), tree_user()) == named


def test_where_nobody_is_logged_in_the_session_counts_that_ran_last(tree):
    hand, user = RootHand(str(tree)), tree_user()
    for kept, desktop in (("XSession=mate", "MATE"), ("Session=plasma\nXSession=", "KDE")):
        put(tree, f"/var/lib/AccountsService/users/{user.name}", f"[User]\n{kept}\n")
        assert desktops_of(hand, user) == [desktop]


def test_of_a_desktop_that_nobody_describes_nothing_but_that_is_said(tree):
    put(tree, "/usr/bin/xfwm4", "")
    put(tree, "/run/systemd/sessions/1", f"UID={os.getuid()}\nCLASS=user\nDESKTOP=knots\n")
    hand = Outside(tree)
    put(tree, "/usr/share/glib-2.0/schemas/gschemas.compiled", "org.gnome.software")
    kept = kept_here(hand, tree_user())
    assert ([k.setting for k in kept.keys], kept.unknown) == (["update-downloads"], "knots")
    put(tree, "/usr/share/glib-2.0/schemas/gschemas.compiled", "")
    (gap,) = DesktopEffects(means_of(hand)).items(look()).gaps
    assert gap.reason == "of the desktop knots, which runs, no settings are known"


# -- what is in force ------------------------------------------------------------------------------

BLINK = next(k for k in KEYS if (k.setting, k.store) == ("cursor-blinking", "xfconf"))
COMPOSED = next(k for k in KEYS if (k.setting, k.store) == ("compositing", "xfconf"))


def shown(composed=True, managed=True, passed=True, **settings):
    said = {name.replace("_", "/"): value for name, value in settings.items()}
    return {"composed": composed, "managed": managed, "passed on": passed, "settings": said}


@pytest.mark.parametrize(
    ("key", "wanted", "display_says", "said"),
    [
        (COMPOSED, "on", shown(), IN_FORCE),
        (COMPOSED, "off", shown(composed=False), IN_FORCE),
        (COMPOSED, "on", shown(composed=False), "nothing composes windows"),
        (COMPOSED, "on", shown(composed=False, managed=False), "no window manager runs"),
        (COMPOSED, "off", shown(), "a program composes windows all the same"),
        (BLINK, "on", shown(Net_CursorBlink=1), IN_FORCE),
        (BLINK, "off", shown(Net_CursorBlink=1), "programs are told that it is on"),
        (BLINK, "off", shown(passed=False), "no program passes settings of the desktop on"),
        (BLINK, "off", shown(), ""),
        (BLINK, "off", shown(Net_CursorBlink="\x1b[2J"), ""),
        (BLINK, "", shown(Net_CursorBlink=1), ""),
        (BLINK, "off", "u is not logged in at a display", "u is not logged in at a display"),
        (BLINK, "off", "", ""),
    ],
)
def test_what_the_display_says_of_a_switch(key, wanted, display_says, said):
    found = said_of(key, wanted, display_says)
    assert found == (said if said in {"", IN_FORCE} else f"stored, not in force: {said}")


def passed_on(order, settings):
    data = struct.pack(order + "B3xII", order == ">", 0, len(settings))
    for name, value in settings.items():
        raw = name.encode()
        data += struct.pack(order + "BxH", isinstance(value, str), len(raw)) + raw
        data += b"\0" * (-len(raw) % 4) + b"\0" * 4
        text = value.encode() if isinstance(value, str) else b""
        data += (
            struct.pack(order + "I", len(text)) + text + b"\0" * (-len(text) % 4)
            if isinstance(value, str)
            else struct.pack(order + "i", value)
        )
    return data


@given(
    order=st.sampled_from("<>"),
    settings=st.dictionaries(st.text(max_size=9), st.integers(-9, 9) | st.text(max_size=9)),
    cut=st.integers(0, 400),
)
def test_settings_that_are_passed_on_are_read_and_what_is_cut_short_is_no_error(
    order, settings, cut
):
    data = passed_on(order, settings)
    assert display.settings_in(data) == settings
    assert display.settings_in(data[:cut]).items() <= settings.items() or cut < len(data)


@given(data=st.binary(max_size=300))
def test_any_bytes_are_no_settings_and_no_cookies(data):
    display.settings_in(data)
    display._cookie(data, 0)


@pytest.fixture
def server(monkeypatch):
    """A display that answers with the bytes that it is given."""
    name = f"lumtak-test-{os.getpid()}-{threading.get_ident()}-%d"
    monkeypatch.setattr(display, "_SOCKETS", f"\0{name}")
    monkeypatch.setattr(display, "_WAIT_S", 5.0)
    with socket.socket(socket.AF_UNIX) as listening:
        listening.bind(f"\0{name}" % 7)
        listening.listen()

        def answering(data, *, drips=False):
            def run():
                line, _ = listening.accept()
                with line, contextlib.suppress(OSError):  # who asked may have had enough
                    while drips:
                        line.sendall(data)
                        time.sleep(0.05)
                    line.sendall(data)
                    line.shutdown(socket.SHUT_WR)
                    while line.recv(4096):
                        pass

            threading.Thread(target=run, daemon=True).start()

        yield answering


GREETED = struct.pack("<BBHHH", 1, 0, 11, 0, 0)


@pytest.mark.parametrize(
    ("answer", "said"),
    [
        (b"", "does not answer"),
        (struct.pack("<BBHHH", 0, 0, 11, 0, 0), "lets nobody look"),
        (struct.pack("<BBHHH", 1, 0, 11, 0, 65535), "does not answer"),
        (GREETED, "does not answer"),
        (GREETED + b"\x02" * 32 * 300, "does not come to the point"),
        (GREETED + struct.pack("<BxHI24x", 1, 0, 1 << 30), "says too much"),
    ],
)
def test_a_display_that_lies_floods_or_is_silent_is_an_error(server, answer, said):
    server(answer)
    with pytest.raises(OSError, match=said):
        RootHand().display(":7", "")


def test_a_display_that_drips_is_not_waited_for(server, monkeypatch):
    monkeypatch.setattr(display, "_WAIT_S", 0.3)
    server(b"\x01", drips=True)
    with pytest.raises(OSError, match=r"takes too long|timed out"):
        RootHand().display(":7", "")


def test_no_display_of_another_computer_is_asked():
    for name in ("far:0", "localhost:10.0", ":", ":99999", "\x1b"):
        with pytest.raises(OSError, match="not of this computer"):
            RootHand().display(name, "")
    with pytest.raises(OSError, match="root looks at nobody's display"):
        RootHand(rules=True).display(":0", "")


# -- power -----------------------------------------------------------------------------------------


def test_who_sets_the_power_plan_is_known_by_what_it_owns_or_writes(tree):
    info = "/var/lib/dpkg/info"
    put(tree, f"{info}/keel.list", "/usr/sbin/keel\n/usr/share/doc/keel/notes\n")
    put(tree, "/usr/sbin/keel", "echo x >/sys/devices/system/cpu/cpu0/cpufreq/scaling_governor")
    put(tree, f"{info}/chart.list", "/usr/share/doc/chart/notes\n/usr/bin/chart\n")
    put(tree, "/usr/share/doc/chart/notes", "scaling_governor")
    owner = item(
        "services", "hull", running=True, package="hull",
        triggers=(Trigger(kind="bus", by="net.hadess.PowerProfiles"),),
    )  # fmt: skip
    writer = item("services", "keel-daemon", value="auto", package="keel")
    others = [
        item("services", "chart", running=True, package="chart"),
        item("services", "idle", value="manual", package="keel"),
        item("services", "fax", running=True, package="keel", role="fax"),
    ]
    found = rivals(RootHand(str(tree)), [owner, writer, *others])
    assert [i.key for i in found] == ["hull", "keel-daemon"]


def test_rivals_stand_beside_the_plan_and_are_not_touched(tree):
    for name in ("keel", "mast"):
        put(tree, f"/usr/lib/systemd/system/{name}.service",
            "[Service]\nExecStart=/x\n[Install]\nWantedBy=multi-user.target\n")  # fmt: skip
        put(tree, f"/var/lib/dpkg/info/{name}.list",
            f"/usr/sbin/{name}\n/usr/lib/systemd/system/{name}.service\n")  # fmt: skip
        put(tree, f"/usr/sbin/{name}", b"\x7fELF energy_performance_preference \0")
    (tree / "etc/systemd/system/multi-user.target.wants").mkdir(parents=True, exist_ok=True)
    for name in ("keel", "mast"):
        place = tree / f"etc/systemd/system/multi-user.target.wants/{name}.service"
        place.symlink_to(f"/usr/lib/systemd/system/{name}.service")
    put(tree, "/sys/class/power_supply/BAT0/type", "Battery")
    put(tree, "/sys/class/power_supply/BAT0/energy_full", "30")
    put(tree, "/sys/class/power_supply/BAT0/energy_full_design", "60")
    seen = computer_on(Outside(tree, plan="balanced")).about.facts()
    of = {i.key: i for i in seen.items}
    assert "set by keel and mast, each over the other" in of["mains"].note
    assert "holds 50 % of what it was built for" in of["mains"].note
    judged = {f.key: f for f in audit(seen, profile(), CATALOGUE, None).findings}
    assert {judged[n].stance for n in ("keel", "mast")} == {"guarded"}
    assert "neither of them is touched" in judged["keel"].reason


def test_idle_times_are_as_the_profile_wants_them_or_left_alone(tree):
    hand = Outside(tree)
    put(tree, "/usr/share/glib-2.0/schemas/gschemas.compiled",
        "org.gnome.desktop.session org.gnome.settings-daemon.plugins.power")  # fmt: skip
    adapter = DesktopIdle(means_of(hand))
    hand.tell(stored={"org.gnome.desktop.session idle-delay": "uint32 300"})
    of = {i.key: i for i in adapter.items(look()).items}
    assert of.keys() == {"screen_off", "dim", "sleep_mains", "sleep_battery"}
    assert (of["screen_off"].value, of["sleep_mains"].setting) == (
        "300", Setting(lowest=0, highest=86_400),
    )  # fmt: skip
    box, ref = computer_on(hand), parse_ref("power:screen_off")
    box.settings.write(ref, State(value="900"))
    assert hand.stored["org.gnome.desktop.session idle-delay"] == "uint32 900"

    def stances(**wishes):
        wanted = profile(power=PowerWishes(**wishes))
        found = audit(facts(*of.values()), wanted, CATALOGUE, None).findings
        return {f.key: (f.stance, f.proposal) for f in found if f.stance in {"ease", "set"}}

    assert stances() == {}
    assert stances(sleep_mains=0, screen_off_mains=300) == {"sleep_mains": ("set", "0")}
    assert stances(screen_off_mains=600, screen_off_battery=300) == {}, "it has one for both"
    assert stances(dim_battery="off") == {"dim": ("set", "off")}


def test_a_profile_with_times_that_are_none_is_refused():
    text = (
        'format = 1\nname = "x"\ntitle = "x"\n[ceilings]\ncpu_pct = 8\nram_pct = 50\n[power]\n'
        "sleep_mains = {}\n"
    )
    assert load_profile(text.format(0), "x.toml").power.sleep_mains == 0
    for bad in (-1, 86_401):
        with pytest.raises(BadFileError, match="seconds"):
            load_profile(text.format(bad), "x.toml")


def test_saving_power_on_wireless_networks_is_told_to_who_looks_after_them(tree):
    hand = Outside(tree)
    assert Wireless(means_of(hand)).items(look()).items == (), "there is no such device"
    put(tree, "/sys/class/net/wl0/phy80211/index", "0")
    put(tree, "/usr/sbin/NetworkManager", "")
    put(tree, "/usr/lib/NetworkManager/conf.d/a.conf", "[connection]\nwifi.powersave=3\n")
    put(tree, "/etc/NetworkManager/conf.d/a.conf", "[connection]\nwifi.powersave = 2\n")
    put(tree, "/etc/NetworkManager/NetworkManager.conf", "[connection]\nwifi.powersave=3\n")
    box, ref = computer_on(hand), parse_ref("power:wireless_saving")
    (seen,) = (i for i in box.about.facts().items if i.ref == ref)
    assert (seen.value, seen.setting.values) == ("off", ("on", "off"))
    before = box.settings.read(ref)
    box.settings.write(ref, State(value="on"))
    assert box.settings.read(ref).value == "on"
    box.settings.write(ref, before)
    assert box.settings.read(ref).same_as(before)
    assert [p.name for p in (tree / "etc/NetworkManager/conf.d").iterdir()] == ["a.conf"]
    for bad in (None, "maybe"):
        with pytest.raises(ComputerError, match="cannot be"):
            box.settings.foresee(ref, State(value=bad))
    wanted = profile(power=PowerWishes(wireless_saving="on"))
    (judged,) = audit(facts(seen), wanted, CATALOGUE, None).findings
    assert (judged.stance, judged.proposal) == ("set", "on")
