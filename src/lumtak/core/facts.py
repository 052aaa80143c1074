"""What a computer is and has: hardware, system, and the items of each area."""

from collections.abc import Callable, Iterable
from typing import Any, Literal

from lumtak.core.clutter import Pile, Survey
from lumtak.core.extensions import Extension
from lumtak.core.felt import Complaint
from lumtak.core.record import AtLeastOne, Figure, NotMeasured, Record
from lumtak.core.setting import AREA_TITLES, AREAS, Area, SettingRef, Shows
from lumtak.core.text import number, plain
from lumtak.core.units import ram, span, took

Origin = Literal["system", "package", "vendor", "user", "unknown"]
"""Part of the system; of a package of the distribution; of somebody else's package; added by the
user; not known."""

TriggerKind = Literal[
    "system",
    "login",
    "wants",
    "socket",
    "bus",
    "timer",
    "path",
    "device",
    "app",
    "session script",
    "hand",
]


RUNS_LUMTAK = "Lumtak runs in it"
"""Why a process is never ended, and what it belongs to is never switched off."""
UNLISTED = "apps:process/"
"""Begins the consumer of a program that no service and no entry accounts for; no file name holds a
slash."""


class Trigger(Record):
    """One thing that starts an item."""

    kind: TriggerKind
    by: str = ""
    """Which one: the key of the unit or app, or the name of the socket, bus name, timer, path,
    device or script."""
    area: Area | None = None
    """Of `by`, where it is an item of another area."""


class Mark(Record):
    """A trace of advice that somebody followed on this computer."""

    advice: str
    """By the name in the collection of advice."""
    where: str
    """What was seen, and where."""


class Sign(Record):
    """Something about the computer that no setting changes and a technician wants to know."""

    name: str
    """What it is about: battery, heat, restart, updates, disk health, file system."""
    says: str
    """A clause about it."""
    grave: bool = False
    """Whether data may be lost by it: it comes before any other advice."""
    worn_pct: float | None = None
    """Of a battery that is worn: what it still holds of what it was built for."""


class Space(Record):
    """The volume that holds the system."""

    total_bytes: Figure = NotMeasured(not_measured="the volume was not looked at")
    free_bytes: Figure = NotMeasured(not_measured="the volume was not looked at")


class MemoryNow(Record):
    """Parts of memory that a reading does not follow, at this moment."""

    shared_bytes: Figure = NotMeasured(not_measured="shared memory was not looked at")
    """Shared memory, tmpfs included; it is in no single program's own figure."""
    swap_total_bytes: int = 0
    commit_peak_bytes: Figure = NotMeasured(
        not_measured="the system keeps no record of the most that was promised"
    )
    hibernates: bool = False
    """Whether the computer can save its memory to swap and switch off."""


class Hardware(Record):
    """What the computer is made of."""

    cores: AtLeastOne
    """Processors the system schedules on."""
    ram_bytes: AtLeastOne
    nominal_mhz: Figure
    disk: Literal["spinning", "solid"] | NotMeasured
    """The kind of the disk that holds the system."""
    battery: bool


class System(Record):
    """What runs on it, and since when."""

    name: str
    kernel: str
    boot_id: str
    session_id: str | NotMeasured
    """Identifies the chosen user's login; changes with a new login."""
    uptime_s: float
    since_login_s: Figure
    user: str
    power_source: Literal["mains", "battery"]
    power_plan: str | NotMeasured
    users: tuple[str, ...] | NotMeasured = NotMeasured(
        not_measured="no session manager counts logins here"
    )
    """Everybody who is logged in."""
    temperature_c: Figure = NotMeasured(not_measured="no sensor tells a temperature")
    """The hottest sensor."""


class Setting(Record, tag_field="kind", tag="setting"):
    """How an item can be changed."""

    values: tuple[str, ...] = ()
    """The values it can take; empty for a whole number."""
    lowest: int | None = None
    highest: int | None = None
    shows: Shows = "now"

    @property
    def bounds(self) -> str:
        """From where to where a number may go, to be said after it."""
        if self.lowest == self.highest:
            return f", and it can only be {self.lowest}"
        return f" from {self.lowest} to {self.highest}"

    def problem_with(self, value: str | None) -> str | None:
        """Why this value cannot be set, as a sentence; None when it can."""
        if value is None:
            return None
        if self.values:
            return None if value in self.values else f"it can be {', '.join(self.values)}."
        size = number(value)
        lowest, highest = self.lowest or 0, self.highest
        fits = size is not None and lowest <= size and (highest is None or size <= highest)
        return None if fits else f"it is a whole number{self.bounds}."


class Fixed(Record, tag_field="kind", tag="fixed"):
    """Why an item cannot be changed by Lumtak, and what would be needed."""

    needed: str


Evidence = Literal["essential", "early", "phase", "server", "listens", "rival"]
"""What bears out that something stands on an item of which nothing else is known: every system has
its package; it starts before the system is up; it starts in a phase for which the session waits;
its package says of itself that it is a server; it waits for connections of other computers; it
sets the power plan, and so does another program."""


class Item(Record):
    """One service, background app, effect, plan or memory setting."""

    area: Area
    key: str
    """Stable on this computer, unique within its area."""
    title: str
    origin: Origin = "unknown"
    role: str = ""
    """What it is for, by the catalogue's name; empty when nobody knows."""
    part_of: str = ""
    """Of an effect: the key of the one with which a profile keeps it."""
    value: str | None = None
    """The setting's value now; None is unset."""
    default: str = ""
    """What an effect is while it is unset; empty where that is not known."""
    running: bool = False
    started_by: str = ""
    """What starts it, as a clause."""
    at_login: bool = False
    """Whether each login of its user starts it."""
    needs: tuple[str, ...] = ()
    """Keys in the same area without which it cannot work."""
    aliases: tuple[str, ...] = ()
    """Other keys by which it is known."""
    triggers: tuple[Trigger, ...] = ()
    """What starts it, or may start it again though it is off."""
    package: str = ""
    """The package it came with, where known."""
    touches: str = ""
    """What its setting works on; settings of one plan that touch the same thing are changed one
    after the other."""
    setting: Setting | Fixed
    note: str = ""
    """What the system itself says of it."""
    evidence: tuple[Evidence, ...] = ()
    stood_on_by: tuple[str, ...] = ()
    """Packages here that cannot be without the one that brought it."""
    start_s: float | None = None
    """For how long it was starting when it last started, where the system counts that."""
    pile: Pile | None = None
    """What it holds of the disk, of clutter."""
    extensions: tuple[Extension, ...] = ()
    """What it loads besides itself, of a browser."""

    @property
    def ref(self) -> SettingRef:
        """Its address."""
        return SettingRef(area=self.area, key=self.key)

    @property
    def consumer(self) -> str:
        """The name under which readings count it."""
        return f"{self.area}:{self.key}"


class Gap(Record):
    """Something that could not be read, and what would be needed to read it."""

    area: Area
    reason: str
    needed: str = ""
    partly: bool = False  # there is more of something than was looked at


class Process(Record):
    """One running process."""

    pid: int
    name: str
    consumer: str
    """Whom readings count it for."""
    cpu_s: float
    """Core-seconds since it started."""
    rss_bytes: int
    started: int = 0
    """Tells it from another one of the same number: ticks from boot to its start."""
    parent: int = 0
    """Number of the process that started it; 0 where that is not known."""
    untouchable: str = ""
    """Why it is never ended, as a clause; empty when it can be."""
    system: bool = True  # whether its program's file is: else its name guards nothing


class ProcessDetails(Record):
    """One running process, looked at closely.

    Read when somebody asks and kept nowhere: a command line may say what is private.
    """

    command: str | NotMeasured
    """The program and its arguments, as text."""
    user: str | NotMeasured
    """Whose rights it has."""
    folder: str | NotMeasured
    """The one it works in."""


class Facts(Record):
    """Everything read from one computer at one moment."""

    address: str
    identity: str
    """Knows the computer again: a hash of its machine id; for a simulated one, its name."""
    name: str
    hardware: Hardware
    system: System
    items: tuple[Item, ...]
    gaps: tuple[Gap, ...] = ()
    processes: tuple[Process, ...] = ()
    process_count: int = 0
    memory: MemoryNow = MemoryNow()
    space: Space = Space()
    survey: Survey | None = None
    """The disk looked through; None where nobody did."""
    marks: tuple[Mark, ...] = ()
    signs: tuple[Sign, ...] = ()
    times: dict[str, Figure] = {}
    """Seconds by name: parts of the start, the login, and how quickly it answers."""

    def find(self, ref: SettingRef) -> Item | None:
        """The item at this address or alias; an app may be named with its file's ending."""
        for item in self.items:
            if item.area == ref.area and (item.key == ref.key or ref.key in item.aliases):
                return item
        if ref.area == "apps" and ref.key.endswith(".desktop"):
            return self.find(SettingRef(area="apps", key=ref.key.removesuffix(".desktop")))
        return None


def closely_in_rows(
    process: Process, details: ProcessDetails, facts: Facts
) -> list[tuple[str, str]]:
    """(name, value) rows about one process for people: what tells whether somebody uses it."""

    def word(value: str | NotMeasured) -> str:
        return (
            f"not known: {value.not_measured}"
            if isinstance(value, NotMeasured)
            else plain(value, 300)
        )

    parent = next((p for p in facts.processes if p.pid == process.parent), None)
    above = (
        f"{plain(parent.name, 40)} (process {parent.pid})"
        if parent
        else "has ended, or is not to be seen"
    )
    return [
        ("command", word(details.command)),
        ("user", word(details.user)),
        ("parent", above),
        ("folder", word(details.folder)),
    ]


def lumtaks(facts: Facts) -> frozenset[str]:
    """Consumers in which Lumtak runs: without them there would be nobody to put anything back."""
    return frozenset(p.consumer for p in facts.processes if p.untouchable == RUNS_LUMTAK)


def heaviest_of(consumer: str, facts: Facts, count: int = 2) -> list[Process]:
    """Processes of a consumer, those that hold most first."""
    mine = [p for p in facts.processes if p.consumer == consumer]
    return sorted(mine, key=lambda p: (-p.rss_bytes, p.pid))[:count]


LEAST_START_S = 0.05
"""A start that took less is not worth telling."""


def longest_starts(items: Iterable[Item], count: int = 3) -> list[Item]:
    """Those that took longest to start, longest first; what took next to nothing is left out."""
    told = [i for i in items if i.start_s is not None and i.start_s >= LEAST_START_S]
    return sorted(told, key=lambda i: (-(i.start_s or 0.0), i.key))[:count]


def _of(space: Space) -> str:
    if isinstance(space.total_bytes, NotMeasured) or isinstance(space.free_bytes, NotMeasured):
        return "not known"
    return f"{ram(space.free_bytes)} of {ram(space.total_bytes)}"


_MATTERS: dict[Complaint, tuple[str, ...]] = {
    "start": ("hardware", "longest to start", "free space"),
    "programs": ("hardware", "free space", "power"),
    "many-open": ("hardware", "free space", "processes"),
    "heat": ("nominal clock", "power", "hardware"),
    "everything": ("hardware", "free space", "power", "longest to start"),
}


def facts_for(complaint: Complaint) -> tuple[str, ...]:
    """The names of the rows of `in_rows` that matter most for a complaint."""
    return _MATTERS.get(complaint, ())


def in_rows(facts: Facts) -> list[tuple[str, str]]:
    """(name, value) rows about a computer for people, as text from that computer.

    Fit for a terminal.
    """

    def word(value: Any, form: Callable[[Any], str] = str) -> str:  # noqa: ANN401
        is_missing = isinstance(value, NotMeasured)
        return f"not known: {value.not_measured}" if is_missing else form(value)

    hardware, system = facts.hardware, facts.system
    rows = [
        ("computer", f"{plain(facts.name)} ({facts.address})"),
        ("system", plain(f"{system.name}, kernel {system.kernel}, up for {span(system.uptime_s)}")),
        (
            "hardware",
            (
                f"{hardware.cores} processors, {ram(hardware.ram_bytes)} RAM, disk"
                f" {word(hardware.disk)}"
            ),
        ),
        ("nominal clock", word(hardware.nominal_mhz, lambda mhz: f"{mhz:.0f} MHz")),
        ("power", plain(f"on {system.power_source}, plan {word(system.power_plan)}")),
        ("free space", _of(facts.space)),
        ("settings of", plain(system.user)),
        ("processes", str(facts.process_count)),
    ]
    rows += [(name, word(seconds, took)) for name, seconds in facts.times.items()]
    if slow := longest_starts(facts.items):
        named = ", ".join(f"{plain(i.key)} {took(i.start_s or 0.0)}" for i in slow)
        rows.append(("longest to start", named))
    rows += [(plain(sign.name), plain(sign.says, 300)) for sign in facts.signs]
    for area in AREAS:
        count = sum(item.area == area for item in facts.items)
        gaps = "; ".join(g.reason for g in facts.gaps if g.area == area)
        rows.append((AREA_TITLES[area], f"{count}" + (f"   {gaps}" if gaps else "")))
    return rows
