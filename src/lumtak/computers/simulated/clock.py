"""The clock of a simulated computer, and its starts."""

import threading
import uuid
from datetime import datetime, timedelta

from lumtak.computers.simulated.machine import EPOCH, Machine

_IDS = uuid.UUID("6a0f5f0e-4c1d-4b8e-9d3a-2f1c7b9e5d10")


class SimulatedClock:
    """See `Clock`.

    Args:
        machine: of the computer.
    """

    def __init__(self, machine: Machine) -> None:
        self._machine = machine

    def now_s(self) -> float:
        """Its own clock."""
        return self._machine.model.clock_s

    def wall(self) -> datetime:
        """Its clock on the wall: a Monday morning, and what has passed since."""
        return EPOCH + timedelta(seconds=round(self._machine.model.clock_s, 3))

    def wait(self, seconds: float, stop: threading.Event | None = None) -> None:
        """Its time passes by the model; at its pace, when it has one."""
        self._machine.wait(seconds, stop)

    def boot_id(self) -> str:
        """One for each start."""
        return str(
            uuid.uuid5(
                _IDS,
                f"{self._machine.spec.name}/{self._machine.state.seed}/boot/{self._machine.state.boots}",
            )
        )

    def session_id(self) -> str:
        """One for each login."""
        return f"session-{self._machine.state.logins}"

    def restart(self, *, login_only: bool = False) -> None:
        """Down, up, and the user logs in.

        Programs are still starting when this returns, as in life.
        """
        self._machine.restart(login_only=login_only)
