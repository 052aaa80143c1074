"""Intake: a computer, one of its users, and what they do with it; a job begins or goes on."""

import msgspec

from lumtak.casebook import Job
from lumtak.computers.protocol import Computer
from lumtak.core.profile import Profile
from lumtak.errors import UsageError
from lumtak.journal import review
from lumtak.work.data_folder import DataFolder
from lumtak.work.open_job import OpenJob


def begin_job(data_folder: DataFolder, computer: Computer, profile: Profile) -> OpenJob:
    """A new job: the computer is identified, and what its owner does with it is known."""
    facts = computer.about.facts()
    number, visit = data_folder.casebook.new_id(computer.name, computer.identity)
    job = Job(
        id=number,
        address=computer.address,
        identity=computer.identity,
        computer_name=computer.name,
        user=facts.system.user,
        visit=visit,
        profile=profile,
        station="baseline",
        begun_at=computer.clock.wall().isoformat(timespec="seconds"),
        facts=msgspec.structs.replace(facts, processes=()),
    )
    data_folder.casebook.save(job)
    return OpenJob(data_folder, computer, job)


def reopen_job(data_folder: DataFolder, job: Job, *, pace: float = 0.0) -> OpenJob:
    """A job that was kept goes on.

    What an interruption left is only looked at: `interrupted` says it.
    """
    user = job.user if job.address == "local" else None
    computer = data_folder.computer(job.address, user=user, pace=pace)
    if computer.identity != job.identity:
        raise UsageError(
            f"The job {job.id} belongs to another computer than this one.",
            "Open it on that computer.",
        )
    open_job = OpenJob(data_folder, computer, job)
    open_job.interrupted = review(data_folder.journal, computer)
    return open_job


def choose_profile(open_job: OpenJob, profile: Profile) -> None:
    """Another profile: the audit is made anew."""
    open_job.keep(profile=profile, audit=None, chosen=())
