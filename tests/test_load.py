"""Samples from snapshots, settling, readings."""

import random

import pytest
from hypothesis import given
from hypothesis import strategies as st

from helpers import conditions, sample
from lumtak.core.means import standard_error
from lumtak.core.reading import to_json
from lumtak.core.record import NotMeasured
from lumtak.core.sample import Memory, Snapshot, between
from lumtak.core.settling import settle
from lumtak.core.units import GIB
from lumtak.core.window import Window

UNKNOWN = NotMeasured(not_measured="no clock here")


def snapshot(at_s=0.0, **fields):
    given = {
        "cores": 4, "busy_s": 0.0, "iowait_s": 0.0, "steal_s": 0.0, "total_s": 4 * at_s,
        "clock_ratio": 0.5, "ram_total_bytes": 8 * GIB,
        "ram_used_bytes": 4.0 * GIB, "cache_bytes": 1.0 * GIB, "swap_used_bytes": 0.0,
        "swap_in_bytes": 0.0, "swap_out_bytes": 0.0,
        "cpu_s": {}, "disk_busy_s": 0.0, "stalled_s": {"cpu": 0.0, "memory": 0.0, "io": 0.0},
    }  # fmt: skip
    return Snapshot(at_s=at_s, **{**given, **fields})


def test_load_is_the_busy_share_of_all_ticks():
    got = between(snapshot(0), snapshot(10, busy_s=8.0, iowait_s=4.0, steal_s=2.0), 0.0)
    assert (got.cpu_pct, got.iowait_pct, got.steal_pct) == (20.0, 10.0, 5.0)
    assert got.ram_pct == 50.0
    assert got.work == pytest.approx(0.4), "eight core-seconds in ten seconds, at half the clock"


def test_a_faster_clock_lowers_the_percentage_and_not_the_work():
    slow = between(snapshot(0), snapshot(10, busy_s=8.0), 0.0)
    fast = between(snapshot(0, clock_ratio=1.0), snapshot(10, busy_s=4.0, clock_ratio=1.0), 0.0)
    assert fast.cpu_pct < slow.cpu_pct
    assert fast.work == pytest.approx(slow.work)


def test_work_is_unknown_with_the_reason_where_the_clock_is():
    assert between(snapshot(0), snapshot(1, clock_ratio=UNKNOWN), 0.0).work == UNKNOWN


def test_own_cost_is_left_out_and_said():
    got = between(
        snapshot(0), snapshot(10, busy_s=8.0, own_cpu_s=2.0, own_ram_bytes=1.0 * GIB), 0.0
    )
    assert (got.cpu_pct, got.own_pct) == (15.0, 5.0)
    assert got.ram_used_bytes == 3 * GIB


def test_counters_that_fall_or_appear_invent_nothing():
    got = between(
        snapshot(0, busy_s=5.0, cpu_s={"a": 3.0}),
        snapshot(10, busy_s=4.0, cpu_s={"a": 2.0, "b": 9.0}),
        0.0,
    )
    assert got.cpu_pct == 0.0
    assert got.consumers == {}


def test_two_snapshots_at_one_instant_give_no_nonsense():
    got = between(snapshot(1), snapshot(1), 0.0)
    assert got.cpu_pct == 0.0


def test_pressure_and_disk_are_shares_of_the_time_or_say_why_not():
    stalled = {"cpu": 1.0, "memory": 0.5, "io": UNKNOWN}
    got = between(snapshot(0), snapshot(10, disk_busy_s=2.5, stalled_s=stalled), 0.0)
    assert (
        got.disk_busy_pct,
        got.pressure_cpu_pct,
        got.pressure_memory_pct,
        got.pressure_io_pct,
    ) == (
        25.0,
        10.0,
        5.0,
        UNKNOWN,
    )


def series(cut, level, n=120, seed=1):
    rng = random.Random(seed)
    return [level * (1 if i < cut else 0) + 20 + rng.gauss(0, 1) for i in range(n)]


@pytest.mark.parametrize("cut", [10, 20, 30])
def test_the_transient_is_cut_with_its_tail(cut):
    start, settled = settle(series(cut, 30.0))
    assert settled
    assert cut <= start <= 60


@pytest.mark.parametrize("seed", range(10))
def test_nothing_is_cut_from_a_steady_load(seed):
    assert settle(series(0, 0.0, seed=seed)) == (0, True)


def test_a_long_series_takes_no_longer_than_it_must():
    values = [20.0 + (i * 7919 % 13) for i in range(86400)]
    assert settle(values) == (0, True)


def test_a_drift_never_settles():
    assert not settle([100.0 - i for i in range(100)])[1]
    assert not settle([100.0 + i + i % 3 for i in range(100)])[1]


def test_a_steady_load_is_rarely_taken_for_a_drift():
    assert sum(not settle(series(0, 0.0, seed=seed))[1] for seed in range(100)) <= 3


def test_after_a_start_the_first_half_minute_goes_in_any_case():
    samples = [sample(20.0 + i % 3, t_s=i + 1.0) for i in range(120)]
    last = snapshot(120)
    for since, kept_from in ((20.0, 30), (4000.0, 0)):
        when = conditions(since_login_s=since, uptime_s=since + 40)
        assert built(samples, snapshot(0), last, when).settled_from == kept_from
    assert settle([20.0] * 30, skip=30)[0] == 15, "never more than half"


def test_too_few_samples_are_not_judged():
    assert settle([1.0] * 19) == (0, False)


def test_batch_error_of_dependent_samples_is_wider_than_the_plain_one():
    rng, value, values = random.Random(3), 0.0, []
    for _ in range(240):
        value = 0.9 * value + rng.gauss(0, 1)
        values.append(value)
    spread = (sum((v - sum(values) / 240) ** 2 for v in values) / 239) ** 0.5
    assert standard_error(values) > 2 * spread / 240**0.5
    assert standard_error([5.0]) == 0.0


def built(samples, first, last, when=None):
    window = Window(when or conditions(), first)
    window.looks.append(last)
    for one in samples:
        window.add(one)
    return reading_of(window)


def reading_of(window):
    return window.reading(
        computer="sim:t", identity="sim-t", taken_at="2026-03-02T08:00:00+00:00", interval_s=1.0,
        times={},
    )  # fmt: skip


def test_costs_are_means_over_the_window_with_memory_from_its_ends():
    first = snapshot(0, memory={"a": Memory(ram_bytes=100.0, how="proportional")})
    last = snapshot(
        40,
        memory={
            "a": Memory(ram_bytes=200.0, how="proportional"),
            "c": Memory(ram_bytes=7.0, how="x"),
        },
    )
    samples = [
        sample(20.0, t_s=i + 1.0, consumers={"a": 5.0} if i % 2 else {"b": 1.0}) for i in range(40)
    ]
    got = built(samples, first, last)
    assert got.consumer("a").cpu_pct == pytest.approx(2.5)
    assert got.consumer("a").ram_bytes == 150.0
    assert got.consumer("c").ram_bytes == 7.0
    assert isinstance(got.consumer("b").ram_bytes, NotMeasured)
    assert got.consumer("z") is None


def test_memory_from_before_the_load_settled_does_not_count():
    samples = [sample(90.0 if i < 15 else 20.0 + i % 3, t_s=i + 1.0) for i in range(80)]
    looks = [
        snapshot(at, memory={"a": Memory(ram_bytes=size, how="x")})
        for at, size in ((0, 10.0), (60, 100.0), (80, 200.0))
    ]
    window = Window(conditions(), looks[0])
    window.looks += looks[1:]
    window.samples = samples
    got = reading_of(window)
    assert 15 <= got.settled_from <= 40
    assert got.consumer("a").ram_bytes == 150.0


@given(st.lists(st.floats(0, 100), min_size=1, max_size=80))
def test_a_reading_keeps_at_least_half_its_samples(values):
    got = built([sample(v, t_s=i + 1.0) for i, v in enumerate(values)], snapshot(0), snapshot(1))
    assert len(got.kept) * 2 >= len(values) - 5
    assert min(values) - 1e-9 <= got.mean("cpu_pct") <= max(values) + 1e-9
    assert to_json(got)
