"""What a simulated computer is."""

import threading
from collections.abc import Callable, Mapping, Sequence

import msgspec

from lumtak.computers.abilities import Capabilities
from lumtak.computers.protocol import Clock, Identity, Program
from lumtak.computers.simulated import disk
from lumtak.computers.simulated.installed import installed, rehearse
from lumtak.computers.simulated.items import items_of
from lumtak.computers.simulated.machine import Machine
from lumtak.computers.simulated.upkeep import run_task
from lumtak.core.clutter import Looked, Survey
from lumtak.core.deciding import Content, OnlyCopies, Seen, about_it
from lumtak.core.facts import (
    Facts,
    Gap,
    Hardware,
    Item,
    Mark,
    MemoryNow,
    Process,
    ProcessDetails,
    Space,
    System,
)
from lumtak.core.felt import Start
from lumtak.core.installed import Programs
from lumtak.core.owned import Comparing, CopiesFound
from lumtak.core.record import Figure, NotMeasured
from lumtak.core.units import MIB
from lumtak.core.upkeep.tasks import Partial, Result
from lumtak.errors import ComputerError


class SimulatedAbout:
    """See `About`.

    Args:
        machine: of the computer.
        identity: of the computer.
        clock: of the computer.
    """

    def __init__(self, machine: Machine, identity: Identity, clock: Clock) -> None:
        self._machine = machine
        self._identity, self._clock = identity, clock

    def facts(self) -> Facts:
        """Everything there is."""
        hardware = self._machine.spec.hardware
        model = self._machine.model
        held = model.held_mib()
        gaps = (
            ()
            if hardware.battery
            else (Gap(area="power", reason="there is no battery, so no plan for it"),)
        )
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
            address=self._identity.address,
            identity=self._identity.identity,
            name=self._identity.name,
            hardware=Hardware(
                cores=hardware.cores,
                ram_bytes=int(hardware.ram_mib * MIB),
                nominal_mhz=hardware.nominal_mhz,
                disk=hardware.disk,
                battery=hardware.battery,
            ),
            system=self.system(),
            items=tuple(items_of(self._machine)),
            gaps=gaps,
            processes=processes,
            process_count=len(processes),
            memory=MemoryNow(
                shared_bytes=0.02 * model.used_mib() * MIB,
                swap_total_bytes=int(float(model.live.get("memory:swap_mib") or 0) * MIB),
                hibernates=hardware.hibernates,
            ),
            space=self.space(),
            survey=self._survey(),
            marks=tuple(Mark(advice=m.advice, where=m.where) for m in self._machine.spec.mark),
            signs=self._machine.spec.sign,
            times=self.times(),
        )

    def _survey(self) -> Survey:
        at = self._clock.wall().isoformat(timespec="seconds")
        return disk.survey(self._machine, self._identity.identity, at)

    def space(self) -> Space:
        """By the model of its disk."""
        volume = disk.space(self._machine)
        return Space(total_bytes=int(volume.total), free_bytes=int(volume.free))

    def survey(
        self, on_progress: Callable[[Looked], None], stop: threading.Event, top: str = "/"
    ) -> Survey:
        """A model knows what it holds; it has one volume."""
        del on_progress, stop
        if top != "/":
            raise ComputerError(
                f"{self._identity.name} has one volume only.", "Leave --volume out."
            )
        return self._survey()

    def copies(
        self,
        top: str,
        least_bytes: int,
        on_progress: Callable[[Comparing], None],
        stop: threading.Event,
    ) -> CopiesFound:
        """As its model has them."""
        del on_progress, stop
        return disk.copies(self._machine, top, least_bytes)

    def beside(self, paths: Sequence[str]) -> CopiesFound:
        """As its model has them."""
        found = disk.copies(self._machine, "/", 0)
        groups = tuple(g for path in paths for g in about_it(path, found.groups))
        return msgspec.structs.replace(found, groups=groups)

    def standing(
        self, paths: Sequence[str], content: Mapping[str, Content] | None = None
    ) -> dict[str, Seen]:
        """As its model has them; what a file is, its mark says whole."""
        del content
        here = disk.standing(self._machine)
        return {path: here[path] for path in paths if path in here}

    def only_copies(self, paths: Sequence[str]) -> OnlyCopies:
        """As its model has them."""
        return disk.only_copies(self._machine, paths)

    def installed(self, items: Sequence[Item]) -> Programs:
        """As its model has them."""
        del items
        return installed(self._machine)

    def upkeep(self, begun: Partial, tell: Callable[[Partial], None]) -> Result:
        """As its model has it; what reads the disk takes the time that its disk takes."""
        return run_task(
            self._machine, self._clock.wall().isoformat(timespec="seconds"), begun, tell
        )

    def hints(self) -> tuple[str, ...]:
        """None: nobody switches it on between two visits."""
        return ()

    def rehearse(self, names: Sequence[str]) -> None:
        """As its model has them."""
        rehearse(self._machine, names)

    def folders(self) -> dict[str, str]:
        """The one user's."""
        home = f"/home/{self._machine.spec.user}"
        return {"home": home, "downloads": f"{home}/downloads"}

    def last_opened(self) -> dict[str, str]:
        """As its model has them."""
        return disk.last_opened(self._machine)

    def system(self) -> System:
        """What runs on it and since when."""
        state, now = self._machine.state, self._machine.model.clock_s
        return System(
            name="Slipway 4 (simulated)",
            kernel="simulated",
            boot_id=self._clock.boot_id(),
            session_id=self._clock.session_id(),
            uptime_s=now - state.booted_at_s,
            since_login_s=now - state.login_at_s,
            user=self._machine.spec.user,
            power_source="battery" if self._machine.spec.hardware.on_battery else "mains",
            power_plan=self._machine.model.plan.name,
            users=(self._machine.spec.user,),
            temperature_c=(
                self._machine.model.temperature_c
                if self._machine.spec.hardware.heat_c
                else NotMeasured(not_measured="this simulated computer has no sensor")
            ),
        )

    def closely(self, process: Process) -> ProcessDetails:
        """Made up, like everything here."""
        place = self._machine.model.place.get(process.consumer)
        if place is None or not self._machine.model.running[place]:
            raise ComputerError(
                f"{process.name} (process {process.pid}) has ended.", "Look again at what runs."
            )
        mine = process.consumer.startswith(("apps:", "effects:"))
        user = self._machine.spec.user if mine else "root"
        name = process.name.rpartition("/")[2]
        return ProcessDetails(
            command=f"/usr/bin/{name}", user=user, folder=f"/home/{user}" if mine else "/"
        )

    def history(self, item: Item) -> tuple[str, ...]:
        """None: it was never used before."""
        del item
        return ()

    def used_days(self, items: Sequence[Item]) -> dict[str, float]:
        """Nobody uses it."""
        del items
        return {}

    def times(self) -> dict[str, Figure]:
        """Parts of the last start, and the login."""
        login = self._machine.state.login_took_s
        still = NotMeasured(not_measured="programs are still starting")
        return {
            **self._machine.state.took_s,
            "login": still if login is None else login,
        }

    def starts(self) -> tuple[Start, ...]:
        """As it noted them."""
        return self._machine.state.starts

    def programs(self) -> tuple[Program, ...]:
        """The one that it is there for."""
        program = self._machine.spec.program
        return (Program(path=program.path, title=program.title),)

    def why_not_tried(self, path: str) -> str:
        """Only the one that it has."""
        return "" if path == self._machine.spec.program.path else "there is no such program"

    def capabilities(self) -> Capabilities:
        """Everything."""
        return Capabilities(pace=self._machine.pace)
