"""Every kind of exact state.

Its place in JSON, and what its part of an undo script does, line by line.
"""

import msgspec
import pytest

from lumtak.computers.hands.sent.script.shell import ScriptPart, at, choice
from lumtak.computers.hands.sent.states.states import (
    STATE_KINDS,
    Absent,
    ChannelKey,
    ClockPolicies,
    DesktopKey,
    File,
    KeptFile,
    KernelValue,
    Link,
    Permission,
    Profile,
    RootAside,
    SwapAreas,
    UnitLinks,
    UserAside,
    WatchFiles,
    WirelessFile,
    state_of,
)
from lumtak.computers.hands.sent.table import (
    WIRELESS_FILE,
    power_unit_text,
    sysctl_text,
    upkeep_file,
    upkeep_text,
    wireless_text,
)
from lumtak.computers.recorded import in_words

UNITS = "/etc/systemd/system"
WANTS = f"{UNITS}/multi-user.target.wants/a.service"
UNIT = "/usr/lib/systemd/system/a.service"
POWER, SWITCH = (
    f"{UNITS}/lumtak-power.service",
    f"{UNITS}/multi-user.target.wants/lumtak-power.service",
)
KEPT = "/etc/sysctl.d/90-lumtak-swappiness.conf"
OWN, OWN_SWITCH = (
    f"{UNITS}/var-lib-lumtak-swap_5.swap",
    f"{UNITS}/swap.target.wants/var-lib-lumtak-swap_5.swap",
)
FREQ = "/sys/devices/system/cpu/cpufreq"
KEY = ("org.mate.interface", "enable-animations", "/org/mate/desktop/interface/enable-animations")
PROPERTY = ("xfwm4", "/general/show_frame_shadow", "b")
IN_SHELL = f"'/f/xfwm4.xml' 'xfwm4' '{PROPERTY[1]}' 'show_frame_shadow' 'b'"
SHA = "0123456789abcdef" * 4
WATCHED = [
    at(folder, name).decode()
    for folder, name in (
        ("/u", "lumtak-watch.service"),
        ("/u", "lumtak-watch.timer"),
        ("/d", "watch.py"),
        ("/u/timers.target.wants", "lumtak-watch.timer"),
        ("/d", "found.json"),
    )
]
"""How a script looks at each place of a watch."""
CASES = {
    "aside": (
        ("storage", "thumbnails"), UserAside("/d/lumtak-aside", "", False),
        [UserAside("/d/lumtak-aside", SHA, False)],
        [[f"! aside_is '/d/lumtak-aside' '{SHA}'"], [f"aside_is '/d/lumtak-aside' '{SHA}'"]],
        [f"aside_back '/d/lumtak-aside' '{SHA}'"], "aside_tidy \"$root\"'/d/lumtak-aside'",
        ["kind: aside", "folder: /d/lumtak-aside", "sha256: nothing", "half: False"],
    ),
    "aside of root": (
        ("storage", "old-logs"), RootAside("/var/lib/lumtak", "", False),
        [RootAside("/var/lib/lumtak", SHA, False)],
        [[f"! aside_is '/var/lib/lumtak' '{SHA}'"], [f"aside_is '/var/lib/lumtak' '{SHA}'"]],
        [f"aside_back '/var/lib/lumtak' '{SHA}'"], "aside_tidy \"$root\"'/var/lib/lumtak'",
        ["kind: aside of root", "folder: /var/lib/lumtak", "sha256: nothing", "half: False"],
    ),
    "kept file": (
        ("storage", "journal_mib"), KeptFile(upkeep_file("journal_mib"), None),
        [KeptFile(upkeep_file("journal_mib"), upkeep_text("journal_mib", "200"))],
        [["not_kept '/etc/systemd/journald.conf.d/90-lumtak.conf'"],
         ["{ print_1_1 | kept_as '/etc/systemd/journald.conf.d/90-lumtak.conf'; }"]],
        ["drop '/etc/systemd/journald.conf.d/90-lumtak.conf'"], "",
        ["kind: kept file", "file: /etc/systemd/journald.conf.d/90-lumtak.conf", "kept: nothing"],
    ),
    "watch": (
        ("upkeep", "watch"), WatchFiles("/u", "/d", (1, 2), None, None, None, None),
        [WatchFiles("/u", "/d", (0, 0), b"s", b"t", "../lumtak-watch.timer", b"p")],
        [[f"{{ {place}; absent; }}" for place in WATCHED[:4]],
         [f"{{ {WATCHED[0]}; print_1_1 | holds 0644; }}",
          f"{{ {WATCHED[1]}; print_1_2 | holds 0644; }}",
          f"{{ {WATCHED[2]}; print_1_3 | holds 0600; }}",
          f"{{ {WATCHED[3]}; points_to '../lumtak-watch.timer'; }}"]],
        [*(f'{{ {place}; rm -f "$file"; }}' for place in (WATCHED[3], *WATCHED[:3])),
         "user_units"], f'{{ {WATCHED[4]}; rm -f "$file"; shed 2; {WATCHED[3]}; shed 1; }}',
        ["kind: watch", "units: /u", "data: /d", "missing: 1, 2", "service: nothing",
         "timer: nothing", "link: nothing", "program: nothing"],
    ),
    "absent": (
        ("apps", "x"), Absent("/f", "n", 2), [File("/f", "n", 0, 0o644, b"a")],
        [["absent"], ["{ print_1_1 | holds 0644; }"]], ['rm -f "$file"'],
        '{ rm -f "$kept"; shed 2; }',
        ["kind: absent", "folder: /f", "name: n", "missing: 2"],
    ),
    "file": (
        ("effects", "x"), File("/f", "n", 2, 0o600, b"a\n"), [Link("/f", "n", 0, "b")],
        [["{ print_1_1 | holds 0600; }"], ["points_to 'b'"]], ["print_1_1 | replace 0600"],
        "kept_goes",
        ["kind: file", "folder: /f", "name: n", "missing: 2", "mode: 600", "data: a\n"],
    ),
    "link": (
        ("apps", "x"), Link("/f", "n", 0, "it's"), [Absent("/f", "n", 0)],
        [["points_to 'it'\\''s'"], ["absent"]], ["relink 'it'\\''s'"], "kept_goes",
        ["kind: link", "folder: /f", "name: n", "missing: 0", "target: it's"],
    ),
    "gsettings": (
        ("effects", "animations"), DesktopKey(*KEY, ""), [DesktopKey(*KEY, "false")],
        [[f"desktop_is '{KEY[2]}' ''"], [f"desktop_is '{KEY[2]}' 'false'"]],
        [f"gsettings reset '{KEY[0]}' '{KEY[1]}'"], "",
        ["kind: gsettings", f"schema: {KEY[0]}", f"key: {KEY[1]}", f"path: {KEY[2]}",
        "raw: nothing"],
    ),
    "channel": (
        ("effects", "shadows"), ChannelKey(*PROPERTY, "", "/f", 0, 0o600, None),
        [ChannelKey(*PROPERTY, "false", "/f", 0, 0o600, b"x")],
        [[f"channel_is {IN_SHELL} ''"], [f"channel_is {IN_SHELL} 'false'"]],
        [f"channel {IN_SHELL} ''"], "",
        ["kind: channel", "channel: xfwm4", f"name: {PROPERTY[1]}", "letter: b", "raw: nothing",
        "folder: /f", "missing: 0", "mode: 600", "data: nothing"],
    ),
    "sandbox": (
        ("apps", "sandbox/a"), Permission("a", "yes"), [Permission("a", "no")],
        [["may_run_is 'a' 'yes'"], ["may_run_is 'a' 'no'"]], ["may_run 'a' 'yes'"], "",
        ["kind: sandbox", "app: a", "raw: yes"],
    ),
    "links": (
        ("services", "a"), UnitLinks("a.service", {WANTS: UNIT}, True), [UnitLinks("a.service",
        {f"{UNITS}/a.service": "/dev/null"}, False)],
        [
            [f"link_gone '{UNITS}/a.service'", f"link_is '{WANTS}' '{UNIT}'"],
            [f"link_is '{UNITS}/a.service' '/dev/null'", f"link_gone '{WANTS}'"],
        ],
        [f"drop '{UNITS}/a.service'", f"put_link '{WANTS}' '{UNIT}'", "units daemon-reload",
        "units start -- 'a.service'"], "",
        ["kind: links", "unit: a.service", f"links {WANTS}: {UNIT}", "active: True"],
    ),
    "sysctl": (
        ("memory", "swappiness"), KernelValue("swappiness", "60", None), [KernelValue("swappiness",
        "10", sysctl_text("swappiness", "10"))],
        [
            ["kernel_is '/proc/sys/vm/swappiness' '60'", f"not_kept '{KEPT}'"],
            ["kernel_is '/proc/sys/vm/swappiness' '10'", f"{{ print_1_1 | kept_as '{KEPT}'; }}"],
        ],
        [f"drop '{KEPT}'", "kernel '/proc/sys/vm/swappiness' '60'"], "",
        ["kind: sysctl", "name: swappiness", "live: 60", "kept: nothing"],
    ),
    "wireless": (
        ("power", "wireless_saving"), WirelessFile(None), [WirelessFile(wireless_text("off"))],
        [[f"not_kept '{WIRELESS_FILE}'"], [f"{{ print_1_1 | kept_as '{WIRELESS_FILE}'; }}"]],
        [f"drop '{WIRELESS_FILE}'"], "", ["kind: wireless", "kept: nothing"],
    ),
    "clock": (
        ("power", "mains"), ClockPolicies({"policy0": "powersave/power"},
        power_unit_text("powersave", ""), POWER),
        [ClockPolicies({"policy1": "performance/"}, None, None)],
        [
            [f"clock_is '{FREQ}/policy0' 'powersave' 'power'", "true",
            f"{{ print_1_1 | kept_as '{POWER}'; }}", f"link_is '{SWITCH}' '{POWER}'"],
            ["true", f"clock_is '{FREQ}/policy1' 'performance' ''", f"not_kept '{POWER}'",
            f"link_gone '{SWITCH}'"],
        ],
        [f"put_link '{SWITCH}' '{POWER}'", f"print_1_1 | keep_as '{POWER}'", "units daemon-reload",
        f"clock '{FREQ}/policy0' 'powersave' 'power'"], "",
        ["kind: clock", "policies policy0: powersave/power",
        f"kept: {power_unit_text('powersave', '').decode()}", f"link: {POWER}"],
    ),
    "property": (
        ("power", "mains"), Profile("net.hadess.PowerProfiles", "balanced"),
        [Profile("net.hadess.PowerProfiles", "power-saver")],
        [[f"plan_is 'net.hadess.PowerProfiles' '/net/hadess/PowerProfiles' '{p}'"]
        for p in ("balanced", "power-saver")],
        ["plan 'net.hadess.PowerProfiles' '/net/hadess/PowerProfiles' 'balanced'"], "",
        ["kind: property", "bus: net.hadess.PowerProfiles", "plan: balanced"],
    ),
    "swap": (
        ("memory", "swap_mib"), SwapAreas((), (), (), ("a.swap",)), [SwapAreas((5,), (5,),
        ("a.swap",), ())],
        [
            [f"not_kept '{OWN}'", f"link_gone '{OWN_SWITCH}'", "swap_gone '/var/lib/lumtak/swap_5'",
            "swap_not '/var/lib/lumtak/swap_5'",
             f"link_gone '{UNITS}/a.swap'", "unit_up 'a.swap'"],
            [f"{{ print_1_1 | kept_as '{OWN}'; }}", f"link_is '{OWN_SWITCH}' '{OWN}'",
            "swap_made '/var/lib/lumtak/swap_5'", "swap_is '/var/lib/lumtak/swap_5'",
             f"link_is '{UNITS}/a.swap' '/dev/null'", "unit_down 'a.swap'"],
        ],
        [
            f"drop '{UNITS}/a.swap'", "units daemon-reload", "units start -- 'a.swap'",
            ("room_for '/var/lib/lumtak/swap_5'"
            " && swap_off '/var/lib/lumtak/swap_5' 'var-lib-lumtak-swap_5.swap'"),
            f"drop_switch '{OWN_SWITCH}' && drop '{OWN}' && drop_swap '/var/lib/lumtak/swap_5'",
            "units daemon-reload",
        ], "",
        ["kind: swap", "kept: nothing", "on: nothing", "masked: nothing", "used: a.swap"],
    ),
}  # fmt: skip
"""(setting, state, what it is told apart from, tests of each, what brings it, what tidies, in
words)."""
OF_ROOT = {"aside of root", "kept file", "wireless", "links", "sysctl", "clock", "property", "swap"}


@pytest.mark.parametrize("kind", CASES)
def test_each_kind_says_what_its_script_does(kind):
    (area, key), state, others, tests, bring, tidy, words = CASES[kind]
    assert (state.kind, state.problem(area, key), state.root) == (kind, "", kind in OF_ROOT)
    part = ScriptPart("1", [state, *others])
    assert [[t.decode() for t in s.tests(part)] for s in (state, *others)] == tests
    assert [b.decode() for b in state.bring(part)] == bring
    assert state.tidy().decode() == tidy
    assert in_words(state) == words
    assert state_of(msgspec.to_builtins(state)) == state
    assert all(state.alike(other) for other in others)
    assert "is no kind of state that" in state.problem("nowhere", key)
    assert not any(
        state.alike(CASES[k][1])
        for k in CASES
        if k != kind and {k, kind} - {"absent", "file", "link"}
    )


def test_where_a_file_stands_goes_along():
    assert File("/f", "n", 2, 0o600, b"a") == File("/g", "m", 0, 0o600, b"a")
    assert UnitLinks("a.service", {}, True) == UnitLinks("a.service", {}, None)


@pytest.mark.parametrize(
    ("area", "key", "state"),
    [
        *(("apps", "sandbox/a", Permission("a", raw)) for raw in ("", "yes", "no", "ask")),
        ("memory", "swap_mib", SwapAreas((1,), (9_999_999,), (), ())),
        ("apps", "x", Absent("/f", "n", 999)),
        ("apps", "x", File("/f", "n", 0, 0, b"")),
        ("apps", "x", File("/f", "n", 0, 0o7777, b"")),
        ("effects", "animations", DesktopKey(*KEY, "'" + "x" * ((1 << 16) - 1))),
        ("services", "log.timer", UnitLinks("log.timer", {}, None)),
        ("power", "mains", ClockPolicies({"policy10": "a_0/"}, None, None)),
    ],
)
def test_what_is_just_possible(area, key, state):
    assert state.problem(area, key) == ""


def test_every_kind_is_in_the_table_above():
    assert {
        k for k in STATE_KINDS if STATE_KINDS[k].__module__.startswith("lumtak.computers.hands")
    } == {
        *CASES,
        "unknown",
    }


def test_more_swap_masked_swap_and_what_is_both():
    more = SwapAreas((5,), (5,), ("b.swap",), ("a.swap", "b.swap"))
    part = ScriptPart("1", [more, SwapAreas((), (), (), ("c.swap",))])
    assert [b.decode() for b in more.bring(part)] == [
        f"drop '{UNITS}/a.swap'", f"drop '{UNITS}/b.swap'", f"drop '{UNITS}/c.swap'",
        "make_swap 5 '/var/lib/lumtak/swap_5'",
        f"print_1_1 | keep_as '{OWN}'", f"put_link '{OWN_SWITCH}' '{OWN}'", "units daemon-reload",
        "units start -- 'var-lib-lumtak-swap_5.swap'", "units start -- 'a.swap'",
        "units start -- 'b.swap'",
        f"put_link '{UNITS}/b.swap' '/dev/null'", "units stop -- 'c.swap'", "units daemon-reload",
    ]  # fmt: skip
    masked = SwapAreas((), (), ("a.swap",), ())
    acts = [
        b.decode()
        for b in masked.bring(ScriptPart("1", [masked, SwapAreas((), (), (), ("a.swap",))]))
    ]
    assert acts[:1] == ["units daemon-reload"], "what is to stay masked is not unmasked"


def test_swap_of_lumtaks_own_is_what_is_kept_and_what_is_on():
    swap = SwapAreas((5,), (6,), ("a.swap",), ("b.swap",))
    assert (swap.own, swap.old) == ([5, 6], ["a.swap", "b.swap"])


def test_what_an_interrupted_write_left_goes_before_anything_is_tested():
    switch, mask = (
        UnitLinks("a.service", {WANTS: UNIT}, None),
        UnitLinks("a.service", {f"{UNITS}/a.service": "/dev/null"}, None),
    )
    text = choice("1", switch, [mask]).decode()
    lines = text.splitlines()
    assert [line.partition(" ")[0] for line in lines[:2]] == ["drop", "drop_switch"]
    assert [".lumtak-" in line for line in lines[:2]] == [True, True]
    assert "units st" not in text, "whether it ran is not known, so it is left as it is"
    for state, count in ((KernelValue("swappiness", "60", None), 1), (ClockPolicies({}, None, None),
    2), (SwapAreas((5,), (), ("a.swap",), ()), 3),
                         (Profile("net.hadess.PowerProfiles", "balanced"), 0)):  # fmt: skip
        assert len(state.preface(ScriptPart("1", [state]))) == count


def test_a_part_goes_back_from_any_mixture_of_what_is_known_and_from_nothing_else():
    text = choice("7", CASES["sysctl"][1], CASES["sysctl"][2]).decode()
    assert (
        "elif { kernel_is '/proc/sys/vm/swappiness' '60' || kernel_is '/proc/sys/vm/swappiness'"
        f" '10'; }} && {{ not_kept '{KEPT}' || {{ print_7_1" in text
    )
    assert "elif" not in choice("1", CASES["sysctl"][1], []).decode()


@pytest.mark.parametrize(
    ("kind", "typed"),
    [
        ("links", f"sudo ln -sfT '{UNIT}' '{WANTS}'; sudo systemctl daemon-reload"),
        ("sysctl", "sudo sysctl 'vm.swappiness=60'"),
        ("property", ("sudo busctl --system set-property 'net.hadess.PowerProfiles' "
                     "'/net/hadess/PowerProfiles' 'net.hadess.PowerProfiles' "
                     "ActiveProfile s 'balanced'")),
        ("swap", ""), ("clock", ""), ("file", ""),
    ],
)  # fmt: skip
def test_what_a_person_can_type(kind, typed):
    assert CASES[kind][1].by_hand() == typed
    kept = KernelValue("swappiness", "10", b"x\n")
    assert kept.by_hand() == f"printf %s 'x\n' | sudo tee '{KEPT}'; sudo sysctl 'vm.swappiness=10'"
    assert UnitLinks("a.service", {}, None).by_hand() == ""
