"""Strikes at every step that reaches a disk, on a simulated computer and on a real folder, and
looks at what is left.

A step is one call that changes something: a statement of the journal, and every open, write, sync,
rename, unlink ... of the second copies, the undo script and the computer itself. A strike comes
before it, or after half of a write: the process is killed (SIGKILL, in a child of its own), or the
call fails as on a broken or a full disk. A kill after a step leaves what a kill before the next one
leaves, and so does one before what only makes sure of what was written: that is no step for it.
"""

import contextlib
import errno
import json
import os
import shutil
import signal
import sqlite3
import subprocess
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass, field
from functools import cache, partial
from multiprocessing import get_context
from pathlib import Path

from helpers import bench, computer_on, linux, linux_tree, put, snapshot_of
from lumtak.computers.hands.sent.root.settling import RootHand
from lumtak.core.setting import parse_change
from lumtak.database import Database
from lumtak.errors import LumtakError
from lumtak.journal import Journal, apply_changes, drift, put_back, recover, review
from lumtak.journal.copies import Copies
from outside import ETC, FILE, INSTALL, Outside

_CALLS = ("write", "fsync", "fchmod", "rename", "replace", "unlink", "rmdir", "mkdir", "symlink")
_WRITES = os.O_WRONLY | os.O_RDWR | os.O_CREAT
STRIKES = ("kill", "broken disk", "full disk")


# -- worlds: a computer outside, a home folder of Lumtak's, and a look at the outside --------------


class Sim:
    """The simulated bench."""

    name = "simulated computer"
    changes = ("effects:shadows=off", "services:fax-bridge=off", "apps:chat-horn=off")
    again = "effects:shadows=on"

    def __init__(self, folder: Path) -> None:
        self.folder, self.home = folder, folder / "home"
        bench(folder / "simulated")

    def open(self):
        return bench(self.folder / "simulated")

    def look(self):
        """The settings, as another program would find them."""
        return dict(self.open().machine.state.settings)

    def script(self):
        return None


class Folder:
    """A real folder that looks like a Linux computer.

    Files with mode and bytes, links, folders that are not there.
    """

    name = "real folder"
    changes = ("apps:tide-feed=off", "apps:sail-sync=off", "apps:linked=off")
    again = "apps:tide-feed=on"

    def __init__(self, folder: Path) -> None:
        self.folder, self.home = folder, folder / "home"
        self.tree = folder / "root"
        if not self.tree.exists():
            linux_tree(self.tree)
            own = self.tree / "home/u/.config/autostart"
            (own / "sail-sync.desktop").chmod(0o600)
            (own / "linked.desktop").symlink_to("../../kept/it's 100% \\ odd.desktop")
            kept = self.tree / "home/u/kept/it's 100% \\ odd.desktop"
            kept.parent.mkdir()
            kept.write_bytes(
                b"[Desktop Entry]\nName=caf\xc3\xa9 \xff\t'quoted' 100%"
                b" \\n\n-n\nExec=/bin/x\r\nno end"
            )

    def open(self):
        return linux(self.tree)

    def look(self):
        return snapshot_of(self.tree / "home")

    def script(self):
        found = sorted(self.tree.glob("home/u/.local/share/lumtak-undo/undo-*.sh"))
        return found[0] if found else None


class OfKind(Folder):
    """One kind of state on a folder whose programs answer.

    One setting, changed, changed again, and put back.
    """

    running = ("tide.service",)
    plan = ""

    def __init__(self, folder: Path) -> None:
        self.folder, self.home = folder, folder / "home"
        self.tree = folder / "root"
        if not self.tree.exists():
            linux_tree(self.tree)
            hand = Outside(self.tree, self.running, plan=self.plan)
            hand.tell(permissions={"org.school.Tides": "yes"})
            RootHand.own_link(
                hand, f"{ETC}/multi-user.target.wants/tide.service", f"{FILE}/tide.service"
            )
            RootHand.own_link(hand, f"{ETC}/also-tide.service", f"{FILE}/tide.service")
            put(self.tree, "/usr/lib/systemd/user/sail-index.service", INSTALL.format("sails"))

    def open(self):
        return computer_on(Outside(self.tree))

    def look(self):
        """All of it; what programs keep as they understand it, and what a killed program of this
        test left is passed over.
        """
        return outside_of(self.tree)


def outside_of(tree: Path) -> dict:
    passed = (
        "outside.new",
        "proc/sys/vm/swappiness.new",
        "scaling_governor.new",
        "energy_performance_preference.new",
    )
    found = {n: what for n, what in snapshot_of(tree).items() if not n.endswith(passed)}
    return {**found, "outside.json": json.loads((tree / "outside.json").read_text())}


class UnitStops(OfKind):
    name = "links of a unit"
    changes = ("services:tide=manual",)
    again = "services:tide=off"


class UnitStarts(OfKind):
    name = "links of a unit that starts"
    changes = ("services:quay=auto",)
    again = "services:quay=off"


class Kernel(OfKind):
    name = "value of the kernel"
    changes = ("memory:swappiness=10",)
    again = "memory:swappiness=100"


class SwapMore(OfKind):
    name = "swap that becomes more"
    changes = ("memory:swap_mib=500",)
    again = "memory:swap_mib=400"


class SwapLess(OfKind):
    name = "swap that becomes less"
    changes = ("memory:swap_mib=120",)
    again = "memory:swap_mib=0"


class Policies(OfKind):
    name = "policies of the clock"
    changes = ("power:mains=saving",)
    again = "power:mains=full"


class Service(OfKind):
    name = "plan of the profile service"
    changes = ("power:mains=saving",)
    again = "power:mains=full"
    plan = "balanced"


class Key(OfKind):
    name = "key of the desktop"
    changes = ("effects:animations=off",)
    again = "effects:animations=on"


class Permission(OfKind):
    name = "permission of a program"
    changes = ("apps:sandbox/org.school.Tides=off",)
    again = "apps:sandbox/org.school.Tides=on"


class UserUnit(OfKind):
    name = "unit of the user"
    changes = ("apps:user/sail-index.service=off",)
    again = "apps:user/sail-index.service=on"


class Watched(OfKind):
    name = "watch"
    changes = ("upkeep:watch=weekly",)
    again = "upkeep:watch=monthly"

    def __init__(self, folder: Path) -> None:
        super().__init__(folder)
        put(self.tree, "/usr/bin/python3", "")


class KeptFiles(OfKind):
    name = "file that the service manager reads anew"
    changes = ("upkeep:stop_seconds=45",)
    again = "upkeep:stop_seconds=60"


KINDS = (
    UnitStops,
    UnitStarts,
    Kernel,
    SwapMore,
    SwapLess,
    Policies,
    Service,
    Key,
    Permission,
    UserUnit,
    Watched,
    KeptFiles,
)
WORLDS = (Sim, Folder)


def apply_all(world, journal, computer) -> None:
    apply_changes(
        journal, computer, computer.about.facts(), [parse_change(c) for c in world.changes]
    )


def apply_and_put_back(world, journal, computer) -> None:
    apply_all(world, journal, computer)
    put_back(journal, computer)


def change_twice_and_put_back_the_older(world, journal, computer) -> None:
    apply_changes(journal, computer, computer.about.facts(), [parse_change(world.changes[0])])
    apply_changes(journal, computer, computer.about.facts(), [parse_change(world.again)])
    put_back(journal, computer, [1])
    put_back(journal, computer, [2])


ACTS = (apply_all, apply_and_put_back, change_twice_and_put_back_the_older)


# -- steps and strikes -----------------------------------------------------------------------------


@dataclass
class Steps:
    """Counts steps, and strikes at one of them."""

    strike_at: int = 0
    strike: str = ""
    outside: bool = False
    """Whether only what reaches the computer is a step: how the journal writes is the same for
    every kind of state."""
    count: int = 0
    armed: bool = True
    inside: bool = False

    def __call__(self) -> None:
        if not self.armed or self.inside:
            return
        self.count += 1
        if self.count != self.strike_at:
            return
        if self.strike == "kill":
            os.kill(os.getpid(), signal.SIGKILL)
        code = errno.EIO if self.strike == "broken disk" else errno.ENOSPC
        raise OSError(code, os.strerror(code))

    def half(self) -> bool:
        """Whether the next step is struck.

        A write then gets half of its bytes to the disk first.
        """
        return self.armed and not self.inside and self.count + 1 == self.strike_at

    @contextlib.contextmanager
    def journals(self):
        """What is done meanwhile is the journal's."""
        kept, self.inside = self.inside, self.outside
        try:
            yield
        finally:
            self.inside = kept


def _stepping(name: str, real, steps: Steps):
    """The call with a step before and after it; an open that only reads is none."""

    def call(*args, **options):
        if (name == "open" and not args[1] & _WRITES) or (
            name == "fsync" and steps.strike == "kill"
        ):
            return real(*args, **options)
        if name == "write" and steps.half():
            real(args[0], bytes(args[1])[: len(args[1]) // 2])
        steps()
        return real(*args, **options)

    return call


@contextlib.contextmanager
def watched(steps: Steps):
    """Every call that changes something is a step while it lasts."""
    kept = {name: getattr(os, name) for name in (*_CALLS, "open")}
    run, copies = Database.run, {name: getattr(Copies, name) for name in ("keep", "forget")}

    def copying(name):
        def call(self, *args):
            with steps.journals():
                return copies[name](self, *args)

        return call

    def statement(self, text, values=()):
        if text.startswith(
            ("INSERT", "UPDATE", "DELETE", "COMMIT", *(["BEGIN"] if steps.strike != "kill" else []))
        ):
            try:
                with steps.journals():
                    steps()
            except OSError as error:
                words = "disk I/O error" if error.errno == errno.EIO else "database or disk is full"
                with self._in_sentences():
                    raise sqlite3.OperationalError(words) from error
        return run(self, text, values)

    for name, call in kept.items():
        setattr(os, name, _stepping(name, call, steps))
    Database.run = statement
    for name in copies:
        setattr(Copies, name, copying(name))
    try:
        yield
    finally:
        for name, call in kept.items():
            setattr(os, name, call)
        Database.run = run
        for name, call in copies.items():
            setattr(Copies, name, call)


def steps_of(world_kind, act, strike: str, folder: Path, *, outside: bool) -> int:
    """How many steps the act takes when nothing goes wrong."""
    world = world_kind(folder)
    counter = Steps(strike=strike, outside=outside)
    _do(world, act, counter)
    return counter.count


def _do(world, act, steps: Steps) -> None:
    steps.armed = False
    with watched(steps):
        journal, computer = Journal(world.home), world.open()
        steps.armed = True
        try:
            act(world, journal, computer)
        finally:
            steps.armed = False
            journal.close()


def struck(world, act, strike: str, at: int, *, outside: bool) -> None:
    """The act, struck at a step; a kill takes place in a child."""
    if strike != "kill":
        with contextlib.suppress(
            LumtakError
        ):  # one plain sentence; anything else is a fault of ours and comes through
            _do(world, act, Steps(strike_at=at, strike=strike, outside=outside))
        return
    child = os.fork()
    if child == 0:
        code = 1
        try:
            _do(world, act, Steps(strike_at=at, strike=strike, outside=outside))
            code = 0
        finally:
            os._exit(code)
    _, status = os.waitpid(child, 0)
    if not os.WIFSIGNALED(status):
        raise AssertionError(f"step {at} was not reached (status {status})")


# -- what has to hold afterwards -------------------------------------------------------------------


def wrong_after(world, before) -> list[str]:
    """What is not as it has to be: the state of every change, then put back all, to the byte.

    Empty when nothing is lost.
    """
    wrong = _wrong_script(world, before)
    journal, computer = Journal(world.home), world.open()
    seen = world.look()
    review(journal, computer)
    if world.look() != seen:
        wrong.append("a review touched the computer")
    with journal.writing(computer.identity):
        recover(journal, computer)
    wrong += _wrong_states(journal, computer)
    if any(d.standing != "as left" for d in drift(journal, computer)):
        wrong.append("drift where nothing drifted")
    left_open = any(e.is_open for e in journal.entries())
    if world.script() is None and left_open and isinstance(world, Folder):
        wrong.append("no undo script")
    put_back(journal, computer)
    if world.look() != before:
        wrong.append(
            f"not as before after putting everything back: {_differences(before, world.look())}"
        )
    if any(e.is_open for e in journal.entries()) or list((world.home / "before").rglob("*.json")):
        wrong.append("something is still open")
    if journal.unfinished_plans(computer.identity, computer.user_name):
        wrong.append("a plan did not end")
    journal.close()
    return wrong


def _differences(before: dict, after: dict) -> list[str]:
    return [
        f"{n}: {before.get(n)} / {after.get(n)}"
        for n in {*before, *after}
        if before.get(n) != after.get(n)
    ]


def _wrong_states(journal, computer) -> list[str]:
    """Every change is in a state that is known, and the computer has the value that follows from
    it.
    """
    settings: dict = {}
    wrong = []
    for entry in journal.entries():
        settings.setdefault(entry.ref, []).append(entry)
        if entry.stage not in {"verified", "not done", "failed", "undone"}:
            wrong.append(f"change {entry.id} is {entry.stage}")
    for ref, changes in settings.items():
        standing = [e for e in changes if e.is_open]
        wanted = standing[-1].value if standing else changes[0].before.value
        if computer.settings.read(ref).value != wanted:
            wrong.append(
                f"{ref} is {computer.settings.read(ref).value} and not {wanted}:"
                f" {[e.stage for e in changes]}"
            )
    return wrong


def run_script(script: Path, root: Path, shell=("sh",), *words: str) -> subprocess.CompletedProcess:
    """The undo script alone, on a computer whose disk is mounted at `root`."""
    return subprocess.run(
        [*shell, script, *words, root], capture_output=True, text=True, check=False
    )


def _wrong_script(world, before) -> list[str]:
    """The undo script alone, on a copy of the folder as the strike left it."""
    script = world.script()
    if script is None:
        return []
    copy = world.folder / "copy"
    shutil.copytree(world.tree, copy, symlinks=True)
    of_root = sorted(copy.glob("var/lib/lumtak/put-back-*.sh"))
    if of_root and os.geteuid() != 0:
        shutil.rmtree(copy)
        return []
    results = [run_script(s, copy) for s in (*of_root, copy / script.relative_to(world.tree))]
    after = files_of(outside_of(copy) if isinstance(world, OfKind) else snapshot_of(copy / "home"))
    shutil.rmtree(copy)
    if after != files_of(before) or any(r.returncode for r in results):
        said = [r.stdout + r.stderr for r in results]
        gone = _differences(files_of(before), after)
        return [f"the undo scripts alone did not do it: {gone}{said}"]
    return []


def files_of(found: dict) -> dict:
    """What scripts can put back on a disk that is mounted elsewhere: no kernel, no program.

    An empty folder of root's may be left for the user's.
    """
    return {
        n: what
        for n, what in found.items()
        if not n.startswith(("proc", "sys", "outside")) and n != "var/lib/lumtak"
    }


@dataclass
class Tally:
    """Fault points of one kind: how many there are, how many were tried, what was lost."""

    name: str
    points: int = 0
    tried: int = 0
    lost: list[str] = field(default_factory=list)


def strike_everywhere(
    world_kind, act, strike: str, folder: Path, *, outside: bool = False
) -> Tally:
    """Strike at every step of the act, each in a world of its own, as many at once as there are
    processors.

    With `outside`, only at those steps that reach the computer.
    """
    tally = Tally(f"{world_kind.name}, {act.__name__.replace('_', ' ')}, {strike}")
    tally.points = (
        _strikers()
        .submit(steps_of, world_kind, act, strike, folder / "count", outside=outside)
        .result()
    )
    one = partial(_strike_one, world_kind, act, strike, folder, outside=outside)
    for lost in _strikers().map(one, range(1, tally.points + 1), chunksize=4):
        tally.tried += 1
        tally.lost += lost
    return tally


@cache
def _strikers() -> ProcessPoolExecutor:
    """Processes that strike, as many as there are processors.

    Small ones, for each kill forks one of them.
    """
    here = str(Path(__file__).parent)
    os.environ["PYTHONPATH"] = os.pathsep.join(
        [here, *filter(None, [os.environ.get("PYTHONPATH")])]
    )
    context = get_context("forkserver")
    context.set_forkserver_preload(["faulting"])
    return ProcessPoolExecutor(mp_context=context)


def _strike_one(world_kind, act, strike: str, folder: Path, at: int, *, outside: bool) -> list[str]:
    place = folder / str(at)
    world = world_kind(place)
    before = world.look()
    struck(world, act, strike, at, outside=outside)
    try:
        lost = wrong_after(world, before)
    except LumtakError as error:
        lost = [str(error)]
    shutil.rmtree(place)
    return [f"step {at}: {what}" for what in lost]


# -- the journal's own file ------------------------------------------------------------------------


def damages(data: bytes):
    """(name, damaged bytes): cut short at every half page, and each page overwritten."""
    for length in range(0, len(data), 2048):
        yield f"cut to {length} bytes", data[:length]
    for page in range(0, len(data), 4096):
        yield f"page {page // 4096 + 1} damaged", data[:page] + b"\xa5" * 4096 + data[page + 4096 :]
        middle = page + 4096 - 600
        yield (
            f"bytes of page {page // 4096 + 1} changed",
            data[:middle]
            + bytes(b ^ 0x11 for b in data[middle : middle + 64])
            + data[middle + 64 :],
        )


def damage_everywhere(world_kind, folder: Path, suffix: str) -> Tally:
    """Damage journal.db (suffix "") or its write-ahead log ("-wal") in every way, after two changes
    stand and one is put back.
    """
    tally = Tally(f"{world_kind.name}, journal.db{suffix} cut short or damaged")
    world = world_kind(folder / "whole")
    before = world.look()
    journal, computer = Journal(world.home), world.open()
    apply_all(world, journal, computer)
    put_back(journal, computer, [2])
    if not suffix:
        journal.close()
    kept = folder / "kept"
    shutil.copytree(world.folder, kept, symlinks=True)
    journal.close()
    data = (kept / f"home/journal.db{suffix}").read_bytes()
    for number, (name, damaged) in enumerate(damages(data)):
        tally.points += 1
        place = folder / str(number)
        shutil.copytree(kept, place, symlinks=True)
        (place / f"home/journal.db{suffix}").write_bytes(damaged)
        tally.tried += 1
        try:
            tally.lost += [f"{name}: {what}" for what in wrong_after(world_kind(place), before)]
        except LumtakError as error:
            tally.lost.append(f"{name}: {error}")
        shutil.rmtree(place)
    return tally
