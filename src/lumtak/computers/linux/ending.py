"""Ending a process.

By a descriptor of it, so that its number cannot have gone to another one (pidfd_open(2),
signal(7)).
"""

from lumtak.computers.hands.reach import Reach
from lumtak.core.facts import Process
from lumtak.core.text import plain
from lumtak.errors import ComputerError


def end_process(hand: Reach, process: Process, *, force: bool, wait_s: float) -> bool:
    """Ask (SIGTERM) or force (SIGKILL); whether it is gone after so many seconds.

    Args:
        hand: as whom it is ended.
        process: as it was listed.
        force: do not ask.
        wait_s: how long to wait for its end.

    Raises:
        ComputerError: it may not be ended, or it is another process by now.
    """
    name = plain(process.name, 40)
    try:
        ended = hand.end(process.pid, process.started, force, wait_s)
    except PermissionError as error:
        raise ComputerError(
            f"{name} (process {process.pid}) belongs to another user.",
            "Run Lumtak as that user, or with sudo.",
        ) from error
    except OSError as error:
        raise ComputerError(
            f"{name} (process {process.pid}) cannot be ended:"
            f" {plain((error.strerror or str(error)).lower(), 200)}.",
            "Linux 5.3 or newer is needed for this.",
        ) from error
    if ended == "another":
        raise ComputerError(
            f"{name} has ended, and another process has the number {process.pid} now.",
            "List the processes again.",
        )
    return ended == "gone"
