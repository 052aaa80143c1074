"""The description of a simulated computer, from data/fleet/NAME.toml."""

import tomllib
from functools import cache
from importlib.resources import files
from typing import Literal

import msgspec

from lumtak.computers.simulated.heads import written
from lumtak.core.extensions import Extension
from lumtak.core.facts import Origin, Sign
from lumtak.core.felt import Complaint
from lumtak.core.record import Record
from lumtak.core.setting import Shows
from lumtak.core.upkeep.system import Update
from lumtak.core.upkeep.tasks import Found


class HardwareSpec(Record):
    """What it is made of."""

    cores: int
    ram_mib: float
    nominal_mhz: float
    disk: Literal["spinning", "solid"]
    disk_mib_s: float
    battery: bool
    boot_s: float
    """From power on until the first service starts."""
    on_battery: bool = False
    hibernates: bool = False
    volume_gib: float = 232.0
    free_gib: float = 120.0
    heat_c: float = 0.0
    """By how many degrees full work at the nominal clock heats it; 0: it has no sensor."""
    throttle_c: float = 95.0
    """Where it slows itself down."""


class KernelSpec(Record):
    """What the system holds in memory by itself."""

    ram_mib: float
    cache_mib: float


class PlanSpec(Record):
    """A power plan: the clock against nominal when idle and under full load."""

    name: str
    low: float
    high: float


class MemorySpec(Record):
    """A memory setting."""

    key: str
    title: str
    lowest: int
    highest: int
    shows: Shows


class ProcessSpec(Record):
    """How a program behaves; docs/SIMULATION.md gives the equations."""

    key: str
    title: str
    work: float = 0.0
    """Mean demand, core-seconds per second at the nominal clock."""
    sigma: float = 0.35
    """Spread of the logarithm of demand."""
    tau_s: float = 6.0
    """Correlation time of demand."""
    burst_every_s: float = 0.0
    """Mean time between bursts; 0 is never."""
    burst_s: float = 5.0
    burst_work: float = 0.0
    ram_mib: float = 0.0
    start_work: float = 0.3
    """Core-seconds that its start takes."""
    start_read_mib: float = 12.0
    cache_mib: float = 20.0
    """How much of its files the page cache comes to hold."""
    asked_every_s: float = 7200.0
    """Mean time between requests when it starts on demand."""
    asked_s: float = 60.0
    """How long it then stays."""
    reads_mib_s: float = 0.0
    """Mean of what it reads from the disk while it runs."""
    stubborn: bool = False
    """Whether it does not end when it is asked to."""


class ServiceSpec(ProcessSpec):
    """A service."""

    value: Literal["auto", "demand", "manual", "off"]
    role: str = ""
    origin: Origin
    needs: tuple[str, ...] = ()
    shows: Shows = "now"
    aliases: tuple[str, ...] = ()
    socket: str = ""
    """What starts it on demand: a socket, a bus name, a device, a timer."""
    bus: str = ""
    device: str = ""
    timer: str = ""
    timer_every_s: float = 0.0
    started_by: tuple[str, ...] = ()
    """Services that start it."""
    at_start: bool = False
    """Whether its timer rings once at every start too."""
    rings: tuple[str, ...] = ()
    """Services that its timer starts besides itself."""
    starts: tuple[str, ...] = ()
    """Strays that it leaves running."""

    @property
    def on_demand(self) -> bool:
        """Whether anything can ask for it."""
        return bool(self.socket or self.bus or self.device or self.timer or self.started_by)


class StraySpec(ProcessSpec):
    """A program that is in no list: something else starts it."""


class MarkSpec(Record):
    """A trace of advice that somebody followed."""

    advice: str
    where: str


class AppSpec(ProcessSpec):
    """A background app that starts at login."""

    value: Literal["on", "off"]
    role: str = ""
    origin: Origin
    shows: Shows = "login"
    extensions: tuple[Extension, ...] = ()
    """Of a browser."""


class EffectSpec(ProcessSpec):
    """A visual effect.

    Drawn by the desktop, or by a helper of its own where it has work or memory of its own.
    """

    value: Literal["on", "off"] | None = None
    """None: unset, the default counts."""
    default: Literal["on", "off"]
    shows: Shows = "now"
    desktop_work: float = 0.0
    desktop_ram_mib: float = 0.0


class ProgramSpec(Record):
    """The large program that a computer is there for."""

    title: str
    path: str


class FileSpec(Record):
    """One of its large files."""

    path: str
    gib: float
    days: float
    """Since it was last changed."""
    content: str = ""
    """Files that have it in common hold the same; empty for a content of its own."""
    alone: str = ""
    """What it may be the only copy of; empty for nothing."""
    opened_days: float | None = None
    """Since it was last opened; None where nothing tells."""


class PackageSpec(Record):
    """One of its programs."""

    name: str
    title: str
    gib: float
    only: dict[str, float] = {}
    """GiB by the name of what only it needs."""
    takes: tuple[str, ...] = ()
    """What cannot be without it."""
    installed_days: float = 900.0
    used_days: float | None = None
    """None where nothing noted it."""
    starts: tuple[str, ...] = ()
    essential: str = ""
    """What the system needs it for; empty where it does not."""


class DiskSpec(Record):
    """What its disk holds besides clutter; the rest of what is used is the owner's own."""

    system_gib: float = 9.0
    programs_gib: float = 14.0
    inodes: int = 240_000
    file: tuple[FileSpec, ...] = ()
    package: tuple[PackageSpec, ...] = ()
    hollow: tuple[str, ...] = ()
    """Folders with nothing in them."""
    system_files: int = 84_000
    """That its packages brought."""


class UpkeepSpec(Record):
    """What its tasks of upkeep find."""

    damaged: tuple[Found, ...] = ()
    """Of the files that its packages brought, those that are not as they came."""
    configured: tuple[Found, ...] = ()
    updates: tuple[Update, ...] = ()
    lists_days: float = 2.0
    """Since the package manager's lists were fetched."""
    menu_s: float = 3.0
    """How long its boot menu waits."""
    late: tuple[str, ...] = ()
    """Services that did not stop in time at the last shutdown."""
    odd: tuple[Found, ...] = ()
    scanner: str = ""
    """What its scanner calls itself; empty where it has none."""
    signature_days: int = 1
    unwanted: tuple[str, ...] = ()
    """Of the owner's files, those that the scanner knows."""
    user_files: int = 240
    """Of the owner's, besides the large ones."""
    large_files: int = 640
    pieces: int = 700
    """In how many pieces those lie."""
    disk: tuple[Found, ...] = ()
    trim_days: float | None = 4.0
    """Since its disk was last told what is free; None: never."""


class ClutterSpec(Record):
    """What a class of clutter holds, by the name of the class."""

    name: str
    title: str = ""
    gib: float
    """That may be set aside."""
    files: int
    oldest_days: float = 400.0
    young_gib: float = 0.0
    """That is too young for it."""
    young_files: int = 0
    gib_a_week: float = 0.0
    """By how much it grows."""


class ComputerSpec(Record):
    """A computer of the fleet."""

    format: int
    base: str = ""
    """The system it stands on, from data/fleet/systems."""
    name: str
    title: str
    about: str
    user: str
    profile: str
    """What it is used for, by the profile's name."""
    complaint: Complaint
    """What its owner comes with."""
    told: str
    hardware: HardwareSpec
    kernel: KernelSpec
    program: ProgramSpec
    settings: dict[str, str]
    """Power and memory settings at the start, by address."""
    plan: tuple[PlanSpec, ...]
    memory: tuple[MemorySpec, ...]
    system: tuple[ProcessSpec, ...]
    service: tuple[ServiceSpec, ...]
    app: tuple[AppSpec, ...]
    effect: tuple[EffectSpec, ...]
    stray: tuple[StraySpec, ...] = ()
    disk: DiskSpec = DiskSpec()
    upkeep: UpkeepSpec = UpkeepSpec()
    clutter: tuple[ClutterSpec, ...] = ()
    mark: tuple[MarkSpec, ...] = ()
    sign: tuple[Sign, ...] = ()


class _SystemFile(Record):
    format: int
    service: tuple[ServiceSpec, ...]


@cache
def _services_of(system: str) -> tuple[ServiceSpec, ...]:
    text = (files("lumtak") / "data" / "fleet" / "systems" / f"{system}.toml").read_text(
        encoding="utf-8"
    )
    return msgspec.convert(tomllib.loads(text), _SystemFile).service


@cache
def load_spec(name: str) -> ComputerSpec:
    """The description of one computer of the fleet.

    Raises:
        UnknownNameError: there is none of this name.
    """
    spec = msgspec.convert(tomllib.loads(written(name)), ComputerSpec)
    if not spec.base:
        return spec
    own = {s.key for s in spec.service}
    below = (s for s in _services_of(spec.base) if s.key not in own)
    return msgspec.structs.replace(spec, service=(*spec.service, *below))
