"""On a real systemd in namespaces.

Names, values, refusals and faults that need no restart and no kernel of their own.
"""

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
    pytest.mark.skipif(
        bool(WHY) and not os.environ.get("CI"), reason=WHY or "systemd can run in namespaces"
    ),
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
            what = open(path, "rb").read().hex() if os.path.isfile(path) else ""
            what = os.readlink(path) if os.path.islink(path) else what
            found[path] = [oct(about.st_mode), about.st_uid, what]
found["units"] = subprocess.run(["systemctl", "list-units", "--plain", "--no-legend",
    "--type=service,timer", "--state=active", "tide*", "chart*", "sail*", "odd*", "etc*"],
                                capture_output=True, text=True).stdout.split("\n")
lines = [line for line in found["units"] if line and "tide-poll.service" not in line]
found["units"] = sorted(line.split()[0] for line in lines)
print(json.dumps(found))
"""


ASKED = r"""
import os, pty, select, sys, time
secret, *words = sys.argv[1:]
child, terminal = pty.fork()
if child == 0:
    os.execvp(words[0], words)
said, answered, end = b"", 0, time.monotonic() + 60
while time.monotonic() < end:
    if not select.select([terminal], [], [], 1.0)[0]:
        continue
    try:
        data = os.read(terminal, 65536)
    except OSError:
        break
    if not data:
        break
    said += data
    if said.count(b"Password of") > answered:
        answered += 1
        os.write(terminal, secret.encode() + b"\n")
print(said.decode(errors="replace"))
print("asked", answered, "exit", os.waitstatus_to_exitcode(os.waitpid(child, 0)[1]))
"""
"""Runs a command on a terminal of its own, and types a secret wherever a password is asked for."""


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
            "root",
            "systemctl",
            "is-enabled",
            "--",
            service if "." in service else f"{service}.service",
            check=False,
        )
        assert enabled.strip() == {"auto": "enabled", "off": "masked"}.get(value, "disabled"), (
            refused
        )
        assert lumtak(inner, "explain", "local", f"services:{service}")
    lumtak(inner, "undo", "local", "--all", check=False)
    assert state(inner) == before


def test_which_values_are_offered(inner):
    assert re.search(
        r"services:sail-print=auto\|demand\|off",
        lumtak(inner, "explain", "local", "services:sail-print"),
    )
    own = lumtak(inner, "explain", "local", "services:etc-own")
    assert "off" not in re.search(r"services:etc-own=(\S+)", own)[1], (
        "what stands in /etc cannot be masked"
    )
    assert "An odd name" in lumtak(inner, "explain", "local", r"services:odd\x20name")
    assert "guarded" in lumtak(inner, "apply", "local", "services:dbus=off", check=False)


def test_whoever_may_not_is_told_so(inner):
    audit = lumtak(
        inner, "audit", "local", "--profile", "writing-and-web", "--seconds", "3", user=STRANGER
    )
    assert "services:chart-tiles" in audit
    refused = lumtak(
        inner, "apply", "local", "services:chart-tiles=manual", user=STRANGER, check=False
    )
    assert "takes root" in refused


def test_units_that_come_and_go_while_they_are_read(inner):
    churn = (
        "for i in $(seq 400); do systemd-run -q --unit=churn-$i /bin/true; done >/dev/null 2>&1 &"
    )
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
        audit = lumtak(
            inner, "audit", "local", "--profile", "writing-and-web", "--seconds", "2", user=USER
        )
        assert "apps:sail-copy" in audit
        plan = lumtak(inner, "apply", "local", "power:mains=saving", check=False)
        assert "read back" not in plan
    finally:
        inner.run("root", "systemctl", "start", "dbus.socket", "dbus.service")


@pytest.mark.parametrize(
    ("secret", "rule", "asked", "code"),
    [
        ("tide-gauge", "ALL", 1, 0),
        ("wrong", "ALL", 3, 1),
        ("tide-gauge", "", 1, 1),
        ("", "NOPASSWD: ALL", 0, 0),
    ],
)
def test_sudo_is_asked_once_a_plan_and_keeps_no_ticket(inner, secret, rule, asked, code):
    """Two changes that take root, with `timestamp_timeout=0`.

    One question where the hand is started, and none after it.
    """
    inner.run("root", "sh", "-c", f"echo {STRANGER}:tide-gauge | chpasswd")
    lines = f"Defaults:{STRANGER} timestamp_timeout=0\n" + (
        f"{STRANGER} ALL=(ALL) {rule}\n" if rule else ""
    )
    inner.run("root", "sh", "-c", "cat >/etc/sudoers.d/stranger", stdin=lines)
    before = state(inner)
    changes = ("services:chart-tiles=manual", "services:etc-own=manual")
    said = inner.run(
        STRANGER,
        "python3",
        "-c",
        ASKED,
        secret,
        "lumtak",
        "apply",
        "local",
        *changes,
        timeout_s=120,
    )
    assert f"asked {asked} exit {code}" in said, said
    assert said.count("read back") == (2 if code == 0 else 0)
    assert "Traceback" not in said
    assert "hand" not in inner.run("root", "ps", "-eo", "args").replace("lumtak-lab", ""), (
        "it ends with the plan"
    )
    back = inner.run(
        STRANGER, "python3", "-c", ASKED, secret, "lumtak", "undo", "local", "--all", timeout_s=120
    )
    assert f"asked {asked if code == 0 else 0} exit 0" in back, back
    assert state(inner) == before


def test_nobody_else_of_the_user_looks_into_lumtak_while_root_listens(inner):
    program = (
        "import os\nfrom lumtak.computers.hands.whose import chosen_user, local_hands\n"
        "hands = local_hands(chosen_user(None, {}))\nhands.take(ask=False)\n"
        "other = os.fork()\n"
        "if other == 0:\n"
        "    try: open(f'/proc/{os.getppid()}/mem'); print('looked', flush=True)\n"
        "    except PermissionError: print('refused', flush=True)\n"
        "    os._exit(0)\n"
        "os.wait(); print(hands.root().about()['uid']); hands.give_back()\n"
    )
    said = inner.run(USER, "env", "PYTHONPATH=/opt/lumtak", "python3", "-c", program)
    assert said.split() == ["refused", "0"]


PLANTED = r"""
set -eu
cd ~
mkdir -p .config/autostart .config/systemd/user/default.target.wants .config/dconf
mkdir -p .local/share/dbus-1/services .local/share/lumtak-undo
printf '#!/bin/sh\nid >>/tmp/ran-by-a-trap; (: </dev/tty) 2>/dev/null' >trap.sh
printf ' && echo terminal >>/tmp/ran-by-a-trap; exec sleep 5\n' >>trap.sh
chmod +x trap.sh
portal=org.freedesktop
for name in ca.desrt.dconf $portal.impl.portal.PermissionStore $portal.portal.Desktop \
    org.gtk.vfs.Daemon
do
    printf '[D-BUS Service]\nName=%s\nExec=%s/trap.sh\n' $name "$HOME" \
        >.local/share/dbus-1/services/$name.service
done
printf '[Desktop Entry]\nName=Tides\nExec=/usr/bin/true\nTryExec=/root/canary\n' \
    >.config/autostart/tides.desktop
printf '[Desktop Entry]\nName=Masts\nExec=/usr/bin/true\n' >.config/autostart/masts.desktop
ln -s /root/canary .config/autostart/leak.desktop
ln -s /dev/watchdog .config/autostart/device.desktop
mkfifo .config/autostart/pipe.desktop
ln -s /root/canary .config/systemd/user/leak.service
ln -s /root/canary .config/systemd/user/default.target.wants/leak.service
ln -s /root .config/systemd/user/all.target.wants
ln -s /etc/cron.d .local/share/lumtak-undo/here
ln -s /etc .local/share/lumtak
"""


GONE = (
    f"loginctl terminate-user {STRANGER}; while [ -e /run/user/$(id -u {STRANGER}) ]; do sleep 0.1;"
    " done"
)
"""Logged out for good: the manager of a user's own units stays for a while after the last session,
and with it the user's own bus."""


def test_what_an_owner_plants_gives_root_away_to_nobody(inner):
    """Facts, audit, apply, undo, report and jobs as `sudo lumtak` for a user who is not logged in,
    and is hostile.
    """
    inner.run(
        "root",
        "sh",
        "-c",
        "echo 'Name=a secret of root' >/root/canary && chmod 600 /root/canary; rm -f"
        " /tmp/ran-by-a-trap",
    )
    inner.run(STRANGER, "sh", "-c", PLANTED)
    inner.run("root", "sh", "-c", GONE)
    theirs = (
        "find /home/mate ! -user mate; find / -xdev -newer /root/canary -user mate ! -path"
        " '/home/*' ! -path '/proc/*' ! -path '/tmp/ran*'"
    )
    system = state(inner)
    home = ("env", f"SUDO_USER={STRANGER}", "lumtak", "--home", "/root/trial")
    told = ""
    for words in (
        ("facts", "local", "--json"),
        ("audit", "local", "--profile", "writing-and-web", "--seconds", "1", "--json"),
        (
            "apply",
            "local",
            "apps:masts=off",
            "effects:cursor-blinking=off",
            "services:chart-tiles=manual",
        ),
        ("explain", "local", "apps:leak"),
        ("explain", "local", "apps:user/leak.service"),
        ("apply", "local", "apps:leak=off"),
        ("job", "start", "local", "--profile", "writing-and-web"),
        ("jobs", "--json"),
        ("drift", "local"),
        ("undo", "local", "--all"),
    ):
        told += inner.run("root", *home, *words, check=False)
    job = inner.run("root", *home, "jobs").split()[0]
    told += inner.run("root", *home, "report", job, "--out", "/root/trial/report", check=False)
    assert told.count("read back") == 6, told
    assert "a secret of root" not in told
    assert "Traceback" not in told
    assert (
        inner.run("root", "grep", "-rl", "a secret of root", "/home", "/root/trial", check=False)
        == ""
    )
    assert (
        inner.run("root", "sh", "-c", "cat /tmp/ran-by-a-trap 2>/dev/null || echo none").strip()
        == "none"
    )
    assert inner.run("root", "sh", "-c", theirs).strip() == ""
    assert "Start Lumtak as yourself" in inner.run(
        "root", "env", "HOME=/home/mate", "lumtak", "jobs", check=False
    )
    after = state(inner)
    after.pop(
        "/home/mate/.config/dconf/user", None
    )  # of the desktop's own store, which never takes its file away
    assert after == system


PLANT = r"""
import os, sys
os.makedirs("/var/lib/systemd/coredump", exist_ok=True)
old = 1_500_000_000
for folder, names in (("/var/log", ("syslog.2.gz", "apt-odd name\n.3")),
                      ("/var/tmp", ("job-of-root",)),
                      ("/var/lib/systemd/coredump", ("core.tide.zst",))):
    for name in names:
        path = os.path.join(folder, name)
        with open(path, "wb") as file:
            file.write(b"x" * 9000)
        os.utime(path, (old, old))
for name, data in (("/var/log/syslog", b"now"), ("/var/tmp/theirs", b"theirs"),
                   ("/var/tmp/young", b"")):
    open(name, "wb").write(data)
os.utime("/var/tmp/theirs", (old, old))
os.chown("/var/tmp/theirs", 4242, 4242)
"""
HELD = r"""
import json, os
found = {}
for top in ("/var/log", "/var/tmp", "/var/lib/systemd/coredump", "/var/lib/lumtak"):
    for folder, folders, files in os.walk(top):
        for path in [folder, *(os.path.join(folder, n) for n in files)]:
            about = os.lstat(path)
            data = open(path, "rb").read().hex() if os.path.isfile(path) else ""
            skip = folder.startswith("/var/log/journal") or folder.startswith("/var/tmp/systemd")
            if not skip and "lumtak-" not in path:
                found[path] = [oct(about.st_mode), about.st_uid, about.st_mtime_ns, data[:200]]
print(json.dumps(found))
"""
CLASSES = ("old-logs", "crash-dumps", "temp-system")


@pytest.mark.parametrize("by", ["lumtak", "script"])
def test_what_is_the_system_s_is_set_aside_by_root_and_comes_back(inner, by):
    def held():
        return json.loads(inner.run("root", "python3", "-", stdin=HELD))

    inner.run("root", "python3", "-", stdin=PLANT)
    before = held()
    said = lumtak(inner, "set-aside", "local", *CLASSES, user=USER)
    assert said.count("read back") == 3, said
    now = held()
    gone = {path for path in before if path not in now}
    assert {os.path.basename(p) for p in gone} == {
        "syslog.2.gz", "apt-odd name\n.3", "job-of-root", "core.tide.zst",
    }  # fmt: skip
    assert (now["/var/lib/lumtak/aside"][0], now["/var/lib/lumtak/aside"][1]) == ("0o40700", 0)
    assert now["/var/tmp/theirs"] == before["/var/tmp/theirs"]
    listed = json.loads(lumtak(inner, "storage", "local", "--json", user=USER))
    assert {h["address"] for h in listed["held"]} == {f"storage:{name}" for name in CLASSES}
    if by == "lumtak":
        lumtak(inner, "undo", "local", "--all", user=USER)
    else:
        (script,) = [p for p in now if p.startswith("/var/lib/lumtak/put-back-")]
        assert "3 as before, 0 left alone, 0 failed" in inner.run("root", "sh", script)
        lumtak(inner, "undo", "local", "--all", user=USER)
    back = held()
    for path in before:
        assert back[path] == before[path], path
    assert not any("aside" in path for path in back)


def test_what_was_set_aside_by_root_is_emptied_on_a_yes_alone(inner):
    inner.run("root", "python3", "-", stdin=PLANT)
    lumtak(inner, "set-aside", "local", "old-logs", user=USER)
    refused = lumtak(inner, "empty-aside", "local", "--early", user=USER, check=False)
    assert "Nobody is there to answer" in refused
    assert "2 files" in lumtak(inner, "empty-aside", "local", "--early", "--yes", user=USER)
    assert "nothing to put back" in lumtak(inner, "undo", "local", "--all", user=USER, check=False)


def test_as_root_a_user_s_own_is_set_aside_by_the_user_s_hand(inner):
    picture = f"/home/{USER}/.cache/thumbnails/x.png"
    inner.run(USER, "sh", "-c", f"mkdir -p $(dirname {picture}) && touch -d @1 {picture}")
    lumtak(inner, "set-aside", "local", "thumbnails", "--user", USER)
    notes = f"/home/{USER}/.local/share/lumtak-aside"
    assert inner.run("root", "stat", "-c", "%U %a", notes, f"{notes}/aside") == f"{USER} 700\n" * 2
    lumtak(inner, "undo", "local", "--all", check=False)
    assert inner.run("root", "stat", "-c", "%U %Y", picture) == f"{USER} 1\n"


PACKAGES = r"""
set -e
mkdir -p /srv/packages /tmp/made && cd /tmp/made
make_one() {  # name, depends, priority, more
    mkdir -p $1/DEBIAN $1/etc $1/usr/bin && echo "as it came" >$1/etc/$1.conf
    echo /etc/$1.conf >$1/DEBIAN/conffiles
    printf '#!/bin/sh\n' >$1/usr/bin/$1 && chmod 755 $1/usr/bin/$1
    cat >$1/DEBIAN/control <<END
Package: $1
Version: 1.2
Architecture: all
Maintainer: x <x@x>
Installed-Size: 70
Priority: $3
Description: $1 of the school
END
    [ -z "$2" ] || echo "Depends: $2" >>$1/DEBIAN/control
    [ -z "$4" ] || { mkdir -p $1/$(dirname $4) && echo x >$1/$4; }
    dpkg-deb --build --root-owner-group $1 /srv/packages/$1.deb >/dev/null
}
make_one tide-knots "" optional
make_one tide-book "tide-knots" optional
make_one tide-desk "" optional usr/share/xsessions/tide.desktop
make_one tide-wish "tide-desk" optional
make_one tide-base "" important
cd /srv/packages && : >Packages
echo 'deb [trusted=yes] file:/srv/packages ./' >ours.list
for one in *.deb; do
    dpkg-deb -f $one >>Packages
    echo "Filename: ./$one" >>Packages
    echo "Size: $(stat -c %s $one)" >>Packages
    echo "SHA256: $(sha256sum $one | cut -d' ' -f1)" >>Packages
    echo >>Packages
done
dpkg --force-unsafe-io -i *.deb >/dev/null
apt-mark auto tide-knots >/dev/null
echo "as the owner set it" >/etc/tide-book.conf
"""
FORGED = """
import sys
sys.path.insert(0, "/opt/lumtak")
from lumtak.computers.hands.sent.root.settling import RootHand
try:
    print(RootHand(rules=True).remove_packages(sys.argv[1:]))
except OSError as error:
    print("refused", error)
"""
ONLY_OURS = ("-o", "Dir::Etc::sourceparts=-", "-o", "Dir::Etc::sourcelist=/srv/packages/ours.list")


def test_programs_are_removed_by_name_alone_and_come_back_from_the_list_that_is_kept(inner):
    def installed():
        form = r"${Package} ${Version} ${Status}\n"
        listed = inner.run("root", "dpkg-query", "-W", "-f", form)
        return listed, inner.run("root", "apt-mark", "showauto")

    inner.run("root", "sh", "-c", PACKAGES, timeout_s=120)
    before = installed()
    shown = json.loads(lumtak(inner, "storage", "local", "programs", "--all", "--json", user=USER))
    found = {p["name"]: p for p in shown["programs"]}
    assert found["tide-book"]["only"] == ["tide-knots"]
    assert found["tide-knots"]["takes"] == ["tide-book"]
    assert found["tide-book"]["bytes"] == 70 * 1024
    for name, why in (
        ("tide-knots", "tide-book"),
        ("tide-wish", ""),
        ("tide-desk", "xsessions/tide.desktop"),
        ("tide-base", "very system needs tide-base"),
        ("systemd", "needs"),
        ("python3-minimal", ""),
    ):
        said = lumtak(inner, "remove", "local", name, "--look", user=USER, check=False)
        assert (why in said and "cannot be removed" in said) if why else True, (name, said)
    said = lumtak(inner, "remove", "local", "tide-book", "--yes", user=USER)
    assert "removed: tide-book" in said
    assert "tide-book 1.2 deinstall ok config-files" in installed()[0]
    assert "tide-knots 1.2 install ok installed" in installed()[0]
    again = [line.partition(": ")[2] for line in said.splitlines() if line.startswith("To have it")]
    inner.run("root", "apt-get", *ONLY_OURS, "-qq", "update", timeout_s=120)
    for line in again:
        program, *words = line.split()
        options = (*ONLY_OURS, "-qq", "-y") if program == "apt-get" else ()
        inner.run("root", program, *options, *words, timeout_s=120)
    assert installed() == before
    assert inner.run("root", "cat", "/etc/tide-book.conf") == "as the owner set it\n"
    # Root's hand looks again itself, whoever asks it.
    for names in ("tide-knots", "tide-desk tide-wish", "tide-base", "--force-all", "dpkg", ""):
        said = inner.run("root", "python3", "-", *names.split(), stdin=FORGED)
        assert said.startswith("refused"), (names, said)
    assert installed() == before


def test_one_byte_changed_in_a_program_of_a_real_debian_is_found_and_only_that(inner):
    def damaged():
        said = lumtak(inner, "upkeep", "local", "integrity", "--json", check=False)
        (found,) = json.loads(said.partition("\nlumtak: ")[0])["results"]
        return {f["what"]: f["of"] for f in found["found"] if f["kind"] == "damaged"}, found

    before, found = damaged()
    assert "left out by the package manager" in " ".join(found["notes"]), "the image's own rule"
    change = "f = open('/usr/bin/fold', 'r+b'); f.seek(900); b = f.read(1)[0]; f.seek(900)"
    inner.run("root", "python3", "-c", f"{change}; f.write(bytes([b ^ 1]))")
    after, _ = damaged()
    assert {path: who for path, who in after.items() if path not in before} == {
        "/usr/bin/fold": "coreutils"
    }
    inner.run("root", "python3", "-c", f"{change}; f.write(bytes([b ^ 1]))")
    assert damaged()[0] == before
