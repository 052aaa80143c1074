"""The clock of a real Linux computer, and its starts."""

import threading
import time
from collections.abc import Callable
from datetime import UTC, datetime

from lumtak.computers.abilities import Cannot
from lumtak.computers.hands.reach import Reach, text_at
from lumtak.computers.hands.whose import User
from lumtak.computers.linux import hardware
from lumtak.core.record import NotMeasured
from lumtak.errors import ComputerError

NO_RESTART = Cannot(
    why="Lumtak does not restart the computer that it runs on.",
    instead="Restart it yourself; the job goes on when you open Lumtak again.",
)
NO_LOGIN = Cannot(
    why="Lumtak does not log out of the computer that it runs on.",
    instead="Log out and in yourself; the job goes on when you open Lumtak again.",
)


def utc_now() -> datetime:
    """The time, by this process."""
    return datetime.now(UTC)


class LinuxClock:
    """See `Clock`.

    Args:
        hand: of the computer.
        user: whose sessions count.
        monotonic, wall: clocks.
    """

    def __init__(
        self,
        hand: Reach,
        user: User,
        monotonic: Callable[[], float] = time.monotonic,
        wall: Callable[[], datetime] = utc_now,
    ) -> None:
        self._hand, self._user = hand, user
        self._monotonic, self._wall = monotonic, wall

    def now_s(self) -> float:
        """The monotonic clock."""
        return self._monotonic()

    def wall(self) -> datetime:
        """The clock on the wall."""
        return self._wall()

    def wait(self, seconds: float, stop: threading.Event | None = None) -> None:
        """Wait, or until told to stop."""
        (stop or threading.Event()).wait(max(0.0, seconds))

    def boot_id(self) -> str:
        """The kernel's own."""
        return text_at(self._hand, "/proc/sys/kernel/random/boot_id") or "unknown"

    def session_id(self) -> str | NotMeasured:
        """The newest session of the user, as the session manager names it."""
        logins = hardware.sessions(self._hand, self._user.uid)
        if not logins:
            return NotMeasured(not_measured="no session manager counts logins here")
        return f"{logins[-1]['ID']}@{logins[-1].get('REALTIME', '')}"

    def restart(self, *, login_only: bool = False) -> None:
        """Not this one."""
        cannot = NO_LOGIN if login_only else NO_RESTART
        raise ComputerError(cannot.why, cannot.instead)
