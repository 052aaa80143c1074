"""What grew on a disk, drawn below its strips."""

from collections.abc import Sequence
from typing import Any

from lumtak.core.clutter import Grown
from lumtak.core.text import plain
from lumtak.core.units import large

_MOST, _LONGEST = 8, 44
_MORE, _LESS, _INK = "#1f5f8f", "#b9c2c9", "#22282e"


def grown_bars(axes: Any, grew: Sequence[Grown]) -> None:  # noqa: ANN401 - matplotlib has no types here
    """A bar for each folder that changed most; nothing to draw is said."""
    size, unit = large()
    shown = list(grew[:_MOST])[::-1]
    axes.spines[["top", "right", "left"]].set_visible(False)
    axes.tick_params(left=False)
    if not shown:
        words = "Nothing grew since the last look, or there was none before this one."
        axes.text(0.5, 0.5, words, ha="center", va="center", transform=axes.transAxes)
        axes.set(xticks=[], yticks=[])
        axes.spines["bottom"].set_visible(False)
        return
    for place, one in enumerate(shown):
        colour = _MORE if one.bytes > 0 else _LESS
        axes.barh(place, one.bytes / size, height=0.6, color=colour, edgecolor=_INK, lw=0.4)
    names = [plain(one.path, 400) for one in shown]
    axes.set(
        yticks=range(len(shown)),
        yticklabels=[n if len(n) <= _LONGEST else "…" + n[-_LONGEST:] for n in names],
        xlabel=f"more than at the last look, {unit}",
    )
    axes.axvline(0, color=_INK, lw=0.6)
