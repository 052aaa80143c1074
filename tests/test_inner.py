"""On a real systemd in namespaces: names, values, refusals and faults that need no restart and no kernel of their own."""

import json
import os
import re
from pathlib import Path

import pytest

from lab.booted import STRANGER, USER, Lab
from lab.inner import Inner, why_not

WHY = why_not()
pytestmark = [
    pytest.mark.lab,
    pytest.mark.timeout(300),
    pytest.mark.skipif(bool(WHY) and not os.environ.get("CI"), reason=WHY or "systemd can run in namespaces"),
]
STATE = r"""
import os, json, subprocess
found = {}
for top in ("/etc", "/home", "/usr/lib/systemd", "/var/lib/lumtak"):
    for folder, folders, files in os.walk(top):
        folders[:] = [f for f in folders if f != "lumtak"]
        for name in (*folders, *files):
            path = os.path.join(folder, name)
            about = os.lstat(path)
            what = os.readlink(path) if os.path.islink(path) else open(path, "rb").read().hex() if os.path.isfile(path) else ""
            found[path] = [oct(about.st_mode), about.st_uid, what]
found["units"] = subprocess.run(["systemctl", "list-units", "--plain", "--no-legend", "--type=service,timer", "--state=active", "tide*", "chart*", "sail*", "odd*", "etc*"],
                                capture_output=True, text=True).stdout.split("\n")
found["units"] = sorted(line.split()[0] for line in found["units"] if line and "tide-poll.service" not in line)
print(json.dumps(found))
"""


@pytest.fixture(scope="module")
def inner(tmp_path_factory):
    lab = Lab(Path(os.environ.get("LUMTAK_LAB", Path.home() / ".cache/lumtak-lab")))
    lab.build()
    made = Inner(lab.tree, tmp_path_factory.mktemp("inner"))
    made.boot()
    yield made
    made.off()


def lumtak(inner, *words, user="root", check=True):
    said = inner.run(user, "lumtak", *words, check=check)
    assert "Traceback" not in said, said
    return said


def state(inner):
    return json.loads(inner.run("root", "python3", "-", stdin=STATE))


@pytest.mark.parametrize(
    ("service", "values"),
    [
        ("chart-tiles", ["manual", "off", "auto"]),
        ("sail-print", ["demand", "off"]),
        ("tide-poll.timer", ["manual"]),
        (r"odd\x20name", ["auto", "off"]),
        ("etc-own", ["manual", "auto"]),
        ("polkit", ["off"]),
    ],
)
def test_any_values_and_back_to_the_last_link(inner, service, values):
    before = state(inner)
    for value in values:
        refused = lumtak(inner, "apply", "local", f"services:{service}={value}", check=False)
        if service == "polkit" or (service.startswith("odd") and value == "auto"):
            assert "read back" not in refused
            continue
        assert "read back" in refused
        enabled = inner.run(
            "root", "systemctl", "is-enabled", "--", service if "." in service else f"{service}.service", check=False
        )
        assert enabled.strip() == {"auto": "enabled", "off": "masked"}.get(value, "disabled"), refused
        assert lumtak(inner, "explain", "local", f"services:{service}")
    lumtak(inner, "undo", "local", "--all", check=False)
    assert state(inner) == before


def test_which_values_are_offered(inner):
    assert re.search(r"services:sail-print=auto\|demand\|off", lumtak(inner, "explain", "local", "services:sail-print"))
    own = lumtak(inner, "explain", "local", "services:etc-own")
    assert "off" not in re.search(r"services:etc-own=(\S+)", own)[1], "what stands in /etc cannot be masked"
    assert "An odd name" in lumtak(inner, "explain", "local", r"services:odd\x20name")
    assert "guarded" in lumtak(inner, "apply", "local", "services:dbus=off", check=False)


def test_whoever_may_not_is_told_so(inner):
    audit = lumtak(inner, "audit", "local", "--profile", "writing-and-web", "--seconds", "3", user=STRANGER)
    assert "services:chart-tiles" in audit
    refused = lumtak(inner, "apply", "local", "services:chart-tiles=manual", user=STRANGER, check=False)
    assert "takes root" in refused


def test_units_that_come_and_go_while_they_are_read(inner):
    churn = "for i in $(seq 400); do systemd-run -q --unit=churn-$i /bin/true; done >/dev/null 2>&1 &"
    inner.run("root", "sh", "-c", churn)
    for _ in range(3):
        found = json.loads(lumtak(inner, "facts", "local", "--json"))
        assert "chart-tiles" in {i["key"] for i in found["items"]}


def test_a_root_that_cannot_be_written_refuses_and_changes_nothing(inner):
    before = state(inner)
    inner.run("root", "sh", "-c", "mount --bind /etc /etc && mount -o remount,bind,ro /etc")
    try:
        refused = lumtak(inner, "apply", "local", "services:chart-tiles=manual", check=False)
        assert "Read-only file system" in refused
    finally:
        inner.run("root", "umount", "--lazy", "/etc")
    lumtak(inner, "undo", "local", "--all", check=False)
    assert state(inner) == before


def test_without_a_bus_what_can_be_known_is_known(inner):
    inner.run("root", "systemctl", "stop", "dbus.socket", "dbus.service")
    try:
        audit = lumtak(inner, "audit", "local", "--profile", "writing-and-web", "--seconds", "2", user=USER)
        assert "apps:sail-copy" in audit
        plan = lumtak(inner, "apply", "local", "power:mains=saving", check=False)
        assert "read back" not in plan
    finally:
        inner.run("root", "systemctl", "start", "dbus.socket", "dbus.service")
