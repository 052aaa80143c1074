"""What a real Linux computer is: hardware, system, everything that has a setting, processes."""

import re
import threading
from collections.abc import Callable, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor

import msgspec

from lumtak.computers.abilities import Capabilities
from lumtak.computers.hands.reach import text_at
from lumtak.computers.hands.whose import Hands, User
from lumtak.computers.linux import hardware
from lumtak.computers.linux.adapter import Adapter
from lumtak.computers.linux.clock import NO_LOGIN, NO_RESTART
from lumtak.computers.linux.clock_plan import plan_in_force
from lumtak.computers.linux.closely import closely
from lumtak.computers.linux.disk_health import disk_health
from lumtak.computers.linux.extensions import with_extensions
from lumtak.computers.linux.history import history, last_opened, used_days
from lumtak.computers.linux.identity import Programs as ProgramFiles
from lumtak.computers.linux.installed import installed, rehearse
from lumtak.computers.linux.listening import with_listening
from lumtak.computers.linux.load import Counters
from lumtak.computers.linux.marks import marks
from lumtak.computers.linux.owned import beside, copies, folders, only_copies, standing
from lumtak.computers.linux.packages import owners_of_files, with_packages
from lumtak.computers.linux.power_rivals import against, rivals, with_rivals
from lumtak.computers.linux.profile_plan import Service, profile_service
from lumtak.computers.linux.programs import programs_of, why_not_tried
from lumtak.computers.linux.signs import signs
from lumtak.computers.linux.starts import starts_of
from lumtak.computers.linux.survey import Wanted, survey
from lumtak.computers.linux.times import start_times
from lumtak.computers.linux.upkeep.given import Given
from lumtak.computers.linux.upkeep.tasks import run_task
from lumtak.computers.protocol import Clock, Identity, Program
from lumtak.core.catalogue import NO_ROLE, Catalogue
from lumtak.core.causes import starter_of
from lumtak.core.clutter import Looked, Survey
from lumtak.core.deciding import Content, OnlyCopies, Seen
from lumtak.core.facts import (
    UNLISTED,
    Facts,
    Fixed,
    Hardware,
    Item,
    Process,
    ProcessDetails,
    Space,
    System,
    Trigger,
)
from lumtak.core.felt import Start
from lumtak.core.installed import Programs
from lumtak.core.owned import Comparing, CopiesFound
from lumtak.core.record import Figure, NotMeasured
from lumtak.core.setting import Area
from lumtak.core.text import number, plain
from lumtak.core.units import MIB
from lumtak.core.upkeep.tasks import Partial, Result
from lumtak.errors import ComputerError

_SIDE_BY_SIDE = 2
_HEAVY_BYTES = 20 * MIB


class LinuxAbout:
    """See `About`.

    Args:
        hands: of the computer.
        user: whose settings are changed.
        catalogue: knows roles.
        adapters: of the computer, in the order of the registry.
        counters: of the computer.
        clock: of the computer.
        identity: of the computer.
        take_root: areas whose changes take root.
        hints: gives what a watch kept.
    """

    def __init__(
        self,
        hands: Hands,
        user: User,
        catalogue: Catalogue,
        adapters: Sequence[Adapter],
        *,
        counters: Counters,
        clock: Clock,
        identity: Identity,
        take_root: tuple[Area, ...],
        hints: Callable[[], tuple[str, ...]],
    ) -> None:
        self._hands, self._hand, self._user = hands, hands.own, user
        self._programs = ProgramFiles(hands.own, user.home, catalogue)
        self._catalogue, self._adapters = catalogue, adapters
        self._counters, self._clock = counters, clock
        self._identity, self._take_root = identity, take_root
        self._hints = hints
        self._name = identity.name
        self._started: tuple[str, dict[str, Figure]] | None = None
        """The last start that was looked at, by its boot id, with its parts."""
        self._told: tuple[tuple[object, object], tuple[Start, ...]] | None = None

    def facts(self) -> Facts:
        """Hardware, system, items of the areas, processes.

        Adapters look side by side: most of the time they wait for a program.
        """
        cores, *_ = self._counters.cpu_times()
        look = self._counters.look()
        with ThreadPoolExecutor(_SIDE_BY_SIDE) as pool:
            asked = [pool.submit(adapter.items, look) for adapter in self._adapters]
            packages = pool.submit(owners_of_files, self._hand)
            # Asked here, while the adapters wait for their programs.
            times = self.times()
            found = [one.result() for one in asked]
            owners = packages.result()
        processes, memory = self._known(self._counters.seen(look)), look.memory
        items = [_running(item, look.running) for listed in found for item in listed.items]
        paths = {c: path for listed in found for c, path in listed.paths.items()}
        items = with_packages(self._hand, items, paths, owners, self._catalogue)
        items = with_listening(self._hand, items, processes, self._hand.about()["uid"])
        items += self._unlisted(processes, {item.consumer for item in items})
        items = with_extensions(self._hands.user, self._user, items)
        setting_plans = rivals(self._hand, items)
        seen = signs(self._hand, text_at(self._hand, "/proc/sys/kernel/osrelease"))
        seen += disk_health(self._hand)
        seen += against(setting_plans)
        items = with_rivals(items, setting_plans, seen)
        has_battery, _ = look.once(hardware.battery, self._hand)
        return Facts(
            address=self._identity.address,
            identity=self._identity.identity,
            name=self._name,
            hardware=Hardware(
                cores=cores,
                ram_bytes=memory.get("MemTotal", 0),
                nominal_mhz=self._counters.nominal_mhz,
                disk=hardware.disk_kind(self._hand),
                battery=has_battery,
            ),
            system=self._system(look.once(profile_service, self._hand)),
            items=tuple(items),
            gaps=tuple(gap for listed in found for gap in listed.gaps),
            processes=tuple(processes),
            process_count=len(processes) + (1 if self._hand.live else 0),
            memory=hardware.memory_now(self._hand, memory),
            space=hardware.space(self._hand),
            marks=tuple(marks(self._hand)),
            signs=tuple(seen),
            times=times,
        )

    def _known(self, processes: Sequence[Process]) -> list[Process]:
        """The processes, with whether their programs are the system's."""
        strange = self._programs.of_processes([p.pid for p in processes])
        return [
            msgspec.structs.replace(p, system=False) if p.pid in strange else p for p in processes
        ]

    def space(self) -> Space:
        """See `hardware.space`."""
        return hardware.space(self._hand)

    def survey(
        self, on_progress: Callable[[Looked], None], stop: threading.Event, top: str = "/"
    ) -> Survey:
        """See `survey.survey`."""
        at = self._clock.wall().isoformat(timespec="seconds")
        of = Wanted(identity=self._identity.identity, at=at, top=top)
        return survey(self._hands, self._user, of, on_progress, stop)

    def copies(
        self,
        top: str,
        least_bytes: int,
        on_progress: Callable[[Comparing], None],
        stop: threading.Event,
    ) -> CopiesFound:
        """See `owned.copies`."""
        hand, here = self._hands.user, top or self._user.home
        return copies(hand, self._user, here, least_bytes, on_progress, stop)

    def beside(self, paths: Sequence[str]) -> CopiesFound:
        """See `owned.beside`."""
        return beside(self._hands.user, paths)

    def standing(
        self, paths: Sequence[str], content: Mapping[str, Content] | None = None
    ) -> dict[str, Seen]:
        """See `owned.standing`."""
        return standing(self._hands.user, paths, content)

    def only_copies(self, paths: Sequence[str]) -> OnlyCopies:
        """See `owned.only_copies`."""
        return only_copies(self._hands.user, paths)

    def installed(self, items: Sequence[Item]) -> Programs:
        """See `installed.installed`."""
        now = self._clock.wall().timestamp()
        return installed(self._hand, self._hands.user, self._user, items, now)

    def upkeep(self, begun: Partial, tell: Callable[[Partial], None]) -> Result:
        """See `upkeep.tasks.run_task`."""
        kind = hardware.disk_kind(self._hand)
        given = Given(
            hands=self._hands,
            user=self._user,
            address=self._identity.address,
            at=self._clock.wall().isoformat(timespec="seconds"),
            begun=begun,
            tell=tell,
            disk_kind="" if isinstance(kind, NotMeasured) else kind,
        )
        return run_task(given)

    def hints(self) -> tuple[str, ...]:
        """See `watch.Watching.hints`."""
        return self._hints()

    def rehearse(self, names: Sequence[str]) -> None:
        """See `installed.rehearse`."""
        rehearse(self._hand, names)

    def folders(self) -> dict[str, str]:
        """See `owned.folders`."""
        return folders(self._hands.user, self._user)

    def last_opened(self) -> dict[str, str]:
        """See `history.last_opened`."""
        return last_opened(self._hands.user, self._user)

    def capabilities(self) -> Capabilities:
        """No restart: the computer is the one that Lumtak runs on."""
        return Capabilities(
            restart=NO_RESTART, login=NO_LOGIN, asks=self._hands.asks, asks_for=self._take_root
        )

    def closely(self, process: Process) -> ProcessDetails:
        """See `closely.closely`."""
        return closely(self._hand, process)

    def history(self, item: Item) -> tuple[str, ...]:
        """See `history.history`."""
        up = number(text_at(self._hand, "/proc/uptime").partition(".")[0]) or 0
        return history(self._hand, self._hands.user, self._user, item, float(up))

    def used_days(self, items: Sequence[Item]) -> dict[str, float]:
        """See `history.used_days`."""
        today = self._clock.wall().date()
        return used_days(self._hands.user, self._user, items, today)

    def starts(self) -> tuple[Start, ...] | NotMeasured:
        """See `starts.starts_of`; what was told stays the same until the next start and login."""
        at = (self._clock.boot_id(), self._clock.session_id())
        if self._told is None or self._told[0] != at:
            told = starts_of(self._hand, self._user)
            if isinstance(told, NotMeasured) or isinstance(told[-1].usable_s, NotMeasured):
                return told
            self._told = at, told
        return self._told[1]

    def programs(self) -> tuple[Program, ...]:
        """See `programs.programs_of`."""
        return programs_of(self._hand)

    def why_not_tried(self, path: str) -> str:
        """See `programs.why_not_tried`."""
        return why_not_tried(self._hand, path)

    def times(self) -> dict[str, Figure]:
        """Parts of the last start: once it has ended they stay the same until the next."""
        boot = self._clock.boot_id()
        if self._started is None or self._started[0] != boot:
            told = start_times(self._hand)
            if any(isinstance(figure, NotMeasured) for figure in told.values()):
                return told
            self._started = boot, told
        return self._started[1]

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
                    role=self._role_by_name(name, processes, consumer),
                    value="on",
                    running=True,
                    started_by=(
                        ""
                        if consumer in starters
                        else "was started by hand, or by something that has ended"
                    ),
                    triggers=(starters[consumer],) if consumer in starters else (),
                    setting=Fixed(
                        needed=(
                            "what starts it has to be found first; end it by hand if it is not"
                            " needed now"
                        )
                    ),
                )
            )
        return found

    def _role_by_name(self, name: str, processes: list[Process], consumer: str) -> str:
        """What a name tells; nothing guarded where a program of that name is not the system's."""
        role = self._catalogue.role_of(name)
        known = self._catalogue.find(role)
        strange = any(p.consumer == consumer and not p.system for p in processes)
        return NO_ROLE if known is not None and known.guarded and strange else role

    def system(self) -> System:
        """What runs on it and since when."""
        return self._system(profile_service(self._hand))

    def _system(self, service: Service | None) -> System:
        uptime = re.match(rb"\d{1,15}(\.\d{1,15})?", self._counters.needed("/proc/uptime"))
        if uptime is None:
            raise ComputerError(
                f"{self._name}: /proc/uptime is not understood.", "Is this a Linux computer?"
            )
        _, source = hardware.battery(self._hand)
        logins = hardware.sessions(self._hand, self._user.uid)
        since: float | NotMeasured = NotMeasured(
            not_measured="no session manager counts logins here"
        )
        if logins and (at_us := number(logins[-1].get("REALTIME"))) is not None:
            since = self._clock.wall().timestamp() - at_us / 1e6
        return System(
            name=plain(hardware.system_name(self._hand)),
            kernel=plain(text_at(self._hand, "/proc/sys/kernel/osrelease") or "unknown"),
            boot_id=self._clock.boot_id(),
            session_id=self._clock.session_id(),
            uptime_s=float(uptime[0]),
            since_login_s=since,
            user=self._user.name,
            power_source=source,
            power_plan=plan_in_force(self._hand, service),
            users=hardware.users(self._hand),
            temperature_c=hardware.temperature_c(self._hand),
        )


def _running(item: Item, running: frozenset[str]) -> Item:
    return msgspec.structs.replace(item, running=item.running or item.consumer in running)
