"""A throwaway root with traps in it, root's hand inside of it, and what that touched.

The hand is a real one, as root, with no folder before its paths: a child changes its root into the
throwaway one, in mounts of its own, where the kernel's files can only be read.
"""

import base64
import contextlib
import ctypes
import json
import os
import random
import stat
import subprocess
import time
import traceback
from pathlib import Path
from unittest import mock

from helpers import put
from lumtak.computers.hands.sent import storing
from lumtak.computers.hands.sent.clutter.used import in_use
from lumtak.computers.hands.sent.operations import OPERATIONS, ROOT
from lumtak.computers.hands.sent.root.settling import RootHand
from lumtak.computers.hands.sent.table import (
    POWER_FILE,
    power_unit_text,
    sysctl_text,
    upkeep_file,
    upkeep_text,
)

OWNER = 1001
"""Whose files are in there, and who plants."""
OLD = 1_500_000_000
ETC, LIB = "/etc/systemd/system", "/usr/lib/systemd/system"
WANTS = f"{ETC}/multi-user.target.wants"
UNIT = "[Service]\nExecStart={0}\n[Install]\nWantedBy=multi-user.target\n"
FINE, FORBIDDEN = ("tide", "quay"), (
    "debug-shell", "emergency", "dbus", "firewalld", "apparmor", "unattended-upgrades",
    "systemd-poweroff", "systemd-journald", "getty@tty1",
)  # fmt: skip
STRANGE = ("theirs", "writable", "dropped")
"""Runs a program of the owner's; anybody may write its file, or a drop-in of it."""
_NEW_MOUNTS = 0x20000
_ETC = ETC[1:]
REACHED = {
    f"{_ETC}/multi-user.target.wants", f"{_ETC}/tide.service", f"{_ETC}/quay.service",
    f"{_ETC}/dev-sda2.swap", f"{_ETC}/lumtak-power.service",
    f"{_ETC}/multi-user.target.wants/lumtak-power.service",
    # What is never taken away may come back.
    f"{_ETC}/multi-user.target.wants/apparmor.service",
    f"{_ETC}/multi-user.target.wants/dbus.service",
    f"{_ETC}/multi-user.target.wants/systemd-journald.service",
    f"{_ETC}/multi-user.target.wants/unattended-upgrades.service",
    "etc/apt/apt.conf.d/zz-lumtak-updates", "etc/sysctl.d/90-lumtak-swappiness.conf",
    "etc/systemd/journald.conf.d", "etc/systemd/journald.conf.d/90-lumtak.conf",
    "etc/systemd/system.conf.d", "etc/systemd/system.conf.d/90-lumtak.conf",
    "var/lib/lumtak", "var/lib/lumtak/put-back-0123abcd.sh",
    "var/lib/lumtak/receipts", "var/lib/lumtak/receipts/000001.json",
}  # fmt: skip
"""What all of `requests` may change, and nothing else."""
UNITS = {"daemon-reload", "stop -- tide.service", "stop -- quay.service"}


def build(tree: Path) -> Path:
    """The tree; it takes root."""
    for name in (*FINE, *FORBIDDEN, "writable", "dropped"):
        put(tree, f"{LIB}/{name}.service", UNIT.format("/usr/bin/run"))
    put(tree, f"{LIB}/theirs.service", UNIT.format("/home/u/run"))
    (tree / LIB[1:] / "writable.service").chmod(0o666)
    put(tree, f"{ETC}/dropped.service.d/x.conf", "[Service]\nNice=1\n").chmod(0o666)
    (tree / ETC[1:] / "x.service").symlink_to(f"{LIB}/debug-shell.service")
    (tree / ETC[1:] / "y.service").symlink_to(f"{LIB}/firewalld.service")
    put(tree, f"{LIB}/poweroff.target", "[Unit]\n")
    put(tree, "/usr/bin/run", "").chmod(0o755)
    for folder in (
        "etc/sysctl.d",
        "etc/apt/apt.conf.d",
        "var/lib",
        "proc",
        "dev",
        "run/systemd/system",
    ):
        (tree / folder).mkdir(parents=True, exist_ok=True)
    put(tree, "/root/secret", "s").chmod(0o600)
    put(tree, "/etc/shadow", "s").chmod(0o600)
    for folder, mode in (
        ("tmp", 0o1777),
        ("var/tmp", 0o1777),
        ("var/crash", 0o755),
        ("mnt", 0o755),
    ):
        (tree / folder).mkdir(parents=True, exist_ok=True)
        (tree / folder).chmod(mode)
    put(tree, "/mnt/kept", "on another mount")
    crash(tree)
    put(tree, "/var/crash/deep/in/one.crash", "x")
    put(tree, "/var/crash/mounted/below/own.crash", "x")
    put(tree, "/home/u/run", "").chmod(0o755)
    for path in (
        "home/u/.config",
        "home/u/.cache/thumbnails",
        "tmp/planted",
        "home/u/lumtak-aside",
    ):
        (tree / path).mkdir(parents=True, exist_ok=True)
    (tree / "home/u/.cache/thumbnails/secret").symlink_to("/root/secret")
    (tree / "tmp/planted/link").symlink_to("/root")
    put(tree, "/var/crash/of-the-owner.crash", "x")
    for path in sorted(tree.rglob("*")):
        os.utime(path, (OLD, OLD), follow_symlinks=False)
    for top in ("home/u", "tmp/planted", "var/crash/of-the-owner.crash"):
        for path in ((tree / top), *(tree / top).rglob("*")):
            os.chown(path, OWNER, OWNER, follow_symlinks=False)
    return tree


def crash(tree: Path) -> None:
    """Something of the system's that may go."""
    for n in range(3):
        os.utime(put(tree, f"/var/crash/{n}.crash", "x" * 5000), (OLD, OLD))


def seen(tree: Path) -> dict[str, tuple]:
    """Everything that can be told apart of what stands there, but the kernel's own."""
    found = {}
    for path in tree.rglob("*"):
        name = str(path.relative_to(tree))
        if name.startswith(("proc/", "dev/")):
            continue
        about = path.lstat()
        kind = stat.S_IFMT(about.st_mode)
        held = os.readlink(path) if stat.S_ISLNK(kind) else ""
        if stat.S_ISREG(kind) and about.st_size < 1 << 20:
            held = path.read_bytes().decode("latin-1")
        found[name] = (about.st_mode, about.st_uid, about.st_size if held else 0, held)
    return found


def touched(tree: Path, before: dict[str, tuple]) -> set[str]:
    """What is another than before, came or went."""
    now = seen(tree)
    return {name for name in {*before, *now} if before.get(name) != now.get(name)}


class RootsHand(RootHand):
    """Root's hand, whose service manager is written down and never asked."""

    def __init__(self) -> None:
        super().__init__(rules=True, roles=(ROOT,))
        self.told: list[str] = []
        self.stopped: set[str] = set()

    def run(self, arguments, timeout_s=20.0, partly=False, bus=""):
        return b"ActiveState=%s\n" % (b"inactive" if arguments[-1] in self.stopped else b"active")

    def run_as_root(self, arguments):
        self.told.append(" ".join(arguments[2:]))
        if arguments[2] == "stop":
            self.stopped.add(arguments[-1])


def links(unit, made=(), mask=False, active=None):
    """The state of a unit, as a document."""
    found = {f"{WANTS}/{unit}.service": f"{LIB}/{name}.service" for name in made}
    found |= {f"{ETC}/{unit}.service": "/dev/null"} if mask else {}
    return {"kind": "links", "unit": f"{unit}.service", "links": found, "active": active}


def states(unit):
    """What a unit may be in, fair and not."""
    yield links(unit)
    yield links(unit, [unit], active=True)
    yield links(unit, mask=True, active=False)
    yield links(unit, ["debug-shell"], active=True)
    yield {**links(unit), "links": {f"{ETC}/default.target": f"{LIB}/poweroff.target"}}
    yield {**links(unit), "links": {f"{ETC}/{unit}.service": "/home/u/evil.service"}}
    yield {**links(unit), "links": {"/etc/shadow": "/dev/null"}}


def _kept(key, value):
    file = upkeep_file(key)
    data = None if value is None else upkeep_text(key, value)
    return {"kind": "kept file", "file": file, "kept": None if data is None else _b64(data)}


def _b64(data: bytes) -> str:
    return base64.b64encode(data).decode()


def changes():
    """(area, key, before, wanted) of every kind, fair and not."""
    for unit in (*FINE, *FORBIDDEN, *STRANGE, "x", "y", "default", "no-such"):
        held = list(states(unit))
        for before in held:
            for wanted in held:
                yield "services", unit, before, wanted
    for key, values in {
        "automatic_updates": (None, "0", "1"), "stop_seconds": (None, "45"),
        "journal_mib": (None, "100"),
    }.items():  # fmt: skip
        area = "storage" if key == "journal_mib" else "upkeep"
        for before in values:
            for wanted in values:
                yield area, key, _kept(key, before), _kept(key, wanted)
    evil = {"kind": "kept file", "file": "/etc/shadow", "kept": _b64(b"x")}
    yield "upkeep", "stop_seconds", _kept("stop_seconds", None), evil
    for live in ("60", "10", "999999", "x"):
        kept = {"kind": "sysctl", "name": "swappiness", "live": live}
        text = _b64(sysctl_text("swappiness", live))
        yield "memory", "swappiness", {**kept, "kept": None}, {**kept, "kept": text}
    clock = {"kind": "clock", "policies": {"policy0": "powersave/"}, "link": None}
    unit = _b64(power_unit_text("performance", ""))
    yield "power", "mains", {**clock, "kept": None}, {**clock, "kept": unit, "link": POWER_FILE}
    yield "power", "mains", {**clock, "kept": None}, {**clock, "kept": _b64(b"[Service]\n")}
    swap = {"kind": "swap", "kept": [], "on": [], "masked": [], "used": []}
    for more in ({"kept": [1], "on": [1]}, {"masked": ["dev-sda2.swap"]}, {"kept": [10**6]}):
        yield "memory", "swap_mib", swap, {**swap, **more}


PATHS = (
    "/", "/root", "/root/secret", "/etc/shadow", "/home/u", "/home/u/run", "/tmp/planted/link",
    "/var/crash", "/mnt", "/mnt/kept", "/dev/sda1", "/proc/1/root", "/var/crash/../../root",
)  # fmt: skip
NAMES = (
    "temp-system",
    "crash-dumps",
    "old-logs",
    "thumbnails",
    "path",
    "chosen",
    "temp-own",
    "journal",
    "x",
)


def requests():
    """(operation, arguments) of all that root's hand can be asked for, fair and not."""
    for area, key, before, wanted in changes():
        for way in ("forth", "back", "believed"):
            yield "change", [area, key, before, wanted, way]
        yield "vouched", [area, key, wanted]
    for name in NAMES:
        for paths in ([], [PATHS[2]], [PATHS[7]]):
            yield "aside_look", [name, name, paths, [], []]
            yield "aside_look", [name, "other", paths, [[PATHS[2], [PATHS[3]]]], []]
    for sha256 in ("0" * 64, "", "../../../root"):
        yield "aside_move", [sha256[:32]]
        yield "aside_back", [sha256]
        yield "aside_doubts", [sha256]
        yield "aside_empty", [sha256, []]
    for names in (["dpkg"], ["--force-all"], ["../x"], []):
        yield "remove_packages", [names]
        yield "reinstall_packages", [names]
    for path in PATHS:
        yield "superblock", [path]
        yield "trim", [path]
    told = [
        {"area": a, "key": k, "title": "Printing $(id)", "ways": [
            {"number": 1, "word": "on", "restore": w, "accepted": [b]}]}
        for a, k, b, w in changes()
    ]  # fmt: skip
    yield "leave_script", ["0123abcd", json.dumps(told[:400])]
    yield "leave_script", ["../../root", "[]"]


def inside(tree: Path, act) -> dict:
    """What `act` gives, done as root in the throwaway root: {"found": ...} or {"error": ...}."""
    read, write = os.pipe()
    child = os.fork()
    if not child:
        os.close(read)
        try:
            _enter(tree)
            said = {"found": act()}
        except BaseException:  # noqa: BLE001 - told to whoever waits
            said = {"error": traceback.format_exc()}
        with os.fdopen(write, "w") as pipe:
            json.dump(said, pipe)
        os._exit(0)
    os.close(write)
    with os.fdopen(read) as pipe:
        said = json.load(pipe)
    os.waitpid(child, 0)
    return said


def _enter(tree: Path) -> None:
    if ctypes.CDLL(None).unshare(_NEW_MOUNTS) != 0:
        raise OSError("no mounts of its own are to be had")
    for words in (
        ("--make-rprivate", "/"),
        ("--bind", "/proc", tree / "proc"),
        ("-o", "remount,bind,ro", tree / "proc"),
        ("--bind", tree / "mnt", tree / "var/crash/mounted/below"),
    ):
        subprocess.run(["mount", *map(str, words)], check=True)
    os.chroot(tree)
    os.chdir("/")
    os.umask(0o022)


def asked(
    hand: RootsHand, name: object, given: object, known: dict[str, list[str]] | None = None
) -> str:
    """What came of one request: "done", or the sentence with which it was refused.

    Args:
        hand: a hand of root.
        name: of the operation.
        given: its arguments.
        known: gets what an answer gave away: "handle" and "sha256" of what was looked for.
    """
    try:
        found = hand.asked(name, given)
        if OPERATIONS[str(name)].parts:
            found = list(found)
    except OSError as error:
        return error.strerror or str(error)
    if known is not None and isinstance(found, dict):
        for part in known:
            known[part] += [found[part]] if found.get(part) else []
    return "done"


def plant(chance: random.Random) -> None:
    """Something that the owner can do with their rights alone."""
    places = ("/tmp", "/tmp/planted", "/var/tmp", "/home/u", "/home/u/.cache/thumbnails")
    name = f"{chance.choice(places)}/{chance.choice(('a', 'b', 'run', 'link', 'lumtak-aside'))}"
    aim = chance.choice(
        ("/root", "/root/secret", "/etc/shadow", "/etc/systemd/system", "/var/lib/lumtak", "..")
    )
    os.seteuid(OWNER)
    try:
        with contextlib.suppress(OSError):
            match chance.randrange(6):
                case 0:
                    os.symlink(aim, name)
                case 1:
                    os.link(aim, name, follow_symlinks=False)
                case 2:
                    os.rename(name, name + ".away")
                case 3:
                    os.mkdir(name, chance.choice((0o777, 0o000, 0o2755)))
                case 4:
                    os.mkfifo(name)
                case _:
                    os.unlink(name)
    finally:
        os.seteuid(0)


def look_at_processes_once() -> None:
    """What is in use of the whole computer, for as long as this process lasts."""
    mock.patch.object(storing, "in_use", return_value=in_use()).start()


def race(chance: random.Random, seconds: float) -> dict[str, int]:
    """Root sets aside, puts back, empties, changes and restores, while somebody else exchanges all
    that they can reach for links to what is root's; how often each was done.

    A folder that root left open to everybody, with old things of root's in it, is in their reach.
    """
    ends, done = time.monotonic() + seconds, dict[str, int]()
    attacker = os.fork()
    if not attacker:
        os.setgid(OWNER)
        os.setuid(OWNER)
        while time.monotonic() < ends:
            exchange(chance)
        os._exit(0)
    look_at_processes_once()
    hand, rounds = RootsHand(), 0
    on, off = links("tide", active=True), links("tide", mask=True, active=False)
    while not os.waitpid(attacker, os.WNOHANG)[0]:
        _leave_open()
        crash(Path("/"))
        known = dict[str, list[str]](handle=[], sha256=[])
        steps: list[tuple[str, list]] = []
        for name in ("temp-system", "crash-dumps"):
            asked(hand, "aside_look", [name, name, [], [], []], known)
        steps += [("aside_move", [handle]) for handle in known["handle"]]
        last, rounds = ("aside_back", "aside_empty")[rounds % 2], rounds + 1
        more = [[]] if last == "aside_empty" else []
        steps += [(last, [sha256, *more]) for sha256 in known["sha256"]]
        steps += [("change", ["services", "tide", on, off, "forth"])]
        steps += [("change", ["services", "tide", off, on, "back"])]
        for name, given in steps:
            done[name] = done.get(name, 0) + (asked(hand, name, given) == "done")
    return done


def _leave_open() -> None:
    """Old things of root's in a folder that everybody may write to; made by no link."""
    folder = os.open("/tmp", os.O_RDONLY | os.O_DIRECTORY)
    with contextlib.suppress(OSError):
        for name in ("open", "in"):
            with contextlib.suppress(FileExistsError):
                os.mkdir(name, dir_fd=folder)
            within = os.open(name, os.O_RDONLY | os.O_DIRECTORY | os.O_NOFOLLOW, dir_fd=folder)
            os.close(folder)
            folder = within
            os.fchmod(folder, 0o777)
            for n in range(3):
                flags = os.O_WRONLY | os.O_CREAT | os.O_NOFOLLOW
                file = os.open(str(n), flags, 0o600, dir_fd=folder)
                os.utime(file, (OLD, OLD))
                os.close(file)
            os.utime(folder, (OLD, OLD))
    os.close(folder)


def exchange(chance: random.Random) -> None:
    """One of the names becomes a link to what is root's, and is itself again."""
    name = chance.choice(("open/in", "open/0", "open/in/1", "open/in/2", "planted", "planted/link"))
    place, aim = f"/tmp/{name}", chance.choice(("/root", "/root/secret", "/mnt", "/etc/systemd"))
    with contextlib.suppress(OSError):
        os.rename(place, place + ".was")
        os.symlink(aim, place)
        os.unlink(place)
        os.rename(place + ".was", place)
