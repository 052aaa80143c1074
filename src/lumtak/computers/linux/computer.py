"""A real Linux computer behind the protocol: its four parts, put together."""

import hashlib
import time
from collections.abc import Callable
from datetime import datetime

from lumtak.computers.hands.reach import text_at
from lumtak.computers.hands.whose import Hands, User
from lumtak.computers.linux import hardware
from lumtak.computers.linux.about import LinuxAbout
from lumtak.computers.linux.adapter import Means
from lumtak.computers.linux.clock import LinuxClock, utc_now
from lumtak.computers.linux.load import Counters, LinuxLoad
from lumtak.computers.linux.registry import ADAPTERS
from lumtak.computers.linux.settings import LinuxSettings
from lumtak.core.catalogue import Catalogue
from lumtak.core.text import plain


class LinuxComputer:
    """This machine, or a folder that looks like one.

    Args:
        hands: reach its files and programs.
        user: whose settings are changed.
        catalogue: knows roles.
        address: as it was named.
        monotonic, wall: clocks.
    """

    def __init__(
        self,
        hands: Hands,
        user: User,
        catalogue: Catalogue,
        *,
        address: str = "local",
        monotonic: Callable[[], float] = time.monotonic,
        wall: Callable[[], datetime] = utc_now,
    ) -> None:
        hand = hands.own
        self._hands = hands
        self.address = address
        self.identity = (
            "linux-"
            + hashlib.sha256(b"lumtak:" + hardware.machine_id(hand).encode()).hexdigest()[:12]
        )
        self.name = plain(text_at(hand, "/proc/sys/kernel/hostname") or "this computer")
        self.user_name = user.name
        means = Means(hands, user, catalogue)
        adapters = [adapter(means) for adapter in ADAPTERS]
        counters = Counters(hand, self.name, adapters)
        self.clock = LinuxClock(hand, user, monotonic, wall)
        self.load = LinuxLoad(hands, user, self.name, counters=counters, clock=self.clock)
        self.settings = LinuxSettings(hands, user, adapters)
        self.about = LinuxAbout(
            hands,
            user,
            catalogue,
            adapters,
            counters=counters,
            clock=self.clock,
            identity=self,
            take_root=self.settings.take_root,
            hints=self.settings.hints,
        )

    def close(self) -> None:
        """Every hand that was started ends."""
        self._hands.close()
