"""Exact states of swap: Lumtak's own files, and what stood before."""

from __future__ import annotations

import re
from dataclasses import dataclass
from typing import Any, List, Optional, Set, Tuple

from lumtak.computers.hands.sent.files.places import RefusalError
from lumtak.computers.hands.sent.script.shell import DROP, KEPT, LINKS, SWAP, ScriptPart, quoted
from lumtak.computers.hands.sent.states.exact import Exact, OfRoot, link_test
from lumtak.computers.hands.sent.system.swaps import (
    areas_in_use,
    available_bytes,
    masked_units,
    own_kept,
    own_left,
    own_mib,
    units_by_path,
)
from lumtak.computers.hands.sent.table import NOWHERE, UNITS, swap_file, swap_unit, swap_unit_text

_ROOM = 0.8
"""How much of the memory that is free may be filled by what comes back from swap."""


@dataclass(frozen=True)
class SwapAreas(OfRoot, kind="swap"):
    """Swap files of Lumtak's own by their size in MiB, and what stood before by its unit.

    Each in order.
    """

    areas = ("memory",)
    apart = ("kept", "on", "masked", "used")
    heads = (DROP, LINKS, KEPT, SWAP)
    kept: Tuple[int, ...]
    """Sizes of those that start with the system."""
    on: Tuple[int, ...]
    """Sizes of those that are in use."""
    masked: Tuple[str, ...]
    """Units of what stood before that are masked."""
    used: Tuple[str, ...]
    """Units of what stood before that are in use."""

    @property
    def own(self) -> List[int]:
        """Sizes of all its files, in order."""
        return sorted({*self.kept, *self.on})

    @property
    def old(self) -> List[str]:
        """Units of all that stood before, in order."""
        return sorted({*self.masked, *self.used})

    def _problem(self, key: str) -> str:
        if key != "swap_mib":
            return "it is a value of another setting"
        for sizes in (self.kept, self.on):
            if list(sizes) != sorted({*sizes}) or not all(0 < mib < 10_000_000 for mib in sizes):
                return "its sizes are none"
        for units in (self.masked, self.used):
            if list(units) != sorted({*units}) or not all(
                re.fullmatch(r"[A-Za-z0-9:_.\\@-]+\.swap", u) for u in units
            ):
                return "its units are none"
        return ""

    def seen(self, at: Any) -> Optional[OfRoot]:
        """See `OfRoot.seen`."""
        found = areas_in_use(at)
        on = {mib for area in found for mib in [own_mib(area.path)] if mib}
        same = (own_kept(at), on) == (set(self.kept), set(self.on))
        up = {units_by_path(at).get(area.path, ("", ""))[0] for area in found}
        off = set(masked_units(at))
        old = {unit: (unit in off, unit in up) for unit in self.old}
        told = {unit: (unit in self.masked, unit in self.used) for unit in self.old}
        return self if same and old == told else None

    def write(self, to: Any, was: Exact) -> None:
        """See `OfRoot.write`: new before old. A file is made and on before anything is switched
        off, and that only where memory is free for what it holds.
        """
        up = {units_by_path(to).get(a.path, ("", ""))[0] for a in areas_in_use(to)}
        on = {mib for a in areas_in_use(to) for mib in [own_mib(a.path)] if mib}
        off = set(masked_units(to))
        gone = sorted(({*own_left(to), *own_kept(to), *on}) - set(self.own))
        held = was if isinstance(was, SwapAreas) else self
        old = {*self.old, *held.old}
        leaving = sorted(({*self.masked, *held.used} & up) - set(self.used))
        _check_room(to, gone, leaving, sum(m for m in self.own if m not in on))
        self._switch_on(to, on, off, old)
        self._switch_off(to, on, off, leaving)
        for mib in gone:
            if mib in on:
                to.units("stop", swap_unit(mib))
            to.own_remove(swap_switch(mib), True)
            to.own_remove(_place(swap_unit(mib)))
            to.drop_swap(mib)
        to.units("daemon-reload")

    def _switch_on(self, to: Any, on: Set[int], off: Set[str], old: Set[str]) -> None:
        for unit in sorted(old):
            to.own_clear(_place(unit))
        for unit in sorted(off & old):
            if unit in self.used or unit not in self.masked:
                to.own_remove(_place(unit))
        for mib in self.own:
            if mib not in on:
                to.make_swap(mib)
            to.own_put(_place(swap_unit(mib)), swap_unit_text(mib))
            to.own_link(swap_switch(mib), _place(swap_unit(mib)))
        to.units("daemon-reload")
        for unit in (*map(swap_unit, self.own), *self.used):
            to.units("start", unit)

    def _switch_off(self, to: Any, on: Set[int], off: Set[str], leaving: List[str]) -> None:
        for unit in self.masked:
            to.own_link(_place(unit), NOWHERE)
        for unit in leaving:
            try:
                to.units("stop", unit)
            except OSError:
                if unit not in off:  # a mask that was made for it does not stay
                    to.own_remove(_place(unit))
                raise

    def places(self) -> List[str]:
        """See `Exact.places`."""
        own = [
            place
            for mib in self.own
            for place in ("%s/%s" % (UNITS, swap_unit(mib)), swap_switch(mib))
        ]
        return own + ["%s/%s" % (UNITS, unit) for unit in self.old]

    def tests(self, part: ScriptPart) -> List[bytes]:
        """See `Exact.tests`."""
        found = []
        for mib in _sizes(part):
            found += self._file_tests(mib, part)
        for unit in _units(part):
            found.append(link_test(_place(unit), NOWHERE if unit in self.masked else None))
            found.append((b"unit_up %s" if unit in self.used else b"unit_down %s") % quoted(unit))
        return found

    def _file_tests(self, mib: int, part: ScriptPart) -> List[bytes]:
        """Of one swap file: its unit, what starts it, whether it is there, whether it is used."""
        unit, file = _place(swap_unit(mib)), quoted(swap_file(mib))
        kept = mib in self.kept
        return [
            part.kept(unit, swap_unit_text(mib) if kept else None),
            link_test(swap_switch(mib), unit if kept else None),
            (b"swap_made %s" if mib in self.own else b"swap_gone %s") % file,
            (b"swap_is %s" if mib in self.on else b"swap_not %s") % file,
        ]

    def bring(self, part: ScriptPart) -> List[bytes]:
        """New before old, and old only where memory is free for what it holds."""
        units = _units(part)
        free = [u for u in units if u in self.used or u not in self.masked]
        # Masks go first: a unit that is masked cannot be started.
        acts = [b"drop %s" % quoted(_place(u)) for u in free]
        for mib in self.own:
            acts += self._make(mib, part)
        # systemd has to know the new files before it can start them.
        acts.append(b"units daemon-reload")
        starts = [*map(swap_unit, self.own), *self.used]
        acts += [b"units start -- %s" % quoted(u) for u in starts]
        acts += [b"put_link %s %s" % (quoted(_place(u)), quoted(NOWHERE)) for u in self.masked]
        acts += [b"units stop -- %s" % quoted(u) for u in units if u not in self.used]
        for mib in _sizes(part):
            if mib not in self.own:
                acts += self._drop(mib)
        return [*acts, b"units daemon-reload"]

    @staticmethod
    def _make(mib: int, part: ScriptPart) -> List[bytes]:
        unit = _place(swap_unit(mib))
        return [
            b"make_swap %d %s" % (mib, quoted(swap_file(mib))),
            part.keep(unit, swap_unit_text(mib)),
            b"put_link %s %s" % (quoted(swap_switch(mib)), quoted(unit)),
        ]

    @staticmethod
    def _drop(mib: int) -> List[bytes]:
        file, unit = quoted(swap_file(mib)), quoted(_place(swap_unit(mib)))
        switch = quoted(swap_switch(mib))
        return [
            b"room_for %s && swap_off %s %s" % (file, file, quoted(swap_unit(mib))),
            b"drop_switch %s && drop %s && drop_swap %s" % (switch, unit, file),
        ]


def _check_room(look: Any, gone: List[int], off: List[str], coming: int) -> None:
    """Memory, or the swap that stays or comes (MiB), must have room for what is in the areas that
    are switched off.
    """
    found, units = areas_in_use(look), units_by_path(look)
    leaving = {swap_file(mib) for mib in gone} | {p for p, (u, _) in units.items() if u in off}
    holds = sum(a.used_bytes for a in found if a.path in leaving)
    stays = sum((a.mib << 20) - a.used_bytes for a in found if a.path not in leaving)
    if holds > available_bytes(look) * _ROOM + stays + (coming << 20):
        raise RefusalError(
            "%d MiB are in the swap that would go, and memory is not free for them: close programs,"
            " then try again" % (holds >> 20)
        )


def _sizes(part: ScriptPart) -> List[int]:
    """Sizes of all swap files that a script tells apart, in order."""
    return sorted({mib for state in part.among for mib in state.own})


def _units(part: ScriptPart) -> List[str]:
    """Units of all that stood before, in order."""
    return sorted({unit for state in part.among for unit in state.old})


def _place(unit: str) -> str:
    """Where the administrator's unit of that name stands."""
    return "%s/%s" % (UNITS, unit)


def swap_switch(mib: int) -> str:
    """The link that starts a swap file of Lumtak's own with the system."""
    return "%s/swap.target.wants/%s" % (UNITS, swap_unit(mib))
