"""The state of a simulated computer on disk.

The outside world, so a file of its own, replaced whole at each write.
"""

from collections.abc import Collection
from pathlib import Path

import msgspec

from lumtak.core.felt import Start
from lumtak.core.record import UNREADABLE, Record, immeasurable
from lumtak.core.text import number
from lumtak.errors import StorageError
from lumtak.storage import write_whole

FORMAT = 1
_REST = (4, 1, (1 << 32) - 1)
"""The greatest place in the buffer, whether half a number is left, and that half."""
_FARTHEST = 40.0
"""Standard deviations from the mean: no draw comes near it."""
_RANDOM = {"counter": 4, "key": 2, "buffer": 4, "rest": 3}
"""Parts of the state of Philox 4x64, and how many numbers each has."""


class ProcessState(Record):
    """One program at one moment."""

    running: bool = False
    mood: float = 0.0
    """The autoregressive part of its demand."""
    bursting: bool = False
    start_left: float = 0.0
    """Core-seconds of its start still to do."""
    read_left_mib: float = 0.0
    backlog: float = 0.0
    """Core-seconds it could not get yet."""
    girth: float = 0.0
    """The autoregressive part of its memory."""
    asked_left_s: float = 0.0
    cpu_s: float = 0.0
    """Core-seconds it has had, at the clock of the time."""


class HeldState(Record):
    """A class of clutter that is set aside."""

    bytes: float
    files: int
    at_s: float
    """When, by its own clock."""
    began_at_s: float | None = None
    """When the class had last been cleared before that; None where it never was."""
    paths: tuple[str, ...] = ()
    """Of the owner's files, where it is those."""


class SimState(Record, forbid_unknown_fields=False):
    """The whole computer at one moment."""

    format: int = FORMAT
    name: str
    seed: int
    clock_s: float = 0.0
    """Its own clock, since it was first switched on."""
    boots: int = 0
    logins: int = 0
    logins_of_start: int = 0
    """Since the last start."""
    booted_at_s: float = 0.0
    login_at_s: float = 0.0
    login_took_s: float | None = None
    """None while programs are still starting."""
    settings: dict[str, str | None]
    """As they are set, by address."""
    live: dict[str, str | None]
    """As they are in force."""
    processes: dict[str, ProcessState]
    cache_mib: float = 0.0
    swapped_mib: float = 0.0
    swap_in_mib: float = 0.0
    swap_out_mib: float = 0.0
    busy_s: float = 0.0
    work_s: float = 0.0
    iowait_s: float = 0.0
    clock_ratio: float = 1.0
    disk_busy_s: float = 0.0
    stalled_cpu_s: float = 0.0
    """For how long programs waited for a processor, memory, the disk."""
    stalled_memory_s: float = 0.0
    stalled_io_s: float = 0.0
    temperature_c: float = 36.0
    took_s: dict[str, float] = {}
    """Parts of the last start, by name."""
    waited_s: dict[str, float] = {}
    """How long each program of the last start took to start, by its key."""
    starts: tuple[Start, ...] = ()
    """What it noted of its starts, oldest first."""
    reverting: dict[str, tuple[float, str | None]] = {}
    """Settings that go back by themselves: when, and to what."""
    respawning: dict[str, float] = {}
    """Services that run again by themselves, and when."""
    locked_until: dict[str, float] = {}
    held: dict[str, HeldState] = {}
    """What is set aside, by its key."""
    cleared_at_s: dict[str, float] = {}
    """When a class of clutter was last cleared, by its name."""
    gone: dict[str, float] = {}
    """Bytes of the owner's files that were deleted for good, by path."""
    mended: tuple[str, ...] = ()
    """Packages that were unpacked once more."""
    gathered: tuple[str, ...] = ()
    """Files that were put together."""
    trimmed_at_s: float | None = None
    """When its disk was last told what is free; None where it never was since it was switched
    on."""
    removed: tuple[str, ...] = ()
    """Programs that were removed, by name."""
    lost_power: bool = False
    """Whether the fault of that kind has happened."""
    random: dict[str, list[int]]
    """State of the random number generator (Philox 4x64)."""


def load_state(path: Path) -> SimState | None:
    """The saved state; None when there is none yet.

    Raises:
        StorageError: it cannot be read.
    """
    try:
        data = path.read_bytes()
    except FileNotFoundError:
        return None
    except OSError as error:
        raise StorageError(
            f"{path} cannot be read: {error.strerror}.", "See that you may read it."
        ) from error
    try:
        state = msgspec.json.decode(data, type=SimState)
    except UNREADABLE as error:
        raise damaged(path) from error
    if state.format != FORMAT:
        raise StorageError(
            f"{path} has format {state.format}, and this Lumtak reads {FORMAT}.", "Update Lumtak."
        )
    return state


def damaged(path: Path) -> StorageError:
    """The error for a state that is none."""
    return StorageError(f"{path} is damaged.", "Remove it to get this simulated computer as new.")


def with_settings(state: SimState, fresh: SimState, area: str) -> SimState:
    """The state with the settings of an area that it was saved without: an older Lumtak had
    none.
    """
    new = {a: v for a, v in fresh.settings.items() if a.startswith(area + ":")}
    return msgspec.structs.replace(
        state, settings={**new, **state.settings}, live={**new, **state.live}
    )


def fits(state: SimState, settings: Collection[str]) -> bool:
    """Whether a state can be one of a computer that has these settings."""
    return (
        state.clock_ratio > 0
        and _has_settings(state, settings)
        and _is_of_the_generator(state)
        and all(max(abs(p.mood), abs(p.girth)) <= _FARTHEST for p in state.processes.values())
        and immeasurable(msgspec.to_builtins(msgspec.structs.replace(state, random={}))) is None
    )


def _has_settings(state: SimState, wanted: Collection[str]) -> bool:
    """Whether all of them are there, and those of memory are numbers."""
    held = (state.settings, state.live)
    sizes = [v for h in held for a, v in h.items() if a.startswith("memory:") and v is not None]
    there = all(set(wanted) <= h.keys() for h in held)
    return there and all(number(size) is not None for size in sizes)


def _is_of_the_generator(state: SimState) -> bool:
    """Whether the generator of random numbers can have been in that state."""
    parts = {name: len(values) for name, values in state.random.items()}
    numbers = [state.seed, *(value for values in state.random.values() for value in values)]
    rest = zip(state.random.get("rest", ()), _REST, strict=False)
    return (
        parts in ({}, _RANDOM)
        and all(0 <= n < 1 << 64 for n in numbers)
        and all(n <= most for n, most in rest)
    )


def save_state(path: Path, state: SimState) -> None:
    """Put the state on disk, whole or not at all."""
    write_whole(path, msgspec.json.encode(state), private=True)
