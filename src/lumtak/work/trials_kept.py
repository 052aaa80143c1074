"""Trials that were made on a computer: a file each, kept with it."""

import contextlib
from collections.abc import Iterable
from pathlib import Path

import msgspec

from lumtak.core.record import UNREADABLE
from lumtak.core.trial.record import Experiment, Screening, Trial
from lumtak.storage import write_whole

_SCREENING = ".screening.json"


def trials_folder(home: Path, identity: str) -> Path:
    """Where those of a computer stand."""
    return home / "trials" / identity


def kept_trials(home: Path, identity: str) -> list[Experiment]:
    """All trials of a computer, switchbacks and screenings, oldest first; what cannot be read is
    left out.

    Args:
        home: the data folder.
        identity: of the computer.
    """
    found: list[Experiment] = []
    for path in trials_folder(home, identity).glob("[0-9]*.json"):
        kind: type[Experiment] = Screening if path.name.endswith(_SCREENING) else Trial
        with contextlib.suppress(OSError, *UNREADABLE):
            found.append(msgspec.json.decode(path.read_bytes(), type=kind))
    return sorted(found, key=lambda t: t.id)


def keep_trial(home: Path, trial: Experiment) -> None:
    """The trial as it is now; on disk when this returns."""
    end = _SCREENING if isinstance(trial, Screening) else ".json"
    path = trials_folder(home, trial.identity) / f"{trial.id}{end}"
    write_whole(path, msgspec.json.encode(trial), private=True)


def next_id(home: Path, identity: str, used: Iterable[int] = ()) -> int:
    """The number of the next trial of a computer: no file has it, readable or not.

    Args:
        home: the data folder.
        identity: of the computer.
        used: numbers that flips in its journal have.
    """
    taken = [0, *used]
    for path in trials_folder(home, identity).glob("[0-9]*.json"):
        number = path.name.partition(".")[0]
        taken += [int(number)] if number.isdecimal() else []
    return 1 + max(taken)
