"""The power plan where no profile service runs.

The governor of each clock policy and its energy preference, kept by a unit of our own; `clocks` has
what the kernel tells of them.
"""

from lumtak.computers.hands.reach import Reach, runs_systemd
from lumtak.computers.hands.sent.states.states import ClockPolicies
from lumtak.computers.hands.sent.table import POWER_FILE, POWER_SWITCH, power_unit_text
from lumtak.computers.linux import hardware
from lumtak.computers.linux.adapter import Listed, Look, RootAdapter
from lumtak.computers.linux.clocks import (
    MIXED,
    Now,
    clock_now,
    words_of_plan,
)
from lumtak.computers.linux.profile_plan import Service, plan_item, profile_service
from lumtak.core.facts import Gap
from lumtak.core.record import NotMeasured
from lumtak.core.setting import IN_FORCE, SettingRef, State, not_in_force
from lumtak.core.text import plain
from lumtak.errors import ComputerError

_NO_CHOICE = "the kernel offers no choice of clocks here"


def plan_in_force(hand: Reach, service: Service | None) -> str | NotMeasured:
    """The plan that is in force: the profile service's where one answers, else the clock's."""
    if service is not None:
        return service.active
    clock = clock_now(hand)
    return NotMeasured(not_measured=_NO_CHOICE) if clock is None else clock.plan


class ClockPlan(RootAdapter):
    """The plan that the clock policies of one computer make up."""

    area = "power"
    kinds = (ClockPolicies,)

    def items(self, look: Look) -> Listed:
        """The plan in force, where no profile service keeps one."""
        if look.once(profile_service, self._hand) is not None:
            return Listed()
        _, source = look.once(hardware.battery, self._hand)
        clock = clock_now(self._hand)
        if clock is None:
            return Listed(
                gaps=[Gap(area="power", reason=_NO_CHOICE, needed="a kernel with cpufreq")]
            )
        forgets = (
            "the system forgets it at a restart, so a unit of Lumtak's own keeps what is set here"
        )
        why = self._root.why_not() or (
            ""
            if runs_systemd(self._hand)
            else "without systemd nothing would keep it over a restart"
        )
        note = f"{clock.driver}: {clock.in_words}; {forgets}"
        return Listed([plan_item(source, clock.plan, clock.plans, note, why)])

    # -- the setting -------------------------------------------------------------------------------

    def _needed(self, ref: SettingRef) -> Now:
        now = clock_now(self._hand)
        if now is None:
            raise ComputerError(
                f"{ref} cannot be read: no profile service answers, and the kernel offers no choice"
                " of clocks.",
                "See whether power-profiles-daemon runs there.",
            )
        return now

    def read(self, ref: SettingRef) -> State:
        """What each policy holds, and the unit that keeps it."""
        now = self._needed(ref)
        try:
            kept: bytes | None = self._hand.read(POWER_FILE)
        except OSError:
            kept = None
        return State(
            value=now.plan, exact=ClockPolicies(now.held, kept, self._hand.link(POWER_SWITCH))
        )

    def in_force(self, ref: SettingRef) -> str:
        """What is read is what the kernel reports."""
        now = self._needed(ref)
        if now.plan == MIXED:
            return not_in_force(f"the clocks do not agree: {now.in_words}")
        return IN_FORCE

    def foresee(self, ref: SettingRef, value: str | None) -> State:
        """Every policy as the plan wants it, and the unit that sets it at each start."""
        now = self._needed(ref)
        if value not in now.plans:
            raise ComputerError(
                f"The plan {plain(value or 'unset')} is not offered here.",
                f"Choose from {', '.join(now.plans)}.",
            )
        held = {
            p: words_of_plan(self._hand, value, p, now.driver) or words
            for p, words in now.held.items()
        }
        governor, _, preference = held[next(iter(held))].partition("/")
        return State(
            value=value,
            exact=ClockPolicies(held, power_unit_text(governor, preference), POWER_FILE),
        )
