"""The comparison: cautious, and calibrated by simulation."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from lumtak.core.compare import CAUTION_ENDED, compare, compare_many, in_words
from lumtak.core.load import settle
from lumtak.errors import UsageError
from lumtak.stations.reading import Precision
from noise import FAMILIES, autoregression, until_sure


def noise(rng, n, rho, mean=30.0):
    return mean + autoregression(rng, 1, n, rho)[0]


PAIRS = 200
ERROR = 2 * np.sqrt(5 * 95 / PAIRS)


def rate(test, a, b, wanted):
    return 100 * np.mean([test(x, y) in wanted for x, y in zip(a, b, strict=True)])


def of_file(a, b):
    return compare(a, b, "x").verdict


def of_reading(a, b):
    return compare(*(s[settle(list(s))[0] :] for s in (a, b)), "x").verdict


@pytest.mark.parametrize("name", FAMILIES)
@pytest.mark.parametrize("test", [of_file, of_reading])
def test_false_alarms_stay_near_five_in_a_hundred(name, test):
    rng = np.random.default_rng(77)
    a, b = FAMILIES[name](rng, PAIRS, 120), FAMILIES[name](rng, PAIRS, 120)
    assert rate(test, a, b, {"lower", "higher"}) <= 5 + ERROR


@pytest.mark.parametrize("rho", [0.0, 0.5, 0.8])
def test_three_points_are_found(rho):
    rng = np.random.default_rng(78)
    a, b = autoregression(rng, PAIRS, 120, rho), autoregression(rng, PAIRS, 120, rho) - 3
    assert rate(of_file, a, b, {"lower"}) >= 90


def test_a_t_test_would_cry_wolf():
    rng = np.random.default_rng(79)
    a, b = autoregression(rng, PAIRS, 120, 0.8), autoregression(rng, PAIRS, 120, 0.8)
    naive = [abs(x.mean() - y.mean()) > 1.97 * np.sqrt((x.var() + y.var()) / 120) for x, y in zip(a, b, strict=True)]
    assert 100 * np.mean(naive) > 30, "so the table in docs/MEASURING.md means something"


def test_readings_that_end_by_themselves_raise_no_more_alarms():
    rng = np.random.default_rng(80)
    rule = Precision()
    ended = [until_sure(series, rule) for series in autoregression(rng, 2 * PAIRS, 300, 0.7)]
    assert 130 <= np.mean([s.size for s in ended]) < 250
    alarms = [
        compare_many([x], [y], "x", caution=CAUTION_ENDED).verdict != "none"
        for x, y in zip(ended[:PAIRS], ended[PAIRS:], strict=True)
    ]
    assert 100 * np.mean(alarms) <= 5 + ERROR


def test_the_interval_holds_the_truth_and_the_verdict_follows_it():
    rng = np.random.default_rng(6)
    result = compare(noise(rng, 120, 0.6), noise(rng, 120, 0.6, mean=20.0), "cpu_pct")
    low, high = result.ci95
    assert low < -10 < high < 0
    assert (result.verdict, result.finding) == ("lower", "lower")
    for figure in (result.difference, result.median_difference, result.p95_difference, result.shift):
        assert figure == pytest.approx(-10, abs=1.5)
    assert result.difference == pytest.approx(result.after - result.before)
    assert result.smallest == pytest.approx((high - low) / 2)
    assert 10 < result.effective_before < 60
    assert "lower by" in in_words(result, "CPU load", "points")


@pytest.mark.parametrize(
    ("shift", "threshold", "finding"),
    [
        (0.0, 0.0, "not known"),
        (0.0, 5.0, "no effect"),
        (0.9, 2.0, "no effect"),
        (-4.0, 1.0, "lower"),
        (4.0, 1.0, "higher"),
        (0.0, 0.1, "not known"),
    ],
)
def test_no_effect_needs_the_whole_interval_inside_the_threshold(shift, threshold, finding):
    rng = np.random.default_rng(8)
    values = noise(rng, 120, 0.3)
    result = compare(values, noise(rng, 120, 0.3) + shift, "x", threshold=threshold)
    assert result.finding == finding
    assert result.verdict == ("none" if finding in {"no effect", "not known"} else finding)
    if finding == "no effect":
        assert -threshold < result.ci95[0] < result.ci95[1] < threshold
        assert "would not be felt" in in_words(result, "CPU load", "points")


def boots(rng, count, mean, spread):
    """Readings of starts that differ."""
    return [noise(rng, 120, 0.5, mean + spread * rng.standard_normal()) for _ in range(count)]


def test_several_readings_count_how_starts_differ():
    rng = np.random.default_rng(9)
    single = several = 0
    for _ in range(100):
        before, after = boots(rng, 3, 30, 2.0), boots(rng, 3, 30, 2.0)
        single += compare(before[0], after[0], "x").verdict != "none"
        several += compare_many(before, after, "x").verdict != "none"
    assert single > 50, "one reading a side cannot know that starts differ"
    assert several <= 10
    result = compare_many(boots(rng, 3, 30, 0.3), boots(rng, 3, 25, 0.3), "x")
    assert (result.verdict, result.readings_before, result.n_after) == ("lower", 3, 360)
    assert compare_many(boots(rng, 3, 30, 0.2), boots(rng, 1, 25, 0.2), "x").readings_after == 1


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


def test_a_million_samples_are_binned_and_said_so():
    rng = np.random.default_rng(10)
    result = compare(rng.standard_normal(10**6), rng.standard_normal(10**6) - 1, "x")
    assert result.shift == pytest.approx(-1, abs=0.01)
    assert "2000 bins" in result.note


@pytest.mark.parametrize("values", [[1.0, 2.0], [3.0, 3.0]])
def test_two_samples_are_little_and_said_so(values):
    result = compare(values, [9.0, 9.5], "x")
    assert "So few samples" in result.note
    assert result.ci95[0] <= result.difference <= result.ci95[1]


def test_strong_dependence_is_said():
    rng = np.random.default_rng(12)
    assert "worth only a few" in compare(autoregression(rng, 1, 60, 0.99)[0], noise(rng, 60, 0.0), "x").note
