"""Trials under way: one a computer, and what those left that were interrupted."""

import contextlib
from collections.abc import Iterator
from pathlib import Path

import msgspec

from lumtak.core.record import UNREADABLE, FileName, Record
from lumtak.core.text import plain
from lumtak.core.trial.record import Experiment
from lumtak.errors import LumtakError, UsageError
from lumtak.journal import Outcome, put_back
from lumtak.journal.locks import BusyError, locked
from lumtak.storage import write_whole
from lumtak.work.data_folder import DataFolder
from lumtak.work.trials_kept import keep_trial, kept_trials, trials_folder

_UNDER_WAY = "under-way.json"


class _UnderWay(Record):
    """What is known beside the journal of a trial that has begun."""

    format: int = 1
    identity: FileName
    address: str
    user: str | None
    trial: int


@contextlib.contextmanager
def alone(data_folder: DataFolder, identity: str) -> Iterator[None]:
    """No other trial of this computer is under way while it lasts.

    Raises:
        UsageError: one is.
    """
    try:
        with locked(_lock(data_folder, identity)):
            yield
    except BusyError as error:
        raise UsageError(
            "Another trial of this computer is under way.",
            "Let it end, or stop it, then try again.",
        ) from error


def note_begun(data_folder: DataFolder, trial: Experiment) -> None:
    """The trial is about to switch something: whoever starts Lumtak next knows."""
    user = trial.user if trial.address == "local" else None
    marker = _UnderWay(identity=trial.identity, address=trial.address, user=user, trial=trial.id)
    write_whole(
        trials_folder(data_folder.home, trial.identity) / _UNDER_WAY,
        msgspec.json.encode(marker),
        private=True,
    )


def note_ended(data_folder: DataFolder, identity: str) -> None:
    """Nothing of a trial stands any more, or what stands is in the journal to be seen."""
    with contextlib.suppress(FileNotFoundError):
        (trials_folder(data_folder.home, identity) / _UNDER_WAY).unlink()


def finish_interrupted(data_folder: DataFolder) -> list[str]:
    """Restore what trials that were killed left switched on; a sentence each.

    Only where the trial's own value still stands: what somebody changed since is a conflict, which
    stays in the journal and is left alone. A trial that is under way is not touched.
    """
    if data_folder.only_looks:
        return []
    told = []
    for path in sorted((data_folder.home / "trials").glob(f"*/{_UNDER_WAY}")):
        try:
            marker = msgspec.json.decode(path.read_bytes(), type=_UnderWay)
            with locked(_lock(data_folder, marker.identity)):
                told += _finish(data_folder, marker)
        except BusyError:
            continue  # it is under way, or somebody else is at it
        except (OSError, *UNREADABLE) as error:
            told.append(f"{path} cannot be read ({plain(str(error), 100)}); see the journal.")
        except LumtakError as error:
            told.append(f"A trial was interrupted, and what it left stands: {error}")
    return told


def _finish(data_folder: DataFolder, marker: _UnderWay) -> list[str]:
    computer = data_folder.computer(marker.address, user=marker.user)
    try:
        if computer.identity != marker.identity:
            raise UsageError(
                f"It was on another computer than {marker.address} is now.",
                "Start Lumtak there.",
            )
        mine = data_folder.journal.entries_of(computer)
        left = [e for e in mine if e.trial == marker.trial and e.is_open]
        outcomes = put_back(data_folder.journal, computer, [e.id for e in left])
    finally:
        computer.close()
    for trial in kept_trials(data_folder.home, marker.identity):
        if (trial.id, trial.state) == (marker.trial, "under way"):
            keep_trial(data_folder.home, msgspec.structs.replace(trial, state="interrupted"))
    if not any(o.result == "failed" for o in outcomes):  # else the next start tries it once more
        note_ended(data_folder, marker.identity)
    return [_told(outcome) for outcome in outcomes]


def _told(outcome: Outcome) -> str:
    what = plain(f"{outcome.title} ({outcome.change.ref})", 200)
    if outcome.result in {"done", "as it was"}:
        return f"A trial was interrupted: {what} is {outcome.after} again, as before it."
    return f"A trial was interrupted, and {what} was left alone: {outcome.note}."


def _lock(data_folder: DataFolder, identity: str) -> Path:
    return data_folder.home / "locks" / f"trial-{identity}.lock"
