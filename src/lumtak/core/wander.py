"""How far the mean of a load may be off that wanders more slowly than it was looked at.

Six batches and one autoregression take what they saw for all there is. A load with a long memory,
or one that changes its level a few times only, stays apart from its mean for longer than that, and
the difference of two such readings says little. Two things are asked here beside the four slowest
waves of each window (equal-weighted cosines: Müller 2007; Lazarus, Lewis, Stock and Watson 2018):

- How likely is a long memory? First-order autoregressions and fractional noises (Hosking 1981) are
  weighed by their Whittle likelihood (Whittle 1953), on both sides together. The interval is that
  of the mixture: the narrow one as far as the load is an autoregression, and what each fractional
  noise makes of the mean's variance as far as it is one of those.
- Has a side two levels, between which it changed fewer than six times? Then its mean may lie
  anywhere between them, and the interval is as wide as the step is high.
"""

import math
from collections.abc import Sequence
from functools import lru_cache
from typing import TYPE_CHECKING, NamedTuple

from lumtak.core.means import Spread

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray

    Floats = NDArray[np.float64]

WAVES = 4
FEWEST = 24
"""Samples below which nothing can be said of the memory of a load."""
MOST = 2000
"""Longer series are averaged into so many bins: it is the slow part that counts."""
LONG_MEMORY = 0.2
"""How likely a load has a long memory before anything was seen of it, from 120 samples on; with
fewer the two can hardly be told apart, and it counts for less. Set by calibration, as what
follows."""
_FULL_AT = 120
WIDENED = 1.2
"""By so much the spread of a mean under a long memory is widened: the level of a short window is
not its own."""
TOLD = 0.9
"""How likely a long memory has to be to be told of."""
_CORRELATIONS = (
    0.0, 0.1, 0.2, 0.3, 0.4, 0.5, 0.6, 0.7, 0.75, 0.8, 0.85, 0.9, 0.93, 0.96, 0.98,
)  # fmt: skip
_MEMORIES = tuple(0.035 * n for n in range(1, 15))
"""The parameter d of a fractional noise: 0 has none, from a half on it has no mean."""
_SURE, _NORMAL = 0.05, 1.96
"""Of a mixture, and the half-width of a normal error of unit variance that goes with it."""
CHANGES = 6
_APART, _SHARE = 0.8, 0.2
"""Of the variance that two levels have to explain, and of the time that the rarer one has to last:
less are bursts, which are no sign of a long memory, though they look like one."""


class Wander(NamedTuple):
    """What the slowness of a load does to the interval of a difference."""

    half: float
    """Half the 95 % interval."""
    long: bool
    """Whether the load almost certainly has a long memory."""
    step: bool
    """Whether the interval is as wide as a step between two levels is high."""

    def why(self, *, matters: bool) -> str:
        """What the load does, as a clause; empty where nothing speaks for it.

        Args:
            matters: whether something would have been found without this.
        """
        if self.step and matters:
            return f"this load changed its level fewer than {CHANGES} times in a reading"
        return "this load wanders more slowly than the reading is long" if self.long else ""


def wander(before: "Sequence[Floats]", after: "Sequence[Floats]", narrow: float) -> Wander:
    """Half the 95 % interval of the difference of two means, each of one reading or several.

    Args:
        before: readings, each one value a sample, in order, (n,).
        after: the same.
        narrow: half the interval where the memory is short.
    """
    sides = [[_binned(x) for x in side] for side in (before, after)]
    levels = [[_levels(x) for x in side] for side in sides]
    step = max(found.step / len(side) for side in levels for found in side)
    mixed, memory = _mixture(sides, narrow)
    two = any(found.there for side in levels for found in side)
    wide = max(mixed, narrow)
    return Wander(max(step, wide), memory > TOLD and not two, step > wide)


def cosine_spread(values: "Floats") -> Spread:
    """(variance of the mean, degrees of freedom) from the slowest waves of a window."""
    import numpy as np

    if values.size <= 2 * WAVES:  # all of them are slow, and say no more than the values do
        return float(values.var(ddof=1) / values.size), float(values.size - 1)
    size = values.size
    at = (np.arange(size) + 0.5) / size
    waves = np.cos(np.pi * np.outer(np.arange(1, WAVES + 1), at))
    parts = math.sqrt(2 / size) * (waves @ (values - values.mean()))
    return float(np.mean(parts**2) / size), float(WAVES)


def _binned(values: "Floats") -> "Floats":
    import numpy as np

    if values.size <= MOST:
        return values
    return np.array([part.mean() for part in np.array_split(values, MOST)])


# -- autoregressions and long memories -------------------------------------------------------------


class _Models(NamedTuple):
    """Every model at the frequencies of a window: (models, frequencies), and (models,)."""

    spectra: "Floats"
    logs: "Floats"
    """Sums of the logarithms of the spectra."""
    of_mean: "Floats"
    """Variance of the mean where the innovations have unit variance."""


@lru_cache(maxsize=64)
def _models(size: int) -> _Models:
    import numpy as np

    waves = 2 * np.pi * np.arange(1, (size - 1) // 2 + 1) / size
    turned = np.exp(-1j * waves)
    spectra = [1 / np.abs(1 - r * turned) ** 2 for r in _CORRELATIONS]
    spectra += [(2 * np.sin(waves / 2)) ** (-2 * d) for d in _MEMORIES]
    lags = np.arange(size)
    covariances = [r**lags / (1 - r * r) for r in _CORRELATIONS]
    covariances += [_fractional(d, size) for d in _MEMORIES]
    weights = np.where(lags == 0, size, 2.0 * (size - lags)) / size**2
    table = np.array(spectra)
    return _Models(table, np.log(table).sum(axis=1), np.array(covariances) @ weights)


def _fractional(d: float, size: int) -> "Floats":
    """Autocovariances of a fractional noise; Hosking (1981), theorem 1."""
    import numpy as np

    lags = np.arange(1, size)
    first = math.gamma(1 - 2 * d) / math.gamma(1 - d) ** 2
    return first * np.concatenate([[1.0], np.cumprod((lags - 1 + d) / (lags - d))])


def _whittle(values: "Floats") -> "tuple[Floats, Floats]":
    """(log-likelihood, variance of the mean) under each model, at its best scale."""
    import numpy as np

    models = _models(values.size)
    count = models.spectra.shape[1]
    waves = np.fft.rfft(values - values.mean())[1 : count + 1]
    scale = (np.abs(waves) ** 2 / values.size / models.spectra).mean(axis=1)
    if scale.min() <= 0:  # nothing in it is slow
        return np.zeros_like(scale), np.zeros_like(scale)
    return -count * np.log(scale) - models.logs, scale * models.of_mean


def _mixture(sides: "Sequence[Sequence[Floats]]", narrow: float) -> tuple[float, float]:
    """(half the interval, how likely the memory is long); 0 where there is too little to see."""
    import numpy as np

    readings = [x for side in sides for x in side]
    if min(x.size for x in readings) < FEWEST:
        return 0.0, 0.0
    memories = len(_MEMORIES)
    likely = np.zeros(len(_CORRELATIONS) + memories)
    variance = np.zeros_like(likely)
    for side in sides:
        for x in side:
            if x.min() < x.max():
                log, of_mean = _whittle(x)
                likely += log
                variance += of_mean / len(side) ** 2
    long = LONG_MEMORY * min(1.0, sum(x.size for x in readings) / (2 * _FULL_AT))
    prior = np.full_like(likely, (1 - long) / len(_CORRELATIONS))
    prior[-memories:] = long / memories
    weights = prior * np.exp(likely - likely.max())
    weights /= weights.sum()
    # Of short memories the narrow interval knows enough.
    variance[:-memories] = (narrow / _NORMAL) ** 2
    variance[-memories:] *= WIDENED**2
    return _half_of(weights, variance), float(weights[-memories:].sum())


def _half_of(weights: "Floats", variances: "Floats") -> float:
    """The half-width that a mixture of normal errors passes one time in twenty."""
    pairs = [(float(w), math.sqrt(2 * float(v))) for w, v in zip(weights, variances, strict=True)]
    pairs = [(w, s) for w, s in pairs if s > 0 and w > 0]
    if not pairs:
        return 0.0
    low, high = 0.0, 10 * max(s for _, s in pairs)
    for _ in range(50):
        middle = (low + high) / 2
        passed = sum(w * math.erfc(middle / s) for w, s in pairs)
        low, high = (middle, high) if passed > _SURE else (low, middle)
    return high


# -- two levels ------------------------------------------------------------------------------------


class _Levels(NamedTuple):
    """Two levels of a window."""

    there: bool = False
    """Whether it has two at all."""
    step: float = 0.0
    """The height between them, where it changes between them a few times only; else 0."""


def _levels(values: "Floats") -> _Levels:
    import numpy as np

    if values.size < FEWEST or values.min() == values.max():
        return _Levels()
    ordered = np.sort(values)
    size = ordered.size
    counts = np.arange(1, size)
    sums = np.cumsum(ordered)
    low, high = sums[:-1] / counts, (sums[-1] - sums[:-1]) / (size - counts)
    # Otsu (1979): the cut that leaves least variance within the two parts.
    between = counts * (size - counts) * (high - low) ** 2 / size**2
    best = int(np.argmax(between))
    if between[best] < _APART * values.var():
        return _Levels()
    is_high = values > (low[best] + high[best]) / 2
    changes = int(np.count_nonzero(is_high[1:] != is_high[:-1]))
    few = changes < CHANGES and min(best + 1, size - best - 1) >= _SHARE * size
    return _Levels(there=True, step=float(high[best] - low[best]) if few else 0.0)
