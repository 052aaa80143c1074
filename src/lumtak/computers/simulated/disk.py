"""The file system of a simulated computer: sizes, classes of clutter, growth; what is set aside
and emptied. docs/SIMULATION.md has the model.
"""

from collections.abc import Collection, Sequence
from datetime import timedelta
from typing import NamedTuple

import msgspec

from lumtak.computers.clutter import ASIDE, KEPT, item_of, pile_of, shipped
from lumtak.computers.hands.sent.clutter.aside_words import LAST
from lumtak.computers.simulated.machine import EPOCH, Machine
from lumtak.computers.simulated.spec import ClutterSpec, FileSpec
from lumtak.computers.simulated.state import HeldState
from lumtak.core.clutter import (
    CHOSEN,
    PATH,
    Age,
    BigFile,
    BigFolder,
    Pile,
    Sums,
    Survey,
)
from lumtak.core.deciding import OnlyCopies, Seen
from lumtak.core.emptying import Doubts, Emptied
from lumtak.core.facts import Item
from lumtak.core.owned import Chosen, CopiesFound, CopyGroup, title_of_chosen
from lumtak.core.text import plain
from lumtak.core.units import GIB

_WEEK_S, _DAY_S = 604_800.0, 86_400.0
_LEAST_GIB = 0.002
"""A file system keeps as much for itself, whatever grows."""
_PARTS = {"temporary": "system", "cache": "own", "leftovers": "system", "trash": "own"}
"""Where the classes of clutter stand, by what they count to."""


class Space(NamedTuple):
    """Bytes of the volume."""

    total: float
    free: float


def _grown(machine: Machine, spec: ClutterSpec) -> float:
    """Bytes that a class holds now: what it began with, or nothing since it was set aside or
    emptied, and what came since.
    """
    began = machine.state.cleared_at_s.get(spec.name)
    weeks = (machine.model.clock_s - (began or 0.0)) / _WEEK_S
    return ((spec.gib if began is None else 0.0) + spec.gib_a_week * max(0.0, weeks)) * GIB


def space(machine: Machine) -> Space:
    """What is free: as described, less what grew, and more by what was emptied."""
    hardware, state = machine.spec.hardware, machine.state
    here = sum(_grown(machine, c) for c in machine.spec.clutter)
    # Files of the owner's that are set aside are not counted with the classes.
    held = sum(h.bytes for h in state.held.values() if not h.paths)
    began = sum(c.gib for c in machine.spec.clutter) * GIB
    free = hardware.free_gib * GIB + began - here - held + sum(state.gone.values())
    free += sum(gib for name, gib in _packages(machine).items() if name in state.removed) * GIB
    total = hardware.volume_gib * GIB
    return Space(total, min(total, max(_LEAST_GIB * GIB, free)))


def _packages(machine: Machine) -> dict[str, float]:
    """GiB of each program and of what only it needs."""
    found: dict[str, float] = {}
    for package in machine.spec.disk.package:
        found.update({package.name: package.gib, **package.only})
    return found


def programs_gib(machine: Machine) -> float:
    """What is left of them."""
    gone = sum(gib for n, gib in _packages(machine).items() if n in machine.state.removed)
    return machine.spec.disk.programs_gib - gone


def items(machine: Machine) -> list[Item]:
    """Its classes of clutter, weighed: a model knows what it holds."""
    held = machine.state.held.items()
    files = [item_of_files(machine, key) for key, one in held if one.paths]
    return [_item(machine, spec) for spec in machine.spec.clutter] + files


def item_of_files(machine: Machine, key: str) -> Item:
    """Files of the owner's, set aside or not yet."""
    held = machine.state.held.get(key)
    named = key.startswith("/")
    title = plain(key, 60) if named else title_of_chosen(held.files if held else 0)
    pile = Pile(
        clutter=PATH if named else CHOSEN,
        disposal="asked",
        sorts="own",
        bytes=held.bytes if held else 0.0,
        files=held.files if held else 0,
        all_bytes=held.bytes if held else 0.0,
        held_at=int(EPOCH.timestamp() + held.at_s) if held else 0,
    )
    return item_of(key, pile, title, ASIDE if held else KEPT)


def is_of_files(key: str) -> bool:
    """Whether it is a key of the owner's files."""
    return key.startswith("/") or key.partition(".")[0] == CHOSEN


def files_of(machine: Machine) -> list[FileSpec]:
    """The large files that stand where they stood."""
    away = {p for held in machine.state.held.values() for p in held.paths}
    return [f for f in machine.spec.disk.file if f.path not in away | machine.state.gone.keys()]


def _hollow(machine: Machine) -> list[str]:
    away = {p for held in machine.state.held.values() for p in held.paths}
    return [p for p in machine.spec.disk.hollow if p not in away | machine.state.gone.keys()]


def standing(machine: Machine) -> dict[str, Seen]:
    """Paths of the owner's that are there, as they are; what a file is never changes here."""
    folders = {p: Seen(mark=f"d:0:{p}:0:0:0", bytes=0.0, changed_at=0) for p in _hollow(machine)}
    files = {
        f.path: Seen(
            mark=f"f:0:{f.path}:{f.gib}:{f.days}:0",
            bytes=f.gib * GIB,
            changed_at=int(_wall(machine) - f.days * _DAY_S),
        )
        for f in files_of(machine)
    }
    return {**folders, **files}


def why_not(machine: Machine, key: str, chosen: Chosen) -> str:
    """Why these cannot be set aside, as a sentence; empty where they can."""
    here = {f.path: f.content for f in files_of(machine)}
    paths = chosen.paths or ((key,) if key.startswith("/") else ())
    missing = set(paths) - here.keys() - set(_hollow(machine))
    if missing or not paths:
        return f"There is no file {plain(min(missing), 80)}." if missing else "Nothing is chosen."
    for path, others in chosen.copies:
        stays = [here[o] for o in others if o in here.keys() - set(paths)]
        if path in here and here[path] not in stays:
            return f"No other copy of {plain(path, 80)} stays."
    return ""


def _item(machine: Machine, spec: ClutterSpec) -> Item:
    known, key = shipped()[spec.name], spec.name
    held = machine.state.held.get(key)
    size = _grown(machine, spec)
    pile = msgspec.structs.replace(
        pile_of(known),
        bytes=held.bytes if held else size,
        files=held.files if held else _files(spec, size),
        all_bytes=held.bytes if held else size + spec.young_gib * GIB,
        left={"too young": spec.young_files} if spec.young_files else {},
        oldest_at=int(_wall(machine) - spec.oldest_days * _DAY_S),
        held_at=int(EPOCH.timestamp() + held.at_s) if held else 0,
    )
    title = spec.title or known.title
    return item_of(key, pile, title, machine.state.settings[f"storage:{key}"] or KEPT)


def _files(spec: ClutterSpec, size: float) -> int:
    return max(1, round(spec.files * size / (spec.gib * GIB))) if size > 0 and spec.gib else 0


def _wall(machine: Machine) -> float:
    return EPOCH.timestamp() + machine.model.clock_s


def put(machine: Machine, key: str, value: str | None, chosen: Chosen) -> None:
    """A class or files are set aside, or go back: nothing becomes free by either."""
    if is_of_files(key):
        _put_files(machine, key, value, chosen)
        return
    spec = next(c for c in machine.spec.clutter if c.name == key)
    held, cleared = dict(machine.state.held), dict(machine.state.cleared_at_s)
    now = machine.model.clock_s
    if value == ASIDE and key not in held:
        size = _grown(machine, spec)
        began = cleared.get(key)
        held[key] = HeldState(bytes=size, files=_files(spec, size), at_s=now, began_at_s=began)
        cleared[key] = now
    elif value == KEPT and key in held:
        # What came since stays where it is: going back replaces nothing.
        before = held.pop(key).began_at_s
        if before is None:
            cleared.pop(key, None)
        else:
            cleared[key] = before
    machine.put(held=held, cleared_at_s=cleared)


def _put_files(machine: Machine, key: str, value: str | None, chosen: Chosen) -> None:
    held = dict(machine.state.held)
    if value == ASIDE and key not in held:
        paths = chosen.paths or (key,)
        mine = [f for f in files_of(machine) if f.path in paths]
        size = sum(f.gib for f in mine) * GIB
        now = machine.model.clock_s
        held[key] = HeldState(bytes=size, files=len(mine), at_s=now, paths=paths)
    elif value == KEPT:
        held.pop(key, None)
    machine.put(held=held)


def doubts(machine: Machine, key: str) -> Doubts:
    """What emptying would delete, and of what no other copy stands any more."""
    held = machine.state.held[key]
    content = {f.path: f.content for f in machine.spec.disk.file if f.content}
    stands = {f.content for f in files_of(machine)}
    last = tuple(
        (number, path)
        for number, path in enumerate(held.paths, start=1)
        if path in content and content[path] not in stands
    )
    alone = {f.path: f.alone for f in machine.spec.disk.file if f.alone}
    only = tuple((alone[path], path) for path in held.paths if path in alone)
    pieces = len(held.paths) or held.files
    return Doubts(files=held.files, bytes=held.bytes, pieces=pieces, last=last, only=only)


def empty(machine: Machine, key: str, agreed: Collection[int] = ()) -> Emptied:
    """What is held is gone for good, and free; but for last copies that nobody agreed to."""
    stay = {path for number, path in doubts(machine, key).last if number not in agreed}
    held = dict(machine.state.held)
    gone = held.pop(key)
    sizes = {f.path: f.gib * GIB for f in machine.spec.disk.file}
    lost = {path: sizes.get(path, 0.0) for path in gone.paths if path not in stay}
    machine.put(gone={**machine.state.gone, **lost})
    if stay:
        size = sum(sizes.get(path, 0.0) for path in stay)
        paths = tuple(path for path in gone.paths if path in stay)
        left = msgspec.structs.replace(gone, bytes=size, files=len(stay), paths=paths)
        machine.put(held={**held, key: left})
        return Emptied(
            files=gone.files - len(stay),
            bytes=gone.bytes - size,
            held=len(stay),
            left={LAST: len(stay)},
            named=tuple((path, LAST) for path in paths),
        )
    settings = {**machine.state.settings, f"storage:{key}": KEPT}
    machine.model.live[f"storage:{key}"] = KEPT
    machine.put(held=held, settings=settings)
    return Emptied(files=gone.files, bytes=gone.bytes)


def survey(machine: Machine, identity: str, at: str) -> Survey:
    """Where its disk went."""
    spec, here = machine.spec, space(machine)
    used = here.total - here.free
    parts = {"system": spec.disk.system_gib * GIB, "programs": programs_gib(machine) * GIB}
    clutter = {c.name: _grown(machine, c) + c.young_gib * GIB for c in spec.clutter}
    own = used - sum(parts.values()) - sum(clutter.values())
    parts["own"] = max(0.0, own - sum(h.bytes for h in machine.state.held.values()))
    for one in spec.clutter:
        part = _PARTS.get(shipped()[one.name].sorts, "system")
        parts[part] += clutter[one.name]
    files = sorted(files_of(machine), key=lambda f: -f.gib)
    return Survey(
        identity=identity,
        at=at,
        total_bytes=here.total,
        free_bytes=here.free,
        seen_bytes=used,
        inodes=spec.disk.inodes,
        parts=parts,
        ages=_ages(files),
        largest=tuple(
            BigFile(
                path=f.path,
                bytes=f.gib * GIB,
                changed_at=int(_wall(machine) - f.days * _DAY_S),
            )
            for f in files
        ),
        folders=_folders(files),
        hollow=tuple(BigFolder(path=p, bytes=4096.0, files=0) for p in _hollow(machine)),
        piles=tuple(
            Sums(
                clutter=c.name,
                bytes=(size := _grown(machine, c)),
                files=_files(c, size),
                all_bytes=size + c.young_gib * GIB,
                left={"too young": c.young_files} if c.young_files else {},
                oldest_at=int(_wall(machine) - c.oldest_days * _DAY_S),
                place=next(iter(shipped()[c.name].commands), ""),
            )
            for c in spec.clutter
        ),
    )


def _folders(files: list[FileSpec]) -> tuple[BigFolder, ...]:
    sums: dict[str, list[float]] = {}
    for file in files:
        above = file.path.rpartition("/")[0]
        while above:
            held = sums.setdefault(above, [0.0, 0])
            held[0] += file.gib * GIB
            held[1] += 1
            above = above.rpartition("/")[0]
    found = sorted(sums.items(), key=lambda one: (-one[1][0], one[0]))
    return tuple(BigFolder(path=p, bytes=size, files=int(n)) for p, (size, n) in found)


def _ages(files: list[FileSpec]) -> tuple[Age, ...]:
    spans = (("in the last 365 days", 0.0, 365.0), ("more than 365 days ago", 365.0, 1e9))
    return tuple(
        Age(
            since=since,
            bytes=sum(f.gib for f in files if low <= f.days < high) * GIB,
            files=sum(low <= f.days < high for f in files),
        )
        for since, low, high in spans
    )


def copies(machine: Machine, top: str, least_bytes: int) -> CopiesFound:
    """Files that hold the same."""
    here = top or f"/home/{machine.spec.user}"
    mine = [f for f in files_of(machine) if f.path.startswith(here.rstrip("/") + "/")]
    alike: dict[str, list[FileSpec]] = {}
    for file in mine:
        if file.content and file.gib * GIB >= least_bytes:
            alike.setdefault(file.content, []).append(file)
    groups = [
        CopyGroup(bytes=g[0].gib * GIB, copies=tuple((f.path,) for f in g), count=len(g))
        for g in alike.values()
        if len(g) > 1
    ]
    groups.sort(key=lambda g: -g.frees_bytes)
    frees = sum(g.frees_bytes for g in groups)
    return CopiesFound(top=here, groups=tuple(groups), frees_bytes=frees, files=len(mine))


def only_copies(machine: Machine, paths: Sequence[str]) -> OnlyCopies:
    """As its description has them."""
    found = []
    for file in files_of(machine):
        below = any((file.path + "/").startswith(p.rstrip("/") + "/") for p in paths)
        if file.alone and below:
            found.append((file.alone, file.path))
    return OnlyCopies(found=tuple(found))


def last_opened(machine: Machine) -> dict[str, str]:
    """By the days of its description."""
    today = EPOCH + timedelta(seconds=machine.model.clock_s)
    return {
        f.path: f"{today - timedelta(days=f.opened_days):%Y-%m-%d}"
        for f in files_of(machine)
        if f.opened_days is not None
    }
