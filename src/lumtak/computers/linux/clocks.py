"""The clock policies of the kernel: what they hold, and which plan that makes.

Sources: kernel, admin-guide/pm/cpufreq, intel_pstate and amd-pstate. In the active mode of those
two drivers the governor powersave scales the clock as usual and the energy preference decides;
under performance the preference cannot be written.
"""

import re
from typing import NamedTuple

from lumtak.computers.hands.reach import Reach, names_at, text_at
from lumtak.computers.hands.sent.table import POLICIES
from lumtak.core.text import plain

GOVERNOR, PREFERENCE = "scaling_governor", "energy_performance_preference"
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


MIXED = "mixed"
"""What policies that do not agree make up."""


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
        return plans.pop() if len(plans) == 1 else MIXED

    @property
    def in_words(self) -> str:
        """What they hold, each once."""
        words = (w.rstrip("/").replace("/", " with ") for w in self.held.values())
        return plain(", ".join(dict.fromkeys(words)), 200)


def clock_now(hand: Reach) -> Now | None:
    """What the policies hold; None where the kernel offers no choice of clocks."""
    names = [n for n in names_at(hand, POLICIES) if re.fullmatch(r"policy[0-9]+", n)]
    held: dict[str, str] = {}
    for name in names:
        governor, preference = (
            _word(hand, f"{name}/{GOVERNOR}"),
            _word(hand, f"{name}/{PREFERENCE}"),
        )
        if governor:
            held[name] = f"{governor}/{'' if governor == 'performance' else preference}"
    if not held:
        return None
    first = next(iter(held))
    driver = _word(hand, f"{first}/scaling_driver")
    return Now(held, driver, tuple(p for p in _ACTIVE if words_of_plan(hand, p, first, driver)))


def disagrees(hand: Reach, plan: str) -> str:
    """What the kernel reports where that is another plan than the one in force, as a clause.

    Asked of the drivers alone in which a plan is nothing but an energy preference.
    """
    now = clock_now(hand)
    if now is None or now.driver not in _ACTIVE_DRIVERS or now.plan == plan:
        return ""
    return f"the kernel reports {now.in_words}"


def _word(hand: Reach, name: str) -> str:
    return text_at(hand, f"{POLICIES}/{name}")


def words_of_plan(hand: Reach, plan: str, policy: str, driver: str) -> str:
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
