"""The load of a real Linux computer: counters of /proc, and ending what weighs."""

import re
import time
from collections.abc import Sequence

from lumtak.computers.hands.reach import Reach, runs_systemd, text_at
from lumtak.computers.hands.whose import Hands, User
from lumtak.computers.linux import hardware
from lumtak.computers.linux.adapter import Adapter, Look
from lumtak.computers.linux.ending import end_process
from lumtak.computers.linux.proc import Processes, cpu_times, meminfo, private_bytes
from lumtak.computers.linux.watching import LinuxWatch
from lumtak.computers.protocol import Clock
from lumtak.core.facts import Process
from lumtak.core.sample import Snapshot
from lumtak.errors import ComputerError

_MOST_BYTES = 1 << 56


class Counters:
    """What the kernel counts, and under which names Lumtak counts it.

    Args:
        hand: of the computer.
        name: for people.
        adapters: say what has a name of its own.
    """

    def __init__(self, hand: Reach, name: str, adapters: Sequence[Adapter]) -> None:
        self._hand, self._name = hand, name
        self._adapters = adapters
        about = hand.about()
        self._tick = about["tick"]
        self.page: int = about["page"]
        self.nominal_mhz = hardware.nominal_mhz(hand)
        self.processes = Processes(hand, about["pid"] if hand.live else None)
        self.processes.services = runs_systemd(hand)
        self._learned = False

    def look(self) -> Look:
        """A new look at the computer."""
        return Look(self.memory, self._running)

    def learn(self) -> None:
        """Find out under which names is counted, unless that is known already."""
        if not self._learned:
            self._learn(self.look())

    def _learn(self, look: Look) -> None:
        counted = [adapter.counts(look) for adapter in self._adapters]
        self.processes.starts.learn(start for c in counted for start in c.starts)
        self.processes.units = frozenset(unit for c in counted for unit in c.units)
        self._learned = True

    def seen(self, look: Look) -> list[Process]:
        """The processes, once a look."""
        return look.once(self._seen, look)

    def _seen(self, look: Look) -> list[Process]:
        self._learn(look)
        return self.processes.look()

    def _running(self, look: Look) -> frozenset[str]:
        return frozenset(process.consumer for process in self.seen(look))

    def needed(self, path: str) -> bytes:
        """What a file says that every Linux computer has.

        Raises:
            ComputerError: this one has not.
        """
        try:
            return self._hand.read(path)
        except OSError as error:
            raise ComputerError(
                f"{self._name}: {path} cannot be read.",
                "Is this a Linux computer with /proc mounted?",
            ) from error

    def memory(self) -> dict[str, int]:
        """Bytes by name, the whole memory among them; proc(5), meminfo."""
        sizes = meminfo(self.needed("/proc/meminfo"))
        if not 0 < sizes.get("MemTotal", 0) < _MOST_BYTES:
            raise ComputerError(
                f"{self._name}: /proc/meminfo is not understood.", "Is this a Linux computer?"
            )
        return sizes

    def cpu_times(self) -> tuple[int, float, float, float, float]:
        """See `proc.cpu_times`."""
        data = self.needed("/proc/stat")
        try:
            return cpu_times(data, self._tick)
        except (ValueError, IndexError) as error:
            raise ComputerError(
                f"{self._name}: /proc/stat is not understood.", "Is this a Linux computer?"
            ) from error


class LinuxLoad:
    """See `Load`.

    Args:
        hands: of the computer.
        user: who waits for it.
        name: for people.
        counters: of the computer.
        clock: of the computer.
    """

    def __init__(
        self, hands: Hands, user: User, name: str, *, counters: Counters, clock: Clock
    ) -> None:
        hand = hands.own
        self._hands, self._user = hands, user
        self._hand, self._name = hand, name
        self._watch: LinuxWatch | None = None
        self._counters, self._clock = counters, clock
        self._processes, self._page = counters.processes, counters.page
        self._disk = hardware.system_disk(hand)

    def sample(self, *, memory: bool = False) -> Snapshot:
        """Counters of /proc now; Lumtak's own process is counted apart."""
        self._counters.learn()
        if self._watch is not None and self._watch.pid:
            self._processes.leave_out(self._watch.pid)
        self._processes.count()
        cores, busy, iowait, steal, total = self._counters.cpu_times()
        own_cpu = time.process_time() + self._processes.apart_s() if self._hand.live else 0.0
        at_s = self._clock.now_s()
        sizes = self._counters.memory()
        available = sizes.get(
            "MemAvailable",
            sizes.get("MemFree", 0) + sizes.get("Buffers", 0) + sizes.get("Cached", 0),
        )
        swaps = dict(
            re.findall(r"(?m)^(pswpin|pswpout) ([0-9]{1,20})$", text_at(self._hand, "/proc/vmstat"))
        )
        page = self._page
        return Snapshot(
            at_s=at_s,
            cores=cores,
            busy_s=busy,
            iowait_s=iowait,
            steal_s=steal,
            total_s=total,
            clock_ratio=hardware.clock_ratio(self._hand, self._counters.nominal_mhz, cores),
            disk_busy_s=hardware.disk_busy_s(self._hand, self._disk),
            own_disk_s=0.0 if self._watch is None else self._watch.disk_s,
            stalled_s=hardware.stalled_s(self._hand),
            ram_total_bytes=sizes.get("MemTotal", 0),
            ram_used_bytes=float(max(0, sizes.get("MemTotal", 0) - available)),
            cache_bytes=float(max(0, available - sizes.get("MemFree", 0))),
            swap_used_bytes=float(max(0, sizes.get("SwapTotal", 0) - sizes.get("SwapFree", 0))),
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
        own: tuple[int | str, ...] = ("self", *self._processes.apart)
        return sum(private_bytes(self._hand, pid, self._page) or 0.0 for pid in own)

    def watch(self, *, every_s: float, program: str = "") -> LinuxWatch:
        """See `LinuxWatch`."""
        self._watch = LinuxWatch(
            self._hands, self._user, now_s=self._clock.now_s, every_s=every_s, program=program
        )
        return self._watch

    def end_process(self, process: Process, *, force: bool = False, wait_s: float = 5.0) -> bool:
        """Ask it by SIGTERM, or force it by SIGKILL."""
        if not self._hand.live:
            raise ComputerError(
                f"No processes run on {self._name}.",
                "It is a folder, not a computer that is switched on.",
            )
        if process.untouchable:
            raise ComputerError(
                f"{process.name} is not ended: {process.untouchable}.", "Choose another process."
            )
        return end_process(self._hand, process, force=force, wait_s=wait_s)
