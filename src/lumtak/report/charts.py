"""Charts, drawn by matplotlib as SVG whose text stays text."""

import io
from typing import Any

from lumtak.core.load import Reading
from lumtak.core.strip import KIND_WORDS, KINDS, Strip
from lumtak.core.units import GIB

COLOURS = {
    "guarded": "#56616b",
    "keep": "#8fb6d2",
    "ask": "#ecd9ae",
    "ease": "#d9741a",
    "cache": "#e4e8eb",
    "free": "#ffffff",
}
_BEFORE, _AFTER, _INK = "#8a949d", "#1f5f8f", "#22282e"


def load_svg(before: Reading, after: Reading | None, strips: dict[str, Strip], ceiling_cpu: float) -> str:
    """CPU load over time before and after, and the RAM of both cut into its parts. The same input gives the same bytes."""
    import matplotlib as mpl
    from matplotlib.figure import Figure

    settings: Any = {
        "svg.fonttype": "none",
        "svg.hashsalt": "lumtak",
        "font.family": "DejaVu Sans",
        "font.size": 9,
        "text.color": _INK,
        "axes.edgecolor": _INK,
    }
    with mpl.rc_context(settings):
        figure = Figure(figsize=(8.0, 4.6), layout="constrained")
        time, ram = figure.subplots(2, 1, height_ratios=[2.2, 1])
        _over_time(time, before, after, ceiling_cpu)
        _strips(ram, strips, before.ram_total_bytes)
        out = io.StringIO()
        figure.savefig(out, format="svg", metadata={"Date": None, "Creator": None})
    return out.getvalue()


def _over_time(axes: Any, before: Reading, after: Reading | None, ceiling: float) -> None:  # noqa: ANN401
    for reading, name, colour, style in ((before, "before", _BEFORE, "-"), (after, "after", _AFTER, "-")):
        if reading is None:
            continue
        axes.plot(
            [s.t_s for s in reading.samples],
            [s.cpu_pct for s in reading.samples],
            style,
            color=colour,
            lw=0.8,
            alpha=0.7,
        )
        kept = reading.kept
        mean = reading.mean("cpu_pct")
        axes.plot([kept[0].t_s, kept[-1].t_s], [mean, mean], color=colour, lw=2.4, label=f"{name}: mean {mean:.1f} %")
    axes.axhline(ceiling, color=_INK, lw=0.9, ls=(0, (4, 3)), label=f"ceiling {ceiling:g} %")
    axes.set(xlabel="seconds since the reading began", ylabel="CPU load, %", ylim=(0, None), xlim=(0, None))
    axes.legend(frameon=False, loc="upper right", ncols=3)
    axes.spines[["top", "right"]].set_visible(False)


def _strips(axes: Any, strips: dict[str, Strip], total_bytes: int) -> None:  # noqa: ANN401
    scale = total_bytes / GIB
    labelled: set[str] = set()
    for place, (_, strip) in enumerate(reversed(strips.items())):
        edge = 0.0
        for kind in KINDS:
            width = sum(p.share for p in strip.pieces if p.kind == kind) * scale
            label = KIND_WORDS[kind] if kind not in labelled else None
            labelled.add(kind)
            axes.barh(
                place,
                width,
                left=edge,
                height=0.62,
                color=COLOURS[kind],
                edgecolor=_INK,
                lw=0.4,
                label=label,
            )
            edge += width
        if strip.ceiling is not None:
            axes.plot([strip.ceiling * scale] * 2, [place - 0.42, place + 0.42], color=_INK, lw=1.6)
    axes.set(
        yticks=range(len(strips)),
        yticklabels=list(reversed(strips)),
        xlim=(0, scale),
        xlabel="RAM, GiB; the dark tick is the ceiling",
    )
    axes.legend(
        frameon=False,
        loc="lower center",
        bbox_to_anchor=(0.5, 1.0),
        ncols=6,
        fontsize=7.5,
        handlelength=1.4,
        columnspacing=1.2,
    )
    axes.spines[["top", "right", "left"]].set_visible(False)
    axes.tick_params(left=False)
