"""Trials that were made on a computer: a file each, kept with it."""

import contextlib
from pathlib import Path

import msgspec

from lumtak.core.record import UNREADABLE
from lumtak.core.trial.record import Trial


def trials_folder(home: Path, identity: str) -> Path:
    """Where those of a computer stand."""
    return home / "trials" / identity


def kept_trials(home: Path, identity: str) -> list[Trial]:
    """All trials of a computer, oldest first; what cannot be read is left out.

    Args:
        home: the data folder.
        identity: of the computer.
    """
    found = []
    for path in trials_folder(home, identity).glob("[0-9]*.json"):
        with contextlib.suppress(OSError, *UNREADABLE):
            found.append(msgspec.json.decode(path.read_bytes(), type=Trial))
    return sorted(found, key=lambda t: t.id)
