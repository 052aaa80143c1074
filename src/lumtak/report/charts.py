"""Charts, drawn by matplotlib as SVG whose text stays text."""

import contextlib
import io
from collections.abc import Callable, Iterator
from typing import Any, Literal, get_args

from lumtak.core.bridge import Bar, Bridge, bars
from lumtak.core.clutter import Grown
from lumtak.core.reading import Reading
from lumtak.core.record import Record
from lumtak.core.strip import PIECE_KIND_WORDS, PIECE_KINDS, Strip
from lumtak.core.units import large
from lumtak.report.disk_chart import grown_bars
from lumtak.report.plotting import plotting

COLOURS = {
    "guarded": "#56616b",
    "keep": "#8fb6d2",
    "ask": "#ecd9ae",
    "ease": "#d9741a",
    "aside": "#b4c4d1",
    "cache": "#e4e8eb",
    "free": "#ffffff",
}
_BEFORE, _AFTER, _INK = "#8a949d", "#1f5f8f", "#22282e"


ChartKind = Literal["load", "spread", "bridge", "strips", "disk"]
CHART_KINDS: tuple[ChartKind, ...] = get_args(ChartKind)
ChartFormat = Literal["svg", "pdf"]


class Drawn(Record):
    """What charts are drawn from."""

    before: Reading
    after: Reading | None
    strips: dict[str, tuple[Strip, Strip]]
    """(RAM, CPU) by name of the reading."""
    ceiling_cpu_pct: float
    bridges: tuple[Bridge, ...] = ()
    disk: dict[str, Strip] = {}
    """The disk's strip by name of the moment."""
    disk_bytes: float = 0.0
    grew: tuple[Grown, ...] = ()
    """Since the last look through the disk."""


class Plot:
    """A chart that can be had as a file, or as a drawing for the report.

    Args:
        draw: puts it on a figure.
        size: width and height, in inches.
    """

    def __init__(self, draw: Callable[[Any], None], size: tuple[float, float]) -> None:
        self._draw, self._size = draw, size

    @contextlib.contextmanager
    def _figure(self) -> Iterator[Any]:
        """The figure, while settings last that make the same input give the same bytes."""
        mpl = plotting()
        from matplotlib.figure import Figure

        settings: Any = {
            "svg.fonttype": "none",
            "svg.hashsalt": "lumtak",
            "pdf.fonttype": 42,
            "font.family": "DejaVu Sans",
            "font.size": 9,
            "text.color": _INK,
            "axes.edgecolor": _INK,
        }
        # Settings of whoever runs Lumtak must not change the bytes.
        with mpl.rc_context(settings):
            figure = Figure(figsize=self._size, layout="constrained")
            self._draw(figure)
            yield figure

    def file(self, form: ChartFormat) -> bytes:
        """A file's bytes: text stays text in SVG, fonts are embedded in PDF."""
        dates = {"Date"} if form == "svg" else {"CreationDate", "ModDate", "Producer"}
        out = io.BytesIO()
        with self._figure() as figure:
            figure.savefig(out, format=form, metadata=dict.fromkeys({"Creator", *dates}))
        return out.getvalue()

    def drawing(self, width: float) -> Any:  # noqa: ANN401 - of the PDF library
        """The same for a page, so many points wide."""
        with self._figure() as figure:
            from lumtak.report.drawing import drawing_of

            return drawing_of(figure, width)


def load_plot(
    before: Reading, after: Reading | None, strips: dict[str, Strip], ceiling_cpu: float
) -> Plot:
    """CPU load over time before and after, and the RAM of both cut into its parts."""

    def draw(figure: Any) -> None:  # noqa: ANN401 - matplotlib has no types here
        time, ram = figure.subplots(2, 1, height_ratios=[2.2, 1])
        _over_time(time, before, after, ceiling_cpu)
        size, unit = large()
        words = f"RAM, {unit}; the dark tick is the ceiling"
        _strips(ram, strips, before.ram_total_bytes / size, words)

    return Plot(draw, (8.0, 4.6))


def chart(kind: ChartKind, drawn: Drawn, form: ChartFormat) -> bytes:
    """One chart as a file's bytes: text stays text in SVG, fonts are embedded in PDF.

    The same input gives the same bytes.
    """

    def draw(figure: Any) -> None:  # noqa: ANN401
        match kind:
            case "load":
                _over_time(figure.subplots(), drawn.before, drawn.after, drawn.ceiling_cpu_pct)
            case "spread":
                _spread(figure.subplots(2, 1), drawn.before, drawn.after)
            case "bridge":
                _bridges(
                    figure.subplots(1, max(1, len(drawn.bridges)), squeeze=False)[0], drawn.bridges
                )
            case "disk":
                bars, grew = figure.subplots(2, 1, height_ratios=[1, 1.4])
                size, unit = large()
                words = f"disk, {unit}; the dark tick is the floor of free space"
                _strips(bars, drawn.disk, drawn.disk_bytes / size, words)
                grown_bars(grew, drawn.grew)
            case "strips":
                ram, cpu = figure.subplots(2, 1)
                size, unit = large()
                total = drawn.before.ram_total_bytes / size
                _strips(
                    ram,
                    {n: s[0] for n, s in drawn.strips.items()},
                    total,
                    f"RAM, {unit}; the dark tick is the ceiling",
                )
                _strips(
                    cpu,
                    {n: s[1] for n, s in drawn.strips.items()},
                    100.0,
                    "CPU, %; the dark tick is the ceiling",
                    legend=False,
                )

    return Plot(draw, (8.0, 5.4 if kind == "bridge" else 3.6)).file(form)


def _spread(axes: Any, before: Reading, after: Reading | None) -> None:  # noqa: ANN401
    """How often which load was seen: CPU above, RAM below.

    Filled before, outlined after, so that grey print tells them apart.
    """
    import numpy as np

    size, unit = large()
    for place, (column, name, scale) in enumerate(
        (("cpu_pct", "CPU load, %", 1.0), ("ram_used_bytes", f"RAM in use, {unit}", size))
    ):
        sides = {"before": before, "after": after}
        values = {
            n: np.array([getattr(s, column) / scale for s in r.kept])
            for n, r in sides.items()
            if r is not None
        }
        low, high = min(v.min() for v in values.values()), max(v.max() for v in values.values())
        edges = np.linspace(low, high if high > low else low + 1.0, 41)
        for side, colour in (("before", _BEFORE), ("after", _AFTER)):
            if side in values:
                share = np.full(len(values[side]), 100.0 / len(values[side]))
                style: Any = (
                    {"histtype": "stepfilled", "alpha": 0.5}
                    if side == "before"
                    else {"histtype": "step", "lw": 1.8}
                )
                axes[place].hist(
                    values[side],
                    edges,
                    weights=share,
                    color=colour,
                    label=f"{side}: median {np.median(values[side]):.2f}",
                    **style,
                )
                axes[place].axvline(
                    float(np.median(values[side])),
                    color=colour,
                    lw=1.2,
                    ls="-" if side == "after" else ":",
                )
        axes[place].set(xlabel=name, ylabel="% of samples")
        axes[place].legend(frameon=False, ncols=2)
        axes[place].spines[["top", "right"]].set_visible(False)


def _bridges(axes: Any, bridges: tuple[Bridge, ...]) -> None:  # noqa: ANN401
    """From the baseline down to the after reading.

    What was projected stands as an outline behind each step.
    """
    size, name = large()
    for place, found in enumerate(bridges):
        of_cpu = found.quantity == "cpu_pct"
        scale, unit = (1.0, "CPU load, %") if of_cpu else (size, f"RAM in use, {name}")
        axis, rows = axes[place], bars((found,), (scale,))
        for y, bar in enumerate(rows):
            left, width, ghost = bar.starts[0], bar.changes[0], bar.projected[0]
            colour = _bar_colour(bar)
            axis.barh(y, width, left=left, height=0.62, color=colour, edgecolor=_INK, lw=0.4)
            if ghost is not None:
                outline: Any = {"fill": False, "edgecolor": _INK, "lw": 0.8, "ls": (0, (2, 2))}
                axis.barh(y, ghost, left=left, height=0.86, **outline)
        names = [bar.title if bar.told else f"{bar.title} (not told apart)" for bar in rows]
        axis.set(yticks=range(len(rows)), yticklabels=names, xlabel=unit)
        axis.set_title("dashed: as projected", loc="right", fontsize=7.5)
        axis.invert_yaxis()
        axis.tick_params(left=False, labelsize=7.5)
        axis.spines[["top", "right", "left"]].set_visible(False)


def _bar_colour(bar: Bar) -> str:
    if bar.kind == "step":
        return COLOURS["ease"] if bar.changes[0] < 0 else COLOURS["ask"]
    return {"baseline": _BEFORE, "after": _AFTER, "rest": COLOURS["cache"]}[bar.kind]


def _over_time(axes: Any, before: Reading, after: Reading | None, ceiling: float) -> None:  # noqa: ANN401
    for reading, name, colour, style in (
        (before, "before", _BEFORE, "-"),
        (after, "after", _AFTER, "-"),
    ):
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
        axes.plot(
            [kept[0].t_s, kept[-1].t_s],
            [mean, mean],
            color=colour,
            lw=2.4,
            label=f"{name}: mean {mean:.1f} %",
        )
    axes.axhline(ceiling, color=_INK, lw=0.9, ls=(0, (4, 3)), label=f"ceiling {ceiling:g} %")
    axes.set(
        xlabel="seconds since the reading began",
        ylabel="CPU load, %",
        ylim=(0, None),
        xlim=(0, None),
    )
    axes.legend(frameon=False, loc="upper right", ncols=3)
    axes.spines[["top", "right"]].set_visible(False)


def _strips(
    axes: Any,  # noqa: ANN401
    strips: dict[str, Strip],
    scale: float,
    words: str,
    *,
    legend: bool = True,
) -> None:
    seen = {p.kind for strip in strips.values() for p in strip.pieces}
    labelled = set(PIECE_KINDS) - seen
    for place, (_, strip) in enumerate(reversed(strips.items())):
        edge = 0.0
        for kind in PIECE_KINDS:
            width = sum(p.share for p in strip.pieces if p.kind == kind) * scale
            label = PIECE_KIND_WORDS[kind] if kind not in labelled else None
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
        xlabel=words,
    )
    axes.spines[["top", "right", "left"]].set_visible(False)
    axes.tick_params(left=False)
    if not legend:
        return
    axes.legend(
        frameon=False,
        loc="lower center",
        bbox_to_anchor=(0.5, 1.0),
        ncols=6,
        fontsize=7.5,
        handlelength=1.4,
        columnspacing=1.2,
    )
