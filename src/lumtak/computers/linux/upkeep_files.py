"""The system's own upkeep of its disk: how large its journal may grow, how old temporary files.

Each is a file of Lumtak's own beside what stands. Sources: journald.conf(5), SystemMaxUse;
tmpfiles.d(5), Age, and which of two lines for one path counts. What they delete no setting brings
back, so that nothing of it is ever proposed.
"""

from lumtak.computers.hands.states import KeptFile
from lumtak.computers.hands.table import UPKEEP, upkeep_file, upkeep_text, upkeep_value
from lumtak.computers.linux.adapter import Adapter, Listed, Look
from lumtak.core.facts import Fixed, Item, Setting
from lumtak.core.setting import SettingRef, State
from lumtak.core.text import number, plain
from lumtak.errors import ComputerError

_TITLES = {
    "journal_mib": "Most of the journal, MiB",
    "temporary_days": "Days of temporary files",
}
_PROGRAMS = {
    "journal_mib": "/usr/lib/systemd/systemd-journald",
    "temporary_days": "/usr/lib/tmpfiles.d",
}
"""What is there where the setting is."""


class UpkeepFiles(Adapter):
    """Two settings, where systemd looks after journal and temporary files."""

    area = "storage"
    kinds = (KeptFile,)

    def has(self, ref: SettingRef) -> bool:
        """See `Adapter.has`."""
        return super().has(ref) and ref.key in UPKEEP

    def items(self, look: Look) -> Listed:
        """Those that are here."""
        del look
        found = []
        for key in UPKEEP:
            if not self._hand.exists(_PROGRAMS[key]):
                continue
            lowest, highest = UPKEEP[key]
            why = self._root.why_not()
            setting = Setting(lowest=lowest, highest=highest, shows="restart")
            found.append(
                Item(
                    area="storage",
                    key=key,
                    title=_TITLES[key],
                    origin="system",
                    value=self._value(key),
                    setting=Fixed(needed=why) if why else setting,
                    note="Unset counts as what the system has by itself.",
                )
            )
        return Listed(items=found)

    def _kept(self, key: str) -> bytes | None:
        try:
            return self._hand.read(upkeep_file(key))
        except FileNotFoundError:
            return None
        except OSError as error:
            raise ComputerError(
                f"storage:{key} cannot be read: {upkeep_file(key)} may not be.",
                "See who may read it.",
            ) from error

    def _value(self, key: str) -> str | None:
        kept = self._kept(key)
        return None if kept is None else upkeep_value(key, kept) or None

    def read(self, ref: SettingRef) -> State:
        """What Lumtak's own file says; unset where there is none."""
        kept = self._kept(ref.key)
        return State(value=self._value(ref.key), exact=KeptFile(upkeep_file(ref.key), kept))

    def foresee(self, ref: SettingRef, value: str | None) -> State:
        """Lumtak's own file as it will be."""
        path = upkeep_file(ref.key)
        if value is None:
            return State(value=None, exact=KeptFile(path, None))
        lowest, highest = UPKEEP[ref.key]
        size = number(value)
        if size is None or not lowest <= size <= highest:
            raise ComputerError(
                f"{ref} cannot be {plain(value)}.", f"It is a number from {lowest} to {highest}."
            )
        return State(value=value, exact=KeptFile(path, upkeep_text(ref.key, value)))

    def write(self, ref: SettingRef, exact: KeptFile) -> None:
        """Put the file there, or take it away."""
        del ref
        if exact.kept is None:
            self._root.remove(exact.file)
        else:
            self._root.put(exact.file, exact.kept)
