"""The power plan: of the profile service on the system bus where it runs, else of the processors' clock."""

from typing import NamedTuple

from lumtak.computers.hands.reach import Reach, runs_systemd, text, text_at
from lumtak.computers.hands.table import PROFILE_BUSES
from lumtak.computers.linux import hardware
from lumtak.computers.linux.clock import Clock
from lumtak.computers.linux.known_states import check_kind
from lumtak.computers.linux.root import Root
from lumtak.core.facts import Fixed, Gap, Item, Setting
from lumtak.core.record import NotMeasured
from lumtak.core.setting import SettingRef, State
from lumtak.core.text import plain
from lumtak.errors import ComputerError

PLANS = {"power-saver": "saving", "balanced": "balanced", "performance": "full"}
"""The service's names, and ours."""
_NO_CHOICE = "the kernel offers no choice of clocks here"
_SERVICE = {ours: theirs for theirs, ours in PLANS.items()}


class Service(NamedTuple):
    """The profile service, as it answers now."""

    bus: str
    path: str
    plans: tuple[str, ...]
    """Those that it offers."""
    active: str


class Power:
    """The plan of one computer.

    Args:
        hand: of the computer.
        root: does what takes root.
    """

    def __init__(self, hand: Reach, root: Root) -> None:
        self._hand = hand
        self._root = root
        self._clock = Clock(hand, root)

    def items(self, found: Service | None, *, has_battery: bool) -> tuple[list[Item], list[Gap]]:
        """(items, what could not be read). One plan is in force at a time: on what power the computer runs says which it is."""
        gaps = [] if has_battery else [Gap(area="power", reason="there is no battery, so no plan for it")]
        _, source = hardware.battery(self._hand)
        if found is not None:
            why = self._root.why_not()
            item = Item(
                area="power",
                key=source,
                title=f"Plan on {source}",
                origin="system",
                value=found.active,
                running=True,
                setting=Fixed(needed=why) if why else Setting(values=found.plans),
                note=f"{found.bus}; it keeps the plan over a restart",
            )
            return [item], gaps
        clock = self._clock.now()
        if clock is None:
            return [], [*gaps, Gap(area="power", reason=_NO_CHOICE, needed="a kernel with cpufreq")]
        held = ", ".join(dict.fromkeys(w.rstrip("/").replace("/", " with ") for w in clock.held.values()))
        why = self._root.why_not() or (
            "" if runs_systemd(self._hand) else "without systemd nothing would keep it over a restart"
        )
        item = Item(
            area="power",
            key=source,
            title=f"Plan on {source}",
            origin="system",
            value=clock.plan,
            running=True,
            setting=Fixed(needed=why) if why else Setting(values=clock.plans),
            note=plain(
                f"{clock.driver}: {held}; the system forgets it at a restart, so a unit of Lumtak's own keeps what is set here"
            ),
        )
        return [item], gaps

    def plan(self, found: Service | None) -> str | NotMeasured:
        """The plan in force: the service's, else the clock's."""
        if found is not None:
            return found.active
        clock = self._clock.now()
        return NotMeasured(not_measured=_NO_CHOICE) if clock is None else clock.plan

    def service(self) -> Service | None:
        """The profile service; None where none answers."""
        if not self._hand.live:
            return None
        for bus, path in PROFILE_BUSES.items():
            if not self._can_start(bus):
                continue
            try:
                listed, _, active = text(self._get(bus, path, "Profiles", "ActiveProfile")).rstrip("\n").partition("\n")
            except OSError:
                continue
            offered = tuple(ours for theirs, ours in PLANS.items() if f'"{theirs}"' in listed)
            name = active.removeprefix('s "').removesuffix('"')
            return Service(bus, path, offered, PLANS.get(name, plain(name)))
        return None

    def _get(self, bus: str, path: str, *names: str) -> bytes:
        return self._hand.run(("busctl", "--system", "get-property", "--", bus, path, bus, *names), 4.0)

    def _can_start(self, bus: str) -> bool:
        """Whether the system bus can start who answers by this name; every such service says how, and nobody else is asked."""
        return bool(text_at(self._hand, f"/usr/share/dbus-1/system-services/{bus}.service"))

    # -- the setting --------------------------------------------------------------------------------------------------

    def read(self, ref: SettingRef) -> State:
        """The plan in force."""
        found = self.service()
        if found is None:
            return self._clock.read(ref)
        bus, path, _, active = found
        return State(value=active, exact=_exact(bus, path, active))

    def foresee(self, ref: SettingRef, state: State) -> State:
        """The service's own name of the plan; refused where it does not list it, for it would accept even that."""
        found = self.service()
        if found is None:
            return self._clock.foresee(ref, state)
        if state.exact is not None:
            check_kind(ref, state, ("property",), "a profile service keeps the plan here now")
            return state
        bus, path, plans, _ = found
        if state.value not in plans:
            raise ComputerError(
                f"The plan {plain(state.value or 'unset')} is not offered here.", f"Choose from {', '.join(plans)}."
            )
        return State(value=state.value, exact=_exact(bus, path, state.value))

    def write(self, ref: SettingRef, state: State) -> None:
        """Set the plan."""
        wanted = self.foresee(ref, state)
        exact = wanted.exact or {}
        if exact["kind"] == "clock":
            self._clock.write(ref, wanted)
            return
        found = self.service()
        if found is None:
            raise ComputerError(f"{ref} cannot be set: no profile service answers.", "See whether it runs there.")
        bus, path, *_ = found  # after an update it may go by the other name
        self._root.set_profile(bus, path, exact["value"])


def _exact(bus: str, path: str, plan: str) -> dict[str, str]:
    return {"kind": "property", "bus": bus, "path": path, "value": _SERVICE.get(plan, plan)}
