"""The programs of a simulated computer as arrays, one entry a program: what never changes."""

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from lumtak.computers.simulated.spec import ComputerSpec, ProcessSpec
from lumtak.core.facts import UNLISTED

_GIRTH_TAU_S = 180.0

Floats = NDArray[np.float64]
Flags = NDArray[np.bool_]


@dataclass(frozen=True, slots=True, kw_only=True)
class Pace:
    """What a step of one length means to every program: worked out once a length."""

    fade: Floats
    stir: Floats
    girth_fade: float
    girth_stir: float
    begins: Floats
    ends: Floats

    @classmethod
    def of(cls, of: "Programs", dt: float) -> "Pace":
        """For steps of so many seconds."""
        fade, slow = np.exp(-dt / of.tau), math.exp(-dt / _GIRTH_TAU_S)
        return cls(
            fade=fade,
            stir=np.sqrt(1 - fade**2),
            girth_fade=slow,
            girth_stir=math.sqrt(1 - slow**2),
            begins=1 - np.exp(-dt * of.burst_rate),
            ends=1 - np.exp(-dt * of.burst_end),
        )


class Programs:
    """Every program in a fixed order, with the figures of its description.

    Args:
        spec: describes the computer.
    """

    def __init__(self, spec: ComputerSpec) -> None:
        self.spec = spec
        named = _named(spec)
        self.keys: list[str] = [key for key, _ in named]
        self.specs: list[ProcessSpec] = [p for _, p in named]
        self.place = {key: i for i, key in enumerate(self.keys)}
        self.total_mib = spec.hardware.ram_mib
        self.cores = spec.hardware.cores
        self._desktop = self.place["system:desktop"]
        self._paces: dict[float, Pace] = {}
        self._starters()
        self._columns()

    def _starters(self) -> None:
        """Services that start others: timers, what leaves a program behind, launch-prefetching."""
        services = self.spec.service
        self._timers = [(f"services:{s.key}", s) for s in services if s.timer_every_s]
        rung = [name for _, s in self._timers for name in s.rings]
        # Services that a timer starts do not start by being asked for as well.
        self._timed = {key for key, _ in self._timers}.union(f"services:{name}" for name in rung)
        self._leaves = {f"services:{s.key}": s.starts for s in services}
        prefetching = [s.key for s in services if s.role == "launch-prefetch"]
        self._prefetchers = [f"services:{key}" for key in prefetching]

    def _columns(self) -> None:
        """The figures as arrays."""

        def column(name: str) -> Floats:
            return np.array([getattr(p, name) for p in self.specs], dtype=np.float64)

        self.work, self.sigma, self.tau = column("work"), column("sigma"), column("tau_s")
        every = column("burst_every_s")
        self.burst_rate = np.divide(1.0, every, out=np.zeros_like(every), where=every > 0)
        self.burst_end = 1.0 / column("burst_s")
        self.burst_work = column("burst_work")
        self.reads = column("reads_mib_s")
        self._readers = bool((self.reads > 0).any())
        self.ram, self.cache = column("ram_mib"), column("cache_mib")
        self.start_work, self.start_read = column("start_work"), column("start_read_mib")
        self._drag = self.sigma**2 / 2
        self._per_start = np.divide(
            1.0, self.start_work, out=np.zeros_like(self.work), where=self.start_work > 0
        )
        self._still = np.zeros_like(self.work)
        self.asked_rate, self.asked_s = 1.0 / column("asked_every_s"), column("asked_s")

    def pace(self, dt: float) -> Pace:
        """What a step of this length means; worked out once a length."""
        return self._paces.get(dt) or self._paces.setdefault(dt, Pace.of(self, dt))


def _named(spec: ComputerSpec) -> list[tuple[str, ProcessSpec]]:
    """(consumer, description) of every program."""
    groups: tuple[tuple[str, Sequence[ProcessSpec]], ...] = (
        ("system:", spec.system),
        ("services:", spec.service),
        ("apps:", spec.app),
        ("effects:", [e for e in spec.effect if e.work or e.ram_mib]),
        (UNLISTED, spec.stray),
    )
    return [(prefix + program.key, program) for prefix, group in groups for program in group]
