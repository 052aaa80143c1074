"""Ending a process: by a descriptor of it, so that its number cannot have gone to another one (pidfd_open(2), signal(7))."""

import contextlib
import os
import select
import signal

from lumtak.core.facts import Process
from lumtak.core.text import plain
from lumtak.errors import ComputerError


def end_process(process: Process, started: int | None, *, force: bool, wait_s: float) -> bool:
    """Ask (SIGTERM) or force (SIGKILL); whether it is gone after so many seconds.

    Args:
        process: as it was listed.
        started: when the process that has this number now started, in ticks since boot; None when there is none.
        force: do not ask.
        wait_s: how long to wait for its end.

    Raises:
        ComputerError: it may not be ended, or it is another process by now.
    """
    name = plain(process.name, 40)
    if started is None:
        return True
    try:
        descriptor = os.pidfd_open(process.pid)
    except ProcessLookupError:
        return True
    except OSError as error:
        raise ComputerError(
            f"{name} (process {process.pid}) cannot be ended: {(error.strerror or '').lower()}.",
            "Linux 5.3 or newer is needed for this.",
        ) from error
    try:
        if started != process.started:
            raise ComputerError(
                f"{name} has ended, and another process has the number {process.pid} now.", "List the processes again."
            )
        with contextlib.suppress(ProcessLookupError):
            signal.pidfd_send_signal(descriptor, signal.SIGKILL if force else signal.SIGTERM)
        ended, _, _ = select.select([descriptor], [], [], max(0.0, wait_s))
        return bool(ended)
    except PermissionError as error:
        raise ComputerError(
            f"{name} (process {process.pid}) belongs to another user.", "Run Lumtak as that user, or with sudo."
        ) from error
    finally:
        os.close(descriptor)
