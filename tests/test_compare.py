"""The comparison: cautious, and calibrated by simulation."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from lumtak.core.compare import compare, in_words
from lumtak.errors import UsageError


def noise(rng, n, rho, mean=30.0, spread=4.0):
    values = np.empty(n)
    values[0] = rng.normal()
    for i in range(1, n):
        values[i] = rho * values[i - 1] + np.sqrt(1 - rho**2) * rng.normal()
    return mean + spread * values


def alarms(rho, shift, pairs=200, n=120, seed=11):
    rng = np.random.default_rng(seed)
    return np.mean(
        [compare(noise(rng, n, rho), noise(rng, n, rho, 30.0 + shift), "x").verdict != "none" for _ in range(pairs)]
    )


@pytest.mark.parametrize("rho", [0.0, 0.5, 0.8])
def test_two_readings_of_the_same_load_rarely_differ(rho):
    assert alarms(rho, 0.0) <= 0.05 + 2 * np.sqrt(0.05 * 0.95 / 200)


@pytest.mark.parametrize("rho", [0.0, 0.5])
def test_a_real_difference_is_found(rho):
    assert alarms(rho, -5.0, pairs=100) >= 0.9


def test_the_interval_holds_the_truth_and_the_verdict_follows_it():
    rng = np.random.default_rng(6)
    result = compare(noise(rng, 120, 0.6), noise(rng, 120, 0.6, mean=20.0), "cpu_pct")
    low, high = result.ci95
    assert low < -10 < high < 0
    assert result.verdict == "lower"
    assert result.difference == pytest.approx(result.after - result.before)
    assert result.smallest == pytest.approx((high - low) / 2)
    assert "lower by" in in_words(result, "CPU load", "points")


@given(st.lists(st.floats(-1e6, 1e6), min_size=2, max_size=50), st.lists(st.floats(-1e6, 1e6), min_size=2, max_size=50))
def test_changing_sides_changes_the_sign(a, b):
    forth, back = compare(a, b, "x"), compare(b, a, "x")
    assert forth.difference == pytest.approx(-back.difference, abs=1e-6)
    assert forth.ci95[0] == pytest.approx(-back.ci95[1], abs=1e-6, rel=1e-6)
    assert {forth.verdict, back.verdict} in ({"none"}, {"lower", "higher"})


def test_constant_series():
    assert compare([5.0] * 10, [5.0] * 10, "x").verdict == "none"
    assert compare([5.0] * 10, [4.0] * 10, "x").verdict == "lower"


def test_one_side_constant():
    result = compare([5.0] * 10, [4.0, 6.0] * 5, "x")
    assert result.verdict == "none"


@pytest.mark.parametrize("values", [[], [1.0], [1.0, float("nan")], [1.0, float("inf")]])
def test_what_cannot_be_compared_is_said(values):
    with pytest.raises(UsageError, match="values of x"):
        compare(values, [1.0, 2.0], "x")


def test_no_clear_difference_says_what_could_have_been_seen():
    result = compare([1.0, 2.0] * 20, [2.0, 1.0] * 20, "x")
    assert in_words(result, "memory", "GiB").startswith("No clear difference in memory")
