"""A computer that ships with Lumtak: settings change its load through the model only."""

import threading
import uuid
from datetime import UTC, datetime, timedelta
from pathlib import Path

import msgspec

from lumtak.computers.protocol import Capabilities
from lumtak.computers.simulated.faults import LOCKED_S, RESPAWN_S, REVERT_S, SLOW_S, Fault, Kind
from lumtak.computers.simulated.model import Model
from lumtak.computers.simulated.spec import ComputerSpec, ServiceSpec, load_spec
from lumtak.computers.simulated.state import SimState, load_state, save_state
from lumtak.core.facts import (
    UNLISTED,
    Facts,
    Fixed,
    Gap,
    Hardware,
    Item,
    Mark,
    MemoryNow,
    Process,
    Setting,
    Space,
    System,
    Trigger,
    TriggerKind,
)
from lumtak.core.load import Memory, Snapshot
from lumtak.core.record import Figure, NotMeasured
from lumtak.core.setting import SettingRef, Shows, State
from lumtak.core.text import plain
from lumtak.core.units import GIB, MIB
from lumtak.errors import ComputerError, UsageError

_EPOCH = datetime(2026, 3, 2, 7, 30, tzinfo=UTC)
_SHUTDOWN_S = 6.0
_TYPING_S = 4.0
_LONGEST_START_S = 600
_ENDING_S = 2.0
_BY_HAND = ("auto", "manual", "off")
_ON_DEMAND = ("auto", "demand", "manual", "off")
_FIRST_UPTIME_S = 900.0
_IDS = uuid.UUID("6a0f5f0e-4c1d-4b8e-9d3a-2f1c7b9e5d10")


class SimulatedComputer:
    """One computer of the fleet.

    Args:
        name: of the fleet.
        folder: where its state is kept.
        seed: of a computer that is switched on for the first time; one that exists keeps its own.
        pace: how many of its seconds pass in one of ours; 0 is as many as it can.
        faults: what goes wrong with it.
        address: as it was named.
    """

    def __init__(
        self,
        name: str,
        folder: Path,
        *,
        seed: int | None = None,
        pace: float = 0.0,
        faults: tuple[Fault, ...] = (),
        address: str = "",
    ) -> None:
        self.spec: ComputerSpec = load_spec(name)
        self.address = address or f"sim:{name}"
        self.user_name = self.spec.user
        self._faults = faults
        self.identity = f"sim-{name}"
        self.name = self.spec.title.lower()
        self._path = folder / f"{name}.json"
        self._pace = pace
        saved = load_state(self._path)
        if saved is not None and seed is not None and saved.seed != seed:
            raise UsageError(
                f"The simulated {self.name} exists already with seed {saved.seed}.", "Use another --home, or that seed."
            )
        self._state = saved or self._new(seed or 1)
        self._model = Model(self.spec, self._state)
        if saved is None:
            self._boot()
            self._pass(_FIRST_UPTIME_S)
            self._save()

    def _new(self, seed: int) -> SimState:
        settings: dict[str, str | None] = dict(self.spec.settings)
        settings |= {f"services:{s.key}": s.value for s in self.spec.service}
        settings |= {f"apps:{a.key}": a.value for a in self.spec.app}
        settings |= {f"effects:{e.key}": e.value for e in self.spec.effect}
        return SimState(name=self.spec.name, seed=seed, settings=settings, live=dict(settings), processes={}, random={})

    # -- settings -----------------------------------------------------------------------------------------------------

    def read(self, ref: SettingRef) -> State:
        """The setting as it is set, in force or not."""
        return State(value=self._state.settings[self._known(ref)])

    def write(self, ref: SettingRef, state: State) -> None:
        """Set it; what shows at once is in force when this returns, the rest after a login or restart."""
        address = self._by_value(ref, state)
        item = self._item(ref)
        problem = item.setting.problem_with(state.value) if isinstance(item.setting, Setting) else "it is fixed."
        if problem:
            raise ComputerError(f"{self.name}: {address} cannot be set to {state.word}:", problem)
        before = self._state.settings[address]
        self._go_wrong(address)
        self._state = self._with(settings={**self._state.settings, address: state.value})
        if self._shows(ref) == "now":
            self._put_in_force(address)
        self._go_wrong_later(address, before)
        self._save()

    def foresee(self, ref: SettingRef, state: State) -> State:
        """The same value."""
        self._by_value(ref, state)
        return State(value=state.value)

    def _by_value(self, ref: SettingRef, state: State) -> str:
        """The address of a setting; a state that was recorded on a computer of another kind is refused."""
        if state.exact is not None:
            raise ComputerError(
                f"{plain(str(ref))} is not brought to the state that was recorded: {self.name} keeps values alone.",
                "Nothing was changed; `lumtak journal` shows the record.",
            )
        return self._known(ref)

    def undo_kit(self) -> None:
        """None: nothing of it stays when Lumtak is gone."""

    def take_rights(self, *, ask: bool) -> None:
        """Whoever has it may change everything."""

    def give_back_rights(self) -> None:
        """There is nothing to give back."""

    def end_process(self, process: Process, *, force: bool = False, wait_s: float = 5.0) -> bool:
        """Its program ends by the model; one that is stubborn only when forced."""
        place = self._model.place.get(process.consumer)
        if process.untouchable or place is None:
            why = process.untouchable or "it is not there any more"
            raise ComputerError(f"{process.name} is not ended: {why}.", "Choose another process.")
        if not self._model.running[place]:
            return True
        self.wait(min(wait_s, _ENDING_S))
        if self._model.specs[place].stubborn and not force:
            return False
        self._model.stop(process.consumer)
        self._save()
        return True

    # -- faults -------------------------------------------------------------------------------------------------------

    def _hit(self, kind: Kind, address: str) -> bool:
        return any(f.kind == kind and f.hits(address) for f in self._faults)

    def _go_wrong(self, address: str) -> None:
        """Faults that strike before a setting is written."""
        if self._hit("slow", address):
            self.wait(SLOW_S)
        if self._hit("refuse", address):
            raise ComputerError(
                f"{self.name}: {address} was refused:", "a policy of this computer does not let it be changed."
            )
        if self._hit("locked", address):
            until = self._state.locked_until.get(address)
            if until is None:
                until = self._model.clock_s + LOCKED_S
                self._state = self._with(locked_until={**self._state.locked_until, address: until})
                self._save()
            if self._model.clock_s < until:
                raise ComputerError(f"{self.name}: {address} is locked by another program.", "Try again in a minute.")
        if self._hit("powercut", address) and not self._state.lost_power:
            self._state = self._with(lost_power=True)
            self._model.power_off()
            self._model.advance(_SHUTDOWN_S)
            self._boot()
            self._save()
            raise ComputerError(f"{self.name} lost power in the middle of the change.", "It has started again.")

    def _go_wrong_later(self, address: str, before: str | None) -> None:
        """Faults that strike some time after a setting was written."""
        if self._hit("revert", address):
            reverting = {**self._state.reverting, address: (self._model.clock_s + REVERT_S, before)}
            self._state = self._with(reverting=reverting)
        if self._hit("respawn", address) and address.startswith("services:"):
            respawning = {**self._state.respawning, address: self._model.clock_s + RESPAWN_S}
            self._state = self._with(respawning=respawning)

    def _catch_up(self) -> None:
        """Strike with what is due."""
        now = self._model.clock_s
        for address, (due, value) in list(self._state.reverting.items()):
            if now >= due:
                left = {a: v for a, v in self._state.reverting.items() if a != address}
                settings = {**self._state.settings, address: value}
                self._state = self._with(settings=settings, reverting=left)
                self._put_in_force(address)
        for address, due in list(self._state.respawning.items()):
            if now >= due:
                left_over = {a: d for a, d in self._state.respawning.items() if a != address}
                self._state = self._with(respawning=left_over)
                self._model.start(address)

    def _known(self, ref: SettingRef) -> str:
        address = str(ref)
        if address not in self._state.settings:
            raise ComputerError(f"{self.name} has no setting {address}.", f"`lumtak audit {self.address}` lists them.")
        return address

    def _item(self, ref: SettingRef) -> Item:
        return next(item for item in self._items() if item.area == ref.area and item.key == ref.key)

    def _shows(self, ref: SettingRef) -> Shows:
        setting = self._item(ref).setting
        return setting.shows if isinstance(setting, Setting) else "restart"

    def _put_in_force(self, address: str) -> None:
        value = self._state.settings[address]
        self._model.put_in_force(address, value)
        area, key = address.split(":", 1)
        if area == "services":
            if value == "auto":
                self._model.start(address)
            else:
                self._model.stop(address)
        elif area == "apps":
            (self._model.start if value == "on" else self._model.stop)(address)
        elif area == "effects":
            (self._model.start if self._model.effect_on(key) else self._model.stop)(address)

    # -- time ---------------------------------------------------------------------------------------------------------

    def now_s(self) -> float:
        """Its own clock."""
        return self._model.clock_s

    def wall(self) -> datetime:
        """Its clock on the wall: a Monday morning, and what has passed since."""
        return _EPOCH + timedelta(seconds=round(self._model.clock_s, 3))

    def wait(self, seconds: float, stop: threading.Event | None = None) -> None:
        """Its time passes by the model; at its pace, when it has one."""
        if stop is not None and stop.is_set():
            return
        if self._pace:
            (stop or threading.Event()).wait(seconds / self._pace)
        self._pass(seconds)

    def _pass(self, seconds: float) -> None:
        """Time passes; while programs are starting, second by second, to see when the last has started."""
        while seconds > 0 and self._state.login_took_s is None:
            step = min(1.0, seconds)
            self._model.advance(step)
            seconds -= step
            self._note_login()
        if seconds > 0:
            self._model.advance(seconds)
        if self._state.reverting or self._state.respawning:
            self._catch_up()

    def _note_login(self) -> None:
        if self._state.login_took_s is None and not self._model.starting:
            self._state = self._with(login_took_s=self._model.clock_s - self._state.login_at_s)

    def restart(self, *, login_only: bool = False) -> None:
        """Down, up, and the user logs in; programs are still starting when this returns, as in life."""
        if login_only:
            self._log_out()
            self._log_in()
        else:
            self._model.power_off()
            self._model.advance(_SHUTDOWN_S)
            self._boot()
        self._catch_up()
        self._save()

    def _boot(self) -> None:
        began = self._model.clock_s
        self._model.advance(self.spec.hardware.boot_s)
        up = self._model.clock_s
        for address in list(self._state.settings):
            if address.startswith(("services:", "memory:", "power:")):
                self._model.put_in_force(address, self._state.settings[address])
        self._model.start("system:kernel")
        for service in self.spec.service:
            if self._model.live[f"services:{service.key}"] == "auto":
                self._model.start(f"services:{service.key}")
        self._model.ring_at_start()
        self._until_started("services:")
        self._state = self._with(
            boots=self._state.boots + 1,
            booted_at_s=began,
            boot_took_s=self._model.clock_s - began,
            took_s={"start: firmware, kernel": up - began, "start: services": self._model.clock_s - up},
        )
        self._log_in()

    def _log_out(self) -> None:
        for key in self._model.keys:
            if key.startswith(("apps:", "effects:")) or key == "system:desktop":
                self._model.stop(key)

    def _log_in(self) -> None:
        self._model.advance(_TYPING_S)
        self._state = self._with(logins=self._state.logins + 1, login_at_s=self._model.clock_s, login_took_s=None)
        self._model.start("system:desktop")
        for address in list(self._state.settings):
            area = address.split(":", 1)[0]
            if area in {"apps", "effects"}:
                self._put_in_force(address)

    def _until_started(self, prefix: str) -> None:
        for _ in range(_LONGEST_START_S):
            if not self._model.starting_any(prefix):
                return
            self._model.advance(1.0)

    # -- what there is to see -------------------------------------------------------------------------------------------

    def sample(self, *, memory: bool = False) -> Snapshot:
        """The model's counters."""
        model = self._model
        used = model.used_mib() * MIB
        held = model.held_mib()
        return Snapshot(
            at_s=model.clock_s,
            cores=model.cores,
            busy_s=model.busy_s,
            iowait_s=model.iowait_s,
            steal_s=0.0,
            total_s=model.cores * model.clock_s,
            clock_ratio=model.clock_ratio,
            disk_busy_s=model.disk_busy_s,
            stalled_s={"cpu": model.stalled_cpu_s, "memory": model.stalled_memory_s, "io": model.stalled_io_s},
            ram_total_bytes=int(model.total_mib * MIB),
            ram_used_bytes=used,
            cache_bytes=model.cache_mib * MIB,
            swap_used_bytes=model.swapped_mib * MIB,
            swap_in_bytes=model.swap_in_mib * MIB,
            swap_out_bytes=model.swap_out_mib * MIB,
            cpu_s={key: float(model.cpu_s[i]) for i, key in enumerate(model.keys)},
            memory={
                key: Memory(ram_bytes=float(held[i]) * MIB, how="held by the model")
                for i, key in enumerate(model.keys)
                if memory and model.running[i]
            },
        )

    def boot_id(self) -> str:
        """One for each start."""
        return str(uuid.uuid5(_IDS, f"{self.spec.name}/{self._state.seed}/boot/{self._state.boots}"))

    def session_id(self) -> str:
        """One for each login."""
        return f"session-{self._state.logins}"

    def system(self) -> System:
        """What runs on it and since when."""
        state, now = self._state, self._model.clock_s
        return System(
            name="Slipway 4 (simulated)",
            kernel="simulated",
            boot_id=self.boot_id(),
            session_id=self.session_id(),
            uptime_s=now - state.booted_at_s,
            since_login_s=now - state.login_at_s,
            user=self.spec.user,
            power_source="battery" if self.spec.hardware.on_battery else "mains",
            power_plan=self._model.plan.name,
            users=(self.spec.user,),
            temperature_c=self._model.temperature_c
            if self.spec.hardware.heat_c
            else NotMeasured(not_measured="this simulated computer has no sensor"),
        )

    def capabilities(self) -> Capabilities:
        """Everything."""
        return Capabilities(pace=self._pace)

    def facts(self) -> Facts:
        """Everything there is."""
        hardware = self.spec.hardware
        model = self._model
        held = model.held_mib()
        gaps = () if hardware.battery else (Gap(area="power", reason="there is no battery, so no plan for it"),)
        processes = tuple(
            Process(
                pid=100 + i,
                name=key.split(":", 1)[1],
                consumer=key,
                cpu_s=float(model.cpu_s[i]),
                rss_bytes=int(held[i] * MIB),
                started=100 + i,
                untouchable="everything else runs under it" if key.startswith("system:") else "",
            )
            for i, key in enumerate(model.keys)
            if model.running[i]
        )
        return Facts(
            address=self.address,
            identity=self.identity,
            name=self.name,
            hardware=Hardware(
                cores=hardware.cores,
                ram_bytes=int(hardware.ram_mib * MIB),
                nominal_mhz=hardware.nominal_mhz,
                disk=hardware.disk,
                battery=hardware.battery,
            ),
            system=self.system(),
            items=tuple(self._items()),
            gaps=gaps,
            processes=processes,
            process_count=len(processes),
            memory=MemoryNow(
                shared_bytes=0.02 * model.used_mib() * MIB,
                swap_total_bytes=int(float(model.live.get("memory:swap_mib") or 0) * MIB),
                hibernates=hardware.hibernates,
            ),
            space=Space(total_bytes=int(hardware.volume_gib * GIB), free_bytes=int(hardware.free_gib * GIB)),
            marks=tuple(Mark(advice=m.advice, where=m.where) for m in self.spec.mark),
            signs=self.spec.sign,
            times=self.times(),
        )

    def times(self) -> dict[str, Figure]:
        """Parts of the last start, the login, and how quickly it answers now."""
        login = self._state.login_took_s
        still = NotMeasured(not_measured="programs are still starting")
        return {**self._state.took_s, "login": still if login is None else login, **self._model.answers_s()}

    def _items(self) -> list[Item]:
        spec, running = self.spec, self._runs
        items = [
            Item(
                area="services",
                key=s.key,
                title=s.title,
                origin=s.origin,
                role=s.role,
                value=self._state.settings[f"services:{s.key}"],
                running=running(f"services:{s.key}"),
                started_by="starts with the system" if s.value == "auto" else "",
                needs=s.needs,
                aliases=s.aliases,
                triggers=_triggers(s),
                setting=Setting(values=_ON_DEMAND if s.on_demand else _BY_HAND, shows=s.shows),
            )
            for s in spec.service
        ]
        items += [
            Item(
                area="apps",
                key=a.key,
                title=a.title,
                origin=a.origin,
                role=a.role,
                value=self._state.settings[f"apps:{a.key}"],
                running=running(f"apps:{a.key}"),
                started_by="starts at login",
                at_login=True,
                triggers=(Trigger(kind="login"),),
                setting=Setting(values=("on", "off"), shows=a.shows),
            )
            for a in spec.app
        ]
        items += [
            Item(
                area="apps",
                key=f"process/{stray.key}",
                title=stray.title,
                value="on",
                running=True,
                triggers=tuple(
                    Trigger(kind="wants", by=s.key, area="services") for s in spec.service if stray.key in s.starts
                ),
                setting=Fixed(needed="it stands in no list: what starts it has to be changed"),
            )
            for stray in spec.stray
            if running(UNLISTED + stray.key)
        ]
        items += [
            Item(
                area="effects",
                key=e.key,
                title=e.title,
                origin="system",
                value=self._state.settings[f"effects:{e.key}"],
                running=self._model.effect_on(e.key),
                setting=Setting(values=("on", "off"), shows=e.shows),
                note=f"unset counts as {e.default}",
            )
            for e in spec.effect
        ]
        items += [
            Item(
                area="power",
                key=source,
                title=f"Plan on {source}",
                origin="system",
                value=self._state.settings[f"power:{source}"],
                setting=Setting(values=tuple(p.name for p in spec.plan)),
            )
            for source in ("mains", "battery")
            if f"power:{source}" in self._state.settings
        ]
        items += [
            Item(
                area="memory",
                key=m.key,
                title=m.title,
                origin="system",
                value=self._state.settings[f"memory:{m.key}"],
                setting=Setting(lowest=m.lowest, highest=m.highest, shows=m.shows),
                touches="swap",
            )
            for m in spec.memory
        ]
        return items

    def _runs(self, key: str) -> bool:
        i = self._model.place.get(key)
        return i is not None and bool(self._model.running[i])

    # -- keeping ------------------------------------------------------------------------------------------------------

    def _with(self, **fields: object) -> SimState:
        return msgspec.structs.replace(self._state, **fields)

    def _save(self) -> None:
        model = self._model
        self._state = self._with(
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
        save_state(self._path, self._state)

    def close(self) -> None:
        """Save it."""
        self._save()


def _triggers(service: ServiceSpec) -> tuple[Trigger, ...]:
    """What starts a service."""
    found = [Trigger(kind="system")] if service.value == "auto" else []
    found += [Trigger(kind="wants", by=key) for key in service.started_by]
    ways: tuple[tuple[TriggerKind, str], ...] = (
        ("timer", service.timer),
        ("socket", service.socket),
        ("bus", service.bus),
        ("device", service.device),
    )
    found += [Trigger(kind=kind, by=name) for kind, name in ways if name]
    return tuple(found)
