"""The power plan where no profile service runs: the governor of each clock policy and its energy preference, kept by a unit of our own.

Sources: kernel, admin-guide/pm/cpufreq, intel_pstate and amd-pstate. In the active mode of those two drivers the governor powersave
scales the clock as usual and the energy preference decides; under performance the preference cannot be written.
"""

import base64
import re
from collections.abc import Mapping
from typing import NamedTuple

from lumtak.computers.hands.reach import Reach, names_at, text_at
from lumtak.computers.hands.states import FILE, LINK, policies_of
from lumtak.computers.hands.table import POLICIES, POWER_FILE, POWER_SWITCH, power_unit_text
from lumtak.computers.linux.known_states import check_kind
from lumtak.computers.linux.root import Root
from lumtak.core.setting import PART, SettingRef, State
from lumtak.core.text import plain
from lumtak.errors import ComputerError

_GOVERNOR, _PREFERENCE = "scaling_governor", "energy_performance_preference"
_ACTIVE_DRIVERS = {"intel_pstate", "amd-pstate-epp"}
_ACTIVE = {"saving": "powersave/power", "balanced": "powersave/balance_performance", "full": "performance/"}
"""Governor and energy preference by plan, in the active mode."""
_PASSIVE = {"saving": ("powersave",), "balanced": ("schedutil", "ondemand", "conservative"), "full": ("performance",)}
"""Governors by plan, the first that is offered."""
_PREFERENCES = {"power": "saving", "performance": "full"}
"""Under powersave in the active mode; everything in between is balanced."""


class Now(NamedTuple):
    """What the clock policies hold now."""

    held: dict[str, str]
    """Governor/preference by policy; the preference is empty where there is none or it cannot be chosen."""
    driver: str
    plans: tuple[str, ...]
    """Those that can be chosen."""

    @property
    def plan(self) -> str:
        """The plan that all policies agree on; where they do not, or it is none of ours, what they hold."""
        plans = {_plan(words, self.driver) for words in self.held.values()}
        return plans.pop() if len(plans) == 1 else "mixed"


class Clock:
    """The clock policies of one computer.

    Args:
        hand: of the computer.
        root: does what takes root.
    """

    def __init__(self, hand: Reach, root: Root) -> None:
        self._hand = hand
        self._root = root

    def now(self) -> Now | None:
        """What they hold; None where the kernel offers no choice of clocks."""
        names = [n for n in names_at(self._hand, POLICIES) if re.fullmatch(r"policy[0-9]+", n)]
        held: dict[str, str] = {}
        for name in names:
            governor, preference = self._word(f"{name}/{_GOVERNOR}"), self._word(f"{name}/{_PREFERENCE}")
            if governor:
                held[name] = f"{governor}/{'' if governor == 'performance' else preference}"
        if not held:
            return None
        driver = self._word(f"{next(iter(held))}/scaling_driver")
        return Now(held, driver, tuple(p for p in _ACTIVE if self._words(p, next(iter(held)), driver)))

    def _word(self, name: str) -> str:
        return text_at(self._hand, f"{POLICIES}/{name}")

    def _words(self, plan: str, policy: str, driver: str) -> str:
        """Governor/preference of a plan; empty where this policy does not offer it."""
        offered = self._word(f"{policy}/scaling_available_governors").split()
        if driver in _ACTIVE_DRIVERS:
            governor, _, preference = _ACTIVE[plan].partition("/")
            choices = self._word(f"{policy}/energy_performance_available_preferences").split()
            if preference and not choices:
                return f"{governor}/" if governor in offered and plan == "balanced" else ""
            return _ACTIVE[plan] if governor in offered and (not preference or preference in choices) else ""
        return next((f"{g}/" for g in _PASSIVE[plan] if g in offered), "")

    # -- the setting --------------------------------------------------------------------------------------------------

    def _needed(self, ref: SettingRef) -> Now:
        now = self.now()
        if now is None:
            raise ComputerError(
                f"{ref} cannot be read: no profile service answers, and the kernel offers no choice of clocks.",
                "See whether power-profiles-daemon runs there.",
            )
        return now

    def read(self, ref: SettingRef) -> State:
        """What each policy holds, and the unit that keeps it."""
        now = self._needed(ref)
        try:
            file = base64.b64encode(self._hand.read(POWER_FILE)).decode()
        except OSError:
            file = ""
        return State(value=now.plan, exact=_exact(now.held, file, self._hand.link(POWER_SWITCH) or ""))

    def foresee(self, ref: SettingRef, state: State) -> State:
        """Every policy as the plan wants it, and the unit that sets it at each start."""
        now = self._needed(ref)
        if state.exact is not None:
            check_kind(ref, state, ("clock",), "this computer keeps its plan in the policies of the clock")
            return state
        if state.value not in now.plans:
            raise ComputerError(
                f"The plan {plain(state.value or 'unset')} is not offered here.", f"Choose from {', '.join(now.plans)}."
            )
        held = {policy: self._words(state.value, policy, now.driver) or words for policy, words in now.held.items()}
        governor, _, preference = held[next(iter(held))].partition("/")
        file = base64.b64encode(power_unit_text(governor, preference)).decode()
        return State(value=state.value, exact=_exact(held, file, POWER_FILE))

    def write(self, ref: SettingRef, state: State) -> None:
        """The unit first, so that no restart in between brings the old plan back unseen; then each policy."""
        exact = self.foresee(ref, state).exact or {}
        if exact[FILE]:
            self._root.put(POWER_FILE, base64.b64decode(exact[FILE]))
        if exact[LINK]:
            self._root.link(POWER_SWITCH, exact[LINK])
        else:
            self._root.remove(POWER_SWITCH, folder_too=True)
        if not exact[FILE]:
            self._root.remove(POWER_FILE)
        self._root.systemctl("daemon-reload")
        for policy, words in policies_of(exact).items():
            governor, _, preference = words.partition("/")
            for name, word in ((_GOVERNOR, governor), (_PREFERENCE, preference)):
                if word:
                    self._root.set_kernel(f"{POLICIES}/{policy}/{name}", word)


def _plan(words: str, driver: str) -> str:
    governor, _, preference = words.partition("/")
    if driver in _ACTIVE_DRIVERS and governor == "powersave":
        return _PREFERENCES.get(preference, "balanced")
    return next((plan for plan, governors in _PASSIVE.items() if governor in governors), plain(governor))


def _exact(held: Mapping[str, str], file: str, link: str) -> dict[str, str]:
    return {"kind": "clock", **{f"{PART}{policy}": words for policy, words in held.items()}, FILE: file, LINK: link}
