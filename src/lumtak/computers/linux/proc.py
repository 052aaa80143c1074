"""Load, memory and processes from /proc (proc(5)).

Consumers by control group, autostart entry or program name.
"""

import re
from dataclasses import dataclass

from lumtak.computers.hands.reach import Reach, text
from lumtak.computers.linux.groups import Groups, group_of
from lumtak.computers.linux.login_starts import LoginStarts
from lumtak.core.facts import RUNS_LUMTAK, UNLISTED, Process
from lumtak.core.sample import LUMTAK, Memory
from lumtak.core.text import plain

_KERNEL_THREAD = 0x00200000
_REST = "resident minus shared"
_SERVICE = re.compile(r"/system\.slice/(?:[^/]+\.slice/)*([^/]+)\.service(?=/|$)")
_APP = re.compile(r"/app-(?:[^/]*?-)?([^/@]+)@autostart\.service")
_USER_UNIT = re.compile(
    r"/user\.slice/user-\d+\.slice/user@\d+\.service/(?:[^/]+\.slice/)*([^/]+\.service)(?=/|$)"
)
"""Both from the top: what a user calls a group of their own is no service of the system."""
_SANDBOX = re.compile(r"/app-flatpak-(.+)-\d+\.scope")
SANDBOX = "apps:sandbox/"
"""Begins the consumer of a program in a sandbox."""
USER_UNIT = "apps:user/"
"""Begins the consumer of a unit of the user's own manager."""


@dataclass(slots=True)
class _Known:
    """A process seen before."""

    raw: bytes
    """What /proc/PID/stat said last: most processes sleep, and what says the same is not looked
    into again."""
    name: str
    flags: int
    ticks: int
    started: int
    rss_pages: int
    parent: int
    consumer: str = ""


def _parsed(raw: bytes) -> _Known | None:
    """What /proc/PID/stat says (proc(5)); None where it is not understood."""
    start, end = raw.find(b"("), raw.rfind(b")")
    rest = raw[end + 2 :].split(None, 22)
    try:
        return _Known(
            raw, text(raw[start + 1 : end]), int(rest[6]), int(rest[11]) + int(rest[12]),
            int(rest[19]), int(rest[21]),
            int(rest[1]),
        )  # fmt: skip
    except (ValueError, IndexError):
        return None


def _parent_of(raw: bytes) -> int:
    parsed = _parsed(raw)
    return parsed.parent if parsed else 0


def _ticks_of(raw: bytes, *, waited: bool) -> int:
    """Of a process, with what it has waited for where that is wanted; proc(5), cutime, cstime."""
    fields = raw[raw.rfind(b")") + 2 :].split(None, 15)
    try:
        return sum(int(n) for n in fields[11 : 15 if waited else 13])
    except ValueError:
        return 0


class Processes:
    """All processes, pass after pass.

    CPU a consumer that never falls, though processes come and go.

    Args:
        hand: of the computer.
        own_pid: Lumtak's own process, left out; None where Lumtak does not run on that computer.
    """

    def __init__(self, hand: Reach, own_pid: int | None) -> None:
        self._hand = hand
        self._own_pid = own_pid
        self.units: frozenset[str] = frozenset()
        """Consumers that are units of the user's own manager, or programs in sandboxes."""
        self.services = False
        """Whether control groups name services."""
        self._known: dict[int, _Known] = {}
        self._cpu_ticks: dict[str, int] = {}
        self._first = True
        self._above: set[int] | None = None
        self._begun: set[int] = set()
        """What Lumtak itself started, and what that started."""
        self.apart: set[int] = set()
        """What tries the computer for a reading, and what that starts: Lumtak's own cost."""
        self._apart_ticks: dict[int, int] = {}
        self._tries_pid = 0
        self._counts = Groups(hand)
        self._own_group = "" if own_pid is None else self._group(own_pid)
        self._groups: dict[str, tuple[str, float]] = {}
        """Consumer -> (its control group, core-seconds counted there when it was last looked
        at)."""
        self._grouped_s: dict[str, float] = {}
        about = hand.about()
        self._tick, self._page, self._own_uid = about["tick"], about["page"], about["uid"]
        self.starts = LoginStarts(hand, self._tick)
        """What the entries start at login."""

    def leave_out(self, pid: int) -> None:
        """This process tries the computer: it and what it starts count as Lumtak's own cost."""
        self._tries_pid = pid
        self.apart.add(pid)

    def apart_s(self) -> float:
        """Core-seconds of those, as of the last pass: what has ended counts with who waited."""
        return sum(self._apart_ticks.values()) / self._tick

    def _set_apart(self, raw: dict[int, bytes]) -> None:
        """Take what tries the computer out of a pass, and count it."""
        self.apart &= raw.keys()
        if not self.apart:
            return
        parents = {pid: _parent_of(data) for pid, data in raw.items() if pid not in self._known}
        self.apart |= {pid for pid, parent in parents.items() if parent in self.apart}
        for pid in self.apart:
            # What it waited for counts for the first of them only: for others it is passed on.
            self._apart_ticks[pid] = _ticks_of(raw.pop(pid), waited=pid == self._tries_pid)
        for gone in self._apart_ticks.keys() - self.apart - {self._tries_pid}:
            del self._apart_ticks[gone]

    def look(self) -> list[Process]:
        """One pass over all processes, and what it found."""
        self.count()
        return [
            Process(
                pid=pid,
                name=known.name,
                consumer=known.consumer,
                cpu_s=known.ticks / self._tick,
                rss_bytes=known.rss_pages * self._page,
                started=known.started,
                parent=known.parent,
                untouchable=self._untouchable(pid, known),
            )
            for pid, known in sorted(self._known.items())
        ]

    def count(self) -> None:
        """One pass over all processes, for what they used since the last.

        Those that vanish on the way are left out.
        """
        raw = {int(pid): data for pid, data in self._hand.counters().items()}
        raw.pop(self._own_pid or 0, None)
        self._set_apart(raw)
        for gone in self._known.keys() - raw.keys():
            del self._known[gone]
            self._begun.discard(gone)
        changed = {
            pid: _parsed(data)
            for pid, data in raw.items()
            if pid not in self._known or self._known[pid].raw != data
        }
        for pid, now in sorted(
            changed.items(), key=lambda one: one[1].started if one[1] else 0
        ):  # parents come first
            self._count(pid, now)
        self._count_groups()
        self._first = False

    def _count(self, pid: int, now: _Known | None) -> None:
        before = self._known.pop(pid, None)
        if now is None:
            return
        if before is not None and before.started == now.started:
            now.name, now.consumer = before.name, before.consumer
            used = now.ticks - before.ticks
        else:
            now.name = plain(now.name)
            now.consumer = self._consumer(pid, now)
            used = 0 if self._first else now.ticks
        self._cpu_ticks[now.consumer] = self._cpu_ticks.get(now.consumer, 0) + max(0, used)
        self._known[pid] = now

    def _count_groups(self) -> None:
        """What each service used as its control group counted it.

        That holds what came and went between two passes.
        """
        for consumer, (group, last) in list(self._groups.items()):
            now = self._counts.cpu_s(group)
            if now is None:  # it was stopped; another start makes another group
                self._groups[consumer] = (group, 0.0)
                continue
            gained = 0.0 if self._first else now - last if now >= last else now
            self._grouped_s[consumer] = self._grouped_s.get(consumer, 0.0) + gained
            self._groups[consumer] = (group, now)

    def _untouchable(self, pid: int, stat: _Known) -> str:
        """Why it cannot be ended; empty when it can."""
        if stat.flags & _KERNEL_THREAD:
            return "it is part of the kernel"
        if pid == 1:
            return "everything else runs under it"
        if pid in self._begun:
            return "it is part of Lumtak"
        return RUNS_LUMTAK if pid in self._ancestors() else ""

    def _ancestors(self) -> set[int]:
        """Processes that Lumtak was started by: its shell, its terminal."""
        if self._above is None:
            self._above = set()
            pid = self._own_pid
            while pid and (stat := self._stat(pid)) is not None and stat.parent not in self._above:
                pid = stat.parent
                self._above.add(pid)
        return self._above

    def cpu_s(self) -> dict[str, float]:
        """Core-seconds a consumer since the first pass."""
        return {key: ticks / self._tick for key, ticks in self._cpu_ticks.items()} | self._grouped_s

    def memory(self) -> dict[str, Memory]:
        """What each consumer of the last pass holds.

        Proportional, else as its control group counts, else resident minus shared.
        """
        sums: dict[str, float] = {}
        ways: dict[str, set[str]] = {}
        for pid, known in self._known.items():
            if known.consumer == "system:kernel":
                continue
            size, how = self._holds(pid)
            if how:
                sums[known.consumer] = sums.get(known.consumer, 0.0) + size
                ways.setdefault(known.consumer, set()).add(how)
        for consumer, (group, _) in self._groups.items():
            if (
                _REST in ways.get(consumer, ())
                and (held := self._counts.anonymous_bytes(group)) is not None
            ):
                sums[consumer], ways[consumer] = held, {"counted by its control group"}
        return {
            key: Memory(
                ram_bytes=size,
                how=" and ".join(sorted(ways[key])),
                shared_split=_REST not in ways[key],
            )
            for key, size in sums.items()
        }

    def _holds(self, pid: int) -> tuple[float, str]:
        try:
            rollup = self._hand.read(f"/proc/{pid}/smaps_rollup")
            fields = {k: float(v) for k, v in re.findall(rb"(?m)^(\w+):\s+(\d{1,16}) kB$", rollup)}
            if b"Pss_Anon" in fields:
                size = (
                    fields[b"Pss_Anon"]
                    + fields.get(b"Pss_Shmem", 0.0)
                    + fields.get(b"SwapPss", 0.0)
                )
                return size * 1024, "proportional"
        except OSError:
            pass  # another user's, or gone: the next way tells
        rest = private_bytes(self._hand, pid, self._page)
        return (0.0, "") if rest is None else (rest, _REST)

    def _stat(self, pid: int) -> _Known | None:
        try:
            return _parsed(self._hand.read(f"/proc/{pid}/stat", 4096))
        except OSError:
            return None

    def _consumer(self, pid: int, stat: _Known) -> str:
        if stat.flags & _KERNEL_THREAD:
            return "system:kernel"
        if self._own_pid is not None and stat.parent in {self._own_pid, *self._begun}:
            self._begun.add(pid)
            return LUMTAK
        group = self._group(pid)
        # The kernel's own word first: a control group cannot be feigned by a name or a parent.
        found = (
            self._by_group(group)
            or self._by_parent(stat)
            or self.starts.consumer_of(pid, stat.name, stat.started, group)
        )
        return found or f"{UNLISTED}{stat.name}"

    def _by_group(self, group: str) -> str:
        """The service, unit, sandbox or app that a control group stands for; empty for none."""
        if self.services and (service := _SERVICE.match(group)):
            return self._grouped(f"services:{service[1]}", group[: service.end()])
        if (unit := _USER_UNIT.match(group)) and f"{USER_UNIT}{unit[1]}" in self.units:
            return self._grouped(f"{USER_UNIT}{unit[1]}", group[: unit.end()])
        boxed, app = _SANDBOX.search(group), _APP.search(group)
        if boxed and (consumer := SANDBOX + _unescaped(boxed[1])) in self.units:
            return consumer
        if app and (consumer := f"apps:{_unescaped(app[1])}") in self.starts.consumers:
            return consumer
        return ""

    def _by_parent(self, stat: _Known) -> str:
        """A copy that a login's program made of itself counts with it."""
        parent = self._known.get(stat.parent)
        if parent is None or parent.name != stat.name:
            return ""
        return parent.consumer if parent.consumer in self.starts.consumers else ""

    def _group(self, pid: int) -> str:
        try:
            return group_of(self._hand.read(f"/proc/{pid}/cgroup", 8192))
        except OSError:
            return ""

    def _grouped(self, consumer: str, group: str) -> str:
        """The consumer, whose group is counted from now on.

        Not where Lumtak itself runs in it, for that is none of its load.
        """
        if consumer not in self._groups and not f"{self._own_group}/".startswith(f"{group}/"):
            self._groups[consumer] = (group, 0.0)
        return consumer


def _unescaped(name: str) -> str:
    """A part of a unit's name as it was before systemd escaped it; systemd-escape(1)."""
    return re.sub(r"\\x([0-9a-f]{2})", lambda m: chr(int(m[1], 16)), name)


def private_bytes(hand: Reach, pid: int | str, page: int) -> float | None:
    """What a process holds, resident minus shared; proc(5), /proc/PID/statm.

    None where it is gone.
    """
    try:
        pages = hand.read(f"/proc/{pid}/statm").split()
        return (int(pages[1]) - int(pages[2])) * float(page)
    except (OSError, ValueError, IndexError):
        return None


def cpu_times(data: bytes, tick: int) -> tuple[int, float, float, float, float]:
    """(cores, busy, iowait, steal, total) in core-seconds, from /proc/stat.

    Guest ticks are in user already.
    """
    lines = data.split(b"\n")
    fields = [int(x) for x in lines[0].split()[1:9]]
    fields += [0] * (8 - len(fields))
    user, nice, system, idle, iowait, irq, softirq, steal = fields
    cores = sum(1 for line in lines if re.match(rb"cpu\d", line))
    busy = user + nice + system + irq + softirq
    return cores, busy / tick, iowait / tick, steal / tick, (busy + idle + iowait + steal) / tick


def meminfo(data: bytes) -> dict[str, int]:
    """Sizes in bytes, from /proc/meminfo."""
    return {
        text(k): int(v) * 1024 for k, v in re.findall(rb"(?m)^([\w()]+):\s+(\d{1,16}) kB$", data)
    }
