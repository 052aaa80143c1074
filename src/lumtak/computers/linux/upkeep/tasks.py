"""Which tasks there are on a Linux computer, and who does each."""

import time
from collections.abc import Callable

import msgspec

from lumtak.computers.linux.upkeep.disks import disks
from lumtak.computers.linux.upkeep.files import fragments, integrity, unwanted
from lumtak.computers.linux.upkeep.given import Given
from lumtak.computers.linux.upkeep.odd import odd
from lumtak.computers.linux.upkeep.stopping import stopping
from lumtak.computers.linux.upkeep.updates import updates
from lumtak.core.upkeep.tasks import Result, TaskName

_DOES: dict[TaskName, Callable[[Given], Result]] = {
    "integrity": integrity,
    "unwanted": unwanted,
    "odd": odd,
    "disks": disks,
    "fragments": fragments,
    "updates": updates,
    "stopping": stopping,
}


def run_task(given: Given) -> Result:
    """See `About.upkeep`.

    Raises:
        ComputerError: it could not be brought to its end.
    """
    started = time.monotonic()
    try:
        result = _DOES[given.begun.task](given)
    finally:
        given.hands.end_beside()
    took = result.took_s or time.monotonic() - started
    return msgspec.structs.replace(result, took_s=round(took, 3))
