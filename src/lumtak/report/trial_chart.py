"""A trial as a chart: each pair's difference, the interval, and what would not matter."""

from typing import Any

from lumtak.core.text import plain
from lumtak.core.trial.effects import Seen
from lumtak.core.trial.record import Experiment, Made, Screening, Trial, title_of, told
from lumtak.core.trial.words import in_words, ranked
from lumtak.core.units import large
from lumtak.report.charts import Plot
from lumtak.report.tongue import Tongue

_INK, _MARK, _BAND, _SMALL = "#22282e", "#14507f", "#c3ced6", "#eceff1"
_SIZE = (5.6, 3.2)


def chart_of_trial(trial: Experiment, tongue: Tongue) -> Plot | None:
    """The chart of one trial; None where it has no result."""
    if isinstance(trial, Screening):
        return None if trial.seen is None else screening_plot(trial, trial.seen, tongue)
    return None if trial.shown is None else trial_plot(trial, tongue)


def screening_plot(trial: Screening, found: Seen, tongue: Tongue) -> Plot:
    """A line a change, the largest first: what it does, and how sure."""
    say = tongue.say
    order = ranked(trial)[::-1]

    def draw(figure: Any) -> None:  # noqa: ANN401 - matplotlib has no types here
        axes = figure.subplots()
        limit = sorted(_shown(x, trial) for x in (-trial.threshold, trial.threshold))
        axes.axvspan(*limit, color=_SMALL, zorder=0, label=say("would not matter"))
        axes.axvline(0, color=_INK, lw=0.8)
        for height, place in enumerate(order):
            effect = found.effects[place]
            ends = [_shown(x, trial) for x in effect.ci95]
            axes.plot(ends, [height, height], color=_MARK, lw=1.8, solid_capstyle="butt")
            clear = effect.finding in {"lower", "higher"}
            face = _MARK if clear else "white"
            mean = _shown(effect.difference, trial)
            axes.plot(mean, height, "o", color=_MARK, mfc=face, ms=6)
        axes.plot([], [], color=_MARK, lw=1.8, label=say("95 % interval"))
        axes.plot([], [], "o", color=_MARK, ms=6, label=say("an effect"))
        axes.plot([], [], "o", color=_MARK, mfc="white", ms=6, label=say("none shown"))
        axes.set_yticks(range(len(order)), [plain(trial.tried[i].title, 32) for i in order])
        axes.set(xlabel=_axis(trial), ylim=(-0.6, len(order) - 0.4))
        _tidy(axes, 2)

    return Plot(draw, (_SIZE[0], 1.2 + 0.32 * len(order)), in_words(trial))


def _shown(value: float, trial: Made) -> float:
    """As its axis says it."""
    scale = 1 / large()[0] if trial.measure == "ram" else 1.0
    return told(value, trial.measure) * scale


def _axis(trial: Made) -> str:
    title = title_of(trial.measure)
    return title.replace("bytes", large()[1]) if trial.measure == "ram" else plain(title, 60)


def _tidy(axes: Any, columns: int) -> None:  # noqa: ANN401 - matplotlib has no types here
    axes.legend(
        frameon=False, loc="lower left", bbox_to_anchor=(0.0, 1.0), ncols=columns, fontsize=8,
        handlelength=1.6, columnspacing=1.2, borderaxespad=0.2,
    )  # fmt: skip
    axes.spines[["top", "right"]].set_visible(False)


def trial_plot(trial: Trial, tongue: Tongue) -> Plot:
    """The chart of one trial; the same trial gives the same bytes."""
    say = tongue.say

    def shown(value: float) -> float:
        return _shown(value, trial)

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
        axes.set(xlabel=say("pair of blocks"), ylabel=_axis(trial))
        _tidy(axes, 3)

    return Plot(draw, _SIZE, in_words(trial))
