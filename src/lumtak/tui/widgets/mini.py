"""The last load of a computer as two short strips on one line."""

from itertools import groupby

from rich.text import Text

from lumtak.core.strip import PIECE_KINDS, Glance, PieceKind
from lumtak.tui.theme import FILLS, Palette


def glance_line(glance: Glance | None, palette: Palette, cells: int) -> Text:
    """RAM and CPU, each with its ceiling as a tick and its percentage.

    Always equally wide: 2 * (cells + 12).
    """
    text = Text()
    if glance is None:
        text.append("no reading yet".ljust(2 * (cells + 12)), style=palette.soft)
        return text
    sides = (
        ("RAM", glance.ram, glance.ram_pct, glance.ceilings.ram_pct),
        ("CPU", glance.cpu, glance.cpu_pct, glance.ceilings.cpu_pct),
    )
    for name, shares, load, ceiling in sides:
        text.append(f"{name} ", style=palette.soft)
        tick = min(cells - 1, int(ceiling / 100 * cells))
        drawn = [
            ("tick" if place == tick else kind) for place, kind in enumerate(_kinds(shares, cells))
        ]
        for kind, run in groupby(drawn):
            count = len(list(run))
            if kind == "tick":
                text.append("┃", style=f"bold {palette.lit}")
            else:
                # "tick" is no kind.
                text.append(FILLS[kind] * count, style=palette.kinds[kind])  # type: ignore[index]
        over = load > ceiling
        text.append(
            f"{load:4.0f} %", style=f"bold {palette.kinds['ease']}" if over else palette.ink
        )
        text.append("  ")
    return text


def _kinds(shares: dict[PieceKind, float], cells: int) -> list[PieceKind]:
    """Which kind each cell shows: the one that covers its middle."""
    found: list[PieceKind] = []
    for cell in range(cells):
        middle, edge = (cell + 0.5) / cells, 0.0
        kind: PieceKind = "free"
        for kind in PIECE_KINDS:
            edge += shares.get(kind, 0.0)
            if edge > middle:
                break
        found.append(kind)
    return found
