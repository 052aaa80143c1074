"""The model of the simulated computer: real enough that only what should matters."""

import json
from itertools import pairwise

import msgspec
import pytest

from helpers import bench
from lumtak.computers.simulated.computer import SimulatedComputer
from lumtak.computers.simulated.model import Model
from lumtak.computers.simulated.spec import load_spec
from lumtak.computers.simulated.state import load_state
from lumtak.core.setting import State, parse_ref
from lumtak.core.units import GIB, MIB
from lumtak.errors import ComputerError, StorageError, UnknownNameError, UsageError
from lumtak.work.sampling import take_reading


def mean(computer, column="cpu_pct", seconds=300):
    return take_reading(computer, seconds=seconds).mean(column)


def write(computer, address, value):
    computer.settings.write(parse_ref(address), State(value=value))


def test_the_same_seed_is_the_same_computer_and_another_is_another(tmp_path):
    first, second, other = (
        SimulatedComputer("drawing-bench", tmp_path / n, seed=s)
        for n, s in (("a", 3), ("b", 3), ("c", 4))
    )
    got = [take_reading(c, seconds=60) for c in (first, second, other)]
    assert got[0] == got[1]
    assert got[0].samples != got[2].samples


def test_it_goes_on_exactly_where_it_was_saved(tmp_path):
    whole, parts = bench(tmp_path / "a"), bench(tmp_path / "b")
    whole.clock.wait(50.0)
    parts.clock.wait(20.0)
    parts.close()
    parts = bench(tmp_path / "b")
    parts.clock.wait(30.0)
    assert parts.load.sample(memory=True) == whole.load.sample(memory=True)


def test_short_steps_and_long_ones_tell_the_same_story(tmp_path):
    fine, coarse = bench(tmp_path / "a"), bench(tmp_path / "b")
    a = take_reading(fine, seconds=240, interval_s=0.5)
    b = take_reading(coarse, seconds=240, interval_s=2.0)
    assert a.mean("cpu_pct") == pytest.approx(b.mean("cpu_pct"), rel=0.35)
    assert a.mean("ram_pct") == pytest.approx(b.mean("ram_pct"), rel=0.05)


def test_load_is_bursty_and_depends_on_itself(sim):
    values = [s.cpu_pct for s in take_reading(sim, seconds=600).samples]
    centre = sum(values) / len(values)
    spread = sum((v - centre) ** 2 for v in values)
    lag = sum((a - centre) * (b - centre) for a, b in pairwise(values)) / spread
    assert 0.5 < lag < 0.98
    assert max(values) > centre + 10


def test_a_plan_moves_the_percentage_and_not_the_work(tmp_path):
    cpu, work = {}, {}
    for plan in ("saving", "full"):
        computer = bench(tmp_path / plan)
        write(computer, "power:mains", plan)
        reading = take_reading(computer, seconds=600)
        cpu[plan], work[plan] = reading.mean("cpu_pct"), reading.mean("work")
    assert cpu["saving"] > 1.5 * cpu["full"]
    assert work["saving"] == pytest.approx(work["full"], rel=0.1)


def test_a_service_that_stops_takes_its_memory_and_load_along(sim):
    before = mean(sim, "ram_used_bytes", 30)
    write(sim, "services:chart-cache", "off")
    assert before - mean(sim, "ram_used_bytes", 30) == pytest.approx(812 * MIB, rel=0.15)
    assert "services:chart-cache" not in sim.load.sample(memory=True).memory


def test_an_app_stays_until_the_next_login(sim):
    write(sim, "apps:chat-horn", "off")
    assert "apps:chat-horn" in sim.load.sample(memory=True).memory
    sim.clock.restart(login_only=True)
    assert "apps:chat-horn" not in sim.load.sample(memory=True).memory


def test_a_setting_for_the_next_start_waits_for_it(sim):
    write(sim, "services:crash-courier", "off")
    sim.clock.restart(login_only=True)
    assert "services:crash-courier" in sim.load.sample(memory=True).memory
    sim.clock.restart()
    assert "services:crash-courier" not in sim.load.sample(memory=True).memory
    assert sim.settings.read(parse_ref("services:crash-courier")).value == "off"


def test_on_demand_runs_only_when_asked(sim):
    write(sim, "services:sheet-index", "demand")
    seen = 0
    for _ in range(120):
        sim.clock.wait(60.0)
        seen += "services:sheet-index" in sim.load.sample(memory=True).memory
    assert 0 < seen < 30


def test_an_effect_that_is_unset_counts_by_its_default(sim):
    assert sim.settings.read(parse_ref("effects:shadows")).value is None
    before = sim.load.sample(memory=True).memory["system:desktop"].ram_bytes
    write(sim, "effects:shadows", "off")
    assert sim.load.sample(memory=True).memory["system:desktop"].ram_bytes < before
    write(sim, "effects:shadows", None)
    assert sim.load.sample(memory=True).memory["system:desktop"].ram_bytes == pytest.approx(before)


def test_fewer_apps_shorten_the_login(tmp_path):
    full, lean = bench(tmp_path / "a"), bench(tmp_path / "b")
    for app in lean.machine.spec.app:
        write(lean, f"apps:{app.key}", "off")
    took = []
    for computer in (full, lean):
        computer.clock.restart()
        computer.clock.wait(120.0)
        computer.close()
        took.append(computer.machine.state.login_took_s)
    assert took[1] < took[0] / 2


def test_a_load_just_after_login_settles(sim):
    sim.clock.restart()
    reading = take_reading(sim, seconds=120)
    assert reading.settled
    assert reading.settled_from >= 30
    assert max(s.cpu_pct for s in reading.samples[:5]) > 2 * reading.mean("cpu_pct")


def small(ram_mib):
    """A model of the same bench with other memory."""
    spec = load_spec("drawing-bench")
    spec = msgspec.structs.replace(
        spec, hardware=msgspec.structs.replace(spec.hardware, ram_mib=ram_mib)
    )
    live = (
        {f"services:{s.key}": s.value for s in spec.service}
        | spec.settings
        | {"memory:swap_mib": "4096"}
    )
    model = Model(spec, bench_state(live))
    for key in model.keys:
        model.start(key)
    model.advance(240.0)
    return model


def bench_state(live):
    from lumtak.computers.simulated.state import SimState

    return SimState(name="x", seed=5, settings={}, live=live, processes={}, random={})


def test_too_little_memory_turns_into_swap_and_waiting():
    tight, roomy = small(4096.0), small(16384.0)
    assert roomy.swapped_mib == 0
    assert tight.swapped_mib > 1000
    assert tight.iowait_s > 10 * roomy.iowait_s
    assert tight.used_mib() <= 4096


def test_the_cache_refills_and_gives_way(sim):
    first = sim.load.sample().cache_bytes
    sim.clock.restart()
    empty = sim.load.sample().cache_bytes
    sim.clock.wait(900.0)
    assert empty < first
    assert sim.load.sample().cache_bytes > empty
    snapshot = sim.load.sample()
    assert snapshot.ram_used_bytes + snapshot.cache_bytes <= 8 * GIB


def test_what_it_refuses(sim):
    with pytest.raises(ComputerError, match="power:mains"):
        write(sim, "power:mains", "warp")
    with pytest.raises(ComputerError, match="no setting"):
        write(sim, "services:nowhere", "off")
    assert sim.settings.read(parse_ref("power:mains")).value == "balanced"


def test_names_and_seeds(tmp_path):
    with pytest.raises(UnknownNameError, match="Did you mean drawing-bench"):
        SimulatedComputer("drawing-bensh", tmp_path)
    bench(tmp_path, seed=7)
    with pytest.raises(UsageError, match="seed 7"):
        SimulatedComputer("drawing-bench", tmp_path, seed=8)


@pytest.mark.parametrize("damage", [b"", b"{", b'{"format": 1}', b"\xff\xfe"])
def test_a_damaged_state_is_said(tmp_path, damage):
    (tmp_path / "s.json").write_bytes(damage)
    with pytest.raises(StorageError, match="damaged"):
        load_state(tmp_path / "s.json")


@pytest.mark.parametrize(
    ("part", "spoiled"),
    [
        ("settings", {}),
        ("live", {"services:fax-bridge": "off"}),
        ("random", {"counter": [1]}),
        ("random", {"counter": [1] * 4, "key": [1, 1], "buffer": [1] * 4, "rest": [9, 0, 0]}),
        ("seed", -1),
        ("clock_s", 1e300),
        ("processes", {"services:fax-bridge": {"mood": 1e17}}),
    ],
)
def test_a_state_that_this_computer_cannot_have_is_told_as_damaged(sim, home, part, spoiled):
    path = home / "simulated/drawing-bench.json"
    sim.close()
    document = json.loads(path.read_bytes())
    path.write_text(json.dumps({**document, part: spoiled}))
    with pytest.raises(StorageError, match="is damaged"):
        SimulatedComputer("drawing-bench", home / "simulated")
