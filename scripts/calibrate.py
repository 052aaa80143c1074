"""How often the comparison is wrong, and what it finds.

`make calibrate` prints the table of docs/MEASURING.md.
"""

import argparse
import sys
import tempfile
from functools import partial
from pathlib import Path

import numpy as np
from scipy.special import stdtrit

sys.path.insert(0, str(Path(__file__).parents[1] / "tests"))

from lumtak.computers.simulated.computer import SimulatedComputer
from lumtak.core.compare import CAUTION_ENDED, compare, compare_many
from lumtak.core.settling import settle
from lumtak.core.trial import design, shown
from lumtak.core.trial.design import BLOCK_S, BLOCKS, WASHOUT_S
from lumtak.core.trial.effects import seen
from lumtak.core.trial.screening import screening
from lumtak.core.verdict import compare_readings
from lumtak.work.sampling import Precision, take_reading
from noise import FAMILIES, autoregression, started, until_sure

PAIRS, BOOT_PAIRS, RESAMPLES = 1000, 200, 400
SHIFT = 3.0
LEVEL, WAITS = 30.0, 0.2
SAMPLES = (60, 120, 300)


def lumtak(a, b):
    """Of a file: every sample counts."""
    return compare(a, b, "x").verdict


def after_settling(a, b):
    """Of a reading: the transient is cut first."""
    return compare(*(s[settle(list(s))[0] :] for s in (a, b)), "x").verdict


def t_test(a, b):
    """Welch's, which takes samples for independent."""
    va, vb = a.var(ddof=1) / a.size, b.var(ddof=1) / b.size
    freedom = (va + vb) ** 2 / (va**2 / (a.size - 1) + vb**2 / (b.size - 1))
    return _verdict(b.mean() - a.mean(), stdtrit(freedom, 0.975) * np.sqrt(va + vb))


def _verdict(difference, half):
    return "none" if abs(difference) <= half else "lower" if difference < 0 else "higher"


def block_bootstrap(rng):
    """Percentile interval of circular blocks of length n to the power of a third."""

    def test(a, b):
        means = []
        for s in (a, b):
            length = max(1, round(s.size ** (1 / 3)))
            starts = rng.integers(0, s.size, (RESAMPLES, -(-s.size // length)))
            index = (starts[:, :, None] + np.arange(length)).reshape(RESAMPLES, -1)[
                :, : s.size
            ] % s.size
            means.append(s[index].mean(axis=1))
        low, high = np.percentile(means[1] - means[0], [2.5, 97.5])
        return "higher" if low > 0 else "lower" if high < 0 else "none"

    return test


def rate(test, a, b, wanted):
    """Percentage of pairs with this verdict."""
    return 100 * np.mean([test(x, y) in wanted for x, y in zip(a, b, strict=True)])


def table(samples):
    """One family a row."""
    rng = np.random.default_rng(1000 + samples)
    print(
        f"\n{samples} samples a reading, {PAIRS} pairs: false alarms % / {SHIFT:g} points found %\n"
    )
    print(
        "| noise | Lumtak, file | Lumtak, reading | t-test | block bootstrap"
        " |\n|---|---|---|---|---|"
    )
    for name, make in FAMILIES.items():
        a, b = make(rng, PAIRS, samples), make(rng, PAIRS, samples)
        cells = []
        for test, pairs in (
            (lumtak, PAIRS),
            (after_settling, PAIRS),
            (t_test, PAIRS),
            (block_bootstrap(rng), BOOT_PAIRS),
        ):
            x, y = a[:pairs], b[:pairs]
            cells.append(
                f"{rate(test, x, y, {'lower', 'higher'}):.1f} /"
                f" {rate(test, x, y - SHIFT, {'lower'}):.0f}"
            )
        print(f"| {name} | " + " | ".join(cells) + " |", flush=True)


def one_sided_start(samples=120):
    """A restart before the second reading only."""
    rng = np.random.default_rng(5)
    a, b = autoregression(rng, PAIRS, samples, 0.6), started(rng, PAIRS, samples)
    print(f"\nRestart before the second reading only, {samples} samples: ", end="")
    print(
        f"false alarms {rate(after_settling, a, b, {'lower', 'higher'}):.1f} % of readings,"
        f" {rate(lumtak, a, b, {'lower', 'higher'}):.1f} % of files"
    )


def coverage(samples=120):
    """How often the interval holds the true difference, which adds or multiplies."""
    rng = np.random.default_rng(9)
    print(
        f"\nHow often the interval holds the true difference, {samples} samples, {PAIRS} pairs, %:"
        f" {LEVEL:g} points of load, {SHIFT:g} less, and times 0.6 and 1.5; and waits (the"
        " exponential of a fifth of the noise) times 0.6\n"
    )
    print("| noise | added | times 0.6 | times 1.5 | waits |\n|---|---|---|---|---|")
    for name, make in FAMILIES.items():
        a, b = (LEVEL + make(rng, PAIRS, samples) for _ in range(2))
        cells = [holds(a, b - SHIFT, -SHIFT)]
        cells += [holds(a, by * b, (by - 1) * b.mean()) for by in (0.6, 1.5)]
        waits = [WAITS * (side - LEVEL) for side in (a, b)]
        cells.append(holds(waits[0], waits[1] + np.log(0.6), np.log(0.6)))
        print(f"| {name} | " + " | ".join(f"{cell:.1f}" for cell in cells) + " |", flush=True)


def holds(a, b, truth):
    """Percentage of pairs whose interval holds the truth."""
    found = (compare(x, y, "x").ci95 for x, y in zip(a, b, strict=True))
    return 100 * np.mean([low <= truth <= high for low, high in found])


def stopping():
    """Readings that end by themselves."""
    rule = Precision()
    rng = np.random.default_rng(6)
    print(
        f"\nReadings that end when the mean is sure to ± {rule.cpu_pct:g}, at most {rule.most_s:g}"
        " samples: false alarms %, found %, mean length\n"
    )
    print("| noise | alarms | found | length |\n|---|---|---|---|")
    for name, make in FAMILIES.items():
        sides = [make(rng, PAIRS, int(rule.most_s)) for _ in range(2)]
        ended = [[until_sure(s, rule) for s in side] for side in sides]
        pairs = list(zip(*ended, strict=True))

        def verdict(x, y):
            return compare_many([x], [y], "x", caution=CAUTION_ENDED).verdict

        alarms = 100 * np.mean([verdict(x, y) != "none" for x, y in pairs])
        found = 100 * np.mean([verdict(x, y - SHIFT) == "lower" for x, y in pairs])
        length = np.mean([s.size for side in ended for s in side])
        print(f"| {name} | {alarms:.1f} | {found:.0f} | {length:.0f} |", flush=True)


def simulated(pairs=60):
    """The drawing bench, restarted before each reading, nothing changed.

    Thresholds of 1 point of CPU and 1 % of RAM.
    """
    alarms = {"cpu_pct": 0, "ram_used_bytes": 0, "work": 0}
    for seed in range(1, pairs + 1):
        with tempfile.TemporaryDirectory() as folder:
            computer = SimulatedComputer("drawing-bench", Path(folder), seed=seed)
            readings = []
            for _ in range(2):
                computer.clock.restart()
                readings.append(take_reading(computer))
            for result in compare_readings(*([r] for r in readings)):
                alarms[result.column] += result.verdict != "none"
    print(
        f"\nThe simulated drawing bench, restarted before each of two readings, {pairs} pairs:"
        " false alarms ",
        end="",
    )
    print(
        ", ".join(f"{name} {count} ({100 * count / pairs:.0f} %)" for name, count in alarms.items())
    )


TRIALS, TRIAL_EFFECT = 1000, 3.0


def blocks_of(values, planned, effect=None):
    """On minus off of each pair, out of a load of one sample a second.

    Args:
        values: the load.
        planned: the design.
        effect: makes of a part of the load what it is, given whether the change is on and was so
            in the block before.
    """
    step, washout = round(planned.block_s + planned.washout_s), round(planned.washout_s)
    states = planned.states()
    means = []
    for place, on in enumerate(states):
        part = values[place * step : (place + 1) * step]
        if effect is not None:
            part = effect(part, on, place > 0 and states[place - 1])
        means.append(part[washout:].mean())
    pairs = zip(means[::2], means[1::2], strict=True)
    return [
        a - b if first else b - a for (a, b), first in zip(pairs, planned.on_first, strict=True)
    ]


def adds(part, on, _before):
    """The same, whatever the load."""
    return part - TRIAL_EFFECT * on


def multiplies(part, on, _before):
    """A share of the load."""
    return part * (0.9 if on else 1.0)


def carries_over(part, on, before):
    """Comes and goes slowly, and is not all there when the washout is over."""
    fades = np.exp(-np.arange(part.size) / 10.0)
    return part - TRIAL_EFFECT * (on + (float(before) - on) * fades)


def switchbacks():
    """Trials as they are by default, with early stopping: how often they are wrong."""
    print(
        f"\nSwitchback trials, {BLOCKS} blocks of {BLOCK_S:g} s after {WASHOUT_S:g} s, {TRIALS} a"
        f" row, early stopping included: false alarms %, {TRIAL_EFFECT:g} points found %, pairs"
        " until then; how often the interval holds an effect that adds, multiplies, carries over,"
        " %\n"
    )
    print("| noise | alarms | found | pairs | adds | multiplies | carries over |")
    print("|---|---|---|---|---|---|---|")
    rng = np.random.default_rng(26)
    length = round(BLOCKS * (BLOCK_S + WASHOUT_S))
    for name, make in FAMILIES.items():
        loads = LEVEL + make(rng, TRIALS, length)
        rows = [one_trial(load, seed) for seed, load in enumerate(loads)]
        alarms, found, pairs, *held = np.mean(rows, axis=0)
        cells = [100 * alarms, 100 * found, pairs, *(100 * h for h in held)]
        print(f"| {name} | " + " | ".join(f"{cell:.1f}" for cell in cells) + " |", flush=True)


def one_trial(load, seed):
    """(false alarm, effect found, pairs it took, held: adds, multiplies, carries over)."""
    planned = design(seed=seed)
    kinds = (None, adds, multiplies, carries_over)
    nothing, added, times, carried = (
        trial_of(blocks_of(load, planned, kind), planned) for kind in kinds
    )
    truths = (-TRIAL_EFFECT, -0.1 * load.mean(), -TRIAL_EFFECT)
    held = [
        f.ci95[0] <= true <= f.ci95[1]
        for f, true in zip((added, times, carried), truths, strict=True)
    ]
    alarm = not nothing.ci95[0] <= 0 <= nothing.ci95[1]
    return (alarm, added.finding == "lower", added.pairs, *held)


def trial_of(differences, planned):
    """As a trial goes: looked at after each pair, until it ends."""
    for count in range(1, planned.pairs + 1):
        found = shown(differences[:count], planned, threshold=0.0)
        if found.ends:
            return found
    raise ValueError("a trial that does not end")


SCREENED, SCREENED_EFFECTS = 7, (3.0, 1.5)
"""How many changes, and what the first two of them do where something is done."""


def screenings():
    """Screenings as they are by default: how often any of seven changes is taken for something."""
    print(
        f"\nScreenings of {SCREENED} changes in {BLOCKS} blocks of {BLOCK_S:g} s after"
        f" {WASHOUT_S:g} s, {TRIALS} a row, folded over where something is open: false alarms of a"
        " whole screening % where nothing does anything, and of the other changes where the first"
        f" takes {SCREENED_EFFECTS[0]:g} points and the second {SCREENED_EFFECTS[1]:g}; how often"
        " the first is found, the first two stand in their order, and all intervals hold, %\n"
    )
    print("| noise | alarms | of the others | found | in order | all held |")
    print(f"{6 * '|---'}|")
    rng = np.random.default_rng(27)
    length = round(BLOCKS * (BLOCK_S + WASHOUT_S))
    for name, make in FAMILIES.items():
        loads = LEVEL + make(rng, TRIALS, length)
        rows = [one_screening(load, seed) for seed, load in enumerate(loads)]
        cells = 100 * np.mean(rows, axis=0)
        print(f"| {name} | " + " | ".join(f"{cell:.1f}" for cell in cells) + " |", flush=True)


def one_screening(load, seed):
    """(false alarm, one of the others, first found, in order, all intervals hold)."""
    layout = screening(SCREENED, seed=seed)
    truths = np.zeros(SCREENED)
    nothing = screening_of(blocks_in(load, layout, truths), layout)
    truths[:2] = [-size for size in SCREENED_EFFECTS]
    found = screening_of(blocks_in(load, layout, truths), layout)
    others = any(e.finding in {"lower", "higher"} for e in found[2:])
    held = all(e.ci95[0] <= t <= e.ci95[1] for e, t in zip(found, truths, strict=True))
    first, second = (e.difference for e in found[:2])
    alarm = any(e.finding in {"lower", "higher"} for e in nothing)
    return alarm, others, found[0].finding == "lower", first < second, held


def blocks_in(load, layout, truths):
    """The mean of each block, where each change adds what it does."""
    step, washout = round(layout.block_s + layout.washout_s), round(layout.washout_s)
    means = [load[i * step + washout : (i + 1) * step].mean() for i in range(len(layout.rows))]
    return list(np.array(means) + np.array(layout.rows) @ truths)


def screening_of(means, layout):
    """As a screening goes: looked at after each round, until it ends."""
    for count in range(1, layout.rounds + 1):
        found = seen(means[: count * layout.round_blocks], layout, threshold=0.0)
        if found.ends:
            return found.effects
    raise ValueError("a screening that does not end")


def main():
    """Everything, ten minutes; or the parts named."""
    parts = {
        **{str(samples): partial(table, samples) for samples in SAMPLES},
        "coverage": coverage,
        "start": one_sided_start,
        "stopping": stopping,
        "simulated": simulated,
        "trials": switchbacks,
        "screenings": screenings,
    }
    parser = argparse.ArgumentParser(description=main.__doc__)
    parser.add_argument("parts", nargs="*", metavar="PART", choices=[[], *parts])
    for name in parser.parse_args().parts or parts:
        parts[name]()


if __name__ == "__main__":
    main()
