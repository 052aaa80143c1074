"""The machine of a simulated computer.

Its state on the disk, its model, time that passes, and its starts.
"""

import threading
from datetime import UTC, datetime, timedelta
from pathlib import Path

import msgspec

from lumtak.computers.simulated.model import Model
from lumtak.computers.simulated.spec import ComputerSpec, load_spec
from lumtak.computers.simulated.state import (
    SimState,
    damaged,
    fits,
    load_state,
    save_state,
    with_settings,
)
from lumtak.core.felt import Start, Waited
from lumtak.core.record import NotMeasured
from lumtak.errors import UsageError

_SHUTDOWN_S = 6.0
_TYPING_S = 4.0
_LONGEST_START_S = 600
_FIRST_UPTIME_S = 900.0
_UPKEEP = ("upkeep:automatic_updates", "upkeep:stop_seconds", "upkeep:watch")
_MORNINGS, _MORNINGS_APART = 4, 1_000_003
_MOST_STARTS, _TOLD = 20, 3
EPOCH = datetime(2026, 3, 2, 7, 30, tzinfo=UTC)
"""A Monday morning: when it is switched on for the first time that is not noted only."""


class Machine:
    """One computer of the fleet; its four parts look at it and change it.

    Args:
        name: of the fleet.
        folder: where its state is kept.
        seed: of one that is switched on for the first time; one that exists keeps its own.
        pace: how many of its seconds pass in one of ours; 0 is as many as it can.
    """

    def __init__(self, name: str, folder: Path, *, seed: int | None, pace: float) -> None:
        self.spec: ComputerSpec = load_spec(name)
        self.name = self.spec.title.lower()
        self.pace = pace
        self._path = folder / f"{name}.json"
        saved = load_state(self._path)
        if saved is not None and seed is not None and saved.seed != seed:
            raise UsageError(
                f"The simulated {self.name} exists already with seed {saved.seed}.",
                "Use another --home, or that seed.",
            )
        fresh = self._new(seed or 1)
        if saved is not None:
            for area in ("storage", "upkeep"):
                saved = with_settings(saved, fresh, area)
        if saved is not None and not fits(saved, fresh.settings):
            raise damaged(self._path)
        self.state = saved or fresh
        self.model = Model(self.spec, self.state)
        if saved is None:
            self._begin(fresh)

    def _begin(self, fresh: SimState) -> None:
        """It was switched on a few mornings before, and is now: those it notes, this one it lives.

        Each morning is a life of its own, so that this one is what it would be without them.
        """
        starts: list[Start] = []
        for morning in range(1, _MORNINGS + 1):
            seed = (fresh.seed * _MORNINGS_APART + morning) % (1 << 63)
            self.state = msgspec.structs.replace(fresh, seed=seed, starts=())
            self.model = Model(self.spec, self.state)
            self._boot()
            for _ in range(_LONGEST_START_S):
                if self.state.login_took_s is not None:
                    break
                self._pass(1.0)
            was = EPOCH - timedelta(days=_MORNINGS + 1 - morning)
            at = was.isoformat(timespec="seconds")
            starts += [
                msgspec.structs.replace(s, at=at, boot_id=f"{s.boot_id}-{at[:10]}")
                for s in self.state.starts
            ]
        self.state = msgspec.structs.replace(fresh, starts=tuple(starts))
        self.model = Model(self.spec, self.state)
        self._boot()
        self._pass(_FIRST_UPTIME_S)
        self.save()

    def _new(self, seed: int) -> SimState:
        settings: dict[str, str | None] = dict(self.spec.settings)
        settings |= {f"services:{s.key}": s.value for s in self.spec.service}
        settings |= {f"apps:{a.key}": a.value for a in self.spec.app}
        settings |= {f"effects:{e.key}": e.value for e in self.spec.effect}
        settings |= {f"storage:{c.name}": "kept" for c in self.spec.clutter}
        settings |= dict.fromkeys(_UPKEEP)
        return SimState(
            name=self.spec.name,
            seed=seed,
            settings=settings,
            live=dict(settings),
            processes={},
            random={},
        )

    def wait(self, seconds: float, stop: threading.Event | None = None) -> None:
        """Time passes by the model; at its pace, when it has one."""
        if stop is not None and stop.is_set():
            return
        if self.pace:
            (stop or threading.Event()).wait(seconds / self.pace)
        self._pass(seconds)

    def _pass(self, seconds: float) -> None:
        """Time passes; while programs are starting, second by second, to see when the last has
        started.
        """
        while seconds > 0 and self.state.login_took_s is None:
            step = min(1.0, seconds)
            self._advance_start(step)
            seconds -= step
            self._note_login()
        if seconds > 0:
            self.model.advance(seconds)
        if self.state.reverting or self.state.respawning:
            self._catch_up()

    def _note_login(self) -> None:
        if self.state.login_took_s is None and not self.model.starting:
            took_s = self.model.clock_s - self.state.login_at_s
            self.put(login_took_s=took_s)
            if self.state.starts and self.state.logins_of_start == 1:
                *before, last = self.state.starts
                told = msgspec.structs.replace(last, usable_s=took_s, waited_for=self._waited())
                self.put(starts=(*before, told))

    def _advance_start(self, seconds: float) -> None:
        """Time passes while programs are starting, and each of them is noted."""
        waited = dict(self.state.waited_s)
        for key in self.model.starting_keys():
            waited[key] = waited.get(key, 0.0) + seconds
        self.model.advance(seconds)
        self.put(waited_s=waited)

    def _waited(self) -> tuple[Waited, ...]:
        longest = sorted(self.state.waited_s.items(), key=lambda one: (-one[1], one[0]))
        titles = dict(zip(self.model.keys, (s.title for s in self.model.specs), strict=True))
        return tuple(
            Waited(name=titles[key], took_s=took) for key, took in longest[:_TOLD] if key in titles
        )

    def _catch_up(self) -> None:
        """Strike with what is due."""
        now = self.model.clock_s
        for address, (due, value) in list(self.state.reverting.items()):
            if now >= due:
                left = {a: v for a, v in self.state.reverting.items() if a != address}
                settings = {**self.state.settings, address: value}
                self.put(settings=settings, reverting=left)
                self.put_in_force(address)
        for address, due in list(self.state.respawning.items()):
            if now >= due:
                left_over = {a: d for a, d in self.state.respawning.items() if a != address}
                self.put(respawning=left_over)
                self.model.start(address)

    # -- starts ------------------------------------------------------------------------------------

    def restart(self, *, login_only: bool = False) -> None:
        """Down, up, and the user logs in.

        Programs are still starting when this returns, as in life.
        """
        if login_only:
            self._log_out()
            self._log_in()
        else:
            self.model.power_off()
            self.model.advance(_SHUTDOWN_S)
            self._boot()
        self._catch_up()
        self.save()

    def _boot(self) -> None:
        began = self.model.clock_s
        self.put(waited_s={}, logins_of_start=0)
        self.model.advance(self.spec.hardware.boot_s)
        up = self.model.clock_s
        for address in list(self.state.settings):
            if address.startswith(("services:", "memory:", "power:")):
                self.model.put_in_force(address, self.state.settings[address])
        self.model.start("system:kernel")
        for service in self.spec.service:
            if self.model.live[f"services:{service.key}"] == "auto":
                self.model.start(f"services:{service.key}")
        self.model.ring_at_start()
        self._until_started("services:")
        self.put(
            boots=self.state.boots + 1,
            booted_at_s=began,
            took_s={
                "start: firmware, kernel": up - began,
                "start: services": self.model.clock_s - up,
            },
        )
        start = Start(
            boot_id=f"boot-{self.state.boots}",
            at=(EPOCH + timedelta(seconds=round(began, 3))).isoformat(timespec="seconds"),
            login_screen_s=self.model.clock_s - began,
            usable_s=NotMeasured(not_measured="programs are still starting"),
        )
        self.put(starts=(*self.state.starts, start)[-_MOST_STARTS:])
        self._log_in()

    def _log_out(self) -> None:
        for key in self.model.keys:
            if key.startswith(("apps:", "effects:")) or key == "system:desktop":
                self.model.stop(key)

    def _log_in(self) -> None:
        self.model.advance(_TYPING_S)
        self.put(
            logins=self.state.logins + 1,
            logins_of_start=self.state.logins_of_start + 1,
            login_at_s=self.model.clock_s,
            login_took_s=None,
        )
        self.model.start("system:desktop")
        for address in list(self.state.settings):
            area = address.split(":", 1)[0]
            if area in {"apps", "effects"}:
                self.put_in_force(address)

    def _until_started(self, prefix: str) -> None:
        for _ in range(_LONGEST_START_S):
            if not self.model.starting_any(prefix):
                return
            self._advance_start(1.0)

    def put_in_force(self, address: str) -> None:
        """A setting counts, and what it switches starts or stops."""
        value = self.state.settings[address]
        self.model.put_in_force(address, value)
        area, key = address.split(":", 1)
        if area == "services":
            if value == "auto":
                self.model.start(address)
            else:
                self.model.stop(address)
        elif area == "apps":
            (self.model.start if value == "on" else self.model.stop)(address)
        elif area == "effects":
            (self.model.start if self.model.effect_on(key) else self.model.stop)(address)

    def runs(self, key: str) -> bool:
        """Whether something runs."""
        i = self.model.place.get(key)
        return i is not None and bool(self.model.running[i])

    # -- keeping -----------------------------------------------------------------------------------

    def put(self, **fields: object) -> None:
        """These fields of its state are so from here on."""
        self.state = msgspec.structs.replace(self.state, **fields)

    def save(self) -> None:
        """Its state stands on the disk."""
        model = self.model
        self.put(
            clock_s=model.clock_s,
            live=dict(model.live),
            processes=model.processes(),
            cache_mib=model.cache_mib,
            swapped_mib=model.swapped_mib,
            swap_in_mib=model.swap_in_mib,
            swap_out_mib=model.swap_out_mib,
            busy_s=model.busy_s,
            work_s=model.work_s,
            iowait_s=model.iowait_s,
            clock_ratio=model.clock_ratio,
            disk_busy_s=model.disk_busy_s,
            stalled_cpu_s=model.stalled_cpu_s,
            stalled_memory_s=model.stalled_memory_s,
            stalled_io_s=model.stalled_io_s,
            temperature_c=model.temperature_c,
            random=model.random_state(),
        )
        save_state(self._path, self.state)
