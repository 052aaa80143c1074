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


FAMILIES = {
    **{
        f"AR(1), rho {rho}": lambda rng, m, n, rho=rho: autoregression(rng, m, n, rho)
        for rho in (0.0, 0.3, 0.5, 0.7, 0.8, 0.9)
    },
    "bursts": bursts,
    "long bursts": lambda rng, m, n: bursts(rng, m, n, 120.0, 15.0),
    "job every 30 s": periodic,
    "job every 60 s": lambda rng, m, n: periodic(rng, m, n, 60, 8),
    "heavy tails": heavy_tails,
    "skewed": lognormal,
    "drift": drift,
    "restart before both": started,
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
