"""What is said of a computer's owner: noted at Intake, and forgotten when asked."""

from pathlib import Path
from typing import Any

import msgspec

from lumtak.casebook.job import Job
from lumtak.core.owner import Owner, owner_of
from lumtak.core.record import Record
from lumtak.work.data_folder import DataFolder
from lumtak.work.open_job import OpenJob


class Forgotten(Record):
    """What became of forgetting an owner."""

    job: str
    named: tuple[str, ...]
    """Files that still hold what was said of them, as far as they are known."""


def note_owner(open_job: OpenJob, **fields: str | None) -> Owner:
    """Keep what is said of the owner; what is None stays as it is.

    Args:
        open_job: the job.
        fields: of `Owner`.
    """
    said: dict[str, Any] = msgspec.structs.asdict(open_job.job.owner)
    said |= {name: value for name, value in fields.items() if value is not None}
    owner = owner_of(**said)
    open_job.keep(owner=owner)
    return owner


def what_is_known(job: Job) -> bool:
    """Whether anything is said of the owner of a job."""
    return job.owner != Owner() or bool(job.told)


def forget_owner(data_folder: DataFolder, job: Job) -> Forgotten:
    """Erase what is said of the owner, and nothing else: their name, how they are reached, the
    complaint in their words, what was agreed, notes.

    Raises:
        StorageError: another Lumtak has the casebook open.
    """
    known = [p for p in job.written if Path(p).exists()]
    aside = [str(p) for p in data_folder.casebook.set_aside()]
    data_folder.casebook.erase(msgspec.structs.replace(job, owner=Owner(), told=""))
    return Forgotten(job=job.id, named=(*known, *aside))
