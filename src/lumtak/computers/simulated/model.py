"""The load model of a simulated computer.

Docs/SIMULATION.md gives the equations; every figure comes from here.

All arrays have one entry a program, in the order of `Model.specs`.
"""

import math

import numpy as np

from lumtak.computers.simulated.dice import dice, saved
from lumtak.computers.simulated.programs import Flags, Floats, Programs
from lumtak.computers.simulated.spec import ComputerSpec, ServiceSpec
from lumtak.computers.simulated.state import ProcessState, SimState
from lumtak.core.facts import UNLISTED

_STEP_S = 1.0
_GIRTH_SPREAD = 0.02
_LUCK = 0.15
"""Spread of the logarithm of what a start takes, from one to the next."""
_BACKLOG_MOST = 4.0
_SWAP_MIB_S = 64.0
_CACHE_MIB_S = 4.0
_MIN_FREE = 0.03
_THRASH_MIB_PER_CORE_S = 90.0

_AMBIENT_C = 36.0
_HEAT_TAU_S = 90.0
_THROTTLED = 0.55
_PREFETCHED = {"spinning": 0.55, "solid": 0.97}
"""What is left to read at a start when launch-prefetching has read ahead."""


class Model(Programs):
    """The moving parts: demand, processor, memory, disk.

    Settings come in through `live`; time through `advance`.
    """

    def __init__(self, spec: ComputerSpec, state: SimState) -> None:
        super().__init__(spec)
        self._load(state)

    # -- state in and out --------------------------------------------------------------------------

    def _load(self, state: SimState) -> None:
        self.clock_s = state.clock_s
        self.live = dict(state.live)
        self.refresh()
        rows = [state.processes.get(key, ProcessState()) for key in self.keys]
        self.running: Flags = np.array([r.running for r in rows])
        self.bursting: Flags = np.array([r.bursting for r in rows])

        def column(name: str) -> Floats:
            return np.array([getattr(r, name) for r in rows], dtype=np.float64)

        self.mood, self.girth, self.backlog = column("mood"), column("girth"), column("backlog")
        self.start_left, self.read_left = column("start_left"), column("read_left_mib")
        self.asked_left, self.cpu_s = column("asked_left_s"), column("cpu_s")
        self.cache_mib, self.swapped_mib = state.cache_mib, state.swapped_mib
        self.swap_in_mib, self.swap_out_mib = state.swap_in_mib, state.swap_out_mib
        self.busy_s, self.work_s, self.iowait_s = state.busy_s, state.work_s, state.iowait_s
        self.clock_ratio, self.disk_busy_s = state.clock_ratio, state.disk_busy_s
        self.stalled_cpu_s, self.stalled_memory_s = state.stalled_cpu_s, state.stalled_memory_s
        self.stalled_io_s = state.stalled_io_s
        self.temperature_c = state.temperature_c
        self.demand, self.disk_share = 0.0, 0.0
        """Of the last step: core-seconds a second asked for, and how busy the disk was, 0 to 1."""
        self._seed = state.seed
        self._bits = dice(state.seed, state.random)
        self._random = np.random.Generator(self._bits)

    def put_in_force(self, address: str, value: str | None) -> None:
        """A setting counts from now on; starting and stopping what hangs on it is the caller's."""
        self.live[address] = value
        self.refresh()

    def refresh(self) -> None:
        """Work out anew what follows from the settings in force and does not change from step to
        step.
        """
        drawn = [e for e in self.spec.effect if self.effect_on(e.key)]
        self._quiet = self.work.copy()
        self._quiet[self._desktop] += sum(e.desktop_work for e in drawn)
        self._full = self.ram.copy()
        self._full[self._desktop] += sum(e.desktop_ram_mib for e in drawn)
        # In the order of the settings: it is the order in which chance is drawn, and seeds must
        # hold.
        self._on_demand = [
            a for a, value in self.live.items() if value == "demand" and a in self.place
        ]
        source = "battery" if self.spec.hardware.on_battery else "mains"
        name = self.live.get(f"power:{source}")
        self.plan = next((p for p in self.spec.plan if p.name == name), self.spec.plan[0])

    def processes(self) -> dict[str, ProcessState]:
        """Every program's state, for saving."""
        return {
            key: ProcessState(
                running=bool(self.running[i]),
                mood=float(self.mood[i]),
                bursting=bool(self.bursting[i]),
                start_left=float(self.start_left[i]),
                read_left_mib=float(self.read_left[i]),
                backlog=float(self.backlog[i]),
                girth=float(self.girth[i]),
                asked_left_s=float(self.asked_left[i]),
                cpu_s=float(self.cpu_s[i]),
            )
            for i, key in enumerate(self.keys)
        }

    def random_state(self) -> dict[str, list[int]]:
        """The random number generator's state, for saving."""
        return saved(self._bits)

    # -- programs start and stop -------------------------------------------------------------------

    def start(self, key: str) -> None:
        """The program begins to start, if it does not run."""
        i = self.place.get(key)
        if i is None or self.running[i]:
            return
        self.running[i] = True
        work, read = self._start_luck(i)
        self.start_left[i] = self.start_work[i] * work
        self.read_left[i] = self.start_read[i] * self.read_ahead * read
        self.mood[i], self.girth[i] = self._random.standard_normal(2)
        self.bursting[i] = False
        for stray in self._leaves.get(key, ()):
            self.start(UNLISTED + stray)

    def _start_luck(self, place: int) -> Floats:
        """By what a start takes more or less work and reading than the mean of all.

        Drawn apart, so that the life that follows is the same with any of them.
        """
        at = round(self.clock_s * 1000)
        draws = np.random.default_rng([self._seed, at, place]).standard_normal(2)
        return np.exp(_LUCK * np.clip(draws, -2.5, 2.5))

    @property
    def read_ahead(self) -> float:
        """The share of a start's reading that is left, launch-prefetching counted."""
        on = any(self.live.get(key) == "auto" for key in self._prefetchers)
        return _PREFETCHED[self.spec.hardware.disk] if on else 1.0

    def stop(self, key: str) -> None:
        """The program is gone, with what it held."""
        i = self.place.get(key)
        if i is not None:
            self.running[i] = self.bursting[i] = False
            self.start_left[i] = self.read_left[i] = self.backlog[i] = self.asked_left[i] = 0.0

    def power_off(self) -> None:
        """Nothing runs, and memory is empty."""
        for key in self.keys:
            self.stop(key)
        self.cache_mib = self.swapped_mib = 0.0

    @property
    def starting(self) -> bool:
        """Whether a program is still starting."""
        return bool((self.start_left > 0).any() or (self.read_left > 0).any())

    def starting_keys(self) -> list[str]:
        """Programs that are still starting."""
        busy = (self.start_left > 0) | (self.read_left > 0)
        return [key for i, key in enumerate(self.keys) if busy[i]]

    def starting_any(self, prefix: str) -> bool:
        """Whether a program whose key begins so is still starting."""
        return any(key.startswith(prefix) for key in self.starting_keys())

    # -- time --------------------------------------------------------------------------------------

    def advance(self, seconds: float) -> None:
        """Let so much time pass, in steps of at most a second."""
        whole = math.ceil(seconds / _STEP_S - 1e-9)
        for _ in range(whole):
            self._step(seconds / whole)

    def _step(self, dt: float) -> None:
        self._ring(dt)
        demand = self._demand(dt)
        starting, read_mib = self._starting(dt)
        if self._readers:
            wanted_mib = (
                float(
                    (self.reads * np.exp(self.sigma * self.mood - self._drag) * self.running).sum()
                )
                * dt
            )
            read_mib += min(wanted_mib, max(0.0, self.spec.hardware.disk_mib_s * dt - read_mib))
        swap_busy_s = self._memory(dt, float(demand.sum()), read_mib)
        wanted = demand + starting + np.minimum(self.backlog / dt, 1.0)
        total = float(wanted.sum())
        self.clock_ratio, share = self._clock_at(total)
        served = wanted * share
        self.start_left = np.maximum(0.0, self.start_left - starting * share * dt)
        missed = self.backlog - np.minimum(self.backlog, dt) * share + demand * (1 - share) * dt
        self.backlog = np.minimum(missed, _BACKLOG_MOST)
        wall = served / self.clock_ratio * dt
        self.cpu_s += wall
        busy = float(wall.sum())
        self.busy_s += busy
        self.work_s += float(served.sum()) * dt
        idle = self.cores * dt - busy
        disk_busy_s = min(dt, read_mib / self.spec.hardware.disk_mib_s + swap_busy_s)
        self.iowait_s += max(0.0, min(idle, disk_busy_s))
        self.disk_busy_s += disk_busy_s
        self.stalled_io_s += disk_busy_s
        self.stalled_memory_s += min(dt, swap_busy_s)
        self.stalled_cpu_s += (1 - share) * dt
        self._warm(dt, float(served.sum()) / self.cores)
        self.demand, self.disk_share = total, disk_busy_s / dt
        self.clock_s += dt

    def _clock_at(self, demand: float) -> tuple[float, float]:
        """(clock ratio, share of the demand that is served) at a demand."""
        plan = self.plan
        ratio = plan.low + (plan.high - plan.low) * min(1.0, demand / (self.cores * plan.high))
        ratio = self._held_down(ratio)
        return ratio, min(1.0, self.cores * ratio / demand) if demand > 0 else 1.0

    def _held_down(self, ratio: float) -> float:
        """A clock ratio, as far as heat lets it be."""
        hot = self.spec.hardware.heat_c and self.temperature_c >= self.spec.hardware.throttle_c
        return min(ratio, _THROTTLED) if hot else ratio

    def pace_of_one_more(self) -> float:
        """How fast a program would run that asked for a core now, against the nominal clock: its
        core goes as fast as the plan lets it, as far as others leave it one.
        """
        high = self._held_down(self.plan.high)
        return high * min(1.0, self.cores * high / (self.demand + 1.0))

    def _warm(self, dt: float, work: float) -> None:
        """Heat follows the work done a core, with a delay."""
        goal = _AMBIENT_C + self.spec.hardware.heat_c * work
        self.temperature_c += (goal - self.temperature_c) * (1 - math.exp(-dt / _HEAT_TAU_S))

    def _ring(self, dt: float) -> None:
        """Timers that come due start what they are for; what is off does not start."""
        for key, spec in self._timers:
            if int(self.clock_s / spec.timer_every_s) == int(
                (self.clock_s + dt) / spec.timer_every_s
            ):
                continue
            self._rung(key, spec)

    def ring_at_start(self) -> None:
        """Timers that ring at every start do."""
        for key, spec in self._timers:
            if spec.at_start:
                self._rung(key, spec)

    def _rung(self, key: str, spec: ServiceSpec) -> None:
        if self.live.get(key) == "off":
            return
        for rung in (key, *(f"services:{name}" for name in spec.rings)):
            if self.live.get(rung) == "demand" and not self.running[self.place[rung]]:
                self.start(rung)
                self.asked_left[self.place[rung]] = self.asked_s[self.place[rung]]

    def _demand(self, dt: float) -> Floats:
        """Core-seconds per second each program asks for, its start apart."""
        pace = self.pace(dt)
        noise = self._random.standard_normal((2, len(self.keys)))
        chance = self._random.random((2, len(self.keys)))
        self.mood = pace.fade * self.mood + pace.stir * noise[0]
        self.girth = pace.girth_fade * self.girth + pace.girth_stir * noise[1]
        self.bursting = self.running & np.where(
            self.bursting, chance[0] >= pace.ends, chance[0] < pace.begins
        )
        self._requests(dt, chance[1])
        demand = (
            self._quiet * np.exp(self.sigma * self.mood - self._drag)
            + self.bursting * self.burst_work
        )
        return demand * (self.running & (self.start_left <= 0))

    def _requests(self, dt: float, chance: Floats) -> None:
        """Services on demand start when asked, and stop a while after."""
        for key in self._on_demand:
            i = self.place[key]
            if self.running[i]:
                self.asked_left[i] -= dt
                if self.asked_left[i] <= 0:
                    self.stop(key)
            elif key not in self._timed and chance[i] < 1 - math.exp(
                -dt * float(self.asked_rate[i])
            ):
                self.start(key)
                self.asked_left[i] = self.asked_s[i]

    def _starting(self, dt: float) -> tuple[Floats, float]:
        """(core-seconds per second wanted by starts, MiB read).

        The disk is shared, and who waits for it computes less.
        """
        if not self.starting:
            return self._still, 0.0
        readers = self.read_left > 0
        each = self.spec.hardware.disk_mib_s * dt / max(1, int(readers.sum()))
        taken = np.minimum(self.read_left, each)
        self.read_left = self.read_left - taken
        pace = np.where(self.read_left > 0, 0.35, 1.0)
        return np.minimum(self.start_left / dt, pace), float(taken.sum())

    # -- memory ------------------------------------------------------------------------------------

    def held_mib(self) -> Floats:
        """Memory each program holds, swapped or not.

        It fills while the program starts, then wanders slowly.
        """
        done = 1 - self.start_left * self._per_start
        wander = 1 + _GIRTH_SPREAD * np.minimum(np.maximum(self.girth, -2.5), 2.5)
        return self._full * (0.3 + 0.7 * done) * wander * self.running

    def used_mib(self) -> float:
        """Memory that could not be had without swapping."""
        return self.spec.kernel.ram_mib + float(self.held_mib().sum()) - self.swapped_mib

    def _memory(self, dt: float, demand: float, read_mib: float) -> float:
        """Moves swap and cache on; gives the seconds for which the disk was busy with swap."""
        held = float(self.held_mib().sum()) + self.spec.kernel.ram_mib
        must = max(0.0, held - (1 - _MIN_FREE) * self.total_mib)
        cold = (
            float(self.live.get("memory:swappiness") or 60)
            / 100
            * 0.05
            * max(0.0, held - 0.6 * self.total_mib)
        )
        room = float(self.live.get("memory:swap_mib") or 0)
        target = min(room, must + cold)
        out = min(max(0.0, target - self.swapped_mib), _SWAP_MIB_S * dt)
        back = min(max(0.0, self.swapped_mib - target), _SWAP_MIB_S * dt)
        thrash = (
            min(
                _THRASH_MIB_PER_CORE_S * demand * must / max(held, 1.0),
                self.spec.hardware.disk_mib_s,
            )
            * dt
        )
        self.swapped_mib += out - back
        self.swap_out_mib += out + thrash
        self.swap_in_mib += back + thrash
        appetite = self.spec.kernel.cache_mib + float(self.cache[self.running].sum())
        most = max(0.0, (1 - _MIN_FREE) * self.total_mib - (held - self.swapped_mib))
        self.cache_mib = min(self.cache_mib + read_mib + _CACHE_MIB_S * dt, appetite, most)
        return (out + back + 2 * thrash) / self.spec.hardware.disk_mib_s

    def effect_on(self, key: str) -> bool:
        """Whether an effect is drawn: as set, else by its default."""
        value = self.live.get("effects:" + key)
        if value is None:
            value = next(e.default for e in self.spec.effect if e.key == key)
        return value == "on"
