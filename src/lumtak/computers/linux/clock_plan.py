"""The power plan where no profile service runs.

The governor of each clock policy and its energy preference, kept by a unit of our own.

Sources: kernel, admin-guide/pm/cpufreq, intel_pstate and amd-pstate. In the active mode of those
two drivers the governor powersave scales the clock as usual and the energy preference decides;
under performance the preference cannot be written.
"""

import re
from typing import NamedTuple

from lumtak.computers.hands.reach import Reach, names_at, runs_systemd, text_at
from lumtak.computers.hands.states import ClockPolicies
from lumtak.computers.hands.table import POLICIES, POWER_FILE, POWER_SWITCH, power_unit_text
from lumtak.computers.linux import hardware
from lumtak.computers.linux.adapter import Adapter, Listed, Look
from lumtak.computers.linux.profile_plan import Service, plan_item, profile_service
from lumtak.core.facts import Gap
from lumtak.core.record import NotMeasured
from lumtak.core.setting import SettingRef, State
from lumtak.core.text import plain
from lumtak.errors import ComputerError

_GOVERNOR, _PREFERENCE = "scaling_governor", "energy_performance_preference"
_NO_CHOICE = "the kernel offers no choice of clocks here"
_ACTIVE_DRIVERS = {"intel_pstate", "amd-pstate-epp"}
_ACTIVE = {
    "saving": "powersave/power",
    "balanced": "powersave/balance_performance",
    "full": "performance/",
}
"""Governor and energy preference by plan, in the active mode."""
_PASSIVE = {
    "saving": ("powersave",),
    "balanced": ("schedutil", "ondemand", "conservative"),
    "full": ("performance",),
}
"""Governors by plan, the first that is offered."""
_PREFERENCES = {"power": "saving", "performance": "full"}
"""Under powersave in the active mode; everything in between is balanced."""


class Now(NamedTuple):
    """What the clock policies hold now."""

    held: dict[str, str]
    """Governor/preference by policy; the preference is empty where there is none or it cannot be
    chosen."""
    driver: str
    plans: tuple[str, ...]
    """Those that can be chosen."""

    @property
    def plan(self) -> str:
        """The plan that all policies agree on.

        Where they do not, or it is none of ours, what they hold.
        """
        plans = {_plan(words, self.driver) for words in self.held.values()}
        return plans.pop() if len(plans) == 1 else "mixed"


def clock_now(hand: Reach) -> Now | None:
    """What the policies hold; None where the kernel offers no choice of clocks."""
    names = [n for n in names_at(hand, POLICIES) if re.fullmatch(r"policy[0-9]+", n)]
    held: dict[str, str] = {}
    for name in names:
        governor, preference = (
            _word(hand, f"{name}/{_GOVERNOR}"),
            _word(hand, f"{name}/{_PREFERENCE}"),
        )
        if governor:
            held[name] = f"{governor}/{'' if governor == 'performance' else preference}"
    if not held:
        return None
    first = next(iter(held))
    driver = _word(hand, f"{first}/scaling_driver")
    return Now(held, driver, tuple(p for p in _ACTIVE if _words(hand, p, first, driver)))


def plan_in_force(hand: Reach, service: Service | None) -> str | NotMeasured:
    """The plan that is in force: the profile service's where one answers, else the clock's."""
    if service is not None:
        return service.active
    clock = clock_now(hand)
    return NotMeasured(not_measured=_NO_CHOICE) if clock is None else clock.plan


class ClockPlan(Adapter):
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
        held = ", ".join(
            dict.fromkeys(w.rstrip("/").replace("/", " with ") for w in clock.held.values())
        )
        forgets = (
            "the system forgets it at a restart, so a unit of Lumtak's own keeps what is set here"
        )
        why = self._root.why_not() or (
            ""
            if runs_systemd(self._hand)
            else "without systemd nothing would keep it over a restart"
        )
        return Listed(
            [plan_item(source, clock.plan, clock.plans, f"{clock.driver}: {held}; {forgets}", why)]
        )

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

    def foresee(self, ref: SettingRef, value: str | None) -> State:
        """Every policy as the plan wants it, and the unit that sets it at each start."""
        now = self._needed(ref)
        if value not in now.plans:
            raise ComputerError(
                f"The plan {plain(value or 'unset')} is not offered here.",
                f"Choose from {', '.join(now.plans)}.",
            )
        held = {
            p: _words(self._hand, value, p, now.driver) or words for p, words in now.held.items()
        }
        governor, _, preference = held[next(iter(held))].partition("/")
        return State(
            value=value,
            exact=ClockPolicies(held, power_unit_text(governor, preference), POWER_FILE),
        )

    def write(self, ref: SettingRef, exact: ClockPolicies) -> None:
        """The unit first, so that no restart in between brings the old plan back unseen.

        Then each policy.
        """
        del ref
        if exact.kept is not None:
            self._root.put(POWER_FILE, exact.kept)
        if exact.link:
            self._root.link(POWER_SWITCH, exact.link)
        else:
            self._root.remove(POWER_SWITCH, folder_too=True)
        if exact.kept is None:
            self._root.remove(POWER_FILE)
        self._root.systemctl("daemon-reload")
        for policy, words in exact.policies.items():
            governor, _, preference = words.partition("/")
            for name, word in ((_GOVERNOR, governor), (_PREFERENCE, preference)):
                if word:
                    self._root.set_kernel(f"{POLICIES}/{policy}/{name}", word)


def _word(hand: Reach, name: str) -> str:
    return text_at(hand, f"{POLICIES}/{name}")


def _words(hand: Reach, plan: str, policy: str, driver: str) -> str:
    """Governor/preference of a plan; empty where this policy does not offer it."""
    offered = _word(hand, f"{policy}/scaling_available_governors").split()
    if driver in _ACTIVE_DRIVERS:
        governor, _, preference = _ACTIVE[plan].partition("/")
        choices = _word(hand, f"{policy}/energy_performance_available_preferences").split()
        if preference and not choices:
            return f"{governor}/" if governor in offered and plan == "balanced" else ""
        return (
            _ACTIVE[plan]
            if governor in offered and (not preference or preference in choices)
            else ""
        )
    return next((f"{g}/" for g in _PASSIVE[plan] if g in offered), "")


def _plan(words: str, driver: str) -> str:
    governor, _, preference = words.partition("/")
    if driver in _ACTIVE_DRIVERS and governor == "powersave":
        return _PREFERENCES.get(preference, "balanced")
    return next(
        (plan for plan, governors in _PASSIVE.items() if governor in governors), plain(governor)
    )
