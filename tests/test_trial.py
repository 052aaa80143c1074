"""Trials: the order is drawn beforehand, and chance is counted, not modelled."""

import itertools
import math

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from lumtak.core.trial import could_show, design, shown
from lumtak.core.trial.design import ERROR, FEWEST, MOST, looks_of
from lumtak.core.trial.inference import interval, subset_means
from lumtak.errors import UsageError
from noise import autoregression

DIFFERENCES = st.lists(
    st.floats(-100, 100, allow_nan=False).map(lambda x: round(x, 3)), min_size=1, max_size=9
)


def gone_through(differences, planned, threshold=0.0):
    """As a trial goes: looked at after each pair, until it ends."""
    for count in range(1, len(differences) + 1):
        found = shown(differences[:count], planned, threshold)
        if found.ends:
            return found
    raise AssertionError("it does not end")


@pytest.mark.parametrize("pairs", [6, 7, 8, 9])
def test_of_all_orders_that_could_be_drawn_at_most_one_in_twenty_alarms(pairs):
    """Every one of them, of a load on which the change does nothing: no simulation, no model."""
    planned = design(2 * pairs if pairs != 7 else 14, seed=3)
    for seed in range(3):
        sizes = np.abs(np.random.default_rng(seed).standard_t(2, pairs)) + 0.01
        alarms = 0
        for signs in itertools.product((-1, 1), repeat=pairs):
            low, high = gone_through(list(sizes * signs), planned).ci95
            alarms += not low <= 0 <= high
        assert 0 < alarms <= ERROR * 2**pairs


@pytest.mark.parametrize("blocks", range(FEWEST, MOST + 1, 2))
def test_the_error_is_spent_by_the_looks_and_no_look_is_in_vain(blocks):
    looks = looks_of(blocks // 2)
    assert sum(look.spends for look in looks) == pytest.approx(ERROR)
    assert looks[-1].pairs == blocks // 2
    assert [look.pairs for look in looks] == sorted({look.pairs for look in looks})
    assert all(look.spends >= 2 / 2**look.pairs for look in looks), "it could end the trial"


@given(DIFFERENCES, st.floats(-50, 50), st.floats(0.05, 0.9))
def test_the_interval_goes_where_the_differences_go(differences, by, error):
    low, high = interval(differences, error)
    moved = interval([d + by for d in differences], error)
    assert (low <= high) or math.isinf(low)
    if math.isinf(low):
        assert moved == (low, high), "so few cannot be that sure"
        return
    assert moved == pytest.approx((low + by, high + by))
    turned = interval([-d for d in differences], error)
    assert turned == pytest.approx((-high, -low))
    assert low <= sum(differences) / len(differences) <= high
    wider = interval(differences, error / 2)
    assert wider[0] <= low
    assert wider[1] >= high


@given(DIFFERENCES)
def test_the_means_of_all_subsets(differences):
    every = [
        sum(part) / size
        for size in range(1, len(differences) + 1)
        for part in itertools.combinations(differences, size)
    ]
    assert list(subset_means(differences)) == pytest.approx(sorted(every))


def test_pairs_are_balanced_and_their_order_is_drawn_from_the_seed():
    planned = design(seed=7)
    assert (planned.pairs, planned.length_s) == (12, 24 * 45)
    states = planned.states()
    assert all({states[2 * i], states[2 * i + 1]} == {True, False} for i in range(12))
    assert design(seed=7) == planned
    orders = {design(seed=n).on_first for n in range(40)}
    assert len(orders) > 35
    share = np.mean([first for n in range(200) for first in design(seed=n).on_first])
    assert 0.45 < share < 0.55


@pytest.mark.parametrize(
    "wrong", [{"blocks": 10}, {"blocks": 13}, {"blocks": 42}, {"block_s": 1.0}, {"washout_s": -1.0}]
)
def test_what_could_never_show_anything_is_refused_beforehand(wrong):
    with pytest.raises(UsageError, match="not possible"):
        design(**{"seed": 1, **wrong})


def test_an_effect_ends_a_trial_early_and_no_effect_needs_all_of_the_interval():
    planned = design(seed=1)
    large = [-3.0 + 0.1 * (n % 3) for n in range(12)]
    assert not shown(large[:7], planned, 1.0).ends, "never before the design allows it"
    assert shown([], planned, 1.0).ci95 is None
    found = gone_through(large, planned, 1.0)
    assert (found.pairs, found.finding) == (8, "lower")
    tiny = [0.02 * (-1) ** n for n in range(12)]
    assert gone_through(tiny, planned, 1.0).finding == "no effect"
    wild = [3.0 * (-1) ** n for n in range(12)]
    assert gone_through(wild, planned, 1.0).finding == "not known"
    assert gone_through(wild, planned, 1.0).pairs == 12


def test_it_says_beforehand_what_it_can_show():
    rng = np.random.default_rng(2)
    planned = design(seed=1)
    (long,) = autoregression(rng, 1, 3000, 0.8)
    smallest = could_show(list(long), 1.0, planned)
    halves = []
    for n in range(40):
        (load,) = autoregression(rng, 1, 24 * 45, 0.8)
        order = design(seed=n)
        means = [load[i * 45 + 15 : (i + 1) * 45].mean() for i in range(24)]
        pairs = zip(means[::2], means[1::2], strict=True)
        signed = [a - b if f else b - a for (a, b), f in zip(pairs, order.on_first, strict=True)]
        low, high = gone_through(signed, order).ci95
        halves.append((high - low) / 2)
    assert 0.5 < smallest / np.median(halves) < 1.5
    assert could_show(list(long[:200]), 1.0, planned) is None
