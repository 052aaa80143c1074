"""What has to be asked in the terminal before changes that take root."""

from collections.abc import Callable, Iterable
from functools import partial

from lumtak.computers.protocol import Computer
from lumtak.core.setting import SettingRef


def asking(computer: Computer, refs: Iterable[SettingRef]) -> Callable[[], None] | None:
    """What asks for a password, to be called with the terminal handed over.

    None where none of these changes needs one.

    It raises a ComputerError where it is refused.
    """
    asks = computer.about.capabilities().asks
    return (
        partial(computer.settings.take_rights, ask=True)
        if asks and any(map(computer.settings.takes_root, refs))
        else None
    )
