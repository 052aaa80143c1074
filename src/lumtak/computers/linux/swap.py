"""How much swap there is, and changing it.

A swap file of Lumtak's own beside what stands, which is switched off but never deleted.

More: a file is made, switched on, and kept by a swap unit of its own (systemd.swap(5)). Less: what
stands is masked and switched off after the new file is in use, so that it comes back with one link.
What the computer hibernates into is left alone.
"""

import posixpath
from collections.abc import Iterable
from typing import NamedTuple

from lumtak.computers.hands.reach import Reach, real_path, runs_systemd, text_at
from lumtak.computers.hands.sent.states.states import SwapAreas
from lumtak.computers.hands.sent.system import swaps
from lumtak.computers.hands.sent.table import (
    SWAP_FOLDER,
    UNITS,
)
from lumtak.computers.linux.adapter import Listed, Look, RootAdapter
from lumtak.computers.linux.proc import meminfo
from lumtak.core.facts import Fixed, Item, Setting
from lumtak.core.setting import SettingRef, State
from lumtak.core.text import plain
from lumtak.core.units import MIB
from lumtak.errors import ComputerError

KEY = "swap_mib"
_FILE_SYSTEMS = {"ext3", "ext4", "xfs"}
"""On which a file that was allocated at once can be swapped to; swapon(8), notes."""
_ABOVE = posixpath.dirname(SWAP_FOLDER)
_SPACE_KEPT = 0.10
_MOST_BYTES = 1 << 20


class _Old(NamedTuple):
    """A swap area that is not Lumtak's, in use or masked by Lumtak."""

    unit: str
    """Empty where no unit keeps it."""
    mib: int
    on: bool
    masked: bool


class Swap(RootAdapter):
    """Swap of one computer."""

    area = "memory"
    kinds = (SwapAreas,)

    def has(self, ref: SettingRef) -> bool:
        """Whether the setting is the size of swap."""
        return super().has(ref) and ref.key == KEY

    # -- what there is -----------------------------------------------------------------------------

    def items(self, look: Look) -> Listed:
        """The size of all swap as a setting; where it cannot be changed, why not."""
        areas = swaps.areas_in_use(self._hand)
        names = {"partition": "a partition", "file": "a file", "zram": "compressed memory"}
        kinds = [names.get(a.kind, a.kind) for a in areas]
        item = Item(
            area="memory",
            key=KEY,
            title="Swap size in MiB",
            origin="system",
            value=str(sum(a.mib for a in areas)),
            setting=self._setting(areas),
            note=(
                plain(", ".join(dict.fromkeys(kinds)))
                if look.memory.get("SwapTotal")
                else "there is no swap"
            ),
        )
        return Listed([item])

    def _setting(self, areas: list[swaps.SwapArea]) -> Setting | Fixed:
        if why := self._root.why_not() or self._why_no_file():
            return Fixed(needed=why)
        olds = self._olds(areas)
        _, free, _ = self._hand.space(_ABOVE)
        free_mib = int(free / MIB * (1 - _SPACE_KEPT))
        own_mib = sum(a.mib for a in areas if swaps.own_mib(a.path))
        lowest = sum(o.mib for o in olds if not o.unit)
        return Setting(lowest=lowest, highest=sum(o.mib for o in olds) + own_mib + free_mib)

    def _why_no_file(self) -> str:
        if not runs_systemd(self._hand):
            return "without systemd nothing would keep it over a restart"
        kind = _file_system(self._hand, _ABOVE)
        return (
            ""
            if kind in _FILE_SYSTEMS
            else (
                f"Lumtak makes swap files on ext4 and xfs, and {_ABOVE} is on"
                f" {plain(kind) or 'an unknown file system'}"
            )
        )

    def _olds(self, areas: list[swaps.SwapArea]) -> list[_Old]:
        """What is not Lumtak's own.

        Without a unit where Lumtak must not or cannot switch it off for good.
        """
        others = [a for a in areas if not swaps.own_mib(a.path)]
        units, masked = swaps.units_by_path(self._hand), swaps.masked_units(self._hand)
        found = []
        for area in others:
            unit, folder = units.get(area.path, ("", ""))
            free = (
                folder not in {"", UNITS}
                and area.kind != "zram"
                and not self._hibernates_into(area)
            )
            found.append(_Old(unit if free else "", area.mib, on=True, masked=unit in masked))
        seen = {o.unit for o in found}
        found += [_Old(u, 0, on=False, masked=True) for u in masked if u not in seen]
        return found

    def _memory(self) -> dict[str, int]:
        return meminfo(text_at(self._hand, "/proc/meminfo").encode())

    def _hibernates_into(self, area: swaps.SwapArea) -> bool:
        """Whether memory may be saved there.

        What the kernel was told to wake up from, else, where it can sleep so, what could hold it.

        Sources: kernel, kernel-parameters.txt (resume, resume_offset); admin-guide/pm/sleep-states
        (/sys/power).
        """
        named = []
        for option in text_at(self._hand, "/proc/cmdline").split():
            if option.startswith("resume="):
                kind, equals, value = option.removeprefix("resume=").partition("=")
                named.append(f"/dev/disk/by-{kind.lower()}/{value}" if equals else kind)
        resumes_from = text_at(self._hand, "/sys/power/resume")
        if resumes_from not in {"", "0:0"} and (
            device := self._hand.link(f"/sys/dev/block/{resumes_from}")
        ):
            named.append(f"/dev/{posixpath.basename(device)}")
        if named and area.kind == "file":
            return True  # which of the files it is, only an offset on the disk tells
        if named:
            return area.path in {real_path(self._hand, p) for p in named}
        fits = area.mib * MIB >= self._memory().get("MemTotal", 0)
        return fits and "disk" in text_at(self._hand, "/sys/power/state").split()

    # -- the setting -------------------------------------------------------------------------------

    def read(self, ref: SettingRef) -> State:
        """The size of all that is in use, and how each part of it stands."""
        del ref
        areas = swaps.areas_in_use(self._hand)
        return State(value=str(sum(a.mib for a in areas)), exact=self._exact(areas))

    def _exact(self, areas: list[swaps.SwapArea]) -> SwapAreas:
        olds = [o for o in self._olds(areas) if o.unit]
        kept, on = self._own(areas)
        return _exact(kept, on, [o.unit for o in olds if o.masked], [o.unit for o in olds if o.on])

    def _own(self, areas: list[swaps.SwapArea]) -> tuple[set[int], set[int]]:
        """(sizes of those that are kept over a restart, of those in use).

        A file of Lumtak's own that is neither is only litter.
        """
        return swaps.own_kept(self._hand), {mib for a in areas if (mib := swaps.own_mib(a.path))}

    def foresee(self, ref: SettingRef, value: str | None) -> State:
        """What stood stays where that is enough, and a file of Lumtak's own makes up the rest.

        Else what stood is masked.
        """
        areas = swaps.areas_in_use(self._hand)
        wanted = self._size(ref, value, self._setting(areas))
        olds = [o for o in self._olds(areas) if o.on]
        standing = sum(o.mib for o in olds)
        units, masked = [o.unit for o in olds if o.unit], swaps.masked_units(self._hand)
        # What the computer came with is never taken away where adding to it is enough.
        if wanted >= standing:
            rest = wanted - standing
            own = [rest] if rest else []
            return State(value=value, exact=_exact(own, own, masked, units))
        rest = wanted - sum(o.mib for o in olds if not o.unit)
        own = [rest] if rest else []
        return State(value=value, exact=_exact(own, own, [*masked, *units], []))

    @staticmethod
    def _size(ref: SettingRef, value: str | None, setting: Setting | Fixed) -> int:
        """The size that is wanted.

        Raises:
            ComputerError: it cannot be changed, or not to that.
        """
        if isinstance(setting, Fixed):
            raise ComputerError(
                f"{ref} cannot be changed: {setting.needed}.", "Nothing was changed."
            )
        if value is None:
            raise ComputerError(
                f"{ref} cannot be unset.", f"Choose a number of MiB{setting.bounds}."
            )
        if problem := setting.problem_with(value):
            raise ComputerError(f"{ref} cannot be {plain(value)}.", f"Choose again: {problem}")
        return int(value)


def _exact(
    kept: Iterable[int], on: Iterable[int], masked: Iterable[str], used: Iterable[str]
) -> SwapAreas:
    return SwapAreas(
        tuple(sorted(kept)), tuple(sorted(on)), tuple(sorted({*masked})), tuple(sorted(used))
    )


def _file_system(hand: Reach, folder: str) -> str:
    """Kind of the file system that holds a folder: of the longest mount point above it.

    Proc(5), mountinfo.
    """
    best, kind = "", ""
    for line in text_at(hand, "/proc/self/mountinfo", _MOST_BYTES).splitlines():
        left, _, right = line.partition(" - ")
        fields = left.split()
        if len(fields) > 4 and right:
            place = fields[4]
            if len(place) >= len(best) and f"{folder}/".startswith(
                place if place == "/" else f"{place}/"
            ):
                best, kind = place, right.split()[0]
    return kind
