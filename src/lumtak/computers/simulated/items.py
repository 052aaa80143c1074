"""What a simulated computer has settings of."""

from lumtak.computers.simulated import disk
from lumtak.computers.simulated.machine import Machine
from lumtak.computers.simulated.spec import ServiceSpec
from lumtak.core.facts import UNLISTED, Fixed, Item, Setting, Trigger, TriggerKind

_WATCH = Setting(values=("off", "weekly", "monthly", "quarterly", "half-yearly"))
_STOPS = Setting(lowest=20, highest=600)
_BY_HAND = ("auto", "manual", "off")
_ON_DEMAND = ("auto", "demand", "manual", "off")


def items_of(machine: Machine) -> list[Item]:
    """All of them, as they are set now."""
    kinds = (_services, _apps, _strays, _effects, _plans, _memory, disk.items, _upkeep)
    return [item for kind in kinds for item in kind(machine)]


def _services(machine: Machine) -> list[Item]:
    return [
        Item(
            area="services",
            key=s.key,
            title=s.title,
            origin=s.origin,
            role=s.role,
            value=machine.state.settings[f"services:{s.key}"],
            running=machine.runs(f"services:{s.key}"),
            started_by="starts with the system" if s.value == "auto" else "",
            needs=s.needs,
            aliases=s.aliases,
            triggers=_triggers(s),
            setting=Setting(values=_ON_DEMAND if s.on_demand else _BY_HAND, shows=s.shows),
        )
        for s in machine.spec.service
    ]


def _apps(machine: Machine) -> list[Item]:
    return [
        Item(
            area="apps",
            key=a.key,
            title=a.title,
            origin=a.origin,
            role=a.role,
            value=machine.state.settings[f"apps:{a.key}"],
            running=machine.runs(f"apps:{a.key}"),
            started_by="starts at login",
            at_login=True,
            triggers=(Trigger(kind="login"),),
            setting=Setting(values=("on", "off"), shows=a.shows),
            extensions=a.extensions,
        )
        for a in machine.spec.app
    ]


def _strays(machine: Machine) -> list[Item]:
    """What runs and stands in no list."""
    return [
        Item(
            area="apps",
            key=f"process/{stray.key}",
            title=stray.title,
            value="on",
            running=True,
            triggers=tuple(
                Trigger(kind="wants", by=s.key, area="services")
                for s in machine.spec.service
                if stray.key in s.starts
            ),
            setting=Fixed(needed="it stands in no list: what starts it has to be changed"),
        )
        for stray in machine.spec.stray
        if machine.runs(UNLISTED + stray.key)
    ]


def _effects(machine: Machine) -> list[Item]:
    return [
        Item(
            area="effects",
            key=e.key,
            title=e.title,
            origin="system",
            value=machine.state.settings[f"effects:{e.key}"],
            default=e.default,
            running=machine.model.effect_on(e.key),
            setting=Setting(values=("on", "off"), shows=e.shows),
            note=f"unset counts as {e.default}",
        )
        for e in machine.spec.effect
    ]


def _plans(machine: Machine) -> list[Item]:
    return [
        Item(
            area="power",
            key=source,
            title=f"Plan on {source}",
            origin="system",
            value=machine.state.settings[f"power:{source}"],
            setting=Setting(values=tuple(p.name for p in machine.spec.plan)),
        )
        for source in ("mains", "battery")
        if f"power:{source}" in machine.state.settings
    ]


def _memory(machine: Machine) -> list[Item]:
    return [
        Item(
            area="memory",
            key=m.key,
            title=m.title,
            origin="system",
            value=machine.state.settings[f"memory:{m.key}"],
            setting=Setting(lowest=m.lowest, highest=m.highest, shows=m.shows),
            touches="swap",
        )
        for m in machine.spec.memory
    ]


def _upkeep(machine: Machine) -> list[Item]:
    found = (
        ("automatic_updates", "Updates install themselves", Setting(values=("on", "off"))),
        ("stop_seconds", "Seconds that services may take to stop", _STOPS),
        ("watch", "A short look now and then", _WATCH),
    )
    return [
        Item(
            area="upkeep",
            key=key,
            title=title,
            origin="system",
            value=machine.state.settings[f"upkeep:{key}"],
            setting=setting,
            note="Unset counts as what the system has by itself.",
        )
        for key, title, setting in found
    ]


def _triggers(service: ServiceSpec) -> tuple[Trigger, ...]:
    """What starts a service."""
    found = [Trigger(kind="system")] if service.value == "auto" else []
    found += [Trigger(kind="wants", by=key) for key in service.started_by]
    ways: tuple[tuple[TriggerKind, str], ...] = (
        ("timer", service.timer),
        ("socket", service.socket),
        ("bus", service.bus),
        ("device", service.device),
    )
    found += [Trigger(kind=kind, by=name) for kind, name in ways if name]
    return tuple(found)
