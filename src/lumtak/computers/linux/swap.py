"""How much swap there is, and changing it.

A swap file of Lumtak's own beside what stands, which is switched off but never deleted.

More: a file is made, switched on, and kept by a swap unit of its own (systemd.swap(5)). Less: what
stands is masked and switched off after the new file is in use, so that it comes back with one link.
What the computer hibernates into is left alone.
"""

import posixpath
import re
from collections.abc import Iterable
from typing import NamedTuple

from lumtak.computers.hands.reach import Reach, names_at, real_path, runs_systemd, text_at
from lumtak.computers.hands.sent.states.states import SwapAreas, swap_switch
from lumtak.computers.hands.sent.table import (
    NOWHERE,
    SWAP_FOLDER,
    UNITS,
    swap_file,
    swap_unit,
    swap_unit_size,
    swap_unit_text,
)
from lumtak.computers.linux.adapter import Adapter, Listed, Look
from lumtak.computers.linux.proc import meminfo
from lumtak.core.facts import Fixed, Item, Setting
from lumtak.core.setting import SettingRef, State
from lumtak.core.text import number, plain
from lumtak.core.units import MIB
from lumtak.errors import ComputerError

KEY = "swap_mib"
_FILE_SYSTEMS = {"ext3", "ext4", "xfs"}
"""On which a file that was allocated at once can be swapped to; swapon(8), notes."""
_ABOVE = posixpath.dirname(SWAP_FOLDER)
_SPACE_KEPT = 0.10
_MOST_BYTES = 1 << 20
_ROOM = 0.8
"""How much of the memory that is free may be filled by what comes back from swap."""
_OWN_NAME = re.compile(r"swap_([1-9][0-9]{0,6})")
_UNIT_FOLDERS = (UNITS, "/run/systemd/transient", "/run/systemd/generator.early",
"/run/systemd/system", "/run/systemd/generator",
                 "/usr/local/lib/systemd/system", "/usr/lib/systemd/system", "/lib/systemd/system",
                 "/run/systemd/generator.late")  # fmt: skip
"""Most important first; systemd.unit(5)."""


class SwapArea(NamedTuple):
    """One swap area that is in use; proc(5), /proc/swaps."""

    path: str
    mib: int
    used_bytes: int
    kind: str


class _Old(NamedTuple):
    """A swap area that is not Lumtak's, in use or masked by Lumtak."""

    unit: str
    """Empty where no unit keeps it."""
    mib: int
    on: bool
    masked: bool


class Swap(Adapter):
    """Swap of one computer."""

    area = "memory"
    kinds = (SwapAreas,)

    def has(self, ref: SettingRef) -> bool:
        """Whether the setting is the size of swap."""
        return super().has(ref) and ref.key == KEY

    # -- what there is -----------------------------------------------------------------------------

    def items(self, look: Look) -> Listed:
        """The size of all swap as a setting; where it cannot be changed, why not."""
        areas = self.areas()
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

    def _setting(self, areas: list[SwapArea]) -> Setting | Fixed:
        if why := self._root.why_not() or self._why_no_file():
            return Fixed(needed=why)
        olds = self._olds(areas)
        _, free = self._hand.space(_ABOVE)
        free_mib = int(free / MIB * (1 - _SPACE_KEPT))
        own_mib = sum(a.mib for a in areas if _own_mib(a.path))
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

    def areas(self) -> list[SwapArea]:
        """What is in use now."""
        found = []
        for line in text_at(self._hand, "/proc/swaps", _MOST_BYTES).splitlines()[1:]:
            fields = line.split()
            kib, used_kib = (number(f) for f in fields[2:4]) if len(fields) >= 4 else (None, None)
            if kib is not None and used_kib is not None:
                path = re.sub(r"\\([0-7]{3})", lambda m: chr(int(m[1], 8)), fields[0])
                kind = "zram" if re.match(r"/dev/zram[0-9]", path) else fields[1]
                found.append(SwapArea(path, round(kib / 1024), used_kib * 1024, kind))
        return found

    def _units(self) -> dict[str, tuple[str, str]]:
        """(unit, folder of its file) by the path that it swaps to.

        From files, those that a generator made from fstab included.
        """
        found: dict[str, tuple[str, str]] = {}
        seen: set[str] = set()
        for folder in _UNIT_FOLDERS:
            for name in names_at(self._hand, folder):
                if (
                    name.endswith(".swap")
                    and self._hand.link(f"{folder}/{name}") != NOWHERE
                    and name not in seen
                ):
                    seen.add(name)
                    what = re.search(
                        r"(?m)^What=[ \t]*(/.*)$", text_at(self._hand, f"{folder}/{name}")
                    )
                    if what:
                        found.setdefault(real_path(self._hand, what[1].strip()), (name, folder))
        return found

    def _olds(self, areas: list[SwapArea]) -> list[_Old]:
        """What is not Lumtak's own.

        Without a unit where Lumtak must not or cannot switch it off for good.
        """
        others = [a for a in areas if not _own_mib(a.path)]
        units, masked = self._units(), self._masked()
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

    def _masked(self) -> list[str]:
        names = [n for n in names_at(self._hand, UNITS) if n.endswith(".swap")]
        return [n for n in names if self._hand.link(f"{UNITS}/{n}") == NOWHERE]

    def _hibernates_into(self, area: SwapArea) -> bool:
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
        areas = self.areas()
        return State(value=str(sum(a.mib for a in areas)), exact=self._exact(areas))

    def _exact(self, areas: list[SwapArea]) -> SwapAreas:
        olds = [o for o in self._olds(areas) if o.unit]
        kept, on = self._own(areas)
        return _exact(kept, on, [o.unit for o in olds if o.masked], [o.unit for o in olds if o.on])

    def _own(self, areas: list[SwapArea]) -> tuple[set[int], set[int]]:
        """(sizes of those that are kept over a restart, of those in use).

        A file of Lumtak's own that is neither is only litter.
        """
        kept = {
            size
            for name in names_at(self._hand, posixpath.dirname(swap_switch(1)))
            if (size := swap_unit_size(name))
        }
        return kept, {mib for a in areas if (mib := _own_mib(a.path))}

    def foresee(self, ref: SettingRef, value: str | None) -> State:
        """What stood stays where that is enough, and a file of Lumtak's own makes up the rest.

        Else what stood is masked.
        """
        areas = self.areas()
        wanted = self._size(ref, value, self._setting(areas))
        olds = [o for o in self._olds(areas) if o.on]
        standing = sum(o.mib for o in olds)
        units, masked = [o.unit for o in olds if o.unit], self._masked()
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

    def write(self, ref: SettingRef, exact: SwapAreas) -> None:
        """New before old.

        A file is made and on before anything is switched off, and that only where memory is free
        for what it holds.
        """
        now = self._exact(self.areas())
        gone = sorted(m for m in {*self._leftovers(), *now.own} if m not in exact.own)
        leaving = [unit for unit in now.used if unit not in exact.used]
        self._check_room(ref, gone, leaving, sum(m for m in exact.own if m not in now.on))
        self._switch_on(exact, now)
        self._switch_off(exact, now, gone)
        self._root.systemctl("daemon-reload")

    def _switch_on(self, exact: SwapAreas, now: SwapAreas) -> None:
        for unit in exact.old:
            self._root.clear(f"{UNITS}/{unit}")
        for unit in now.masked:
            if unit in exact.used or unit not in exact.masked:
                self._root.remove(f"{UNITS}/{unit}")
        for mib in exact.own:
            if mib not in now.on:
                self._root.make_swap_file(mib)
            self._root.put(f"{UNITS}/{swap_unit(mib)}", swap_unit_text(mib))
            self._root.link(swap_switch(mib), f"{UNITS}/{swap_unit(mib)}")
        self._root.systemctl("daemon-reload")
        for unit in (*map(swap_unit, exact.own), *exact.used):
            self._root.systemctl("start", unit)

    def _switch_off(self, exact: SwapAreas, now: SwapAreas, gone: list[int]) -> None:
        for unit in exact.masked:
            self._root.link(f"{UNITS}/{unit}", NOWHERE)
        for unit in now.used:
            if unit not in exact.used:
                self._stop(unit, masked_now=unit in exact.masked and unit not in now.masked)
        for mib in gone:
            if mib in now.on:
                self._root.systemctl("stop", swap_unit(mib))
            self._root.remove(swap_switch(mib), folder_too=True)
            self._root.remove(f"{UNITS}/{swap_unit(mib)}")
            self._root.remove_swap_file(mib)

    def _stop(self, unit: str, *, masked_now: bool) -> None:
        """Switch one off; a mask that was made for it does not stay where that fails."""
        try:
            self._root.systemctl("stop", unit)
        except ComputerError:
            if masked_now:
                self._root.remove(f"{UNITS}/{unit}")
            raise

    def _leftovers(self) -> set[int]:
        return {
            int(m[1]) for n in names_at(self._hand, SWAP_FOLDER) if (m := _OWN_NAME.fullmatch(n))
        }

    def _check_room(self, ref: SettingRef, gone: list[int], off: list[str], coming: int) -> None:
        """Memory, or the swap that stays or comes (MiB), must have room for what is in the areas
        that are switched off.
        """
        areas, units = self.areas(), self._units()
        leaving = {swap_file(mib) for mib in gone} | {
            path for path, (unit, _) in units.items() if unit in off
        }
        holds = sum(a.used_bytes for a in areas if a.path in leaving)
        stays = sum(a.mib * MIB - a.used_bytes for a in areas if a.path not in leaving)
        free = self._memory().get("MemAvailable", 0) * _ROOM
        if holds > free + stays + coming * MIB:
            raise ComputerError(
                f"{ref} was not lowered: {holds // MIB} MiB are in the swap that would go, and"
                " memory is not free for them.",
                "Close programs, then try again.",
            )


def _own_mib(path: str) -> int:
    folder, name = posixpath.split(path)
    said = _OWN_NAME.fullmatch(name)
    return int(said[1]) if said and folder == SWAP_FOLDER else 0


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
