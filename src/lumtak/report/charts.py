"""Charts, drawn by matplotlib as SVG whose text stays text: legible in grey, and 10 cm wide."""

import contextlib
import io
from collections.abc import Callable, Iterator, Sequence
from typing import Any, Literal, get_args

from lumtak.core.bridge import Bar, Bridge, bars
from lumtak.core.clutter import Grown
from lumtak.core.reading import Reading
from lumtak.core.sample import Sample
from lumtak.core.strip import PIECE_KIND_WORDS, PIECE_KINDS, Strip
from lumtak.core.text import plain
from lumtak.core.units import large
from lumtak.report.disk_chart import grown_bars
from lumtak.report.plotting import plotting
from lumtak.report.tongue import Tongue

COLOURS = {
    "guarded": "#49535c",
    "keep": "#86abc6",
    "ask": "#e3d2a4",
    "ease": "#c8640f",
    "aside": "#b7c4ce",
    "cache": "#f1f3f4",
    "free": "#ffffff",
}
"""Of kinds that stand side by side no two are alike in grey."""
_BEFORE, _AFTER, _INK = "#8a949d", "#14507f", "#22282e"
_WIDTH_IN = 5.6
"""So that letters of 9 points are still 6.3 of them where a chart is printed 10 cm wide."""
_NAME = 30


ChartKind = Literal["load", "spread", "bridge", "strips", "disk"]
CHART_KINDS: tuple[ChartKind, ...] = get_args(ChartKind)
ChartFormat = Literal["svg", "pdf"]


class Drawn:
    """What charts are drawn from.

    Args:
        before: the baseline.
        after: None where none was taken.
        strips: (RAM, CPU) by name of the reading.
        ceiling_cpu_pct: of the profile.
        tongue: the language of the words.
        bridges: from before to after; none where there is nothing between.
        disk: the disk's strip by name of the moment.
        disk_bytes: of the volume.
        grew: since the last look through the disk.
    """

    def __init__(
        self,
        before: Reading,
        after: Reading | None,
        *,
        strips: dict[str, tuple[Strip, Strip]],
        ceiling_cpu_pct: float,
        tongue: Tongue,
        bridges: tuple[Bridge, ...] = (),
        disk: dict[str, Strip] | None = None,
        disk_bytes: float = 0.0,
        grew: tuple[Grown, ...] = (),
    ) -> None:
        self.before, self.after, self.strips = before, after, strips
        self.ceiling_cpu_pct, self.tongue, self.bridges = ceiling_cpu_pct, tongue, bridges
        self.disk, self.disk_bytes, self.grew = disk or {}, disk_bytes, grew

    @property
    def kinds(self) -> list[ChartKind]:
        """The charts for which there is something to draw."""
        there = {"bridge": bool(self.bridges), "disk": bool(self.disk)}
        return [kind for kind in CHART_KINDS if there.get(kind, True)]


class Plot:
    """A chart that can be had as a file, or as a drawing for the report.

    Args:
        draw: puts it on a figure.
        size: width and height, in inches.
        note: what has no figure, for a line of text under it.
    """

    def __init__(
        self, draw: Callable[[Any], None], size: tuple[float, float], note: str = ""
    ) -> None:
        self._draw, self._size, self.note = draw, size, note

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


def plot(kind: ChartKind, drawn: Drawn) -> Plot:
    """One chart; the same input gives the same bytes."""
    say = drawn.tongue.say
    size, unit = large()

    def draw(figure: Any) -> None:  # noqa: ANN401 - matplotlib has no types here
        match kind:
            case "load":
                _over_time(figure.subplots(), drawn)
            case "spread":
                _spread(figure.subplots(2, 1), drawn)
            case "bridge":
                _bridges(figure.subplots(max(1, len(drawn.bridges)), 1, squeeze=False), drawn)
            case "disk":
                ratios = [1, 1.4] if drawn.grew else [1]
                axes = figure.subplots(len(ratios), 1, height_ratios=ratios, squeeze=False)
                words = say("disk, {unit}; the dark tick is the floor of free space", unit=unit)
                _strips(axes[0][0], drawn.disk, drawn.disk_bytes / size, words, drawn.tongue)
                if drawn.grew:
                    grown_bars(axes[1][0], drawn.grew, drawn.tongue)
            case "strips":
                ram, cpu = figure.subplots(2, 1)
                total = drawn.before.ram_total_bytes / size
                words = say("RAM, {unit}; the dark tick is the ceiling", unit=unit)
                of_ram = {n: s[0] for n, s in drawn.strips.items()}
                _strips(ram, of_ram, total, words, drawn.tongue)
                words = say("CPU, %; the dark tick is the ceiling")
                of_cpu = {n: s[1] for n, s in drawn.strips.items()}
                _strips(cpu, of_cpu, 100.0, words, drawn.tongue, legend=False)

    rows = sum(len(_shown(b)[0]) for b in drawn.bridges)
    disk = 4.2 if drawn.grew else 1.9
    high = {"load": 3.0, "spread": 4.2, "bridge": 1.9 + 0.21 * rows, "strips": 3.1, "disk": disk}
    return Plot(draw, (_WIDTH_IN, high[kind]), _note(kind, drawn))


def _note(kind: ChartKind, drawn: Drawn) -> str:
    """What a chart has no figure of, by name."""
    if kind == "disk" and not drawn.grew:
        return drawn.tongue.say(
            "Nothing grew since the last look, or there was none before this one."
        )
    if kind != "bridge":
        return ""
    names = list(dict.fromkeys(n for b in drawn.bridges for n in _shown(b)[1]))
    return (
        drawn.tongue.say("No figure of their own: {names}.", names=", ".join(names))
        if names
        else ""
    )


def chart(kind: ChartKind, drawn: Drawn, form: ChartFormat) -> bytes:
    """One chart as a file's bytes: text stays text in SVG, fonts are embedded in PDF."""
    return plot(kind, drawn).file(form)


def _above(axes: Any, columns: int) -> None:  # noqa: ANN401
    """The legend stands above the axes, so that it covers nothing."""
    axes.legend(
        frameon=False, loc="lower left", bbox_to_anchor=(0.0, 1.0), ncols=columns, fontsize=8,
        handlelength=1.6, columnspacing=1.2, borderaxespad=0.2,
    )  # fmt: skip


def _spread(axes: Any, drawn: Drawn) -> None:  # noqa: ANN401
    """How often which load was seen, once it had settled: CPU above, RAM below.

    Filled before, outlined after, so that grey print tells them apart.
    """
    import numpy as np

    say = drawn.tongue.say
    size, unit = large()
    names = (
        ("cpu_pct", say("CPU load, %"), 1.0),
        ("ram_used_bytes", say("RAM in use, {unit}", unit=unit), size),
    )
    sides = {"before": drawn.before, "after": drawn.after}
    for place, (column, name, scale) in enumerate(names):
        values = {
            n: np.array([getattr(s, column) / scale for s in r.kept])
            for n, r in sides.items()
            if r is not None
        }
        low, high = min(v.min() for v in values.values()), max(v.max() for v in values.values())
        edges = np.linspace(low, high if high > low else low + 1.0, 41)
        for side, found in values.items():
            middle = float(np.median(found))
            words = say("before") if side == "before" else say("after")
            label = say("{side}: median {value}", side=words, value=drawn.tongue.number(middle, 2))
            style: Any = {"histtype": "stepfilled", "alpha": 0.55, "color": _BEFORE}
            if side == "after":
                style = {"histtype": "step", "lw": 1.8, "color": _AFTER}
            share = np.full(len(found), 100.0 / len(found))
            axes[place].hist(found, edges, weights=share, label=label, **style)
            axes[place].axvline(
                middle, color=style["color"], lw=1.2, ls="-" if side == "after" else ":"
            )
        axes[place].set(xlabel=name, ylabel=say("% of samples"))
        _above(axes[place], 2)
        axes[place].spines[["top", "right"]].set_visible(False)


def _shown(found: Bridge) -> tuple[list[Bar], list[str]]:
    """(bars, titles of what has no figure of its own)."""
    scale = 1.0 if found.quantity == "cpu_pct" else large()[0]
    every = bars((found,), (scale,))
    without = [b.title for b in every if b.kind == "step" and not b.told and not any(b.projected)]
    return [b for b in every if b.kind != "step" or b.told or any(b.projected)], without


def _bridges(axes: Any, drawn: Drawn) -> None:  # noqa: ANN401
    """From the baseline down to the after reading: what was measured is filled, what was projected
    is a dashed outline; what has no figure of its own is named below.
    """
    say = drawn.tongue.say
    unit = large()[1]
    for place, found in enumerate(drawn.bridges):
        axis = axes[place][0]
        rows, without = _shown(found)
        for y, bar in enumerate(rows):
            left, width, ghost = bar.starts[0], bar.changes[0], bar.projected[0]
            axis.barh(
                y, width, left=left, height=0.6, color=_bar_colour(bar), edgecolor=_INK, lw=0.4
            )
            if ghost is not None:
                outline: Any = {"fill": False, "edgecolor": _INK, "lw": 0.8, "ls": (0, (2, 2))}
                axis.barh(y, ghost, left=left, height=0.86, **outline)
        of_cpu = found.quantity == "cpu_pct"
        words = say("CPU load, %") if of_cpu else say("RAM in use, {unit}", unit=unit)
        if without:
            count = len(without)
            words += "\n" + say("without a figure of their own: {count}", count=count)
        names = [_bar_name(bar, drawn.tongue) for bar in rows]
        axis.set(yticks=range(len(rows)), yticklabels=names, xlabel=words)
        title = say("filled: measured · dashed: as projected")
        axis.set_title(title, loc="right", fontsize=7.5)
        axis.invert_yaxis()
        axis.tick_params(left=False, labelsize=7.5)
        axis.spines[["top", "right", "left"]].set_visible(False)


def _bar_name(bar: Bar, tongue: Tongue) -> str:
    kinds = {
        "baseline": tongue.say("before"),
        "after": tongue.say("after"),
        "rest": tongue.say("everything else"),
    }
    return kinds.get(bar.kind) or plain(bar.title, _NAME)


def _bar_colour(bar: Bar) -> str:
    if bar.kind == "step":
        return COLOURS["ease"] if bar.changes[0] < 0 else COLOURS["ask"]
    return {"baseline": _BEFORE, "after": _AFTER, "rest": COLOURS["cache"]}[bar.kind]


def _over_time(axes: Any, drawn: Drawn) -> None:  # noqa: ANN401
    """CPU load over time: the axis fits what counted; what came before the load had settled is
    dotted.
    """
    say, ceiling = drawn.tongue.say, drawn.ceiling_cpu_pct
    high = ceiling
    settling: list[tuple[Sequence[Sample], str]] = []
    sides = ((drawn.before, say("before"), _BEFORE), (drawn.after, say("after"), _AFTER))
    for reading, name, colour in sides:
        if reading is None:
            continue
        kept = reading.kept
        high = max(high, *(s.cpu_pct for s in kept))
        early = reading.samples[: len(reading.samples) - len(kept) + 1]
        settling.append((early, colour))
        axes.plot([s.t_s for s in kept], [s.cpu_pct for s in kept], color=colour, lw=0.8, alpha=0.7)
        mean = reading.mean("cpu_pct")
        label = say("{side}: mean {value} %", side=name, value=drawn.tongue.number(mean, 1))
        axes.plot([kept[0].t_s, kept[-1].t_s], [mean, mean], color=colour, lw=2.4, label=label)
    top = 1.08 * high
    for samples, colour in settling:
        # What is beyond the axis runs along its edge; how far it went is said.
        values = [min(s.cpu_pct, top) for s in samples]
        axes.plot([s.t_s for s in samples], values, ls=":", color=colour, lw=0.9)
    if most := max((s.cpu_pct for samples, _ in settling for s in samples[:-1]), default=0.0):
        label = say("settling, left out (up to {value} %)", value=drawn.tongue.number(most))
        axes.plot([], [], ls=":", color=_INK, lw=0.9, label=label)
    label = say("ceiling {value} %", value=drawn.tongue.number(ceiling))
    axes.axhline(ceiling, color=_INK, lw=0.9, ls=(0, (4, 3)), label=label)
    axes.set(
        xlabel=say("seconds since the reading began"),
        ylabel=say("CPU load, %"),
        ylim=(0, top),
        xlim=(0, None),
    )
    _above(axes, 2)
    axes.spines[["top", "right"]].set_visible(False)


def _strips(
    axes: Any,  # noqa: ANN401
    strips: dict[str, Strip],
    scale: float,
    words: str,
    tongue: Tongue,
    *,
    legend: bool = True,
) -> None:
    seen = {p.kind for strip in strips.values() for p in strip.pieces}
    labelled = set(PIECE_KINDS) - seen
    for place, (_, strip) in enumerate(reversed(strips.items())):
        edge = 0.0
        for kind in PIECE_KINDS:
            width = sum(p.share for p in strip.pieces if p.kind == kind) * scale
            label = tongue.say(PIECE_KIND_WORDS[kind]) if kind not in labelled else None
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
        yticklabels=[tongue.say(name) for name in reversed(strips)],
        xlim=(0, scale),
        xlabel=words,
    )
    axes.spines[["top", "right", "left"]].set_visible(False)
    axes.tick_params(left=False)
    if not legend:
        return
    _above(axes, 4)
