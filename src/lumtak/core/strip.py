"""The strip: the whole of the RAM or the CPU, cut into its consumers by stance.

The arithmetic of the picture; screens and reports draw it.
"""

from collections.abc import Iterable, Mapping, Sequence
from typing import TYPE_CHECKING, Literal

import msgspec

from lumtak.core.profile import Ceilings
from lumtak.core.record import Record, known
from lumtak.core.setting import SettingRef
from lumtak.core.stance import Stance

if TYPE_CHECKING:  # the opening screen needs neither
    from lumtak.core.audit import Audit
    from lumtak.core.facts import Facts
    from lumtak.core.reading import Reading

PieceKind = Literal["guarded", "keep", "ask", "ease", "aside", "cache", "free"]
PieceMark = Literal["plain", "chosen", "applied"]
PIECE_KINDS: tuple[PieceKind, ...] = (
    "guarded",
    "keep",
    "ask",
    "ease",
    "aside",
    "cache",
    "free",
)
"""Left to right."""
PIECE_KIND_WORDS: dict[PieceKind, str] = {
    "guarded": "system, guarded",
    "keep": "keep",
    "ask": "ask",
    "ease": "ease",
    "aside": "set aside",
    "cache": "cache (no load)",
    "free": "free",
}


def kind_of(stance: Stance) -> PieceKind:
    """How a strip shows an item; what is only to be set to another value keeps its load."""
    return "keep" if stance == "set" else stance


class Piece(Record):
    """A consumer's part of a strip."""

    key: str
    """The consumer, or "unattributed", "cache", "free"."""
    kind: PieceKind
    share: float
    """Of the whole, 0 to 1."""
    mark: PieceMark = "plain"


class Strip(Record):
    """One resource, cut into pieces that sum to the whole."""

    pieces: tuple[Piece, ...]
    load: float
    """Share that is load: neither cache nor free."""
    ceiling: float | None = None
    baseline: float | None = None


def strips(
    reading: "Reading",
    found: "Audit | None",
    *,
    ceilings: Ceilings | None = None,
    baseline: "Reading | None" = None,
) -> tuple[Strip, Strip]:
    """(RAM, CPU) of a reading.

    RAM: consumers' measured memory, the unattributed rest of what is used, cache, free. CPU:
    consumers' share of the whole computer, the unattributed rest of what is busy, idle.
    """
    total = reading.ram_total_bytes
    used, cache, busy = (
        reading.mean("ram_used_bytes") / total,
        reading.mean("cache_bytes") / total,
        reading.mean("cpu_pct") / 100,
    )
    held = {c.key: known(c.ram_bytes) / total for c in reading.consumers}
    ram = [
        *_pieces(held, used, found),
        Piece(key="cache", kind="cache", share=cache),
        Piece(key="free", kind="free", share=max(0.0, 1 - used - cache)),
    ]
    cpu = [
        *_pieces({c.key: c.cpu_pct / 100 for c in reading.consumers}, busy, found),
        Piece(key="free", kind="free", share=max(0.0, 1 - busy)),
    ]
    return (
        Strip(
            pieces=tuple(ram),
            load=used,
            ceiling=ceilings.ram_pct / 100 if ceilings else None,
            baseline=baseline.mean("ram_pct") / 100 if baseline else None,
        ),
        Strip(
            pieces=tuple(cpu),
            load=busy,
            ceiling=ceilings.cpu_pct / 100 if ceilings else None,
            baseline=baseline.mean("cpu_pct") / 100 if baseline else None,
        ),
    )


_DISK_PARTS: dict[str, PieceKind] = {
    "system": "guarded",
    "programs": "keep",
    "own": "keep",
    "leftovers": "keep",
}
_OF_PART = {"cache": "own", "trash": "own", "own": "own", "programs": "programs"}
"""The part of the disk in which clutter stands, by what it counts to; the system's else."""


def disk_strip(facts: "Facts", found: "Audit") -> Strip | None:
    """The system's volume: system, programs, the owner's files, clutter by stance, what is set
    aside, what no folder shows, free; with the floor of free space as its ceiling.

    None where nobody looked through it, or its size is not known.
    """
    survey, room = facts.survey, found.room
    if survey is None or room is None or not room.total_bytes:
        return None
    pieces, rest = _of_clutter(found, room.total_bytes, survey.parts)
    pieces += [
        Piece(key=f"disk:{name}", kind=_DISK_PARTS.get(name, "guarded"), share=share)
        for name, held in rest.items()
        if (share := held / room.total_bytes) > 0
    ]
    used = (room.total_bytes - room.free_bytes) / room.total_bytes
    told = sum(p.share for p in pieces)
    # Measured at two moments, the parts can come to more than the whole.
    scale = used / told if told > used > 0 else 1.0
    pieces = [msgspec.structs.replace(p, share=p.share * scale) for p in pieces]
    kept_back = min(max(0.0, used - told), survey.reserved_bytes / room.total_bytes)
    if kept_back > 0:
        pieces.append(Piece(key="disk:reserved", kind="guarded", share=kept_back))
        told += kept_back
    if used - told > 1e-9:
        pieces.append(Piece(key="disk:unseen", kind="guarded", share=used - told))
    pieces.sort(key=lambda p: (PIECE_KINDS.index(p.kind), -p.share, p.key))
    pieces.append(Piece(key="free", kind="free", share=max(0.0, 1 - used)))
    ceiling = 1 - room.floor_bytes / room.total_bytes
    return Strip(pieces=tuple(pieces), load=used, ceiling=max(0.0, ceiling))


def _of_clutter(
    found: "Audit", total_bytes: float, parts: Mapping[str, float]
) -> tuple[list[Piece], dict[str, float]]:
    """(a piece for each class of clutter, what is left of each part of the disk without them)."""
    rest, pieces = dict(parts), []
    for finding in found.findings:
        pile, size = finding.pile, known(finding.weight.disk_bytes)
        if pile is None or size <= 0:
            continue
        part = _OF_PART.get(pile.sorts, "system")
        rest[part] = max(0.0, rest.get(part, 0.0) - size)
        kind: PieceKind = "aside" if pile.held_at else kind_of(finding.stance)
        pieces.append(Piece(key=finding.consumer, kind=kind, share=size / total_bytes))
    return pieces, rest


def with_aside(strip: Strip, refs: Iterable[SettingRef]) -> Strip:
    """The same strip with these pieces as what is set aside."""
    keys = set(map(str, refs))
    pieces = [
        msgspec.structs.replace(p, kind="aside") if p.key in keys and p.kind != "free" else p
        for p in strip.pieces
    ]
    pieces.sort(key=lambda p: (PIECE_KINDS.index(p.kind), -p.share, p.key))
    return msgspec.structs.replace(strip, pieces=tuple(pieces))


DISK_TITLES = {
    "disk:system": "the system",
    "disk:programs": "programs",
    "disk:own": "the owner's files",
    "disk:leftovers": "leftovers of checks of the disk",
    "disk:reserved": "kept back by the file system for root",
    "disk:unseen": "in no folder that could be seen",
}


class Glance(Record):
    """The last load of a computer, small enough for a line: shares by kind."""

    ram: dict[PieceKind, float]
    cpu: dict[PieceKind, float]
    ram_pct: float
    cpu_pct: float
    ceilings: Ceilings
    what: Literal["baseline", "after"]
    taken_at: str


def glance(
    cut: tuple[Strip, Strip], ceilings: Ceilings, what: Literal["baseline", "after"], taken_at: str
) -> Glance:
    """(RAM, CPU) of a reading, summed by kind."""
    sums: list[dict[PieceKind, float]] = []
    for strip in cut:
        by_kind: dict[PieceKind, float] = {}
        for piece in strip.pieces:
            by_kind[piece.kind] = by_kind.get(piece.kind, 0.0) + piece.share
        sums.append(by_kind)
    return Glance(
        ram=sums[0],
        cpu=sums[1],
        ram_pct=100 * cut[0].load,
        cpu_pct=100 * cut[1].load,
        ceilings=ceilings,
        what=what,
        taken_at=taken_at,
    )


def marked(
    strip: Strip, *, chosen: Iterable[SettingRef] = (), applied: Iterable[SettingRef] = ()
) -> Strip:
    """The same strip with these pieces marked, and no others."""
    marks: dict[str, PieceMark] = {str(ref): "chosen" for ref in chosen}
    marks.update({str(ref): "applied" for ref in applied})
    pieces = tuple(
        (
            msgspec.structs.replace(p, mark=mark)
            if p.mark != (mark := marks.get(p.key, "plain"))
            else p
        )
        for p in strip.pieces
    )
    return msgspec.structs.replace(strip, pieces=pieces)


def _pieces(costs: dict[str, float], whole: float, found: "Audit | None") -> list[Piece]:
    """Pieces that sum to `whole`: what nobody owns is unattributed.

    Measured parts above the whole are scaled down to it.
    """
    from lumtak.core.sample import is_system

    total = sum(costs.values())
    # Memory of consumers is looked at at other moments than the sum, so parts can exceed it.
    scale = whole / total if total > whole > 0 else 1.0
    pieces = []
    for key, cost in costs.items():
        finding = found.by_consumer.get(key) if found else None
        kind: PieceKind = (
            kind_of(finding.stance) if finding else "guarded" if is_system(key) else "ask"
        )
        if cost > 0:
            pieces.append(Piece(key=key, kind=kind, share=cost * scale))
    rest = whole - sum(p.share for p in pieces)
    if rest > 1e-9:
        pieces.append(Piece(key="unattributed", kind="guarded", share=rest))
    pieces.sort(key=lambda p: (PIECE_KINDS.index(p.kind), -p.share, p.key))
    return pieces


def cells(strip: Strip, width: int) -> list[int]:
    """Which piece (its index) each of `width` cells shows; see `covering`."""
    return covering([piece.share for piece in strip.pieces], width)


def covering(shares: Sequence[float], width: int) -> list[int]:
    """Which share (its index) each of `width` cells shows: the one that covers its middle."""
    result: list[int] = []
    edge, place = 0.0, -1
    for cell in range(width):
        middle = (cell + 0.5) / width
        while edge <= middle and place < len(shares) - 1:
            place += 1
            edge += shares[place]
        result.append(max(place, 0))
    return result
