"""Exact states of swap: Lumtak's own files, and what stood before."""

from __future__ import annotations

import re
from dataclasses import dataclass
from typing import List, Tuple

from lumtak.computers.hands.sent.script.shell import DROP, KEPT, LINKS, SWAP, ScriptPart, quoted
from lumtak.computers.hands.sent.states.exact import Exact, link_test
from lumtak.computers.hands.sent.table import NOWHERE, UNITS, swap_file, swap_unit, swap_unit_text


@dataclass(frozen=True)
class SwapAreas(Exact, kind="swap"):
    """Swap files of Lumtak's own by their size in MiB, and what stood before by its unit.

    Each in order.
    """

    areas = ("memory",)
    root = True
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
