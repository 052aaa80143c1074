"""Noise of the kinds that loads show, for calibration.

Pairs of series whose means do not differ, (pairs, samples) each.
"""

import numpy as np

from lumtak.core.settling import settle


def autoregression(rng, pairs, samples, rho, burn=100):
    """First-order, unit innovations, so that its spread grows with rho."""
    values = rng.standard_normal((pairs, samples + burn))
    for i in range(1, samples + burn):
        values[:, i] += rho * values[:, i - 1]
    return values[:, burn:]


def bursts(rng, pairs, samples, every=60.0, length=8.0, height=12.0):
    """A program that now and then works hard."""
    on = rng.random(pairs) < length / (length + every)
    values = rng.standard_normal((pairs, samples))
    for i in range(samples):
        chance = rng.random(pairs)
        on = np.where(on, chance >= 1 / length, chance < 1 / every)
        values[:, i] += on * height
    return values


def periodic(rng, pairs, samples, period=30, width=5, height=10.0):
    """A job by the clock, at another phase in every reading."""
    phase = rng.integers(0, period, pairs)[:, None]
    return ((np.arange(samples) + phase) % period < width) * height + rng.standard_normal(
        (pairs, samples)
    )


def heavy_tails(rng, pairs, samples):
    """Student's t with 2.5 degrees of freedom."""
    return rng.standard_t(2.5, (pairs, samples))


def lognormal(rng, pairs, samples):
    """Skewed and dependent, as processor demand is."""
    return np.exp(0.8 * autoregression(rng, pairs, samples, 0.6))


def drift(rng, pairs, samples):
    """Rises by five points over the window, both times."""
    return np.linspace(0, 5, samples) + autoregression(rng, pairs, samples, 0.5)


def started(rng, pairs, samples):
    """Just after a restart: a load that fades within half a minute."""
    return 30 * np.exp(-np.arange(samples) / 6.0) + autoregression(rng, pairs, samples, 0.6)


def fractional(rng, pairs, samples, d, burn=2000):
    """A long memory: what was long ago counts by a power of its age (Hosking 1981)."""
    lags = np.arange(1, burn)
    weights = np.concatenate([[1.0], np.cumprod((lags - 1 + d) / lags)])
    shocks = rng.standard_normal((pairs, samples + burn))
    size = 1 << (samples + 2 * burn).bit_length()
    values = np.fft.irfft(np.fft.rfft(shocks, size) * np.fft.rfft(weights, size), size)
    return values[:, burn : burn + samples]


def states(rng, pairs, samples, stay, height=6.0):
    """Two levels, each for so long on the average."""
    on = rng.random(pairs) < 0.5
    values = rng.standard_normal((pairs, samples))
    for i in range(samples):
        on = np.where(rng.random(pairs) < 1 / stay, ~on, on)
        values[:, i] += on * height
    return values


def jobs(rng, pairs, samples, tail=1.5, a_sample=0.3, burn=2000):
    """How many jobs run that come by chance, and some of which last very long."""
    whole = samples + burn
    values = 0.3 * rng.standard_normal((pairs, samples))
    for row in range(pairs):
        count = rng.poisson(a_sample * whole)
        begun = rng.integers(0, whole, count)
        ended = np.minimum(begun + 1 + rng.pareto(tail, count), whole).astype(int)
        steps = np.bincount(begun, minlength=whole + 1) - np.bincount(ended, minlength=whole + 1)
        values[row] += np.cumsum(steps)[burn:whole]
    return values


def buried(rng, pairs, samples):
    """A slow wander under a quick noise."""
    quick = 2 * rng.standard_normal((pairs, samples))
    return quick + autoregression(rng, pairs, samples, 0.95, burn=300)


def restless(rng, pairs, samples):
    """Calm for a while, then wild for a while."""
    slow = autoregression(rng, pairs, samples, 0.95, burn=300) * np.sqrt(1 - 0.95**2)
    return autoregression(rng, pairs, samples, 0.5) * np.exp(0.7 * slow)


FAMILIES = {
    **{
        f"AR(1), rho {rho}": lambda rng, m, n, rho=rho: autoregression(rng, m, n, rho)
        for rho in (0.0, 0.3, 0.5, 0.7, 0.8, 0.85, 0.9)
    },
    "bursts": bursts,
    "long bursts": lambda rng, m, n: bursts(rng, m, n, 120.0, 15.0),
    "job every 30 s": periodic,
    "job every 60 s": lambda rng, m, n: periodic(rng, m, n, 60, 8),
    "heavy tails": heavy_tails,
    "skewed": lognormal,
    "drift": drift,
    "restart before both": started,
    **{
        f"long memory, d {d}": lambda rng, m, n, d=d: fractional(rng, m, n, d)
        for d in (0.2, 0.35, 0.45)
    },
    **{
        f"two states, {stay} s each": lambda rng, m, n, stay=stay: states(rng, m, n, stay)
        for stay in (20, 40)
    },
    "jobs, some very long": jobs,
    "wander under noise": buried,
    "calm and wild": restless,
}


def until_sure(series, rule):
    """The part of a series that a reading by this rule would keep."""
    sure = 0
    for count in range(rule.fewest, series.size + 1, rule.every):
        start, settled = settle(list(series[:count]))
        kept = series[start:count]
        sure = sure + 1 if settled and rule.sure(list(kept), rule.cpu_pct) else 0
        if sure >= rule.in_a_row:
            return kept
    return series[settle(list(series))[0] :]
