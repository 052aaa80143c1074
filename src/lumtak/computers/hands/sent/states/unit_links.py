"""The exact state of a unit: what switches it on, names or masks it, and whether it runs."""

from __future__ import annotations

import posixpath
from dataclasses import dataclass, field, replace
from typing import Any, Dict, List, Mapping, Optional, Tuple

from lumtak.computers.hands.sent.script.shell import DROP, LINKS, ScriptPart, quoted
from lumtak.computers.hands.sent.states.exact import Exact, OfRoot, link_test, word
from lumtak.computers.hands.sent.table import NOWHERE, UNITS, is_switch, unit_of, why_no_link
from lumtak.computers.hands.sent.units.links import behind_mask, installing, links


def unit_name(key: str) -> str:
    """The unit of a service or timer by its key; empty where no unit can be called so."""
    if "/" in key or "\0" in key or not key:
        return ""
    return key if key.endswith(".timer") else key + ".service"


@dataclass(frozen=True)
class UnitLinks(OfRoot, kind="links"):
    """Every link in the administrator's folder that switches a unit on, names or masks it.

    And, going along, whether it runs.
    """

    areas = ("services",)
    apart = ("links",)
    heads = (DROP, LINKS)
    unit: str
    links: Mapping[str, str]
    """Target by path."""
    active: Optional[bool] = field(compare=False)
    """None where that is not known; then it is left running or not, as it is."""

    def _problem(self, key: str) -> str:
        if not self.unit or self.unit != unit_name(key):
            return "it is the state of another unit"
        for path, target in self.links.items():
            why = why_no_link(path, target)
            if why:
                return why
            if unit_of(path, target) != self.unit:
                return "%s is a link of another unit" % path
        return ""

    def seen(self, at: Any) -> Optional[OfRoot]:
        """See `OfRoot.seen`."""
        if links(at).get(self.unit, {}) != self.links:
            return None
        return replace(self, active=at.is_active(self.unit))

    def there(self, at: Any, was: OfRoot) -> OfRoot:
        """See `OfRoot.there`: the links as root finds them, whatever was told."""
        return UnitLinks(self.unit, links(at).get(self.unit, {}), at.is_active(self.unit))

    def switches(self, before: Exact) -> List[Tuple[str, bool, bool]]:
        """See `OfRoot.switches`."""
        held: Mapping[str, str] = before.links if isinstance(before, UnitLinks) else {}
        lost, gained = _turned(held, self.links)
        off, on = lost or self.active is False, gained or bool(self.active)
        every = (*self.links.items(), *held.items())
        named = {posixpath.basename(place) for pair in every for place in pair}
        others = sorted(named - {self.unit, "null"})
        return [(unit, off, on) for unit in (self.unit, *others)]

    def write(self, to: Any, was: Exact) -> None:
        """See `OfRoot.write`: the links, then started or stopped."""
        now: Dict[str, str] = links(to).get(self.unit, {})
        path = behind_mask(to, self.unit)
        begun = ["%s/%s" % (UNITS, self.unit), *installing(self.unit, path, to.text_of(path))]
        for place in sorted({*begun, *self.links}):
            to.own_clear(place)
        for place in sorted(now.keys() - self.links.keys()):
            to.own_remove(place, is_switch(place))
        for place, target in self.links.items():
            if now.get(place) != target:
                to.own_link(place, target)
        if now != self.links:
            to.units("daemon-reload")
        if self.active is not None and to.is_active(self.unit) != self.active:
            to.units("start" if self.active else "stop", self.unit)

    def by_hand(self) -> str:
        """See `Exact.by_hand`."""
        made = [
            "sudo ln -sfT %s %s" % (word(target), word(path)) for path, target in self.links.items()
        ]
        return "; ".join([*made, "sudo systemctl daemon-reload"]) if made else ""

    def places(self) -> List[str]:
        """See `Exact.places`."""
        return [*self.links]

    def tests(self, part: ScriptPart) -> List[bytes]:
        """See `Exact.tests`."""
        return [link_test(path, self.links.get(path)) for path in self._paths(part)]

    @staticmethod
    def _paths(part: ScriptPart) -> List[str]:
        return sorted({path for state in part.among for path in state.links})

    def bring(self, part: ScriptPart) -> List[bytes]:
        """See `Exact.bring`."""
        acts = []
        for path in self._paths(part):
            if path in self.links:
                acts.append(b"put_link %s %s" % (quoted(path), quoted(self.links[path])))
            else:
                acts.append((b"drop_switch %s" if is_switch(path) else b"drop %s") % quoted(path))
        acts.append(b"units daemon-reload")
        if self.active is not None:
            acts.append(
                b"units %s -- %s" % (b"start" if self.active else b"stop", quoted(self.unit))
            )
        return acts


def _turned(held: Mapping[str, str], left: Mapping[str, str]) -> Tuple[bool, bool]:
    """(whether something is taken off, whether something is put on) from these links to those."""
    was, is_now = NOWHERE in held.values(), NOWHERE in left.values()
    off = any(target != NOWHERE and path not in left for path, target in held.items())
    on = any(target != NOWHERE and path not in held for path, target in left.items())
    return off or (is_now and not was), on or (was and not is_now)
