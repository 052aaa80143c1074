"""The system's own upkeep: how large its journal may grow, how old temporary files, how long
services may take to stop, whether and when updates install themselves.

Each is a file of Lumtak's own beside what stands. Sources: journald.conf(5), SystemMaxUse;
tmpfiles.d(5), Age, and which of two lines for one path counts; systemd-system.conf(5),
DefaultTimeoutStopSec; apt.conf(5) and apt.systemd.daily, APT::Periodic. What the first two delete
no setting brings back, so that nothing of it is ever proposed.
"""

from collections.abc import Mapping
from typing import ClassVar, NamedTuple

from lumtak.computers.hands.reach import runs_systemd, text
from lumtak.computers.hands.sent.states.states import KeptFile
from lumtak.computers.hands.sent.table import (
    OTHER_WAYS,
    READ_ANEW,
    UPKEEP,
    upkeep_file,
    upkeep_text,
    upkeep_value,
)
from lumtak.computers.linux.adapter import Listed, Look, RootAdapter
from lumtak.computers.linux.starts import seconds_in
from lumtak.core.facts import Fixed, Item, Setting
from lumtak.core.setting import IN_FORCE, SettingRef, Shows, State, not_in_force
from lumtak.core.text import number, plain
from lumtak.errors import ComputerError

_UNSET = "Unset counts as what the system has by itself."
_WORDS = {"0": "off", "1": "on"}


class _Kept(NamedTuple):
    """A setting that is a file of Lumtak's own."""

    title: str
    there: str
    """What is there where the setting is."""
    shows: Shows = "restart"
    without: str = "this system has no such program"
    note: str = _UNSET
    switch: bool = False
    """Whether it is on or off, and no number."""


class _Files(RootAdapter):
    """Settings of one area."""

    kinds = (KeptFile,)
    kept: ClassVar[Mapping[str, _Kept]]

    def has(self, ref: SettingRef) -> bool:
        """See `Adapter.has`."""
        return super().has(ref) and ref.key in self.kept

    def items(self, look: Look) -> Listed:
        """Those that are here."""
        del look
        found = []
        for key, kept in self.kept.items():
            if not self._is_here(key):
                continue
            why = self._root.why_not()
            lowest, highest = UPKEEP[key]
            setting = (
                Setting(values=("on", "off"), shows=kept.shows)
                if kept.switch
                else Setting(lowest=lowest, highest=highest, shows=kept.shows)
            )
            found.append(
                Item(
                    area=self.area,
                    key=key,
                    title=kept.title,
                    origin="system",
                    value=self._value(key),
                    setting=Fixed(needed=why) if why else setting,
                    note=kept.note,
                )
            )
        return Listed(items=found)

    def _is_here(self, key: str) -> bool:
        """Whether what has the setting is here, and runs where it has to read it anew."""
        runs = key not in READ_ANEW or runs_systemd(self._hand)
        return runs and self._hand.exists(self.kept[key].there)

    def _held(self, key: str) -> bytes | None:
        try:
            return self._hand.read(upkeep_file(key))
        except FileNotFoundError:
            return None
        except OSError as error:
            raise ComputerError(
                f"{self.area}:{key} cannot be read: {upkeep_file(key)} may not be.",
                "See who may read it.",
            ) from error

    def _value(self, key: str) -> str | None:
        held = self._held(key)
        value = None if held is None else upkeep_value(key, held) or None
        return _WORDS.get(value, value) if value and self.kept[key].switch else value

    def read(self, ref: SettingRef) -> State:
        """What Lumtak's own file says; unset where there is none."""
        held = self._held(ref.key)
        return State(value=self._value(ref.key), exact=KeptFile(upkeep_file(ref.key), held))

    def foresee(self, ref: SettingRef, value: str | None) -> State:
        """Lumtak's own file as it will be."""
        path = upkeep_file(ref.key)
        if value is None:
            return State(value=None, exact=KeptFile(path, None))
        kept = self.kept[ref.key]
        if not self._is_here(ref.key):
            raise ComputerError(f"{ref} cannot be set: {kept.without}.", "Nothing was changed.")
        told = next((n for n, w in _WORDS.items() if w == value), "") if kept.switch else value
        lowest, highest = UPKEEP[ref.key]
        size = number(told)
        if size is None or not lowest <= size <= highest or str(size) != told:
            wanted = "on or off" if kept.switch else f"a number from {lowest} to {highest}"
            raise ComputerError(f"{ref} cannot be {plain(value)}.", f"It is {wanted}.")
        self._check(ref, value)
        return State(value=value, exact=KeptFile(path, upkeep_text(ref.key, told)))

    def _check(self, ref: SettingRef, value: str) -> None:
        """Whether nothing speaks against this value.

        Raises:
            ComputerError: something does.
        """


class UpkeepFiles(_Files):
    """Of the disk, where systemd looks after journal and temporary files."""

    area = "storage"
    kept: ClassVar[Mapping[str, _Kept]] = {
        "journal_mib": _Kept("Most of the journal, MiB", "/usr/lib/systemd/systemd-journald"),
        "temporary_days": _Kept("Days of temporary files", "/usr/lib/tmpfiles.d"),
    }


class SystemUpkeep(_Files):
    """Of stopping and updating."""

    area = "upkeep"
    kept: ClassVar[Mapping[str, _Kept]] = {
        "stop_seconds": _Kept(
            "Seconds that services may take to stop",
            "/run/systemd/system",
            "now",
            "systemd does not manage this computer",
            f"{_UNSET} Services with a time of their own keep it.",
        ),
        "automatic_updates": _Kept(
            "Updates install themselves",
            "/usr/bin/unattended-upgrade",
            "now",
            "it takes the package unattended-upgrades",
            switch=True,
        ),
        "update_hour": _Kept(
            "Hour at which updates install themselves",
            "/usr/lib/systemd/system/apt-daily-upgrade.timer",
            "now",
            "no timer here installs updates",
        ),
    }

    def _check(self, ref: SettingRef, value: str) -> None:
        """One working way to get security updates always stays."""
        if (ref.key, value) == ("automatic_updates", "off") and not any(
            map(self._hand.exists, OTHER_WAYS)
        ):
            raise ComputerError(
                "Updates that install themselves are the only way by which this computer gets"
                " security updates.",
                "Install a program that tells of them first (gnome-software, plasma-discover).",
            )

    def in_force(self, ref: SettingRef) -> str:
        """Whether the service manager has the time that is set."""
        wanted = self._value(ref.key) if ref.key == "stop_seconds" else None
        if wanted is None or not self._hand.live:
            return ""
        asked = ("systemctl", "show", "--no-pager", "--property=DefaultTimeoutStopUSec")
        try:
            said = text(self._hand.run(asked)).strip().partition("=")[2]
        except OSError:
            return ""
        if seconds_in(said) == float(wanted):
            return IN_FORCE
        return not_in_force(f"the service manager has {plain(said, 40)}")
