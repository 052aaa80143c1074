"""The least plan of a computer or a job, and its frontier."""

import time
from collections.abc import Iterable, Mapping

from lumtak.core.audit import Audit, audit
from lumtak.core.facts import Facts
from lumtak.core.plan import check_change, make_plan
from lumtak.core.planner import (
    Choice,
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
from lumtak.core.record import NotMeasured, Record
from lumtak.core.setting import Change, SettingRef, parse_ref
from lumtak.core.text import plain
from lumtak.errors import LumtakError, UsageError
from lumtak.formats.plans import FileChange, PlanFile
from lumtak.work.data_folder import DataFolder
from lumtak.work.open_job import OpenJob
from lumtak.work.trials_kept import kept_trials


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
        used_days=open_job.computer.about.used_days(job.facts.items),
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


def plan_job(open_job: OpenJob, goal: Goal) -> Planned:
    """The least plan of a job, as sure as the settings have it."""
    confidence = open_job.data_folder.settings.confidence
    problem = problem_for(open_job)
    found = open_job.job.audit.bottleneck if open_job.job.audit else None
    return planned(problem, goal, confidence=confidence, bottleneck=found, clock=time.perf_counter)


def frontier_of(open_job: OpenJob) -> tuple[Problem, tuple[Point, ...]]:
    """(what a job has to plan, its frontier)."""
    problem = problem_for(open_job)
    return problem, frontier(problem, clock=time.perf_counter)


def choose_planned(open_job: OpenJob, changes: Iterable[Choice]) -> None:
    """These changes of a plan are what is chosen now."""
    if open_job.job.audit is not None:
        open_job.keep(chosen=changes_of(changes, open_job.job.audit))


def choose_places(open_job: OpenJob, problem: Problem, chosen: tuple[int, ...]) -> None:
    """The same, by their places in a problem."""
    choose_planned(open_job, (problem.choices[i] for i in chosen))


class Judged(Record):
    """A change of a plan's file, held against a computer as it is now."""

    address: str
    to: str | None
    title: str = ""
    why_not: str = ""
    """Why it is not chosen, as a sentence; empty where it can be."""
    note: str = ""
    """What is another than the file says; a clause."""


def judge_file(plan: PlanFile, facts: Facts, found: Audit) -> tuple[Judged, ...]:
    """Each change of a plan's file, judged anew: guards, needs, the owner's answers and what stands
    now count, and nothing that the file says of them.
    """
    guarded = {f.ref: f.reason.rstrip(".") for f in found.findings if f.stance == "guarded"}
    return tuple(_judged(change, facts, found, guarded) for change in plan.changes)


def _judged(
    change: FileChange, facts: Facts, found: Audit, guarded: Mapping[SettingRef, str]
) -> Judged:
    address = plain(change.address, 200)
    try:
        ref = parse_ref(change.address)
        if facts.find(ref) is None:  # names that are near take long to find, and help nobody here
            nothing = f"There is no such setting on {plain(facts.name, 60)}."
            return Judged(address=address, to=change.to, why_not=nothing)
        checked = check_change(facts, Change(ref=ref, value=change.to), guarded)
    except LumtakError as error:
        return Judged(address=address, to=change.to, why_not=str(error))
    finding = found.find(checked.ref)
    if finding is None or not finding.can_choose:
        why = finding.why_not() if finding else "It is not in this audit."
        return Judged(address=address, to=change.to, why_not=why)
    if finding.stance == "ask" and finding.answer != "not needed":
        ask = f"Only the owner can know: {finding.question or finding.reason}"
        return Judged(address=address, to=change.to, title=finding.title, why_not=ask)
    notes = []
    if finding.value != change.from_:
        notes.append(f"it is {finding.value} here, and was {plain(change.from_, 60)} there")
    if finding.proposal != change.to:
        notes.append(f"the audit proposes {finding.proposal}")
    return Judged(address=address, to=change.to, title=finding.title, note="; ".join(notes))


def choose_from_file(open_job: OpenJob, plan: PlanFile) -> tuple[Judged, ...]:
    """What of a plan's file may be changed on a job's computer is what is chosen now.

    Raises:
        UsageError: the job has no audit yet, or what may be changed contradicts itself.
    """
    job = open_job.job
    if job.audit is None or job.facts is None:
        raise UsageError("A plan needs an audit.", "Make the audit first.")
    judged = judge_file(plan, job.facts, job.audit)
    changes = tuple(Change(ref=parse_ref(j.address), value=j.to) for j in judged if not j.why_not)
    make_plan(job.facts, job.audit, changes)
    open_job.keep(chosen=tuple({c.ref: c for c in changes}.values()))
    return judged


def look_and_plan(
    data_folder: DataFolder, facts: Facts, profile: Profile, reading: Reading
) -> tuple[Audit, Problem]:
    """(the audit of a computer without a job, what it has to plan)."""
    answers = data_folder.answers(facts.identity)
    trials = kept_trials(data_folder.home, facts.identity)
    found = audit(facts, profile, data_folder.catalogue, reading, answers, trials)
    return found, problem_of(facts, found, profile, data_folder.catalogue, reading)
