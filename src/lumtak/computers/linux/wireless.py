"""Whether wireless devices save power: as NetworkManager is told, by a file of Lumtak's own.

Source: NetworkManager.conf(5), FILE FORMAT and wifi.powersave. It has one value for mains and
battery; a connection that has its own keeps it.
"""

from lumtak.computers.hands.reach import names_at, text_at
from lumtak.computers.hands.sent.states.states import WirelessFile
from lumtak.computers.hands.sent.table import WIRELESS, WIRELESS_FILE, wireless_text
from lumtak.computers.linux import ini_text
from lumtak.computers.linux.adapter import Listed, Look, RootAdapter
from lumtak.core.facts import Fixed, Item, Setting
from lumtak.core.setting import SettingRef, State
from lumtak.core.text import plain
from lumtak.errors import ComputerError

_KEY = "wireless_saving"
_PROGRAM = "/usr/sbin/NetworkManager"
_DEVICES = "/sys/class/net"
_FOLDERS = tuple(f"{top}/NetworkManager/conf.d" for top in ("/usr/lib", "/run", "/etc"))
"""Least important first; of a name that stands in several the last counts."""
_MAIN = "/etc/NetworkManager/NetworkManager.conf"
_WORDS = {str(number): value for value, number in WIRELESS.items()}


class Wireless(RootAdapter):
    """One setting, where there is a wireless device and NetworkManager looks after it."""

    area = "power"
    kinds = (WirelessFile,)

    def has(self, ref: SettingRef) -> bool:
        """Whether it is this one, and there is such a device."""
        return super().has(ref) and ref.key == _KEY and bool(self._devices())

    def items(self, look: Look) -> Listed:
        """Whether they save power."""
        del look
        devices = self._devices()
        if not devices:
            return Listed()
        told = self._told()
        value = _WORDS.get(told)
        why = self._root.why_not()
        shown = "; unset counts as what the device itself does" if value is None else ""
        return Listed(
            [
                Item(
                    area="power",
                    key=_KEY,
                    title="Wireless saving power",
                    origin="system",
                    value=value,
                    running=value != "off",
                    setting=(
                        Fixed(needed=why) if why else Setting(values=("on", "off"), shows="restart")
                    ),
                    note=plain(f"NetworkManager, {', '.join(devices)}{shown}", 300),
                )
            ]
        )

    def _devices(self) -> list[str]:
        if not self._hand.exists(_PROGRAM):
            return []
        names = names_at(self._hand, _DEVICES)
        return [n for n in names if self._hand.exists(f"{_DEVICES}/{n}/phy80211")]

    def _told(self) -> str:
        """What NetworkManager is told; empty where it is told nothing."""
        files = {n: f"{d}/{n}" for d in _FOLDERS for n in names_at(self._hand, d)}
        told = ""
        for path in (_MAIN, *(files[n] for n in sorted(files) if n.endswith(".conf"))):
            data = text_at(self._hand, path).encode()
            place = ini_text.find(data, "connection", "wifi.powersave")
            told = ini_text.value_in(data, place) or told
        return told

    # -- the setting -------------------------------------------------------------------------------

    def read(self, ref: SettingRef) -> State:
        """What NetworkManager is told, and what Lumtak's own file holds."""
        try:
            kept: bytes | None = self._hand.read(WIRELESS_FILE)
        except FileNotFoundError:
            kept = None
        except OSError as error:
            raise ComputerError(
                f"{ref} cannot be read: {WIRELESS_FILE} may not be.", "See who may read it."
            ) from error
        return State(value=_WORDS.get(self._told()), exact=WirelessFile(kept))

    def foresee(self, ref: SettingRef, value: str | None) -> State:
        """Lumtak's own file as it will be."""
        if value not in WIRELESS:
            raise ComputerError(
                f"{ref} cannot be {plain(value or 'unset')}.", "Choose from on and off."
            )
        return State(value=value, exact=WirelessFile(wireless_text(value)))
