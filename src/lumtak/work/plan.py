"""The plan of a job, carried out and put back."""

import threading

from lumtak.computers.kit import Script
from lumtak.core.plan import Plan, make_plan
from lumtak.core.planner import Level, level_of
from lumtak.core.setting import SettingRef
from lumtak.errors import UsageError
from lumtak.journal import OnStep, Outcome, Review, apply_changes, put_back, recover, scripts_left
from lumtak.work.open_job import OpenJob


def plan_of(open_job: OpenJob) -> Plan:
    """The plan of what is chosen.

    Made once for a choice: the station, its list, the question and the work all ask for it.
    """
    job = open_job.job
    if job.audit is None or job.facts is None:
        raise UsageError("A plan needs an audit.", "Make the audit first.")
    if open_job.planned is not None:
        # By identity: comparing two audits of ten thousand items would cost more than a plan.
        then, plan = open_job.planned
        if then.facts is job.facts and then.audit is job.audit and then.chosen == job.chosen:
            return plan
    plan = make_plan(job.facts, job.audit, job.chosen)
    open_job.planned = job, plan
    return plan


def levels_of(open_job: OpenJob) -> dict[SettingRef, Level]:
    """How much of each chosen change the owner would notice."""
    found, catalogue = open_job.job.audit, open_job.data_folder.catalogue
    return {
        c.ref: level_of(finding, catalogue.find(finding.role))
        for c in open_job.job.chosen
        if found and (finding := found.find(c.ref))
    }


def carry_out(
    open_job: OpenJob,
    *,
    on_step: OnStep = lambda _: None,
    stop: threading.Event | None = None,
    pause: threading.Event | None = None,
) -> list[Outcome]:
    """Carry out the plan.

    What was done leaves the choice, and an older after reading counts no more.
    """
    plan = plan_of(open_job)
    facts = open_job.job.facts
    if facts is None or not plan.steps:
        raise UsageError("Nothing is chosen.", "Choose at least one item in the audit.")
    outcomes = apply_changes(
        open_job.data_folder.journal,
        open_job.computer,
        facts,
        [s.change for s in plan.steps],
        job=open_job.job.id,
        on_step=on_step,
        stop=stop,
        pause=pause,
    )
    done = {o.change.ref for o in outcomes if o.result in {"done", "as it was"}}
    open_job.keep(
        plan=_and_applied(open_job.job.plan or Plan(), plan, done),
        chosen=tuple(c for c in open_job.job.chosen if c.ref not in done),
        after=None,
        after_stood=None,
        verdict="",
        said="",
    )
    return outcomes


def _and_applied(before: Plan, plan: Plan, done: set[SettingRef]) -> Plan:
    """What was applied before, and what of this plan was applied now."""
    earlier = [s for s in before.steps if s.change.ref not in done]
    applied = [s for s in plan.steps if s.change.ref in done]
    return Plan(steps=(*earlier, *applied), owed=plan.owed)


def undo_scripts_of(open_job: OpenJob) -> list[Script]:
    """What puts everything back without Lumtak."""
    return scripts_left(open_job.data_folder.journal, open_job.computer)


def restart(open_job: OpenJob, *, login_only: bool = False) -> None:
    """Restart the computer, or log its user in anew."""
    open_job.computer.clock.restart(login_only=login_only)


def put_changes_back(
    open_job: OpenJob,
    numbers: list[int] | None = None,
    *,
    overwrite: bool = False,
    anywhere: bool = False,
    on_step: OnStep = lambda _: None,
) -> list[Outcome]:
    """Put changes of this job back: those numbered, or all.

    With `anywhere`, numbered ones of other jobs too.
    """
    mine = [e.id for e in open_job.entries() if e.is_open]
    wanted = mine if numbers is None else [n for n in numbers if anywhere or n in mine]
    return put_back(
        open_job.data_folder.journal,
        open_job.computer,
        wanted,
        overwrite=overwrite,
        on_step=on_step,
    )


def end_interrupted(open_job: OpenJob) -> Review:
    """End what was interrupted.

    Each change is marked as what it was found to be, and half-made writes are cleared.
    """
    with open_job.data_folder.journal.writing(open_job.computer.identity):
        found = recover(open_job.data_folder.journal, open_job.computer)
    open_job.interrupted = Review()
    return found
