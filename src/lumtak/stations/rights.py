"""What has to be asked in the terminal before changes that take root."""

from collections.abc import Iterable

from lumtak.computers.protocol import Capabilities
from lumtak.core.setting import SettingRef


def asking(capabilities: Capabilities, refs: Iterable[SettingRef]) -> tuple[str, ...]:
    """The command to run with the terminal handed over, so that a password can be typed; empty where none of these takes root."""
    return capabilities.asks if any(ref.area in capabilities.asks_for for ref in refs) else ()
