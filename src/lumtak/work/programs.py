"""Installed programs: which may be removed here, and removing them."""

from collections.abc import Iterable, Mapping, Sequence

import msgspec

from lumtak.computers.protocol import Computer
from lumtak.core.actions import Action
from lumtak.core.catalogue import Catalogue
from lumtak.core.facts import Facts
from lumtak.core.installed import Installed, Programs, Removal, removal
from lumtak.core.profile import Profile
from lumtak.core.text import plain
from lumtak.errors import ComputerError, UsageError
from lumtak.work.data_folder import DataFolder
from lumtak.work.storage import judged

_MOST_NOTE = 300


def programs_of(
    data_folder: DataFolder, computer: Computer, facts: Facts, profile: Profile
) -> Programs:
    """Everything installed; what is guarded, or kept by the profile, cannot be chosen.

    Raises:
        ComputerError: the computer cannot be looked at.
    """
    found = computer.about.installed(facts.items)
    kept = _kept(data_folder, facts, profile)
    catalogue, needed = data_folder.catalogue, frozenset(profile.needs.roles)
    reasons = {p.name: kept.get(p.name) or _by_role(p, catalogue, needed) for p in found.found}
    return msgspec.structs.replace(
        found, found=tuple(_judged(program, reasons) for program in found.found)
    )


def _kept(data_folder: DataFolder, facts: Facts, profile: Profile) -> dict[str, str]:
    """By package: why one of its items is left alone, as a sentence."""
    packages = {i.consumer: i.package for i in facts.items if i.package}
    reasons: dict[str, str] = {}
    for finding in judged(data_folder, facts, profile).findings:
        package = packages.get(finding.consumer)
        if package and finding.stance in {"keep", "guarded"}:
            reasons.setdefault(package, f"{finding.title}: {finding.reason}")
    return reasons


def _by_role(program: Installed, catalogue: Catalogue, needed: frozenset[str]) -> str:
    """The same, of one of which the catalogue knows the package."""
    name = program.name.partition(":")[0]
    role = catalogue.find(catalogue.listed("services", name, name))
    if role is None:
        return ""
    if role.guarded:
        return f"It is guarded: {role.title.lower()}."
    return f"The profile needs it: {role.title.lower()}." if role.name in needed else ""


def _judged(program: Installed, reasons: Mapping[str, str]) -> Installed:
    """The program with why it cannot be chosen, by itself or by what would go with it."""
    why = program.why_not or reasons.get(program.name, "")
    for other in program.takes:
        if not why and reasons.get(other):
            why = f"{plain(other, 80)} would go with it. {reasons[other]}"
    return msgspec.structs.replace(program, why_not=why)


def looked_at(computer: Computer, programs: Programs, names: Sequence[str]) -> Removal:
    """What removing these would do; the package manager has gone through it.

    Raises:
        UsageError: nothing is named, or it is not done; ComputerError: the package manager would
            not do it.
    """
    if not names:
        raise UsageError("No program is named.", "`lumtak storage COMPUTER programs` lists them.")
    found = removal(programs, names)
    if found.why_not:
        raise UsageError(
            f"{', '.join(plain(n, 80) for n in names[:5])} cannot be removed. {found.why_not}",
            "Nothing was removed.",
        )
    computer.about.rehearse(found.names)
    return found


def remove(computer: Computer, wanted: Removal, titles: Iterable[str]) -> Action:
    """Remove programs, which cannot be put back but from their packages; what became of it."""
    note, gone = "", ()  # type: str, tuple[str, ...]
    try:
        computer.settings.take_rights(ask=False)
        gone = computer.settings.remove_programs(wanted.names)
    except ComputerError as error:
        note = plain(str(error), _MOST_NOTE)
    return Action(
        at=computer.clock.wall().isoformat(timespec="seconds"),
        kind="remove",
        target=", ".join(titles),
        consumer=f"programs:{wanted.names[0]}",
        ended=set(gone) == set(wanted.names),
        refused=bool(note),
        bytes=wanted.bytes if gone else 0.0,
        packages=gone,
        again=wanted.again if gone else (),
        note=note,
    )
