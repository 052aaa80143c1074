"""The last load of a computer as two short strips on one line."""

from itertools import groupby

from rich.text import Text

from lumtak.core.strip import PIECE_KINDS, Glance, covering
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
        covered = covering([shares.get(kind, 0.0) for kind in PIECE_KINDS], cells)
        drawn = [
            "tick" if cell == tick else PIECE_KINDS[place] for cell, place in enumerate(covered)
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
