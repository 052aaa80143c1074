"""The least plan of a computer or a job, and its frontier."""

import time
from collections.abc import Mapping

from lumtak.core.audit import Audit, audit
from lumtak.core.facts import Facts
from lumtak.core.planner import (
    Goal,
    Planned,
    Point,
    Problem,
    changes_of,
    frontier,
    planned,
    problem_of,
)
from lumtak.core.profile import Profile
from lumtak.core.reading import Reading
from lumtak.core.record import NotMeasured
from lumtak.errors import UsageError
from lumtak.work.data_folder import DataFolder
from lumtak.work.open_job import OpenJob

CONFIDENCE = 0.9


def problem_for(open_job: OpenJob) -> Problem:
    """What a job has to plan: by its newest reading, with what stands already counted as saved.

    Raises:
        UsageError: it has no audit or no reading yet.
    """
    job = open_job.job
    reading = open_job.after or open_job.baseline
    if job.audit is None or job.facts is None or reading is None:
        raise UsageError(
            "A plan needs a baseline and an audit.",
            "Take the baseline and make the audit first; or choose items yourself.",
        )
    saved = (0.0, 0.0)
    if open_job.after is None and job.plan is not None:
        standing = open_job.applied()
        steps = [s for s in job.plan.steps if s.change.ref in standing]
        saved = (sum(s.saves_cpu_pct for s in steps), sum(s.saves_ram_bytes for s in steps))
    return problem_of(
        job.facts,
        job.audit,
        job.profile,
        open_job.data_folder.catalogue,
        reading,
        saved=saved,
        factors=_factors(open_job, reading),
    )


def _factors(open_job: OpenJob, reading: Reading) -> Mapping[str, float]:
    """By what each power plan multiplies the percentage of CPU: the clock now against the clock
    under it, from readings of this computer that were taken under it.
    """
    now = reading.figure("clock_ratio")
    here = reading.conditions.power_plan
    if isinstance(now, NotMeasured) or isinstance(here, NotMeasured):
        return {}
    found: dict[str, float] = {}
    casebook = open_job.data_folder.casebook
    jobs = [j.id for j in casebook.jobs() if j.identity == open_job.job.identity]
    for job in jobs[:_MOST_JOBS]:
        for role in ("baseline", "after"):
            for _, other in casebook.readings(job, role):
                plan, then = other.conditions.power_plan, other.figure("clock_ratio")
                if isinstance(plan, NotMeasured) or isinstance(then, NotMeasured):
                    continue
                if plan != here and then > 0:
                    found.setdefault(plan, now / then)
    return found


_MOST_JOBS = 8


def plan_job(open_job: OpenJob, goal: Goal, confidence: float = CONFIDENCE) -> Planned:
    """The least plan of a job."""
    problem = problem_for(open_job)
    found = open_job.job.audit.bottleneck if open_job.job.audit else None
    return planned(problem, goal, confidence=confidence, bottleneck=found, clock=time.perf_counter)


def frontier_of(open_job: OpenJob) -> tuple[Problem, tuple[Point, ...]]:
    """(what a job has to plan, its frontier)."""
    problem = problem_for(open_job)
    return problem, frontier(problem, clock=time.perf_counter)


def choose_places(open_job: OpenJob, problem: Problem, chosen: tuple[int, ...]) -> None:
    """These changes of a problem are what is chosen now."""
    if open_job.job.audit is not None:
        open_job.keep(chosen=changes_of(problem, chosen, open_job.job.audit))


def look_and_plan(
    data_folder: DataFolder, facts: Facts, profile: Profile, reading: Reading
) -> tuple[Audit, Problem]:
    """(the audit of a computer without a job, what it has to plan)."""
    answers = data_folder.answers(facts.identity)
    found = audit(facts, profile, data_folder.catalogue, reading, answers)
    return found, problem_of(facts, found, profile, data_folder.catalogue, reading)
