"""Rules that need no other item: effects, power plans, memory settings, launch-prefetching.

Each gives a ruling: the stance, the reason, and the value that would ease it.
"""

from lumtak.core.catalogue import Role
from lumtak.core.facts import Evidence, Facts, Item, Setting
from lumtak.core.profile import Profile
from lumtak.core.reading import Reading
from lumtak.core.record import NotMeasured
from lumtak.core.ruling import Ruling
from lumtak.core.setting import UNSET_WORD
from lumtak.core.sizing import swap_sizes
from lumtak.core.text import number

PREFETCH = "launch-prefetch"
"""The role of which the kind of disk decides."""


def best_value(item: Item, wanted: str) -> str | None:
    """The value nearest to the wanted one that this setting can take, other than the one it has."""
    if not isinstance(item.setting, Setting):
        return None
    can = [v for v in item.setting.values if v != item.value]
    return next((v for v in (wanted, "demand", "manual", "off") if v in can), None)


def by_area(item: Item, facts: Facts, profile: Profile, reading: Reading | None) -> Ruling | None:
    """Effects, plans and memory settings follow the profile's own rules.

    None where an effect has a role, by which it is judged like anything else.
    """
    if item.area == "effects":
        return _effect(item, profile)
    if item.area == "power":
        return _power(item, facts, profile)
    if item.key == "swap_mib" and profile.memory.swap:
        return _swap(item, profile.memory.swap, facts, reading)
    return _memory(item, profile)


def _effect(item: Item, profile: Profile) -> Ruling | None:
    if not {item.key, item.part_of}.isdisjoint(profile.effects.keep):
        return Ruling("keep", "the profile keeps this effect.")
    if item.value == "off":
        return Ruling("keep", "it is off already.")
    if item.value is None and item.default == "off":
        return Ruling("keep", "nothing is set, and that is off here.")
    if not item.running:
        return Ruling("keep", "it is stored, and not in force: it costs nothing.")
    if item.role:
        return None
    return Ruling("ease", "the profile does not ask for this effect.", "off")


def _power(item: Item, facts: Facts, profile: Profile) -> Ruling:
    if item.key not in {"mains", "battery"}:
        return _when_idle(item, profile)
    wanted = profile.power.mains if item.key == "mains" else profile.power.battery
    if wanted is None:
        return Ruling("keep", "the profile leaves this plan alone.")
    if item.value == wanted:
        return Ruling("keep", f"the plan is {wanted}, as the profile wants it.")
    if isinstance(item.setting, Setting) and wanted not in item.setting.values:
        return Ruling("keep", f"the profile wants {wanted}, which {facts.name} does not have.")
    now = item.value or UNSET_WORD
    return Ruling("ease", f"the plan is {now}, and the profile wants {wanted}.", wanted)


def _when_idle(item: Item, profile: Profile) -> Ruling:
    """Dimming, screen and sleep: as the profile wants them, for each source of power."""
    held = {f"{item.key}{end}" for end in ("", "_mains", "_battery")}
    wishes = {w for name in held if (w := getattr(profile.power, name, None)) is not None}
    if not wishes:
        return Ruling("keep", "the profile leaves it alone.")
    if len(wishes) > 1:
        return Ruling("keep", "the profile wants it otherwise for each source, which has one here.")
    wanted = str(wishes.pop())
    if wanted in {item.value, item.default if item.value is None else None}:
        return Ruling("keep", f"it is {wanted}, as the profile wants it.")
    return Ruling(
        "ease", f"it is {item.value or UNSET_WORD}, and the profile wants {wanted}.", wanted
    )


def _swap(item: Item, rule: str, facts: Facts, reading: Reading | None) -> Ruling:
    """Only too little swap is worth changing; too much is only occupied disk."""
    size = next(s for s in swap_sizes(facts, reading) if s.rule == rule)
    if isinstance(size.mib, NotMeasured):
        return Ruling("keep", f"the rule {rule} has no answer here: {size.mib.not_measured}.")
    wanted, held = size.mib[0], number(item.value)
    asked = f"asks for {wanted} MiB ({size.arithmetic})."
    if held is None or held >= wanted:
        return Ruling("keep", f"it is enough by the rule {rule}, which {asked}")
    return Ruling("ease", f"the rule {rule} {asked}", str(wanted))


def _memory(item: Item, profile: Profile) -> Ruling:
    wanted: int | None = getattr(profile.memory, item.key, None)
    if wanted is None:
        return Ruling("keep", "the profile has no rule for it.")
    if item.value == str(wanted):
        return Ruling("keep", f"it is {wanted}, as the profile wants it.")
    now = item.value or UNSET_WORD
    return Ruling("ease", f"it is {now}, and the profile wants {wanted}.", str(wanted))


def prefetch(item: Item, facts: Facts) -> Ruling:
    """Launch-prefetching: worth keeping on a spinning disk, worthless on a solid one."""
    on = item.value in {"auto", "on"}
    disk = facts.hardware.disk
    if isinstance(disk, NotMeasured):
        return Ruling(
            "keep", f"whether it helps depends on the kind of disk, and {disk.not_measured}."
        )
    if disk == "spinning":
        sooner = "on a spinning disk it makes programs start sooner."
        if on:
            return Ruling("keep", sooner)
        return Ruling("ease", f"it is off, and {sooner}", best_value(item, "auto"))
    if not on and not item.running:
        return Ruling("keep", "it is off, as it should be on a solid-state disk.")
    return Ruling(
        "ease",
        "on a solid-state disk it does nothing for the start of programs.",
        best_value(item, "off"),
    )


_EVIDENCE: dict[Evidence, str] = {
    "essential": "every system has the package that brought it",
    "early": "it starts before the system is up",
    "phase": "the session waits for it while it starts",
}


def _is_known(role: Role | None) -> bool:
    """Whether more than a name tells what an item is for."""
    return role is not None and not role.likely


_SERVES: dict[Evidence, str] = {
    "server": "its package says that it is a server",
    "listens": "it waits for connections of other computers",
}


def serving(item: Item, role: Role | None) -> str:
    """Why an item that nobody knows may serve other computers; empty where nothing says so."""
    if _is_known(role):
        return ""
    return " and ".join(_SERVES[e] for e in item.evidence if e in _SERVES)


_NAMED = 2


def stood_on(item: Item, role: Role | None) -> str:
    """What speaks for an item of which nothing is known, as a clause; empty where nothing does."""
    if _is_known(role):
        return ""
    said = []
    if on_it := item.stood_on_by:
        more = f" and {len(on_it) - _NAMED} more" if len(on_it) > _NAMED else ""
        one = len(on_it) == 1
        names = ", ".join(on_it[:_NAMED]) + more
        said.append(f"the package{'' if one else 's'} {names} need{'s' if one else ''} its package")
    kinds = {t.kind for t in item.triggers}
    if item.running and kinds == {"bus"}:
        name = next(t.by for t in item.triggers)
        said.append(f"another program asked for it on the bus as {name}, so that it runs")
    return " and ".join(said)


def by_evidence(item: Item, role: Role | None) -> str:
    """Why an item is guarded of which nothing is known, or its name alone; empty where it is not.

    Evidence guards, or asks; it never makes anything “not needed”.
    """
    if "rival" in item.evidence:
        return "it sets the power plan, and so does another program: neither of them is touched."
    said = " and ".join(_EVIDENCE[e] for e in item.evidence if e in _EVIDENCE)
    if _is_known(role) or not said:
        return ""
    return f"its purpose is unknown, but {said}, so that others may stand on it."
