"""A real Linux computer behind the protocol."""

import hashlib
import posixpath
import re
import threading
import time
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from datetime import UTC, datetime
from typing import Protocol

import msgspec

from lumtak.computers.hands.reach import runs_systemd, text_at
from lumtak.computers.hands.whose import Hands, User
from lumtak.computers.linux import hardware
from lumtak.computers.linux.autostart import Autostart
from lumtak.computers.linux.effects import Effects
from lumtak.computers.linux.ending import end_process
from lumtak.computers.linux.folder import UserFolder
from lumtak.computers.linux.known_states import check_state
from lumtak.computers.linux.marks import marks
from lumtak.computers.linux.memory_settings import MemorySettings
from lumtak.computers.linux.power import Power, Service
from lumtak.computers.linux.proc import Processes, cpu_times, meminfo, private_bytes
from lumtak.computers.linux.root import Root
from lumtak.computers.linux.sandboxes import PREFIX as SANDBOX
from lumtak.computers.linux.sandboxes import Sandboxes
from lumtak.computers.linux.services import Services
from lumtak.computers.linux.signs import signs
from lumtak.computers.linux.times import answers, start_times
from lumtak.computers.linux.undo_kit import FileUndoKit
from lumtak.computers.linux.user_units import PREFIX as OWN_UNIT
from lumtak.computers.linux.user_units import UserUnits
from lumtak.computers.protocol import Cannot, Capabilities
from lumtak.core.catalogue import Catalogue
from lumtak.core.causes import starter_of
from lumtak.core.facts import UNLISTED, Facts, Fixed, Hardware, Item, Process, System, Trigger
from lumtak.core.load import Snapshot
from lumtak.core.record import Figure, NotMeasured
from lumtak.core.setting import Area, SettingRef, State
from lumtak.core.text import plain
from lumtak.core.units import MIB
from lumtak.errors import ComputerError

_SIDE_BY_SIDE = 2
_HEAVY_BYTES = 20 * MIB
_NO_RESTART = Cannot(
    why="Lumtak does not restart the computer that it runs on.",
    instead="Restart it yourself; the job goes on when you open Lumtak again.",
)
_NO_LOGIN = Cannot(
    why="Lumtak does not log out of the computer that it runs on.",
    instead="Log out and in yourself; the job goes on when you open Lumtak again.",
)


class Adapter(Protocol):
    """Reads and writes the settings of one area."""

    def read(self, ref: SettingRef) -> State:
        """See `Computer.read`."""

    def foresee(self, ref: SettingRef, state: State) -> State:
        """See `Computer.foresee`."""

    def write(self, ref: SettingRef, state: State) -> None:
        """See `Computer.write`."""


class _ByPrefix:
    """One area whose keys tell by how they begin which adapter knows them."""

    def __init__(self, adapters: dict[str, Adapter], otherwise: Adapter) -> None:
        self._adapters = adapters
        self._otherwise = otherwise

    def _of(self, ref: SettingRef) -> Adapter:
        return next((a for prefix, a in self._adapters.items() if ref.key.startswith(prefix)), self._otherwise)

    def read(self, ref: SettingRef) -> State:
        """See `Computer.read`."""
        return self._of(ref).read(ref)

    def foresee(self, ref: SettingRef, state: State) -> State:
        """See `Computer.foresee`."""
        return self._of(ref).foresee(ref, state)

    def write(self, ref: SettingRef, state: State) -> None:
        """See `Computer.write`."""
        self._of(ref).write(ref, state)


class LinuxComputer:
    """This machine, or a folder that looks like one.

    Args:
        hands: reach its files and programs.
        user: whose settings are changed.
        catalogue: knows roles.
        address: as it was named.
        monotonic, wall: clocks.
    """

    def __init__(
        self,
        hands: Hands,
        user: User,
        catalogue: Catalogue,
        *,
        address: str = "local",
        monotonic: Callable[[], float] = time.monotonic,
        wall: Callable[[], datetime] = lambda: datetime.now(UTC),
    ) -> None:
        self._hands = hands
        self._hand = hand = hands.own
        self._user = user
        self._about = hand.about()
        self._started: tuple[str, dict[str, Figure]] | None = None
        """The last start that was looked at, by its boot id, with its parts."""
        self._catalogue = catalogue
        self._monotonic, self._wall = monotonic, wall
        self.address = address
        self.identity = "linux-" + hashlib.sha256(b"lumtak:" + hardware.machine_id(hand).encode()).hexdigest()[:12]
        self.name = plain(text_at(self._hand, "/proc/sys/kernel/hostname") or "this computer")
        self.user_name = user.name
        self._root = Root(hands)
        of_user = hands.user
        self._autostart = Autostart(hand, user, of_user, catalogue)
        self._services = Services(hand, self._root, catalogue)
        self._effects = Effects(hand, user, of_user)
        self._user_units = UserUnits(of_user, user, catalogue)
        self._sandboxes = Sandboxes(hand, user, of_user, catalogue)
        self._power = Power(hand, self._root)
        self._memory = MemorySettings(hand, self._root)
        self._areas: dict[Area, Adapter] = {
            "apps": _ByPrefix({OWN_UNIT: self._user_units, SANDBOX: self._sandboxes}, self._autostart),
            "services": self._services,
            "effects": self._effects,
            "power": self._power,
            "memory": self._memory,
        }
        self._undo_folder = UserFolder(of_user, posixpath.join(user.data_home, "lumtak-undo"))
        self._processes = Processes(hand, self._about["pid"] if hand.live else None)
        self._processes.services = runs_systemd(hand)
        self._apps: list[Item] = []
        self._refresh_apps()
        self._nominal = hardware.nominal_mhz(hand)
        self._disk = hardware.system_disk(hand)

    def _refresh_apps(self) -> None:
        self._apps, self._processes.programs = self._autostart.items()
        self._processes.units = self._user_units.consumers()

    # -- facts --------------------------------------------------------------------------------------------------------

    def facts(self) -> Facts:
        """Hardware, system, items of the areas, processes.

        Programs that take their time are asked side by side: most of it they wait for something else.
        """
        cores, *_ = self._cpu_times()
        memory = meminfo(self._needed("/proc/meminfo"))
        with ThreadPoolExecutor(_SIDE_BY_SIDE) as asked:
            to_services = asked.submit(self._services.items)
            to_power = asked.submit(self._power.service)
            times = self._start_times()
            self._refresh_apps()
            sandboxes, sandbox_gaps = self._sandboxes.items()
            self._processes.units |= {item.consumer for item in sandboxes}
            processes = self._processes.look()
            effects, effect_gaps = self._effects.items()
            memory_items = self._memory.items(memory)
        services, gaps = to_services.result()
        has_battery, _ = hardware.battery(self._hand)
        running = {p.consumer for p in processes}
        apps = (*self._apps, *self._user_units.items(running), *sandboxes)
        items = [_running(item, running) for item in (*services, *apps)]
        items += self._unlisted(processes, {item.consumer for item in items})
        service = to_power.result()
        power, power_gaps = self._power.items(service, has_battery=has_battery)
        gaps += sandbox_gaps + effect_gaps + power_gaps
        return Facts(
            address=self.address,
            identity=self.identity,
            name=self.name,
            hardware=Hardware(
                cores=cores,
                ram_bytes=memory.get("MemTotal", 0),
                nominal_mhz=self._nominal,
                disk=hardware.disk_kind(self._hand),
                battery=has_battery,
            ),
            system=self._system(service),
            items=(*items, *effects, *power, *memory_items),
            gaps=tuple(gaps),
            processes=tuple(processes),
            process_count=len(processes) + (1 if self._hand.live else 0),
            memory=hardware.memory_now(self._hand, memory),
            space=hardware.space(self._hand),
            marks=tuple(marks(self._hand)),
            signs=tuple(signs(self._hand, text_at(self._hand, "/proc/sys/kernel/osrelease"))),
            times=times,
        )

    def times(self) -> dict[str, Figure]:
        """Parts of the last start, as systemd counted them, and how quickly it answers: that takes a fifth of a second."""
        folders = (self._user.data_home, self._user.home, "/var/tmp")  # noqa: S108 - a file is made there and removed
        return {**self._start_times(), **answers(self._hands.user, folders)}

    def _start_times(self) -> dict[str, Figure]:
        """Parts of the last start: once it has ended they stay the same until the next."""
        boot = self.boot_id()
        if self._started is None or self._started[0] != boot:
            told = start_times(self._hand)
            if any(isinstance(figure, NotMeasured) for figure in told.values()):
                return told
            self._started = boot, told
        return self._started[1]

    def _needed(self, path: str) -> bytes:
        try:
            return self._hand.read(path)
        except OSError as error:
            raise ComputerError(
                f"{self.name}: {path} cannot be read.", "Is this a Linux computer with /proc mounted?"
            ) from error

    def _cpu_times(self) -> tuple[int, float, float, float, float]:
        data = self._needed("/proc/stat")
        try:
            return cpu_times(data, self._about["tick"])
        except (ValueError, IndexError) as error:
            raise ComputerError(f"{self.name}: /proc/stat is not understood.", "Is this a Linux computer?") from error

    def _unlisted(self, processes: list[Process], listed: set[str]) -> list[Item]:
        """Programs that run and that no entry above accounts for, when they hold much memory."""
        held: dict[str, int] = {}
        by_pid = {p.pid: p for p in processes}
        starters: dict[str, Trigger] = {}
        for process in processes:
            if process.consumer.startswith(UNLISTED):
                held[process.consumer] = held.get(process.consumer, 0) + process.rss_bytes
                if process.consumer not in starters and (by := starter_of(process, by_pid, listed)):
                    starters[process.consumer] = by
        found = []
        for consumer, size in sorted(held.items()):
            if size < _HEAVY_BYTES or consumer in listed:
                continue
            name = consumer.removeprefix(UNLISTED)
            found.append(
                Item(
                    area="apps",
                    key=consumer.removeprefix("apps:"),
                    title=name,
                    role=self._catalogue.role_of(name),
                    value="on",
                    running=True,
                    started_by="" if consumer in starters else "was started by hand, or by something that has ended",
                    triggers=(starters[consumer],) if consumer in starters else (),
                    setting=Fixed(
                        needed="what starts it has to be found first; end it by hand if it is not needed now"
                    ),
                )
            )
        return found

    def system(self) -> System:
        """What runs on it and since when."""
        return self._system(self._power.service())

    def _system(self, service: Service | None) -> System:
        uptime = re.match(rb"\d+(\.\d+)?", self._needed("/proc/uptime"))
        if uptime is None:
            raise ComputerError(f"{self.name}: /proc/uptime is not understood.", "Is this a Linux computer?")
        _, source = hardware.battery(self._hand)
        logins = hardware.sessions(self._hand, self._user.uid)
        since: float | NotMeasured = NotMeasured(not_measured="no session manager counts logins here")
        if logins and logins[-1].get("REALTIME", "").isdigit():
            since = self._wall().timestamp() - int(logins[-1]["REALTIME"]) / 1e6
        return System(
            name=plain(hardware.system_name(self._hand)),
            kernel=plain(text_at(self._hand, "/proc/sys/kernel/osrelease") or "unknown"),
            boot_id=self.boot_id(),
            session_id=self.session_id(),
            uptime_s=float(uptime[0]),
            since_login_s=since,
            user=self._user.name,
            power_source=source,
            power_plan=self._power.plan(service),
            users=hardware.users(self._hand),
            temperature_c=hardware.temperature_c(self._hand),
        )

    def boot_id(self) -> str:
        """The kernel's own."""
        return text_at(self._hand, "/proc/sys/kernel/random/boot_id") or "unknown"

    def session_id(self) -> str | NotMeasured:
        """The newest session of the user, as the session manager names it."""
        logins = hardware.sessions(self._hand, self._user.uid)
        if not logins:
            return NotMeasured(not_measured="no session manager counts logins here")
        return f"{logins[-1]['ID']}@{logins[-1].get('REALTIME', '')}"

    def capabilities(self) -> Capabilities:
        """No restart: the computer is the one that Lumtak runs on."""
        return Capabilities(
            restart=_NO_RESTART,
            login=_NO_LOGIN,
            asks=self._hands.asks,
            asks_for=("services", "power", "memory"),
        )

    # -- load ---------------------------------------------------------------------------------------------------------

    def sample(self, *, memory: bool = False) -> Snapshot:
        """Counters of /proc now; Lumtak's own process is counted apart."""
        self._processes.count()
        cores, busy, iowait, steal, total = self._cpu_times()
        own_cpu = time.process_time() if self._hand.live else 0.0
        at_s = self._monotonic()
        sizes = meminfo(self._needed("/proc/meminfo"))
        available = sizes.get(
            "MemAvailable", sizes.get("MemFree", 0) + sizes.get("Buffers", 0) + sizes.get("Cached", 0)
        )
        swaps = dict(
            line.split() for line in text_at(self._hand, "/proc/vmstat").splitlines() if line.startswith("pswp")
        )
        page = self._about["page"]
        return Snapshot(
            at_s=at_s,
            cores=cores,
            busy_s=busy,
            iowait_s=iowait,
            steal_s=steal,
            total_s=total,
            clock_ratio=hardware.clock_ratio(self._hand, self._nominal, cores),
            disk_busy_s=hardware.disk_busy_s(self._hand, self._disk),
            stalled_s=hardware.stalled_s(self._hand),
            ram_total_bytes=sizes.get("MemTotal", 0),
            ram_used_bytes=float(sizes.get("MemTotal", 0) - available),
            cache_bytes=float(max(0, available - sizes.get("MemFree", 0))),
            swap_used_bytes=float(sizes.get("SwapTotal", 0) - sizes.get("SwapFree", 0)),
            swap_in_bytes=float(swaps.get("pswpin", 0)) * page,
            swap_out_bytes=float(swaps.get("pswpout", 0)) * page,
            cpu_s=self._processes.cpu_s(),
            memory=self._processes.memory() if memory else {},
            own_cpu_s=own_cpu,
            own_ram_bytes=self._own_ram(),
        )

    def _own_ram(self) -> float:
        if not self._hand.live:
            return 0.0
        return private_bytes(self._hand, "self", self._about["page"]) or 0.0

    # -- settings -----------------------------------------------------------------------------------------------------

    def read(self, ref: SettingRef) -> State:
        """The state of a setting, exact enough to be brought back."""
        state = self._areas[ref.area].read(ref)
        around = state.around | {"undo_missing": str(self._undo_folder.missing())}
        return msgspec.structs.replace(state, around=around)

    def foresee(self, ref: SettingRef, state: State) -> State:
        """The state as it will be: files to the byte, links by their targets, values as they are stored."""
        check_state(ref, state)
        foreseen = self._areas[ref.area].foresee(ref, state)
        check_state(ref, foreseen)
        return foreseen

    def undo_kit(self) -> FileUndoKit:
        """Leaves the undo script in the user's data folder."""
        return FileUndoKit(self._user, self._undo_folder, self._hands)

    def write(self, ref: SettingRef, state: State) -> None:
        """Bring a setting to a value, or restore it exactly."""
        check_state(ref, state)
        self._areas[ref.area].write(ref, state)

    def end_process(self, process: Process, *, force: bool = False, wait_s: float = 5.0) -> bool:
        """Ask it by SIGTERM, or force it by SIGKILL."""
        if not self._hand.live:
            raise ComputerError(
                f"No processes run on {self.name}.", "It is a folder, not a computer that is switched on."
            )
        if process.untouchable:
            raise ComputerError(f"{process.name} is not ended: {process.untouchable}.", "Choose another process.")
        return end_process(self._hand, process, force=force, wait_s=wait_s)

    # -- time ---------------------------------------------------------------------------------------------------------

    def now_s(self) -> float:
        """The monotonic clock."""
        return self._monotonic()

    def wall(self) -> datetime:
        """The clock on the wall."""
        return self._wall()

    def wait(self, seconds: float, stop: threading.Event | None = None) -> None:
        """Wait, or until told to stop."""
        (stop or threading.Event()).wait(max(0.0, seconds))

    def restart(self, *, login_only: bool = False) -> None:
        """Not this one."""
        cannot = _NO_LOGIN if login_only else _NO_RESTART
        raise ComputerError(cannot.why, cannot.instead)

    def close(self) -> None:
        """Every hand that was started ends."""
        self._hands.close()

    # -- rights -------------------------------------------------------------------------------------------------------

    def take_rights(self, *, ask: bool) -> None:
        """Have a hand of root, for which sudo may ask on the terminal."""
        self._hands.take(ask=ask)

    def give_back_rights(self) -> None:
        """The hand of root ends."""
        self._hands.give_back()


def _running(item: Item, running: set[str]) -> Item:
    return msgspec.structs.replace(item, running=item.running or item.consumer in running)
