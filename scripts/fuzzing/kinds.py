"""The kinds of hostile input.

Each yields what a run of the program gave, with the exit codes that are right for it.
"""

import hashlib
import os
import random
import sqlite3
from collections.abc import Callable, Iterator
from contextlib import closing, suppress
from importlib.resources import files
from pathlib import Path

import click

from fuzzing.roots import roots_hand
from fuzzing.spoil import NASTY_NUMBERS, NASTY_TEXT, any_of, bytes_of, fields_of, json_of, lines_of
from fuzzing.world import Said, Tried, World
from helpers import ENTRY
from lumtak.cli import cli
from lumtak.core.upkeep.tasks import TASK_NAMES
from outside import INSTALL, TIMER

FINE, REFUSED, FAILED, PARTLY = 0, 2, 1, 3
SETTINGS = b"""format = 1
report_folder = "~/Reports"
theme = "light"
sizes = "decimal"
confidence = 0.95
[shop]
name = "Workshop at the quay"
address = "Quay 1, Harbour"
[keys]
least = "x"
search = "f"
"""
PACKAGES = b"""Package: sail
Status: install ok installed
Architecture: all
Version: 1
Installed-Size: 10
Depends: rope (>= 1), cloth | canvas
Description: sails

Package: rope
Status: install ok installed
Architecture: all
Provides: cloth
"""
ADDONS = (
    b'{"addons": [{"id": "a", "type": "extension", "active": true, "installDate": 1600000000000,'
    b' "defaultLocale": {"name": "Reads"}, "userPermissions": {"origins": ["<all_urls>"]}}]}'
)
ADDED = (
    b'{"extensions": {"settings": {"abcdefghijklmnopabcdefghijklmnop": {"state": 1, "path":'
    b' "abcdefghijklmnopabcdefghijklmnop/1", "manifest": {"name": "x", "permissions": ["tabs"]}}}}}'
)
UPKEEP = {
    "/var/lib/dpkg/info/sail.md5sums": b"0123456789abcdef0123456789abcdef  usr/bin/sail\n",
    "/var/lib/dpkg/info/sail.list": b"/.\n/usr/bin/sail\n/etc/cron.d/sail\n",
    "/var/lib/dpkg/diversions": b"/usr/bin/a\n/usr/bin/a.other\nsail\n",
    "/etc/dpkg/dpkg.cfg.d/x": b"path-exclude=/usr/share/doc/*\npath-include=/usr/share/doc/x\n",
    "/usr/bin/sail": b"sail" * 99,
    "/proc/self/mountinfo": (
        b"22 1 8:1 / / rw,relatime shared:1 - ext4 /dev/sda1 rw\n"
        b"23 1 0:44 / /b rw - btrfs /dev/sda1 rw,discard\n"
    ),
    "/sys/class/block/sda1/queue/rotational": b"0\n",
    "/sys/class/block/sda1/queue/discard_max_bytes": b"4096\n",
    "/sys/fs/ext4/sda1/errors_count": b"2\n",
    "/boot/grub/grub.cfg": b"set timeout=5\n",
    "/etc/default/grub": b'GRUB_TIMEOUT="30"\n',
    "/etc/cron.d/sail": b"0 3 * * * root test -x /usr/bin/sail && sh -c '/tmp/x; /opt/.y'\n",
    "/etc/ld.so.preload": b"/usr/lib/odd.so\n",
    "/home/u/.ssh/authorized_keys": b'command="x" ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIGbn a b\n',
    "/etc/systemd/system/a.service": b"[Service]\nExecStart=-/opt/.hidden/run --x\n",
    "/home/u/.config/autostart/y.desktop": b"[Desktop Entry]\nExec=env A=1 $HOME/.cache/x %U\n",
    "/var/lib/apt/lists/x_InRelease": b"x",
    "/home/u/.local/share/lumtak-watch/found.json": (
        b'{"format":1,"looks":[{"day":"2026-03-02","cpu_pct":1.5,"ram_pct":20,'
        b'"drifted":["drifted: a"],"told":["x"]}]}'
    ),
    "/etc/clamav/clamd.conf": b"LocalSocket /run/clamav/clamd.ctl\n",
}
PROFILE = str(files("lumtak") / "data" / "profiles" / "hull-drafting.toml")
_SELDOM = 0.1
"""The share of runs that take long, where others find the same."""
_AT_ONCE = (1, 1, 2, 4)
"""Records of one file."""
_MOST_AT_ONCE = 20
"""Files that stand on one computer: one look reads all of them."""


Kind = Callable[[World, random.Random], Iterator[Tried]]


def profiles(world: World, chance: random.Random) -> Iterator[Tried]:
    """Profiles that are handed in."""
    capture = _capture(world)
    known = [
        e.read_bytes()
        for e in (files("lumtak") / "data" / "profiles").iterdir()
        if e.name.endswith(".toml")
    ]
    while True:
        spoiled = world.put("handed.toml", any_of(chance, chance.choice(known)))
        said = world.run("profile", "check", str(spoiled))
        yield Tried(1, said, (FINE, REFUSED), (spoiled,))
        if said.code == FINE and chance.random() < 0.1:
            say = chance.choice((("profile", "show"), ("audit", str(capture), "--profile")))
            yield Tried(0, world.run(*say, str(spoiled)), (FINE,), (spoiled,))


def captures(world: World, chance: random.Random) -> Iterator[Tried]:
    """Captures of other computers."""
    data = _capture(world).read_bytes()
    ways = (
        ("audit", "--profile", PROFILE), ("audit", "--json", "--profile", PROFILE), ("profile",
        "suggest"), ("memory",), ("memory", "--json"), ("plan", "--profile", PROFILE),
        ("plan", "--frontier", "--profile", PROFILE),
        ("explain", "services:tide"), ("explain", "10"),
    )  # fmt: skip
    while True:
        spoiled = world.put("slow.json", json_of(chance, data))
        way = chance.choice(ways)
        words = (
            [*way[:2], str(spoiled)] if way[0] == "profile" else [way[0], str(spoiled), *way[1:]]
        )
        yield Tried(1, world.run(*words), (FINE, REFUSED), (spoiled,))


def plans(world: World, chance: random.Random) -> Iterator[Tried]:
    """Plans that somebody saved, and perhaps edited."""
    capture, saved = str(_capture(world)), world.work / "saved.json"
    _made(world.run("plan", capture, "--profile", PROFILE, "--save", str(saved)))
    data = saved.read_bytes()
    while True:
        spoiled = world.put("plan.json", json_of(chance, data))
        words = ("plan", capture, "--profile", PROFILE, "--check", str(spoiled))
        also = ("--json",) if chance.random() < 0.3 else ()
        yield Tried(1, world.run(*words, *also), (FINE, REFUSED), (spoiled,))


def readings(world: World, chance: random.Random) -> Iterator[Tried]:
    """Readings of Lumtak's own form."""
    first, data = _reading(world, "json")
    felt = world.work / "felt.json"
    _made(world.run("read", "sim:tool-crib", "--seconds", "40", "--out", str(felt)))
    known = (data, felt.read_bytes())
    while True:
        spoiled = world.put("odd.json", json_of(chance, chance.choice(known)))
        pair = [str(chance.choice((first, felt))), str(spoiled)]
        chance.shuffle(pair)
        also = chance.choice(
            (
                (),
                (),
                ("--json",),
                ("--column", "ram_pct"),
                ("--also-after", str(first)),
                ("--column", chance.choice(NASTY_TEXT)),
            )
        )
        yield Tried(1, world.run("compare", *pair, *also), (FINE, REFUSED), (spoiled,))


def tables(world: World, chance: random.Random) -> Iterator[Tried]:
    """CSV files of anybody."""
    first, data = _reading(world, "csv")
    while True:
        spoiled = world.put(
            "odd.csv", chance.choice((fields_of, fields_of, lines_of, bytes_of))(chance, data)
        )
        pair = [str(first), str(spoiled)]
        chance.shuffle(pair)
        also = chance.choice(
            (
                (),
                (),
                ("--json",),
                ("--column", "ram_used_bytes"),
                ("--column", chance.choice(NASTY_TEXT)),
            )
        )
        yield Tried(1, world.run("compare", *pair, *also), (FINE, REFUSED), (spoiled,))


def addresses(world: World, chance: random.Random) -> Iterator[Tried]:
    """Addresses of computers, items and changes."""
    capture = _capture(world)
    computers = (
        "local",
        "sim:drawing-bench",
        "sim:drawing-bench?fault=refuse",
        "sim:",
        "sim:nothere",
        "slow.json",
        "ssh://u@h:22",
    )
    items = (
        "services:tide=off",
        "apps:tide-feed=off",
        "memory:swap_mib=500",
        "power:mains=saving",
        "apps:process/big) (one",
        "effects:animations",
    )
    while True:
        computer, item = _spoiled_word(chance, computers), _spoiled_word(chance, items)
        words = chance.choice(
            (
                ("explain", str(capture), item), ("explain", str(capture), item), ("facts",
                computer), ("apply", "local", item), ("apply", computer, item),
                ("answer", "local", item, "needed"), ("journal", computer), ("undo", computer,
                "--all"),
            )
        )  # fmt: skip
        if words[1].startswith("-"):
            words = (words[0], "--", *words[1:])
        yield Tried(1, world.run(*words), (FINE, FAILED, REFUSED, PARTLY))
        if words[0] == "apply":
            world.bring_back("tree", world.tree)


def login_entries(world: World, chance: random.Random) -> Iterator[Tried]:
    """Desktop entries that start at login."""
    yield from _on_the_computer(world, chance, ("/etc/xdg/autostart/{}.desktop",
    "/home/u/.config/autostart/{}.desktop"),
                                [ENTRY.encode(), ENTRY.encode()
                                + b"OnlyShowIn=XFCE;\nTryExec=/bin/sh\nX-Delay=5\n"
                                 b"Hidden=false\n[Desktop Action x]\nExec=y\n"])  # fmt: skip


def unit_files(world: World, chance: random.Random) -> Iterator[Tried]:
    """Units of the system and of the user."""
    folders = (
        "/usr/lib/systemd/system",
        "/etc/systemd/system",
        "/home/u/.config/systemd/user",
        "/usr/lib/systemd/user",
    )
    yield from _on_the_computer(world, chance,
    [f"{folder}/{{}}.{end}" for folder in folders for end in ("service", "timer", "socket")],
                                [INSTALL.encode(), TIMER.encode(),
                                (b"[Unit]\nRequires=a.service\nAfter=b\n[Socket]\n"
                                 b"ListenStream=/run/x\n[Service]\nType=dbus\n"
                                 b"BusName=a.b\n")])  # fmt: skip


def kernel_files(world: World, chance: random.Random) -> Iterator[Tried]:
    """What stands below /proc, /sys and /run.

    Other than expected, and other from one sample to the next.
    """
    world.keep("outside", world.tree)
    kept = world.folder / "kept-outside"
    places = [
        p.relative_to(kept)
        for top in ("proc", "sys", "run", "etc/os-release", "etc/machine-id")
        for p in _files_below(kept / top)
    ]

    spoiled = set()

    def spoil() -> None:
        place = chance.choice(places)
        (world.tree / place).write_bytes(any_of(chance, (kept / place).read_bytes()))
        spoiled.add(place)

    world.during = spoil
    while True:
        while spoiled:
            place = spoiled.pop()
            (world.tree / place).write_bytes((kept / place).read_bytes())
        count = chance.choice((1, 3, 8))
        for _ in range(count):
            spoil()
        words = chance.choice((("facts", "local"), ("facts", "local", "--json"), ("look", "local",
        "--seconds", "4"), ("memory", "local", "--seconds", "3"),
                               ("audit", "local", "--profile", PROFILE, "--seconds", "3"), ("end",
                               "local")))  # fmt: skip
        yield Tried(count, world.run(*words), (FINE, FAILED))


_EFFECTS = {
    "kdeglobals": (
        b"[KDE]\nAnimationDurationFactor=0.5\nCursorBlinkRate=1000\n\n[General]\nXftAntialias=true\n"
    ),
    "kwinrc": b"[Compositing]\nEnabled=true\n[Plugins]\nblurEnabled=true\n",
    "breezerc": b"[Common]\nShadowSize=ShadowLarge\n",
    **{
        f"xfce4/xfconf/xfce-perchannel-xml/{name}.xml": (
            (
                f'<?xml version="1.0" encoding="UTF-8"?>\n\n<channel name="{name}" version="1.0">\n'
                f"  {inner}\n</channel>\n"
            ).encode()
        )
        for name, inner in (
            (
                "xfwm4",
                (
                    '<property name="general" type="empty">\n    <property name="use_compositing"'
                    ' type="bool" value="true"/>\n  </property>'
                ),
            ),
            (
                "xsettings",
                (
                    '<property name="Net" type="empty">\n    <property name="CursorBlink"'
                    ' type="bool" value="true"/>\n  </property>'
                ),
            ),
            (
                "thunar",
                (
                    '<property name="misc-thumbnail-mode" type="string"'
                    ' value="THUNAR_THUMBNAIL_MODE_ALWAYS"/>'
                ),
            ),
        )
    },
}


def effect_files(world: World, chance: random.Random) -> Iterator[Tried]:
    """Files in which desktops keep their effects."""
    for program in ("plasmashell", "kwin_x11", "xfwm4", "thunar", "xfsettingsd"):
        (world.tree / "usr/bin").mkdir(parents=True, exist_ok=True)
        (world.tree / "usr/bin" / program).write_bytes(b"")
    session = world.tree / "run/systemd/sessions/1"
    session.parent.mkdir(parents=True, exist_ok=True)
    world.keep("desktop", world.tree)
    while True:
        made = []
        desktop = chance.choice(("KDE", "xfce"))
        session.write_text(f"UID={os.getuid()}\nCLASS=user\nDESKTOP={desktop}\n")
        for name, data in _EFFECTS.items():
            place = world.tree / "home/u/.config" / name
            place.parent.mkdir(parents=True, exist_ok=True)
            place.write_bytes(any_of(chance, data))
            made.append(place)
        yield Tried(len(made), world.run("facts", "local", "--json"), (FINE,), tuple(made))
        if chance.random() > 2 * _SELDOM:
            continue
        effect = chance.choice(
            (
                "animations",
                "compositing",
                "shadows",
                "cursor-blinking",
                "thumbnails",
                "smooth-fonts",
            )
        )
        before = {p: p.read_bytes() for p in made}
        changed = world.run("apply", "local", f"effects:{effect}=off")
        yield Tried(0, changed, (FINE, FAILED, REFUSED, PARTLY), tuple(made))
        if changed.code == FINE:
            back = world.run("undo", "local", "--all")
            same = all(p.read_bytes() == data for p, data in before.items())
            yield Tried(0, back if same else back._replace(code=-1), (FINE,), tuple(made))


def journals(world: World, chance: random.Random) -> Iterator[Tried]:
    """Journals and their second copies: bytes, and records with a checksum that is right."""
    _made(
        world.run(
            "apply",
            "local",
            "services:tide=off",
            "memory:swappiness=10",
            "apps:tide-feed=off",
            "effects:animations=off",
            "power:battery=saving",
        )
    )
    _made(world.run("undo", "local", "3"))
    world.keep("journal", world.home)
    world.keep("changed", world.tree)
    while True:
        world.bring_back("journal", world.home)
        count = chance.choice(_AT_ONCE)
        spoiled = {_spoil_journal(chance, world.home) for _ in range(count)}
        look = (
            ("journal", "local"),
            ("journal", "local", "--json"),
            ("drift", "local"),
            ("drift", "local", "--json"),
        )
        words = ("undo", "local", "--all") if chance.random() < _SELDOM else chance.choice(look)
        yield Tried(count, world.run(*words), (FINE, FAILED, PARTLY), tuple(spoiled))
        if words[0] == "undo":
            world.bring_back("changed", world.tree)


def _spoil_journal(chance: random.Random, home: Path) -> Path:
    copies = sorted((home / "before").rglob("*.json"))
    if chance.random() < 0.5:
        copy = chance.choice(copies)
        _, _, document = copy.read_bytes().partition(b"\n")
        document = json_of(chance, document.rstrip(b"\n"))
        copy.write_bytes(hashlib.sha256(document).hexdigest().encode() + b"\n" + document + b"\n")
        return copy
    return _spoil_database(chance, home / "journal.db", ("change", "plan"), sums=True)


def _spoil_database(
    chance: random.Random, path: Path, tables: tuple[str, ...], *, sums: bool
) -> Path:
    if chance.random() < 0.15:
        for suffix in ("-wal", "-shm"):
            path.with_name(path.name + suffix).unlink(missing_ok=True)
        path.write_bytes(bytes_of(chance, path.read_bytes()))
        return path
    with (
        closing(sqlite3.connect(path, isolation_level=None)) as database,
        suppress(sqlite3.Error, UnicodeDecodeError),
    ):  # spoiled before
        table = chance.choice(tables)
        rows = [
            r
            for r in database.execute(f"SELECT rowid, document FROM {table}")
            if isinstance(r[1], bytes)
        ]
        if not rows:
            return path
        row, document = chance.choice(rows)
        spoiled = json_of(chance, document)
        database.execute(f"UPDATE {table} SET document = ? WHERE rowid = ?", (spoiled, row))
        if sums:
            sum_of = hashlib.sha256(spoiled).hexdigest()
            database.execute(f"UPDATE {table} SET checksum = ? WHERE rowid = ?", (sum_of, row))
    return path


def jobs(world: World, chance: random.Random) -> Iterator[Tried]:
    """Documents of jobs, their readings, facts and audits."""
    job = _job(world)
    while True:
        world.bring_back("job", world.home)
        count, path = chance.choice(_AT_ONCE), world.home / "casebook.db"
        for _ in range(count):
            _spoil_database(chance, path, ("job", "reading", "part"), sums=False)
        look = (("jobs",), ("jobs", "--json"), ("job", "baseline", job, "--list"))
        work = (
            ("job", "audit", job),
            ("job", "choose", job, "--eased"),
            ("job", "after", job, "--now", "--seconds", "5"),
            ("answer", "local"),
        )
        words = chance.choice(work if chance.random() < 3 * _SELDOM else look)
        yield Tried(count, world.run(*words), (FINE, FAILED, REFUSED), (path,))


def casebooks(world: World, chance: random.Random) -> Iterator[Tried]:
    """The casebook as a file, whatever its schema says."""
    job = _job(world)
    while True:
        world.bring_back("job", world.home)
        count, path = chance.choice(_AT_ONCE), world.home / "casebook.db"
        if chance.random() < 0.5:
            for _ in range(count):
                path.write_bytes(bytes_of(chance, path.read_bytes()))
        else:
            with closing(sqlite3.connect(path, isolation_level=None)) as database:
                for _ in range(count):
                    statement = chance.choice(_STATEMENTS).format(n=chance.choice(NASTY_NUMBERS))
                    with suppress(
                        sqlite3.Error, UnicodeError, OverflowError
                    ):  # SQLite takes not all of it
                        database.execute(statement, {"text": chance.choice(NASTY_TEXT)})
        look, work = (
            (("jobs",), ("job", "baseline", job, "--list")),
            (
                ("job", "audit", job),
                ("answer", "local"),
            ),
        )
        words = chance.choice(work if chance.random() < _SELDOM else look)
        yield Tried(count, world.run(*words), (FINE, FAILED, REFUSED), (path,))


_STATEMENTS = (
    "PRAGMA user_version = {n}", "DROP TABLE reading", "DROP TABLE job",
    "ALTER TABLE job RENAME COLUMN document TO other", "CREATE TABLE other (x)",
    "UPDATE job SET id = :text", "UPDATE job SET identity = :text", "UPDATE job SET changed = {n}",
    "UPDATE reading SET role = :text", "UPDATE part SET name = :text",
    "INSERT INTO answer VALUES (:text, :text, :text, :text)",
    "INSERT INTO answer SELECT identity, :text, 'needed', :text FROM job",
    "INSERT INTO answer SELECT identity, 'apps:tide-feed', :text, :text FROM job",
    "DELETE FROM reading", "DELETE FROM part", "DELETE FROM job",
    "CREATE TRIGGER t AFTER INSERT ON job BEGIN SELECT RAISE(ABORT, 'no'); END",
    "UPDATE job SET document = CAST(:text AS BLOB)",
)  # fmt: skip


def own_files(world: World, chance: random.Random) -> Iterator[Tried]:
    """What people put into the data folder.

    Profiles, catalogues, settings, and the states of simulated computers.
    """
    capture, name = str(_capture(world)), "sim:tide-logger"
    _made(world.run("facts", name))
    state = world.home / "simulated" / "tide-logger.json"
    data = files("lumtak") / "data"
    roles = b"\n\n".join((data / "knowledge" / "hardware.toml").read_bytes().split(b"\n\n")[:6])
    places = {
        state: (state.read_bytes(), json_of, (*[("facts", name)] * 6, ("restart", name), ("read",
        name, "--seconds", "5", "--out", "x.json"))),
        world.home / "catalogue" / "x.toml": (roles, any_of, (("explain", capture, "services:tide"),
        ("advice", "cache"))),
        world.home / "settings.toml": (SETTINGS, any_of, (("settings", "list"), ("settings",
        "list", "--json"), ("jobs",), ("settings", "set", "theme", "light"), ("settings", "unset",
        "keys.least"))),
        world.home / "profiles" / "x.toml": (Path(PROFILE).read_bytes(), any_of, (("profile",
        "list"), ("profile", "list", "--json"), ("profile", "show", "play"))),
    }  # fmt: skip
    for place in places:
        place.parent.mkdir(exist_ok=True)
    while True:
        place = chance.choice(list(places))
        good, spoil, words = places[place]
        place.write_bytes(spoil(chance, good))
        with world.own_catalogue():
            yield Tried(1, world.run(*chance.choice(words)), (FINE, FAILED, REFUSED), (place,))
        place.write_bytes(good)


def owner_lists(world: World, chance: random.Random) -> Iterator[Tried]:
    """Lists of the owner's files that were filled in, and searches for copies that were kept."""
    name, home = "sim:tool-crib", world.home
    _made(world.run("job", "start", name, "--profile", "tool-lending"))
    _made(world.run("storage", name, "duplicates"))
    filled = world.work / "filled.csv"
    _made(world.run("decide", name, "--write", str(filled)))
    data = filled.read_bytes().replace(b"\n,", b"\nlater,")
    (kept,) = (home / "copies" / "sim-tool-crib").iterdir()
    good = kept.read_bytes()
    while True:
        if chance.random() < 0.6:
            spoiled = world.put("list.csv", any_of(chance, data))
            words = ("decide", name, "--read-back", str(spoiled))
            yield Tried(1, world.run(*words), (FINE, REFUSED), (spoiled,))
            continue
        kept.write_bytes(json_of(chance, good))
        words = chance.choice((("decide", name), ("decide", name, "later", "copies")))
        yield Tried(1, world.run(*words), (FINE, REFUSED), (kept,))
        kept.write_bytes(good)


def package_files(world: World, chance: random.Random) -> Iterator[Tried]:
    """What package managers and browsers keep."""
    places = {
        "/var/lib/dpkg/status": PACKAGES,
        "/var/lib/apt/extended_states": b"Package: rope\nArchitecture: all\nAuto-Installed: 1\n",
        "/var/lib/dpkg/info/sail.list": b"/.\n/usr/bin/sail\n/usr/share/applications/x.desktop\n",
        "/home/u/.mozilla/firefox/x/extensions.json": ADDONS,
        "/home/u/.config/chromium/Default/Preferences": ADDED,
    }
    for browser in ("firefox", "chromium"):  # what starts at login is looked at
        Path(f"{world.tree}/etc/xdg/autostart/{browser}.desktop").write_text(ENTRY)
    while True:
        made = []
        for place, good in places.items():
            path = Path(f"{world.tree}{place}")
            path.parent.mkdir(parents=True, exist_ok=True)
            path.write_bytes(any_of(chance, good) if chance.random() < 0.5 else good)
            made.append(path)
        words = chance.choice(
            (
                ("storage", "local", "programs", "--all"),
                ("storage", "local", "programs", "--json"),
                ("remove", "local", "sail", "--look"),
                ("facts", "local", "--json"),
            )
        )
        codes = (FINE, REFUSED, FAILED) if words[0] == "remove" else (FINE,)
        yield Tried(len(made), world.run(*words), codes, tuple(made))


def upkeep_files(world: World, chance: random.Random) -> Iterator[Tried]:
    """What tasks of upkeep read, what they kept, what a watch kept."""
    places = {"/var/lib/dpkg/status": PACKAGES, **UPKEEP}
    _made(world.run("job", "start", "local", "--profile", PROFILE))
    for task in TASK_NAMES:  # the one hand of this computer is root's, which looks into no homes
        world.run("upkeep", "local", task)
    folder = next((world.home / "upkeep").iterdir())
    paused = folder / "integrity.paused.json"
    paused.write_bytes(
        b'{"format":1,"task":"integrity","begun_at":"2026-03-02T08:00:00+00:00","after":"/x",'
        b'"counts":{"damaged":1},"found":[{"kind":"damaged","what":"/x","why":"changed"}]}'
    )
    kept = {path: path.read_bytes() for path in folder.glob("*.json")}
    while True:
        made = []
        for place, good in places.items():
            path = Path(f"{world.tree}{place}")
            path.parent.mkdir(parents=True, exist_ok=True)
            path.write_bytes(any_of(chance, good) if chance.random() < 0.3 else good)
            made.append(path)
        for path, good in kept.items():
            path.write_bytes(json_of(chance, good) if chance.random() < 0.3 else good)
            made.append(path)
        words = chance.choice(
            (
                *(("upkeep", "local", task) for task in (*TASK_NAMES, "all")),
                ("upkeep", "local", "--json"),
                ("upkeep", "local", "odd", "--explained", "1"),
                ("watch", "local", "--json"),
                ("last-visit", "local"),
                ("due", "--all"),
            )
        )
        yield Tried(len(made), world.run(*words), (FINE, FAILED, PARTLY, REFUSED), tuple(made))


def command_lines(world: World, chance: random.Random) -> Iterator[Tried]:
    """Words after `lumtak`, right ones and others."""
    capture, (reading, _) = _capture(world), _reading(world, "json")
    job = _job(world)
    commands = _commands(cli)
    values = (
        "local", "local", "sim:drawing-bench", "hull-drafting", job, str(capture), str(reading),
        "services:tide=off", "apps:tide-feed", "needed", "1", "10", "0", "load", "x.svg", "x.csv",
        "x.json", "0.3",
    )  # fmt: skip
    while True:
        path, command = chance.choice(commands)
        words = [*path]
        for parameter in command.params:
            if isinstance(parameter, click.Option) and chance.random() < 0.6:
                continue
            if isinstance(parameter, click.Option):
                words.append(parameter.opts[0])
                if parameter.is_flag:
                    continue
            odd = chance.random() < 0.25
            words.append(
                _not_away(world, _spoiled_word(chance, values) if odd else chance.choice(values))
            )
        if chance.random() < 0.2:
            words.insert(
                chance.randrange(len(words) + 1),
                _not_away(world, chance.choice((*NASTY_TEXT, "--", "-x", "--nothing", "--json"))),
            )
        yield Tried(1, world.run(*words), (FINE, FAILED, REFUSED, PARTLY))
        if (
            path[0] in {"apply", "undo", "job"} or chance.random() < 1 / 20
        ):  # what others write does not get in the way
            world.bring_back("job", world.home)
            world.bring_back("tree", world.tree)


def _not_away(world: World, word: str) -> str:
    """Nothing is written outside the throwaway folder.

    No other absolute path, and no NUL, which no command line can have.
    """
    word = word.replace("\0", "0").encode("utf-8", "surrogateescape").decode("utf-8", "replace")
    return (
        word
        if word.startswith(str(world.folder)) or not word.startswith(("/", "~"))
        else word.lstrip("/~")
    )


def _commands(
    group: click.Group, path: tuple[str, ...] = ()
) -> list[tuple[tuple[str, ...], click.Command]]:
    found: list[tuple[tuple[str, ...], click.Command]] = []
    context = click.Context(group)
    for name in sorted(group.list_commands(context)):
        command = group.get_command(context, name)
        if isinstance(command, click.Group):
            found += _commands(command, (*path, name))
        elif command and name != "example":  # a whole job, of which `make test` sees one
            found.append(((*path, name), command))
    return found


KINDS: dict[str, Kind] = {
    kind.__name__.replace("_", "-"): kind
    for kind in (
        profiles, captures, plans, readings, tables, addresses, login_entries, unit_files,
        kernel_files,
        effect_files, journals, jobs, casebooks, own_files, owner_lists, package_files,
        upkeep_files, command_lines, roots_hand,
    )
}  # fmt: skip
TAKE_ROOT = {"roots-hand"}
"""Kinds that only root can try."""


# -- what is spoiled -------------------------------------------------------------------------------


def _on_the_computer(
    world: World, chance: random.Random, places: object, seeds: list[bytes]
) -> Iterator[Tried]:
    world.keep("clean", world.tree)
    while True:
        world.bring_back("clean", world.tree)
        made = []
        for number in range(_MOST_AT_ONCE):
            name = chance.choice(
                (
                    "x",
                    "tide",
                    "a@b",
                    "n" * 200,
                    "\x1b[2J",
                    "\u009b2J",
                    "é",
                    "a b",
                    "%s",
                    "-x",
                    "\\x2d",
                    "x",
                )
            ) + str(number)
            place = Path(f"{world.tree}{chance.choice(list(places)).format(name)}")
            place.parent.mkdir(parents=True, exist_ok=True)
            if chance.random() < 0.03:
                place.symlink_to(
                    chance.choice(("/dev/zero", "..", place.name, "/etc/shadow", "/nothing"))
                )
            else:
                place.write_bytes(any_of(chance, chance.choice(seeds)))
            made.append(place)
        words = chance.choice(
            (
                ("facts", "local", "--json"),
                ("audit", "local", "--profile", PROFILE, "--seconds", "0"),
                ("profile", "suggest", "local"),
                ("explain", "local", "apps:tide-feed"),
            )
        )
        yield Tried(
            _MOST_AT_ONCE, world.run(*words), (FINE,), tuple(p for p in made if p.is_file())
        )


def _files_below(place: Path) -> list[Path]:
    return sorted(
        p
        for p in ([place] if place.is_file() else place.rglob("*"))
        if p.is_file() and not p.is_symlink()
    )


def _spoiled_word(chance: random.Random, words: tuple[str, ...]) -> str:
    word = chance.choice(words)
    match chance.randrange(5):
        case 0:
            return chance.choice(NASTY_TEXT)
        case 1:
            at = chance.randrange(len(word) + 1)
            return word[:at] + chance.choice(NASTY_TEXT) + word[at:]
        case 2:
            return word[: chance.randrange(len(word) + 1)]
        case 3:
            return word.rpartition("=")[0] + "=" + str(chance.choice(NASTY_NUMBERS))
        case _:
            return word


def _capture(world: World) -> Path:
    path = world.work / "capture.json"
    if not path.exists():
        _made(world.run("capture", "local", "--out", str(path), "--seconds", "5"))
    return path


def _reading(world: World, ending: str) -> tuple[Path, bytes]:
    path = world.work / f"reading.{ending}"
    _made(world.run("read", "local", "--seconds", "12", "--out", str(path)))
    return path, path.read_bytes()


def _job(world: World) -> str:
    """A job with a baseline, an audit and a plan.

    The data folder is remembered with it, and so is the computer.
    """
    job = _made(world.run("job", "start", "local", "--profile", PROFILE)).out.decode().strip()
    _made(world.run("job", "baseline", job, "--seconds", "5"))
    _made(world.run("job", "audit", job))
    _made(world.run("job", "choose", job, "services:tide"))
    world.keep("job", world.home)
    return job


def _made(said: Said) -> Said:
    if said.code:
        message = f"{said.arguments}: {said.err.decode()}"
        raise RuntimeError(message)
    return said
