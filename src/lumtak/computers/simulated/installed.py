"""The programs of a simulated computer."""

from collections.abc import Sequence
from datetime import timedelta

from lumtak.computers.simulated.machine import EPOCH, Machine
from lumtak.computers.simulated.spec import PackageSpec
from lumtak.core.installed import Installed, Programs
from lumtak.core.record import NotMeasured
from lumtak.core.units import GIB
from lumtak.errors import ComputerError

_DAY_S = 86_400.0


def installed(machine: Machine) -> Programs:
    """As its description has them, without those that were removed."""
    gone = machine.state.removed
    found = [_program(machine, p) for p in machine.spec.disk.package if p.name not in gone]
    for package in machine.spec.disk.package:
        found += [
            Installed(
                name=name,
                manager="dpkg",
                title=f"part of {package.title}",
                version="4.0",
                bytes=gib * GIB,
                takes=() if package.name in gone else (package.name,),
                auto=True,
            )
            for name, gib in package.only.items()
            if name not in gone
        ]
    found.sort(key=lambda p: (-p.whole_bytes, p.name))
    return Programs(found=tuple(found))


def _program(machine: Machine, spec: PackageSpec) -> Installed:
    gone, days = machine.state.removed, machine.model.clock_s / _DAY_S
    only = {n: gib for n, gib in spec.only.items() if n not in gone}
    came = EPOCH - timedelta(days=spec.installed_days)
    return Installed(
        name=spec.name,
        manager="dpkg",
        title=spec.title,
        version="4.0",
        bytes=spec.gib * GIB,
        only=tuple(only),
        only_bytes=sum(only.values()) * GIB,
        takes=tuple(t for t in spec.takes if t not in gone),
        installed_on=f"{came:%Y-%m-%d}",
        used_days=(
            NotMeasured(not_measured="nothing noted when it was last used")
            if spec.used_days is None
            else spec.used_days + days
        ),
        used_by="" if spec.used_days is None else "the desktop noted a file opened with it",
        starts=spec.starts,
        why_not=f"The system needs it: {spec.essential}." if spec.essential else "",
        command=f"dpkg --remove {spec.name}",
    )


def rehearse(machine: Machine, names: Sequence[str]) -> None:
    """Check that they can be removed.

    Raises:
        ComputerError: one is not there, or needed by what would stay.
    """
    here = {p.name: p for p in installed(machine).found}
    for name in names:
        program = here.get(name)
        if program is None or program.why_not or set(program.takes) - set(names):
            raise ComputerError(f"{name} cannot be removed.", "Nothing was removed.")


def remove(machine: Machine, names: Sequence[str]) -> tuple[str, ...]:
    """They are gone, and what they held is free.

    Raises:
        ComputerError: one is needed by what would stay.
    """
    rehearse(machine, names)
    machine.put(removed=tuple(sorted({*machine.state.removed, *names})))
    return tuple(names)
