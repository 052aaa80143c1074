"""What grew on a disk, drawn below its strips."""

from collections.abc import Sequence
from typing import Any

from lumtak.core.clutter import Grown
from lumtak.core.text import plain
from lumtak.core.units import large
from lumtak.report.tongue import Tongue

_MOST, _LONGEST = 8, 30
_MORE, _LESS, _INK = "#1f5f8f", "#b9c2c9", "#22282e"


def grown_bars(axes: Any, grew: Sequence[Grown], tongue: Tongue) -> None:  # noqa: ANN401 - matplotlib has no types here
    """A bar for each folder that changed most."""
    size, unit = large()
    shown = list(grew[:_MOST])[::-1]
    axes.spines[["top", "right", "left"]].set_visible(False)
    axes.tick_params(left=False)
    for place, one in enumerate(shown):
        colour = _MORE if one.bytes > 0 else _LESS
        axes.barh(place, one.bytes / size, height=0.6, color=colour, edgecolor=_INK, lw=0.4)
    names = [plain(one.path, 400) for one in shown]
    axes.set(
        yticks=range(len(shown)),
        yticklabels=[n if len(n) <= _LONGEST else "…" + n[-_LONGEST:] for n in names],
        xlabel=tongue.say("more than at the last look, {unit}", unit=unit),
    )
    axes.axvline(0, color=_INK, lw=0.6)
