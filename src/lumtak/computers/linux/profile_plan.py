"""The power plan of the profile service on the system bus.

Clock_plan.py has the one of computers where none runs.
"""

from typing import NamedTuple

from lumtak.computers.hands.reach import Reach, text, text_at
from lumtak.computers.hands.sent.states.states import Profile
from lumtak.computers.hands.sent.table import PROFILE_BUSES
from lumtak.computers.linux import hardware
from lumtak.computers.linux.adapter import Listed, Look, RootAdapter
from lumtak.computers.linux.clocks import disagrees
from lumtak.core.facts import Fixed, Gap, Item, Setting
from lumtak.core.setting import IN_FORCE, SettingRef, State, not_in_force
from lumtak.core.text import plain
from lumtak.errors import ComputerError

PLANS = {"power-saver": "saving", "balanced": "balanced", "performance": "full"}
"""The service's names, and ours."""
_SERVICE = {ours: theirs for theirs, ours in PLANS.items()}


class Service(NamedTuple):
    """The profile service, as it answers now."""

    bus: str
    plans: tuple[str, ...]
    """Those that it offers."""
    active: str


def profile_service(hand: Reach) -> Service | None:
    """The profile service; None where none answers."""
    if not hand.live:
        return None
    for bus, path in PROFILE_BUSES.items():
        # Whether the bus can start who answers by this name: every such service says how, and
        # nobody else is asked.
        if not text_at(hand, f"/usr/share/dbus-1/system-services/{bus}.service"):
            continue
        asked = (
            "busctl",
            "--system",
            "get-property",
            "--",
            bus,
            path,
            bus,
            "Profiles",
            "ActiveProfile",
        )
        try:
            listed, _, active = text(hand.run(asked, 4.0)).rstrip("\n").partition("\n")
        except OSError:
            continue
        offered = tuple(ours for theirs, ours in PLANS.items() if f'"{theirs}"' in listed)
        name = active.removeprefix('s "').removesuffix('"')
        return Service(bus, offered, PLANS.get(name, plain(name)))
    return None


def plan_item(source: str, value: str, plans: tuple[str, ...], note: str, why_not: str) -> Item:
    """The plan in force, on the power on which the computer runs, and those that can be chosen.

    Or why none can.
    """
    return Item(
        area="power",
        key=source,
        title=f"Plan on {source}",
        origin="system",
        value=value,
        running=True,
        setting=Fixed(needed=why_not) if why_not else Setting(values=plans),
        note=plain(note),
    )


class ProfilePlan(RootAdapter):
    """The plan that a profile service keeps."""

    area = "power"
    kinds = (Profile,)

    def has(self, ref: SettingRef) -> bool:
        """Whether such a service answers."""
        return super().has(ref) and profile_service(self._hand) is not None

    def items(self, look: Look) -> Listed:
        """One plan is in force at a time: on what power the computer runs says which it is."""
        has_battery, source = look.once(hardware.battery, self._hand)
        found = look.once(profile_service, self._hand)
        gaps = (
            []
            if has_battery
            else [Gap(area="power", reason="there is no battery, so no plan for it")]
        )
        if found is None:
            return Listed(gaps=gaps)
        note = f"{found.bus}; it keeps the plan over a restart"
        return Listed(
            [plan_item(source, found.active, found.plans, note, self._root.why_not())], gaps
        )

    # -- the setting -------------------------------------------------------------------------------

    def _answering(self, ref: SettingRef) -> Service:
        found = profile_service(self._hand)
        if found is None:
            raise ComputerError(
                f"{ref} cannot be set: no profile service answers.", "See whether it runs there."
            )
        return found

    def read(self, ref: SettingRef) -> State:
        """The plan in force."""
        found = self._answering(ref)
        return State(
            value=found.active, exact=Profile(found.bus, _SERVICE.get(found.active, found.active))
        )

    def in_force(self, ref: SettingRef) -> str:
        """What the service answers, held against what the kernel reports."""
        why = disagrees(self._hand, self._answering(ref).active)
        return not_in_force(why) if why else IN_FORCE

    def foresee(self, ref: SettingRef, value: str | None) -> State:
        """The service's own name of the plan.

        Refused where it does not list it, for it would accept even that.
        """
        found = self._answering(ref)
        if value not in found.plans:
            raise ComputerError(
                f"The plan {plain(value or 'unset')} is not offered here.",
                f"Choose from {', '.join(found.plans)}.",
            )
        return State(value=value, exact=Profile(found.bus, _SERVICE[value]))
