"""A trial as a chart: each pair's difference, the interval, and what would not matter."""

from typing import Any

from lumtak.core.text import plain
from lumtak.core.trial.record import Trial, title_of, told
from lumtak.core.trial.words import in_words
from lumtak.core.units import large
from lumtak.report.charts import Plot
from lumtak.report.tongue import Tongue

_INK, _MARK, _BAND, _SMALL = "#22282e", "#14507f", "#c3ced6", "#eceff1"
_SIZE = (5.6, 3.2)


def trial_plot(trial: Trial, tongue: Tongue) -> Plot:
    """The chart of one trial; the same trial gives the same bytes."""
    say = tongue.say
    scale = 1 / large()[0] if trial.measure == "ram" else 1.0

    def shown(value: float) -> float:
        return told(value, trial.measure) * scale

    def draw(figure: Any) -> None:  # noqa: ANN401 - matplotlib has no types here
        axes = figure.subplots()
        values = [shown(d) for d in trial.differences]
        places = range(1, len(values) + 1)
        limit = sorted((shown(-trial.threshold), shown(trial.threshold)))
        axes.axhspan(*limit, color=_SMALL, zorder=0, label=say("would not matter"))
        found = trial.shown
        if found is not None and found.ci95 is not None:
            low, high = (shown(x) for x in found.ci95)
            axes.axhspan(low, high, color=_BAND, zorder=1, label=say("95 % interval"))
            mean = shown(found.difference)
            axes.axhline(mean, color=_MARK, lw=1.8, label=say("difference"))
        axes.axhline(0, color=_INK, lw=0.8)
        for first, mark in ((True, "o"), (False, "s")):
            mine = [i for i in places if trial.design.on_first[i - 1] is first]
            words = say("on first") if first else say("off first")
            heights = [values[i - 1] for i in mine]
            axes.plot(mine, heights, mark, color=_MARK, mfc="white", ms=5, label=words)
        axes.set(xlabel=say("pair of blocks"), ylabel=plain(title_of(trial.measure), 60))
        axes.legend(
            frameon=False, loc="lower left", bbox_to_anchor=(0.0, 1.0), ncols=3, fontsize=8,
            handlelength=1.6, columnspacing=1.2, borderaxespad=0.2,
        )  # fmt: skip
        axes.spines[["top", "right"]].set_visible(False)

    return Plot(draw, _SIZE, in_words(trial))
