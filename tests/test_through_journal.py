"""Settings of a real computer changed and put back through the journal, on a folder whose programs
answer as systemd and dconf do.
"""

import contextlib
import errno
import os

import pytest

from helpers import (
    CATALOGUE,
    Once,
    Parts,
    Plain,
    computer_on,
    facts,
    item,
    linux,
    look,
    means_of,
    profile,
    put,
)
from lumtak.computers.hands.sent.script.shell import beside
from lumtak.computers.hands.sent.states.states import DesktopKey
from lumtak.computers.hands.sent.table import NOWHERE
from lumtak.computers.linux.effect_files import EffectFiles
from lumtak.computers.linux.effects import DesktopEffects
from lumtak.computers.linux.services import Services
from lumtak.core.audit import audit
from lumtak.core.facts import Fixed
from lumtak.core.setting import SettingRef, State, parse_change, parse_ref
from lumtak.errors import ComputerError
from lumtak.journal.apply import apply_changes
from lumtak.journal.putback import put_back, recorded, warnings
from lumtak.journal.recover import recover, review
from lumtak.journal.store import Journal
from outside import ETC, FILE, INSTALL, SDA2, Outside


@pytest.fixture
def journal(home):
    journal = Journal(home)
    yield journal
    journal.close()


def changed(journal, box, *changes):
    known = [item(c.ref.area, c.ref.key) for c in map(parse_change, changes)]
    return apply_changes(
        journal, box, facts(*known, identity=box.identity), [parse_change(c) for c in changes]
    )


def results(outcomes):
    return [o.result for o in outcomes]


def folder_of(root):
    return {
        str(p.relative_to(root)): p.readlink() if p.is_symlink() else p.read_bytes()
        for p in sorted((root / "etc/systemd").rglob("*"))
        if p.is_symlink() or p.is_file()
    }


def switch_on(hand, unit, by="multi-user.target"):
    hand.own_link(f"{ETC}/{by}.wants/{unit}", f"{FILE}/{unit}")
    hand.asked.clear()


# -- services --------------------------------------------------------------------------------------


@pytest.mark.parametrize("ran", [True, False])
@pytest.mark.parametrize("value", ["off", "manual"])
def test_what_did_not_run_is_not_started_by_putting_back(tree, journal, ran, value):
    hand = Outside(tree, running=["tide.service"] if ran else ())
    switch_on(hand, "tide.service")
    before, box = folder_of(tree), computer_on(hand)
    assert results(changed(journal, box, f"services:tide={value}")) == ["done"]
    assert "tide.service" not in hand.running
    assert results(put_back(journal, box)) == ["done"]
    assert folder_of(tree) == before
    assert ("tide.service" in hand.running) is ran
    assert [w[0] for w in hand.acted()] == (
        ["daemon-reload", "stop", "daemon-reload", "start"] if ran else ["daemon-reload"] * 2
    ), "systemd is told of the links before anything is started or stopped"


def test_what_the_value_says_runs_or_stops_where_nothing_is_restored(tree, journal):
    hand = Outside(tree, running=["tide.service"])
    box = computer_on(hand)
    assert results(changed(journal, box, "services:quay=auto")) == ["done"]
    assert "quay.service" in hand.running
    assert f"{ETC[1:]}/also-quay.service" in folder_of(tree), (
        "all that its [Install] section asks for"
    )
    hand.asked.clear()
    box.settings.write(parse_ref("services:tide"), State(value="manual"))
    assert hand.acted() == [("stop", "tide.service")], (
        "no link changed, so there is nothing to load"
    )


def test_a_mask_does_not_stay_where_the_service_could_not_be_stopped(tree, journal):
    hand = Outside(tree, running=["tide.service"])
    switch_on(hand, "tide.service")
    before, box, hand.fails = folder_of(tree), computer_on(hand), "stop"
    (outcome,) = changed(journal, box, "services:tide=off")
    assert outcome.result == "failed"
    assert "systemctl failed" in outcome.note
    assert folder_of(tree) == before
    assert "tide.service" in hand.running
    assert ("leave script", journal.tag) in hand.asked
    assert not list(tree.glob("var/lib/lumtak/put-back-*")), "nothing is left to be put back"


def test_demand_keeps_other_names_and_drops_what_switches_it_on(tree, journal):
    hand = Outside(tree, tide={"BusName": "made.up.Tide"})
    switch_on(hand, "tide.service")
    hand.own_link(f"{ETC}/also-tide.service", f"{FILE}/tide.service")
    box = computer_on(hand)
    assert results(changed(journal, box, "services:tide=demand")) == ["done"], (
        "a bus name starts it when it is asked for"
    )
    assert list(folder_of(tree)) == [f"{ETC[1:]}/also-tide.service"]


@pytest.mark.parametrize(
    ("fields", "value"),
    [
        ({"UnitFileState": "enabled-runtime"}, "auto"),
        ({"UnitFileState": "masked-runtime", "LoadState": "masked"}, "off"),
        ({"UnitFileState": "disabled"}, "manual"),
        ({"UnitFileState": "disabled", "BusName": "made.up.Tide"}, "demand"),
        ({"UnitFileState": "disabled", "TriggeredBy": "log.timer"}, "demand"),
        ({"UnitFileState": "disabled", "TriggeredBy": "idle.socket"}, "manual"),
        ({"UnitFileState": "static"}, "demand"),
        ({"UnitFileState": "indirect"}, "demand"),
        ({"UnitFileState": ""}, None),
    ],
)
def test_how_a_service_starts(tree, fields, value):
    hand = Outside(tree, running=["log.timer"], tide=fields)
    assert computer_on(hand).settings.read(parse_ref("services:tide")).value == value


@pytest.mark.parametrize(
    "state", ["active", "activating", "reloading", "inactive", "deactivating", "failed"]
)
def test_what_counts_as_running(tree, state):
    hand = Outside(tree, tide={"ActiveState": state})
    up = state in {"active", "activating", "reloading"}
    assert computer_on(hand).settings.read(parse_ref("services:tide")).exact.active is up


@pytest.mark.parametrize("key", ["a/b", "", "x\0y"])
def test_what_no_unit_can_be_called(tree, key):
    for attempt in (
        lambda b, r: b.settings.read(r),
        lambda b, r: b.settings.foresee(r, State(value="off")),
    ):
        with pytest.raises(ComputerError, match="is no name of a service"):
            attempt(computer_on(Outside(tree)), SettingRef(area="services", key=key))


def test_what_a_service_can_become_and_where_it_comes_from(tree):
    hand = Outside(tree)
    for path in (
        "/usr/local/lib/systemd/system/sail.service",
        "/run/systemd/system/made.service",
        f"{ETC}/own.service",
    ):
        put(tree, path, INSTALL.format(path.rpartition("/")[2].partition(".")[0]))
    put(tree, f"{FILE}/mute.service", "[Service]\nExecStart=/bin/x\n")
    found = {i.key: i for i in computer_on(hand).about.facts().items if i.area == "services"}
    assert found["tide"].setting.values == ("auto", "manual", "off")
    assert found["log.timer"].setting.values == ("auto", "manual"), "a timer is not masked"
    assert found["mute"].setting.values == ("demand", "off"), "nothing says what it starts with"
    assert found["own"].setting.values == (
        "auto",
        "manual",
    ), "a mask would have to take its file's place"
    assert [found[k].origin for k in ("sail", "own", "made", "tide")] == [
        "user",
        "user",
        "system",
        "unknown",
    ]


def test_what_a_mask_alone_is_left_of_or_a_generator_made(tree):
    hand = Outside(
        tree,
        made={"UnitFileState": "generated", "FragmentPath": ""},
        plain={"UnitFileState": "static", "FragmentPath": ""},
    )
    hand.own_link(f"{ETC}/gone.service", NOWHERE)
    for name in ("made", "plain"):
        put(tree, f"{FILE}/{name}.service", "[Service]\n")
    units = [
        dict(line.split("=", 1) for line in hand._unit(f"{n}.service").decode().split())
        for n in ("gone", "made", "plain", "tide")
    ]
    found = {i.key: i.setting for i in Services(means_of(hand)).parse(units)[0]}
    assert "nothing but the mask is there" in found["gone"].needed
    assert found["made"].values == ("auto", "off")
    assert "no unit file" in found["plain"].needed
    assert found["tide"].values == ("auto", "manual", "off")


def test_a_timer_is_known_by_its_own_name_or_by_what_it_serves(tree):
    told = {
        "LoadState": "loaded",
        "ActiveState": "inactive",
        "UnitFileState": "disabled",
        "FragmentPath": f"{FILE}/x",
    }
    own, served = (
        {**told, "Id": "plocate-updatedb.timer"},
        {**told, "Id": "x.timer", "Triggers": "man-db.service"},
    )
    assert [i.role for i in Services(means_of(Outside(tree))).parse([own, served])[0]] == [
        "file-index",
        "manual-index",
    ]
    instance = {**told, "Id": "fstrim@a.service", "Names": "fstrim@a.service"}
    assert Services(means_of(Outside(tree))).parse([instance])[0][0].role == "disk-trim"


@pytest.mark.parametrize("value", ["auto", "manual"])
def test_a_masked_service_is_unmasked_and_masked_again(tree, journal, value):
    hand = Outside(tree)
    hand.own_link(f"{ETC}/quay.service", NOWHERE)
    before, box = folder_of(tree), computer_on(hand)
    (found,) = [i for i in box.about.facts().items if i.key == "quay"]
    assert (found.value, found.setting.values) == ("off", ("auto", "manual", "off"))
    assert results(changed(journal, box, f"services:quay={value}")) == ["done"]
    assert [p.rpartition("/")[2] for p in folder_of(tree)] == (
        ["also-quay.service", "quay.service"] if value == "auto" else []
    )
    assert hand.link(f"{ETC}/quay.service") is None
    assert results(put_back(journal, box)) == ["done"]
    assert folder_of(tree) == before


def test_what_a_killed_write_left_of_a_link_goes_with_the_next(tree):
    hand, ref = Outside(tree), parse_ref("services:quay")
    box = computer_on(hand)
    switch_on(hand, "quay.service", "graphical.target")
    before = box.settings.read(ref)
    left = [
        put(tree, beside(path), "")
        for path in (
            f"{ETC}/multi-user.target.wants/quay.service",
            f"{ETC}/quay.service",
            f"{ETC}/also-quay.service",
            f"{ETC}/graphical.target.wants/quay.service",
        )
    ]
    assert box.settings.read(ref).same_as(before), "what is half-written is no link of a unit"
    box.settings.write(ref, before)
    assert not any(path.exists() for path in left)
    assert not left[0].parent.exists(), "the folder was made for the link"
    assert hand.acted() == [], "no link changed"


def test_a_masked_service_that_is_asked_for_is_unmasked_to_manual_at_most(tree):
    hand = Outside(tree, quay={"BusName": "made.up.Quay"})
    hand.own_link(f"{ETC}/quay.service", NOWHERE)
    (found,) = [i for i in computer_on(hand).about.facts().items if i.key == "quay"]
    assert found.setting.values == (
        "auto",
        "manual",
        "off",
    ), "what else it would be shows once the mask is gone"


def test_what_systemd_does_not_tell_is_a_sentence(tree):
    hand = Outside(tree, tide={"FragmentPath": "/usr/lib/systemd/system/nowhere.service"})
    with pytest.raises(ComputerError, match="unit file of tide cannot be read"):
        computer_on(hand).settings.foresee(parse_ref("services:tide"), State(value="auto"))
    hand.fails = "show"
    with pytest.raises(ComputerError, match="services:tide cannot be read"):
        computer_on(hand).settings.read(parse_ref("services:tide"))


def test_what_says_nothing_of_its_start_is_not_switched_to_auto(tree, journal):
    hand = Outside(tree)
    put(tree, f"{FILE}/mute.service", "[Service]\nExecStart=/bin/x\n")
    (outcome,) = changed(journal, computer_on(hand), "services:mute=auto")
    assert (outcome.result, "Choose demand or manual" in outcome.note) == ("failed", True)
    assert hand.acted() == []


def test_of_units_that_vanish_while_they_are_asked_for_the_others_are_told(tree):
    class Strict(Outside):
        def run(self, arguments, timeout_s=20.0, partly=False, bus=""):
            if "gone.socket" in arguments and not partly:
                raise OSError(errno.ENOENT, "Unit gone.socket could not be found.")
            return super().run(arguments, timeout_s, partly, bus)

    hand = Strict(
        tree,
        tide={"UnitFileState": "disabled", "TriggeredBy": "gone.socket log.timer"},
        running=["log.timer"],
    )
    assert computer_on(hand).settings.read(parse_ref("services:tide")).value == "demand"


def test_what_systemd_tells_of_a_unit(tree):
    tide = {"Id": "tide.service", "Names": "tide.service sea.service", "LoadState": "loaded",
    "ActiveState": "active",
            "UnitFileState": "disabled", "FragmentPath": f"{FILE}/tide.service",
            "TriggeredBy": "low.timer idle.socket",
            "WantedBy": "graphical.target quay.service",
            "InactiveExitTimestampMonotonic": "1000000",
            "ActiveEnterTimestampMonotonic": "1500000",
            "InactiveEnterTimestampMonotonic": "200"}  # fmt: skip
    low = {"Id": "low.timer", "LoadState": "loaded", "ActiveState": "active",
    "UnitFileState": "disabled",
           "FragmentPath": f"{FILE}/low.timer", "Triggers": "tide.service"}  # fmt: skip
    idle = {"Id": "idle.socket", "LoadState": "loaded", "ActiveState": "inactive"}
    gone = {"Id": "gone.service", "LoadState": "not-found", "ActiveState": "inactive"}
    mine = Services(means_of(Outside(tree)))
    found = {i.key: i for i in mine.parse([tide, low, idle, gone])[0]}
    assert set(found) == {"tide", "low.timer"}
    assert (found["tide"].start_s, found["tide"].running, found["tide"].aliases) == (
        0.5,
        True,
        ("sea",),
    )
    assert [(t.kind, t.by) for t in found["tide"].triggers] == [
        ("system", ""), ("wants", "quay"), ("timer", "low.timer"), ("socket", "idle.socket"),
    ]  # fmt: skip
    assert found["tide"].setting.values == ("auto", "demand", "off")
    assert (found["low.timer"].value, found["low.timer"].started_by,
    found["low.timer"].triggers) == (
        "manual", "is not counting", (),
    )  # fmt: skip
    (never,) = mine.parse(
        [{**tide, "InactiveExitTimestampMonotonic": "0", "WantedBy": "", "TriggeredBy": ""}]
    )[0]
    assert (never.start_s, never.triggers, never.setting.values) == (
        None,
        (),
        ("auto", "manual", "off"),
    )
    (once,) = mine.parse([{**tide, "UnitFileState": "enabled", "ActiveEnterTimestampMonotonic": "0",
                           "InactiveEnterTimestampMonotonic": "3000000", "WantedBy": "",
                           "TriggeredBy": ""}])[0]  # fmt: skip
    assert (once.start_s, [t.kind for t in once.triggers]) == (2.0, ["system"])
    (quick,) = mine.parse([{**tide, "ActiveEnterTimestampMonotonic": "1000000"}])[0]
    assert quick.start_s == 0.0, "it was up at once"
    (untold,) = mine.parse(
        [{k: v for k, v in tide.items() if k != "InactiveExitTimestampMonotonic"}]
    )[0]
    assert untold.start_s is None
    asleep = mine.parse([{**tide, "TriggeredBy": "idle.socket"}, idle])[0][0]
    assert (asleep.value, asleep.setting.values) == (
        "manual",
        ("auto", "manual", "off"),
    ), "nothing waits for it now"
    on = mine.parse([{**tide, "UnitFileState": "enabled"}, low])[0][0]
    assert on.setting.values == ("auto", "demand", "off")
    assert mine.parse([{**tide, "UnitFileState": "enabled", "TriggeredBy": ""}])[0][
        0
    ].setting.values == (
        "auto",
        "manual",
        "off",
    )


# -- swap, effects, files --------------------------------------------------------------------------


def test_swap_goes_to_a_file_and_comes_back_and_what_fails_leaves_no_mask(tree, journal):
    hand = Outside(tree)
    before, box = folder_of(tree), computer_on(hand)
    hand.fails, hand.lasts = "stop", False
    assert results(changed(journal, box, "memory:swap_mib=120")) == ["failed"]
    assert (folder_of(tree), list(hand.swaps)) == (before, ["/dev/sda2"])
    assert results(changed(journal, box, "memory:swap_mib=120")) == ["done"]
    assert results(put_back(journal, box)) == ["done"]
    assert (folder_of(tree), list(hand.swaps)) == (before, ["/dev/sda2"])


def test_the_device_that_the_kernel_was_told_to_wake_from_stays(tree, journal):
    hand = Outside(tree)
    put(tree, "/sys/power/resume", "8:2\n")
    (tree / "sys/dev/block").mkdir(parents=True)
    (tree / "sys/dev/block/8:2").symlink_to("../../devices/made-up/sda2")
    box = computer_on(hand)
    (outcome,) = changed(journal, box, "memory:swap_mib=120")
    assert (outcome.result, hand.swaps) == ("failed", SDA2)
    put(tree, "/sys/power/resume", "0:0\n")
    assert results(changed(journal, box, "memory:swap_mib=120")) == ["done"]
    most = next(i for i in box.about.facts().items if i.key == "swap_mib").setting.highest
    assert most == 120 + int(0.9 * 10240)
    (outcome,) = changed(journal, box, f"memory:swap_mib={most + 1}")
    assert (outcome.result, str(most) in outcome.note) == (
        "failed",
        True,
    ), "a tenth of the disk is kept free"


@pytest.mark.parametrize(
    ("key", "where", "off", "on"),
    [
        ("animations", "org.mate.interface enable-animations", "false", "true"),
        ("thumbnails", "org.mate.thumbnailers disable-all", "true", "false"),
    ],
)
def test_an_effect_of_the_desktop_and_unset_is_a_value_of_its_own(
    tree, journal, key, where, off, on
):
    hand = Outside(tree)
    box, ref = computer_on(hand), parse_ref(f"effects:{key}")
    assert box.settings.read(ref).value is None
    assert results(changed(journal, box, f"effects:{key}=off")) == ["done"]
    assert hand.stored == {where: off}
    assert results(put_back(journal, box)) == ["done"]
    assert hand.stored == {}, "unset again, not on"
    hand.tell(stored={where: on})
    assert box.settings.read(ref).value == "on"
    assert results(changed(journal, box, f"effects:{key}=off")) == ["done"]
    assert results(put_back(journal, box)) == ["done"]
    assert hand.stored == {where: on}


def effects_of(tree, schemas=None):
    """(adapter, what it lists): on a desktop with these schemas."""
    hand = Outside(tree)
    if schemas is not None:
        put(tree, "/usr/share/glib-2.0/schemas/gschemas.compiled", schemas)
    adapter = DesktopEffects(means_of(hand))
    return hand, adapter, adapter.items(look())


def test_effects_of_each_family_of_desktops_and_what_is_missing(tree):
    hand, _, found = effects_of(tree)
    assert [(i.key, i.value, i.running, i.setting.values) for i in found.items] == [
        ("animations", None, True, ("on", "off")), ("cursor-blinking", None, True, ("on", "off")),
        ("thumbnails", None, True, ("on", "off")),
    ]  # fmt: skip
    hand.tell(
        stored={
            "org.mate.interface enable-animations": "false",
            "org.mate.interface cursor-blink": "'odd'",
        }
    )
    of = {i.key: i for i in effects_of(tree)[2].items}
    assert (of["animations"].value, of["animations"].running) == ("off", False)
    assert of["animations"].setting.values == ("on", "off")
    assert "another kind" in of["cursor-blinking"].setting.needed
    gnome, _, found = effects_of(tree, "org.gnome.desktop.interface")
    gnome.tell(stored={"org.gnome.desktop.interface font-antialiasing": "'rgba'"})
    fonts = {i.key: i for i in effects_of(tree)[2].items}["smooth-fonts"]
    assert (fonts.value, fonts.setting.values) == ("on", ("on", "off")), "one of several ways of on"
    assert [g.reason for g in effects_of(tree, "")[2].gaps] == [
        "no desktop is here whose effects this version knows"
    ]
    (tree / "usr/bin/dconf").unlink()
    assert [g.needed for g in effects_of(tree, "org.mate.interface")[2].gaps] == [
        "the programs dconf and gsettings"
    ]


@pytest.mark.parametrize(
    "address", ["effects:nothing", "memory:nothing", "power:mains", "services:nowhere"]
)
def test_what_nothing_keeps_is_a_sentence(tree, address):
    bare = linux(tree)
    for attempt in (bare.settings.read, lambda r: bare.settings.foresee(r, State(value="off"))):
        with pytest.raises(ComputerError) as caught:
            attempt(parse_ref(address))
        assert caught.value.next_step
    if address == "effects:nothing":
        assert "Nothing here keeps effects:nothing" in str(caught.value)


_SCHEMA = """<?xml version="1.0"?><schemalist>
<schema id="org.mate.interface" path="/org/mate/desktop/interface/">
<key name="enable-animations" type="b"><default>true</default></key></schema>
<schema id="org.mate.sound" path="/org/mate/desktop/sound/">
<key name="event-sounds" type="b"><default>false</default></key></schema>
<schema id="org.mate.background" path="/org/mate/elsewhere/">
<key name="background-fade" type="b"><default>true</default></key></schema>
<schema id="org.mate.NotificationDaemon" path="/org/mate/notification-daemon/">
<key name="do-not-disturb" type="i"><default>0</default></key></schema></schemalist>"""


def test_what_is_unset_is_what_the_schemas_own_file_says(tree):
    where = "/usr/share/glib-2.0/schemas"
    put(tree, f"{where}/org.mate.all.gschema.xml", _SCHEMA)
    put(tree, f"{where}/org.mate.short.gschema.xml", _SCHEMA[:99])
    put(tree, f"{where}/10_all.gschema.override",
        "[org.mate.interface:MATE]\nenable-animations=false\n[org.mate.sound:Else]\n"
        "event-sounds=true\n")  # fmt: skip
    put(tree, "/run/systemd/sessions/1", f"UID={os.getuid()}\nDESKTOP=MATE\nCLASS=user\n")
    put(tree, "/etc/dconf/profile/user", "user-db:user\nsystem-db:school\n")
    put(tree, "/etc/dconf/db/school.d/1", "[org/mate/desktop/sound]\nevent-sounds=true\n")
    put(tree, "/etc/dconf/db/school.d/locks/1", "/org/mate/desktop/sound/event-sounds\n")
    schemas = (
        "org.mate.interface org.mate.sound org.mate.background org.gnome.desktop.interface"
        " org.mate.NotificationDaemon"
    )
    of = {i.key: i for i in effects_of(tree, schemas)[2].items}
    assert {k: (i.value, i.default, i.running) for k, i in of.items()} == {
        "animations": (None, "off", False),
        "event-sounds": (None, "on", True),
        "background-fade": (None, "on", True),
        "notices": (None, "on", True),
    }
    assert "the administrator" in of["event-sounds"].setting.needed
    assert "its schema here has it as i" in of["notices"].setting.needed
    assert of["background-fade"].setting.needed.endswith("/org/mate/elsewhere/background-fade")
    judged = audit(facts(*of.values()), profile(), CATALOGUE, None)
    assert [(f.key, f.stance) for f in judged.findings if f.stance == "ease"] == [
        ("background-fade", "ease"),
        ("event-sounds", "ease"),
    ], "what is fixed is judged all the same"


def test_the_desktop_whose_session_runs_counts_and_not_what_is_installed(tree):
    put(tree, "/usr/bin/plasmashell", "")
    put(tree, "/usr/bin/kwin_x11", "")
    both = "org.mate.interface org.gnome.desktop.interface"

    def seen(session):
        put(tree, "/run/systemd/sessions/1", f"UID={os.getuid()}\nCLASS=user\n{session}\n")
        hand, _, stored = effects_of(tree, both)
        files = EffectFiles(means_of(hand)).items(look())
        return {i.note.split(" ")[0] for i in stored.items}, {i.key for i in files.items}

    assert seen("DESKTOP=GNOME") == ({"org.gnome.desktop.interface"}, set())
    assert seen("DESKTOP=MATE") == ({"org.mate.interface"}, set())
    stored, files = seen("DESKTOP=KDE\nTYPE=x11")
    assert (stored, "compositing" in files) == (set(), True)
    assert "compositing" not in seen("DESKTOP=KDE\nTYPE=wayland")[1]


def test_lists_among_what_is_stored_are_no_folders(tree):
    hand, adapter, _ = effects_of(tree)
    hand.replies["dconf dump"] = (
        b"[org/mate/desktop/interface]\n[odd=1\nlist=['x']\nenable-animations=false\n\n[/]\n"
    )
    assert adapter.read(parse_ref("effects:animations")).value == "off"


def test_an_effect_of_another_desktop_or_of_none_is_refused(tree):
    _, adapter, _ = effects_of(tree, "org.gnome.desktop.interface")
    with pytest.raises(ComputerError, match="glass is no setting of this desktop"):
        adapter.read(parse_ref("effects:glass"))
    mate = DesktopKey(
        "org.mate.interface",
        "enable-animations",
        "/org/mate/desktop/interface/enable-animations",
        "false",
    )
    with pytest.raises(
        ComputerError,
        match=(
            r"was kept in org\.mate\.interface enable-animations, and the desktop that is here"
            r" keeps it"
        ),
    ):
        computer_on(Outside(tree)).settings.write(
            parse_ref("effects:animations"), State(value="off", exact=mate)
        )


def test_an_effect_that_cannot_be_asked_for_or_is_refused_is_a_sentence(tree):
    hand, adapter, _ = effects_of(tree)
    hand.fails = "dump"
    (gap,) = adapter.items(look()).gaps
    assert "cannot be told from what is the default" in gap.reason
    with pytest.raises(ComputerError, match="effects:animations cannot be read"):
        adapter.read(parse_ref("effects:animations"))
    hand.fails = "set"
    with pytest.raises(ComputerError, match="effects:animations was refused"):
        computer_on(hand).settings.write(parse_ref("effects:animations"), State(value="off"))
    (tree / "home/u/.config/dconf/user").unlink()
    hand.asked.clear()
    hand.fails = "dump"
    assert adapter.read(parse_ref("effects:animations")).value is None, "nothing was ever stored"
    put(tree, "/etc/dconf/profile/user", "user-db:other\n")
    with pytest.raises(ComputerError, match="cannot be read"):
        adapter.read(parse_ref("effects:animations"))


@pytest.mark.parametrize("mode", [0o600, 0o644, 0o755])
def test_a_file_keeps_its_mode_there_and_back(tree, journal, mode):
    own = put(
        tree,
        "/home/u/.config/autostart/tide-feed.desktop",
        "[Desktop Entry]\nName=Tide\nExec=/opt/x\n",
    )
    own.chmod(mode)
    before, box = own.read_bytes(), computer_on(Outside(tree))
    assert results(changed(journal, box, "apps:tide-feed=off")) == ["done"]
    assert own.stat().st_mode & 0o777 == mode
    assert results(put_back(journal, box)) == ["done"]
    assert (own.stat().st_mode & 0o777, own.read_bytes()) == (mode, before)


def test_an_override_that_only_hides_goes_where_the_systems_entry_is_shown(tree, journal):
    hides = put(
        tree, "/home/u/.config/autostart/tide-feed.desktop", "[Desktop Entry]\nHidden=true\n"
    )
    box = computer_on(Outside(tree))
    assert results(changed(journal, box, "apps:tide-feed=on")) == ["done"]
    assert not hides.exists()
    assert results(put_back(journal, box)) == ["done"]
    system = tree / "etc/xdg/autostart/tide-feed.desktop"
    system.write_text(system.read_text() + "Hidden=true\n")
    assert results(changed(journal, box, "apps:tide-feed=on")) == ["done"]
    assert "Hidden=false" in hides.read_text(), "without an override the system's own would hide it"


# -- what the journal makes of answers -------------------------------------------------------------


class Parted(Plain):
    """Settings of two parts, `one/two`; `cut` ends a write after so many parts."""

    cut = None
    reads = 10**6

    def _exact(self, word):
        return Parts(dict(zip("ab", word.split("/"), strict=True)))

    def read(self, ref):
        self.reads -= 1
        if self.reads < 0:
            raise ComputerError(f"{ref} cannot be read now.")
        word = super().read(ref).value
        return State(value=word, exact=self._exact(word))

    def foresee(self, ref, state):
        self._check(ref, state)
        return state if state.exact else State(value=state.value, exact=self._exact(state.value))

    def write(self, ref, state, *, believed=False):
        self._check(ref, state)
        self.writes += 1
        there, wanted = (w.split("/") for w in (self.values[str(ref)], state.value))
        done = 2 if self.cut is None else self.cut
        self.values[str(ref)] = "/".join(wanted[:done] + there[done:])
        if self.cut is not None:
            error, self.cut = self.failing, None
            raise error


def parted(failing=None, **at):
    box = Parted({"services:x": "1/1"})
    box.failing = failing or ComputerError("the made-up write was refused.")
    for name, value in at.items():
        setattr(box, name, value)
    return box


def test_a_refused_write_is_undone_and_one_that_was_not_refused_is_left(journal):
    box = parted(cut=1)
    assert results(changed(journal, box, "services:x=2/2")) == ["failed"]
    assert (box.values["services:x"], box.writes) == ("1/1", 2)
    box = parted()
    box.trouble = None
    box.settings.write = lambda ref, state: box.values.update({"services:x": "2/1"})
    assert results(changed(journal, box, "services:x=2/2")) == ["conflict"]
    assert box.values["services:x"] == "2/1", (
        "nobody said that it was refused, so it may be somebody's own"
    )


def test_what_cannot_be_read_back_is_a_conflict(journal):
    box = parted(reads=1)
    (outcome,) = changed(journal, box, "services:x=2/2")
    assert outcome.result == "conflict"
    assert "could not be read back" in outcome.note
    assert journal.entries()[-1].stage == "conflict"


@pytest.mark.parametrize(
    ("begun", "found_at", "says", "stage", "left"),
    [
        ("applying", "1/1", "not done", "not done", "1/1"),
        ("applying", "2/1", "not done", "not done", "1/1"),
        ("applying", "2/2", "done", "verified", "2/2"),
        ("applying", "3/1", "needs a look", "conflict", "3/1"),
        ("undoing", "1/1", "put back", "undone", "1/1"),
        ("undoing", "1/2", "put back", "undone", "1/1"),
        ("undoing", "2/2", "done", "verified", "2/2"),
        ("undoing", "2/3", "needs a look", "conflict", "2/3"),
        ("undoing", None, "needs a look", "conflict", None),
    ],
)
def test_every_way_in_which_an_interruption_is_found(journal, begun, found_at, says, stage, left):
    box = parted(KeyboardInterrupt(), cut=0)
    if begun == "undoing":
        box.cut = None
        changed(journal, box, "services:x=2/2")
        box.cut = 0
        with pytest.raises(KeyboardInterrupt):
            put_back(journal, box)
    else:
        with pytest.raises(KeyboardInterrupt):
            changed(journal, box, "services:x=2/2")
    box.values = {"services:x": found_at} if found_at else {}
    (line,) = review(journal, box).lines
    assert line.found == says
    with journal.writing(box.identity):
        recover(journal, box)
    assert (journal.entries()[-1].stage, journal.entries()[-1].taken_over_by) == (stage, 0)
    assert box.values.get("services:x") == left
    assert not review(journal, box).lines


def test_what_was_interrupted_is_settled_before_anything_new_is_written(journal):
    box = parted(KeyboardInterrupt(), cut=1)
    with pytest.raises(KeyboardInterrupt):
        changed(journal, box, "services:x=2/2")
    assert results(changed(journal, box, "services:x=2/2")) == ["done"]
    assert [(e.stage, e.before.value) for e in journal.entries()] == [
        ("not done", "1/1"),
        ("verified", "1/1"),
    ]
    assert results(put_back(journal, box)) == ["done"]
    assert box.values["services:x"] == "1/1"


def test_the_way_back_stands_before_anything_is_written_and_the_plan_ends(tree, journal):
    hand = Outside(tree, gone={"LoadState": "not-found"})
    box = computer_on(hand)
    assert results(changed(journal, box, "services:tide=auto")) == ["done"]
    first = {word: n for n, (word, *_) in reversed(list(enumerate(hand.asked)))}
    assert first["leave script"] < first["link"]
    assert not journal.unfinished_plans(box.identity, box.user_name)
    (outcome,) = changed(journal, box, "services:gone=off")
    assert (outcome.result, outcome.before, "not there any more" in outcome.note) == (
        "failed",
        "?",
        True,
    )


def test_after_a_failure_the_rest_is_not_tried_and_has_the_value_that_is_known(journal):
    box = Plain({"services:b": "auto", "services:new": "auto", "services:held": "auto"})
    known = facts(item("services", "b", value="auto"), item("services", "c", value=None),
    item("services", "held", setting=Fixed(needed="x")),
                  identity=box.identity)  # fmt: skip
    wanted = [
        parse_change(f"services:{k}=off") for k in ("new", "held", "gone", "b", "c", "nobody-knows")
    ]
    told = [(o.result, o.title, o.before) for o in apply_changes(journal, box, known, wanted)]
    assert [t[0] for t in told[:3]] == ["done", "done", "failed"]
    assert told[3:] == [
        ("not tried", "b", "auto"), ("not tried", "c", "unset"), ("not tried",
        "services:nobody-knows", "unset"),
    ]  # fmt: skip
    assert [e.shows for e in journal.entries()] == ["now", "now"]
    assert box.values["services:b"] == "auto"


class Whole(Parted):
    """Settings that are written at once, with an exact form."""

    def _exact(self, word):
        return Once({"": word})


def test_what_is_done_although_it_was_refused(journal):
    box = Whole({"services:x": "1/1"})
    box.failing, box.cut = ComputerError("the made-up write was refused."), 2
    (outcome,) = changed(journal, box, "services:x=2/2")
    assert (outcome.result, outcome.note.startswith("it is done, although")) == ("done", True)
    blunt = Plain({"services:x": "1/1"})

    def refused(ref, value):
        blunt.values[str(ref)] = value
        raise ComputerError("the made-up write was refused.")

    blunt.trouble = refused
    assert results(changed(journal, blunt, "services:x=2/2")) == ["conflict"], (
        "where only the word is known, it is not sure"
    )


def test_what_could_not_be_brought_back_is_not_changed(journal):
    box = parted()
    box.settings.foresee = lambda ref, state: (
        box._never() if state.exact else Parted.foresee(box, ref, state)
    )

    def never():
        raise ComputerError("that made-up state cannot be reached again.")

    box._never = never
    assert results(changed(journal, box, "services:x=2/2")) == ["failed"]
    assert (box.values, journal.entries()) == ({"services:x": "1/1"}, [])


def test_without_a_way_back_on_the_computer_nothing_is_written(tree, journal):
    hand = Outside(tree)
    hand.refuses, box = "leave script", computer_on(hand)
    (outcome,) = changed(journal, box, "services:tide=auto")
    assert (outcome.result, "undo script cannot be left" in outcome.note) == ("failed", True)
    assert (journal.entries()[-1].stage, folder_of(tree), hand.acted()) == ("failed", {}, [])
    hand.refuses = ""
    assert results(changed(journal, box, "services:tide=auto")) == ["done"]


@pytest.mark.parametrize("trouble", [None, KeyboardInterrupt()])
def test_rights_are_given_back_however_a_plan_ends(journal, trouble):
    box = parted(trouble, cut=0 if trouble else None)
    given = []
    box.settings.give_back_rights = lambda: given.append(box.writes)
    with pytest.raises(KeyboardInterrupt) if trouble else contextlib.nullcontext():
        changed(journal, box, "services:x=2/2")
    assert given == [1]


@pytest.mark.parametrize("takes_root", [False, True])
@pytest.mark.parametrize(
    ("found_at", "says"), [("1/1", "not done"), ("2/1", "not done"), ("2/2", "done")]
)
def test_nothing_is_written_as_root_on_the_word_of_a_record_without_a_receipt(
    journal, takes_root, found_at, says
):
    box = parted(KeyboardInterrupt(), cut=0)
    with pytest.raises(KeyboardInterrupt):
        changed(journal, box, "services:x=2/2")
    box.settings.vouched = lambda ref, state: not takes_root
    box.values, box.writes = {"services:x": found_at}, 0
    with journal.writing(box.identity):
        told = recover(journal, box).lines[0].found
    half = found_at == "2/1"
    assert told == ("needs a look" if half and takes_root else says)
    assert box.writes == (0 if takes_root or says == "done" else 1)
    assert box.values["services:x"] == (found_at if takes_root or not half else "1/1")


def test_a_record_without_a_receipt_is_put_back_as_root_once_a_person_has_seen_it(journal):
    box = parted()
    changed(journal, box, "services:x=2/2")
    entry = journal.entries()[-1]
    box.settings.vouched = lambda ref, state: False
    writes = box.writes
    assert results(put_back(journal, box)) == ["failed"]
    assert (box.writes, box.values["services:x"]) == (writes, "2/2")
    assert results(put_back(journal, box, shown=[entry.id])) == ["done"]
    assert box.values["services:x"] == "1/1"


def test_the_way_back_of_what_was_not_done_goes_when_an_interruption_is_settled(tree, journal):
    hand = Outside(tree)
    box = computer_on(hand)

    def cut(path, target):
        raise KeyboardInterrupt

    hand.own_link = cut
    with pytest.raises(KeyboardInterrupt):
        changed(journal, box, "services:tide=auto")
    assert len(list(tree.glob("var/lib/lumtak/put-back-*"))) == 1
    del hand.own_link
    with journal.writing(box.identity):
        assert [line.found for line in recover(journal, box).lines] == ["not done"]
    assert not list(tree.glob("var/lib/lumtak/put-back-*"))


def test_what_reads_back_as_something_else_after_putting_back_is_a_conflict(journal):
    box = Plain({"services:x": "auto"})
    changed(journal, box, "services:x=off")
    box.trouble = lambda ref, value: "manual"
    (outcome,) = put_back(journal, box)
    assert (outcome.result, outcome.note) == ("conflict", "read back as manual instead of auto")
    assert (journal.entries()[-1].stage, journal.entries()[-1].note) == ("conflict", outcome.note)


def test_a_record_is_told_with_all_that_it_would_write(journal):
    changed(journal, parted(), "services:x=2/2")
    first, *rest = recorded(journal.entries()[-1])
    assert first.startswith("services:x: 2/2 → 1/1, recorded ")
    assert rest == ["  kind: parts", "  held a: 1", "  held b: 1", "  beside: nothing"]


@pytest.mark.parametrize("rescued", [True, False])
def test_what_a_rescued_record_would_have_a_person_type_is_not_passed_on(journal, rescued):
    box = parted()
    changed(journal, box, "services:x=2/2")
    journal._put(journal.entries()[-1], rescued=rescued)

    def refused(ref, state, *, believed):
        raise ComputerError("that made-up write was refused.", "Type this.")

    box.write = refused
    (outcome,) = put_back(journal, box)
    assert outcome.result == "failed"
    assert ("Type this." in outcome.note) is not rescued


def test_what_is_put_back_off_takes_along_what_needs_it(journal):
    box = Plain({"services:spool": "off"})
    changed(journal, box, "services:spool=auto")
    known = facts(
        item("services", "spool"),
        item("services", "chat", needs=("spool",)),
        item("services", "rests", value="off", needs=("spool",)),
    )
    assert warnings(known, journal.entries(), [1]) == ("chat will stop when spool stops.",)
