"""Exact states of what takes root: units, the kernel's values, the clock, the plan, swap."""

from __future__ import annotations

import re
from dataclasses import dataclass, replace
from typing import Any, List, Mapping, Optional

from lumtak.computers.hands.sent.script.shell import (
    CLOCK,
    DROP,
    KEPT,
    LINKS,
    PLAN,
    VALUE,
    ScriptPart,
    quoted,
)
from lumtak.computers.hands.sent.states.exact import (
    Exact,
    OfRoot,
    link_test,
    own_file_problem,
    word,
)
from lumtak.computers.hands.sent.table import (
    KERNEL,
    POLICIES,
    POWER_FILE,
    POWER_SWITCH,
    PROFILE_BUSES,
    PROFILES,
    WIRELESS_FILE,
    kernel_value_fits,
    sysctl_file,
)


@dataclass(frozen=True)
class WirelessFile(OfRoot, kind="wireless"):
    """Lumtak's own file that says whether wireless devices save power."""

    areas = ("power",)
    heads = (DROP, KEPT)
    kept: Optional[bytes]
    """What it holds; None where there is none."""

    def _problem(self, key: str) -> str:
        if key != "wireless_saving":
            return "it is a file of another setting"
        return own_file_problem(WIRELESS_FILE, self.kept)

    def seen(self, at: Any) -> Optional[OfRoot]:
        """See `OfRoot.seen`."""
        return self if at.held(WIRELESS_FILE) == self.kept else None

    def write(self, to: Any, was: Exact) -> None:
        """See `OfRoot.write`."""
        to.keep(WIRELESS_FILE, self.kept)

    def by_hand(self) -> str:
        """See `Exact.by_hand`."""
        return "sudo rm %s" % word(WIRELESS_FILE) if self.kept is None else ""

    def places(self) -> List[str]:
        """See `Exact.places`."""
        return [WIRELESS_FILE]

    def tests(self, part: ScriptPart) -> List[bytes]:
        """See `Exact.tests`."""
        return [part.kept(WIRELESS_FILE, self.kept)]

    def bring(self, part: ScriptPart) -> List[bytes]:
        """See `Exact.bring`."""
        return [part.keep(WIRELESS_FILE, self.kept)]


@dataclass(frozen=True)
class KernelValue(OfRoot, kind="sysctl"):
    """A value of the kernel below /proc/sys/vm, and Lumtak's own file that keeps one over a
    restart.
    """

    areas = ("memory",)
    apart = ("live", "kept")
    heads = (VALUE, DROP, KEPT)
    name: str
    live: str
    kept: Optional[bytes]
    """What the file holds; None where there is none."""

    @property
    def file(self) -> str:
        """Where it is kept."""
        return sysctl_file(self.name)

    @property
    def place(self) -> str:
        """Where the kernel has it."""
        return "/proc/sys/vm/%s" % self.name

    def _problem(self, key: str) -> str:
        if key not in KERNEL or self.name != key:
            return "it is a value of another setting"
        if not kernel_value_fits(key, self.live):
            return "%s is no value that Lumtak sets there" % self.live
        return own_file_problem(self.file, self.kept)

    def seen(self, at: Any) -> Optional[OfRoot]:
        """See `OfRoot.seen`."""
        return (
            self
            if (at.text_of(self.place).strip(), at.held(self.file)) == (self.live, self.kept)
            else None
        )

    def write(self, to: Any, was: Exact) -> None:
        """See `OfRoot.write`: the file first, so that no restart in between brings the
        old value back unseen; then the kernel.
        """
        to.keep(self.file, self.kept)
        to.set_kernel(self.place, self.live)

    def by_hand(self) -> str:
        """See `Exact.by_hand`."""
        text = (self.kept or b"").decode("utf-8", "replace")
        keep = "printf %%s %s | sudo tee %s; " % (word(text), word(self.file)) if self.kept else ""
        return keep + "sudo sysctl %s" % word("vm.%s=%s" % (self.name, self.live))

    def places(self) -> List[str]:
        """See `Exact.places`."""
        return [self.file]

    def tests(self, part: ScriptPart) -> List[bytes]:
        """See `Exact.tests`."""
        return [
            b"kernel_is %s %s" % (quoted(self.place), quoted(self.live)),
            part.kept(self.file, self.kept),
        ]

    def bring(self, part: ScriptPart) -> List[bytes]:
        """See `Exact.bring`."""
        return [
            part.keep(self.file, self.kept),
            b"kernel %s %s" % (quoted(self.place), quoted(self.live)),
        ]


GOVERNOR, PREFERENCE = "scaling_governor", "energy_performance_preference"
_NO_PREFERENCE = "performance"
"""The governor under which no energy preference counts."""


@dataclass(frozen=True)
class ClockPolicies(OfRoot, kind="clock"):
    """What each policy of the processors' clock holds, and Lumtak's own unit that keeps a plan over
    a restart.
    """

    areas = ("power",)
    apart = ("policies", "kept", "link")
    heads = (DROP, LINKS, KEPT, CLOCK)
    policies: Mapping[str, str]
    """Governor/preference by policy."""
    kept: Optional[bytes]
    """What the unit's file holds; None where there is none."""
    link: Optional[str]
    """Where the link leads that switches the unit on; None where there is none."""

    def _problem(self, key: str) -> str:
        for policy, words in self.policies.items():
            governor, slash, preference = words.partition("/")
            if not (
                slash
                and re.fullmatch(r"[a-z0-9_]+", governor)
                and re.fullmatch(r"[a-z0-9_]*", preference)
            ):
                return "what a policy of the clock held cannot be read"
            if not re.fullmatch(r"policy[0-9]+", policy):
                return "%s is no policy of the clock" % policy
        return own_file_problem(POWER_FILE, self.kept) or (
            "" if self.link in {None, POWER_FILE} else "its link leads elsewhere"
        )

    def seen(self, at: Any) -> Optional[OfRoot]:
        """See `OfRoot.seen`."""
        held = {policy: self._held(at, policy) for policy in self.policies}
        link = at.link(POWER_SWITCH)
        same = (held, at.held(POWER_FILE), link) == (dict(self.policies), self.kept, self.link)
        return self if same else None

    @staticmethod
    def _held(at: Any, policy: str) -> str:
        governor, preference = (
            at.text_of("%s/%s/%s" % (POLICIES, policy, name)).strip()
            for name in (GOVERNOR, PREFERENCE)
        )
        return "%s/%s" % (governor, "" if governor == _NO_PREFERENCE else preference)

    def write(self, to: Any, was: Exact) -> None:
        """See `OfRoot.write`: the unit first, so that no restart in between brings the old plan
        back unseen; then each policy.
        """
        if self.kept is not None:
            to.own_put(POWER_FILE, self.kept)
        if self.link:
            to.own_link(POWER_SWITCH, self.link)
        else:
            to.own_remove(POWER_SWITCH, True)
        if self.kept is None:
            to.own_remove(POWER_FILE)
        to.units("daemon-reload")
        for policy, words in self.policies.items():
            governor, _, preference = words.partition("/")
            for name, said in ((GOVERNOR, governor), (PREFERENCE, preference)):
                if said:
                    to.set_kernel("%s/%s/%s" % (POLICIES, policy, name), said)

    def between(self, one: Exact, other: Exact) -> bool:
        """Half-way from a governor under which no preference counts, a policy has the new governor
        with whatever preference came before.
        """
        ends = [end for end in (one, other) if isinstance(end, ClockPolicies)]
        policies = dict(self.policies)
        for policy, words in self.policies.items():
            held = {
                end.policies.get(policy, "").partition("/")[0]: end.policies.get(policy, "")
                for end in ends
            }
            if _NO_PREFERENCE in held:
                policies[policy] = held.get(words.partition("/")[0], words)
        return super().between(one, other) or Exact.between(
            replace(self, policies=policies), one, other
        )

    def places(self) -> List[str]:
        """See `Exact.places`."""
        return [POWER_FILE, POWER_SWITCH]

    def tests(self, part: ScriptPart) -> List[bytes]:
        """See `Exact.tests`."""
        names = sorted({policy for state in part.among for policy in state.policies})
        held = [b"clock_is " + self._words(p) if p in self.policies else b"true" for p in names]
        return [*held, part.kept(POWER_FILE, self.kept), link_test(POWER_SWITCH, self.link)]

    def _words(self, policy: str) -> bytes:
        governor, _, preference = self.policies[policy].partition("/")
        return b"%s %s %s" % (
            quoted("%s/%s" % (POLICIES, policy)),
            quoted(governor),
            quoted(preference),
        )

    def bring(self, part: ScriptPart) -> List[bytes]:
        """See `Exact.bring`."""
        switch = quoted(POWER_SWITCH)
        return [
            (
                b"put_link %s %s" % (switch, quoted(self.link))
                if self.link
                else b"drop_switch %s" % switch
            ),
            part.keep(POWER_FILE, self.kept),
            b"units daemon-reload",
            *(b"clock " + self._words(policy) for policy in self.policies),
        ]


@dataclass(frozen=True)
class Profile(OfRoot, kind="property"):
    """The plan of the profile service on the system bus."""

    areas = ("power",)
    heads = (PLAN,)
    bus: str
    plan: str

    def _problem(self, key: str) -> str:
        ours = self.bus in PROFILE_BUSES and self.plan in PROFILES
        return "" if ours else "the plan %s is none that Lumtak sets" % self.plan

    def seen(self, at: Any) -> Optional[OfRoot]:
        """See `OfRoot.seen`."""
        return self if at.profile()[1] == self.plan else None

    def write(self, to: Any, was: Exact) -> None:
        """See `OfRoot.write`; after an update the service may go by its other name."""
        bus, now = to.profile()
        if now != self.plan:
            to.set_profile(bus or self.bus, self.plan)

    def by_hand(self) -> str:
        """See `Exact.by_hand`."""
        bus, path = word(self.bus), word(PROFILE_BUSES.get(self.bus, "/"))
        return "sudo busctl --system set-property %s %s %s ActiveProfile s %s" % (
            bus,
            path,
            bus,
            word(self.plan),
        )

    def _words(self) -> bytes:
        return b" ".join(quoted(word) for word in (self.bus, PROFILE_BUSES[self.bus], self.plan))

    def tests(self, part: ScriptPart) -> List[bytes]:
        """See `Exact.tests`."""
        return [b"plan_is " + self._words()]

    def bring(self, part: ScriptPart) -> List[bytes]:
        """See `Exact.bring`."""
        return [b"plan " + self._words()]
