"""Intake: a computer, one of its users, and what they do with it; a job begins or goes on."""

import msgspec

from lumtak.casebook.job import Job
from lumtak.computers.protocol import Computer
from lumtak.core.felt import Complaint
from lumtak.core.profile import Profile
from lumtak.core.text import plain
from lumtak.errors import UsageError
from lumtak.journal import review
from lumtak.work.data_folder import DataFolder
from lumtak.work.open_job import OpenJob
from lumtak.work.visits import last_visit

MOST_TOLD = 400


def begin_job(
    data_folder: DataFolder,
    computer: Computer,
    profile: Profile,
    *,
    complaint: Complaint = "",
    told: str = "",
) -> OpenJob:
    """A new job: the computer is identified, and what its owner does with it is known.

    Args:
        data_folder: keeps it.
        computer: the one it is about.
        profile: what it is used for.
        complaint: what its owner came with; empty where nobody asked.
        told: the same in the owner's words.
    """
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
        complaint=complaint,
        told=plain(" ".join(told.split()), MOST_TOLD),
    )
    data_folder.casebook.save(job)
    open_job = OpenJob(data_folder, computer, job)
    open_job.last = last_visit(data_folder, computer, visit)
    return open_job


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
    open_job.last = last_visit(data_folder, computer, job.visit)
    return open_job


def note_complaint(open_job: OpenJob, complaint: Complaint, told: str | None = None) -> None:
    """What the owner came with.

    Args:
        open_job: the job.
        complaint: the kind; empty for none.
        told: the same in the owner's words; None leaves those as they are.
    """
    words = open_job.job.told if told is None else plain(" ".join(told.split()), MOST_TOLD)
    open_job.keep(complaint=complaint, told=words)


def choose_program(open_job: OpenJob, path: str) -> None:
    """The large program whose start is tried in readings from now on; empty for none.

    Raises:
        UsageError: it is none of a package, or others than root can change it.
    """
    if path and (why := open_job.computer.about.why_not_tried(path)):
        raise UsageError(
            f"{plain(path, 200)} is not started by Lumtak: {why}.",
            "Name a program of the system's packages by its path, such as those that the list at"
            " Intake shows.",
        )
    open_job.keep(program=path)


def choose_profile(open_job: OpenJob, profile: Profile) -> None:
    """Another profile: the audit is made anew."""
    open_job.keep(profile=profile, audit=None, chosen=())
