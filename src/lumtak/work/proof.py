"""The proof: the load after the changes, held against the baseline."""

import threading

import msgspec

from lumtak.casebook.job import Job
from lumtak.core.answer import felt_changes, led_by, typical
from lumtak.core.attribution import Attribution, attribution
from lumtak.core.bottleneck import Bottleneck, find_bottleneck
from lumtak.core.bridge import Bridge, bridge
from lumtak.core.compare import Comparison
from lumtak.core.conditions import mismatches, pace_changed
from lumtak.core.felt import Start
from lumtak.core.proof import Proof
from lumtak.core.provisional import Provisional
from lumtak.core.reading import WHOLE, Reading
from lumtak.core.record import NotMeasured
from lumtak.core.settling import RECENT_S
from lumtak.core.standing import brake, standings
from lumtak.core.verdict import compare_readings, headline, in_few_words
from lumtak.errors import UsageError
from lumtak.journal import provisional, standing_now
from lumtak.work.open_job import OpenJob
from lumtak.work.sampling import OnBegin, OnSample, take_reading
from lumtak.work.storage import space_told

_Alike = list[tuple[Reading, bool]]
"""(reading, whether it is the one that counts)."""
LATE_S, SETTLED_IN_S = 900.0, RECENT_S
"""A start so long ago is not waited for again; a computer that has been up so long is no longer
starting."""


def same_point_s(open_job: OpenJob) -> float:
    """Seconds until this computer has been up as long as it had at the beginning of the
    baseline; 0 where that is past.

    A baseline that began more than a quarter of an hour after a start was of a computer that
    had settled in: then five minutes do.
    """
    baseline = open_job.baseline
    if baseline is None:
        return 0.0
    system = open_job.computer.about.system()
    if system.boot_id == baseline.conditions.boot_id:
        return 0.0
    point_s = baseline.conditions.uptime_s
    return max(0.0, (point_s if point_s <= LATE_S else SETTLED_IN_S) - system.uptime_s)


def read_after(
    open_job: OpenJob,
    *,
    seconds: float | None = None,
    on_begin: OnBegin | None = None,
    on_sample: OnSample | None = None,
    stop: threading.Event | None = None,
    at_once: bool = False,
) -> Reading:
    """The load now, by the same rule as the baseline, as long after a restart as it.

    Provisional while anything is owed.

    Args:
        open_job: that changed something.
        seconds: length of the window; None: until the means are sure.
        on_begin: given the window before its first sample.
        on_sample: told about each sample.
        stop: ends the wait and the reading.
        at_once: does not wait until the computer has been up as long as for the baseline.
    """
    baseline = open_job.baseline
    interval_s = baseline.interval_s if baseline else 1.0
    # A computer that has just started is busy with that: the baseline was read later.
    if not at_once:
        open_job.computer.clock.wait(same_point_s(open_job), stop)
    reading = take_reading(
        open_job.computer,
        seconds=seconds,
        interval_s=interval_s,
        on_begin=on_begin,
        on_sample=on_sample,
        stop=stop,
        watched=open_job.watched,
    )
    number = open_job.data_folder.casebook.add_reading(open_job.job, "after", reading)
    stood = standing_now(open_job.data_folder.journal, open_job.computer)
    open_job.keep(
        after=number,
        after_stood=stood,
        last=open_job.glance_at(reading, "after", open_job.job.audit),
    )
    return reading


def note_verdict(open_job: OpenJob, proof: Proof) -> None:
    """Keep with the job what was said, so that the bench and the handover need no proof of it."""
    few = in_few_words(proof.comparisons, proof.provisional, proof.pace)
    if (few, proof.headline) != (open_job.job.verdict, open_job.job.said):
        open_job.keep(verdict=few, said=proof.headline)


def after_is_due(open_job: OpenJob) -> bool:
    """Whether changes of this job stand, nothing is owed any more, and no reading that counts
    was taken since.
    """
    job = open_job.job
    wanted = job.after is None or why_provisional(open_job) in {"restart", "login", "changed"}
    return (
        wanted
        and job.baseline is not None
        and bool(open_job.applied())
        and not open_job.owed().anything
    )


def why_provisional(open_job: OpenJob) -> Provisional:
    """Why the after reading does not count (yet), from the journal.

    Empty where it does, and where there is none.
    """
    after = open_job.after
    if after is None:
        return ""
    return provisional(
        open_job.data_folder.journal, open_job.computer, after, open_job.job.after_stood
    )


def bridges_of(open_job: OpenJob) -> tuple[Bridge, ...]:
    """From the baseline to the after reading, for CPU and RAM.

    None where the job has not come that far.
    """
    job, before, after = open_job.job, open_job.baseline, open_job.after
    if before is None or after is None or job.plan is None:
        return ()
    return bridge(job.plan, before, after, "cpu_pct"), bridge(
        job.plan, before, after, "ram_used_bytes"
    )


def pace_of(open_job: OpenJob) -> str:
    """Why percentages of the CPU are no measure between both readings.

    Empty where they are, or one is missing.
    """
    before, after = open_job.baseline, open_job.after
    return pace_changed(before, after) if before and after else ""


def attribution_of(open_job: OpenJob, comparisons: tuple[Comparison, ...]) -> Attribution | None:
    """How much of the difference is of what was changed; None where that cannot be told."""
    if open_job.baseline is None or open_job.after is None:
        return None
    return _attributed(open_job, sides_of(open_job), comparisons)


def _attributed(
    open_job: OpenJob,
    sides: tuple[list[Reading], list[Reading]],
    comparisons: tuple[Comparison, ...],
) -> Attribution | None:
    plan = open_job.job.plan
    if plan is None or pace_of(open_job):
        return None
    return attribution(plan, *sides, comparisons)


def _both(open_job: OpenJob) -> tuple[Reading, Reading]:
    """(baseline, after reading).

    Raises:
        UsageError: one of them is missing.
    """
    before, after = open_job.baseline, open_job.after
    if before is None or after is None:
        raise UsageError(
            "A comparison needs a baseline and an after reading.",
            "Take the one that is missing.",
        )
    return before, after


def proof_of(open_job: OpenJob) -> Proof:
    """What may be said of the baseline and the after reading.

    Raises:
        UsageError: a reading is missing or too short.
    """
    job, (before, after) = open_job.job, _both(open_job)
    alike = _of_one_state(open_job)
    sides = _held_together(alike)
    comparisons = _compared(open_job, alike)
    felt = felt_changes(*sides, _starts_of(open_job))
    led = led_by(job.complaint, felt)
    pace, why_not = pace_of(open_job), why_provisional(open_job)
    return Proof(
        complaint=job.complaint,
        told=job.told,
        headline=headline(comparisons, why_not, pace, led),
        felt=(*led, *(change for change in felt if change not in led)),
        led=len(led),
        comparisons=comparisons,
        attribution=_attributed(open_job, sides, comparisons),
        standings=standings(job.profile.ceilings, before, after),
        brake=_brake_of(job, before, after),
        space=space_told(open_job),
        pace=pace,
        provisional=why_not,
    )


def _starts_of(open_job: OpenJob) -> tuple[list[Start], list[Start]]:
    """The starts that the records tell of, of the state before the changes and of the one after.

    Those before this job's changes and after those of the visit before; and those after the last of
    this job's.
    """
    before, after, job = open_job.baseline, open_job.after, open_job.job
    mine = open_job.entries()
    others = [
        e.stage_at
        for e in open_job.data_folder.journal.entries(job.identity)
        if e.job != job.id and before is not None and e.stage_at < before.taken_at
    ]
    since = max(others, default="")
    first = min((e.begun_at for e in mine), default="~")
    last = max((e.stage_at for e in mine), default="~")
    return (
        [s for s in _told(before) if since < s.at < first],
        [s for s in _told(after) if s.at > last],
    )


def _told(reading: Reading | None) -> tuple[Start, ...]:
    starts = () if reading is None else reading.starts
    return () if isinstance(starts, NotMeasured) else starts


def _brake_of(job: Job, before: Reading, after: Reading) -> str:
    held = limits_of(job, before, after)
    return brake(held[0], held[1]) if held else ""


def limits_of(job: Job, *readings: Reading) -> list[Bottleneck]:
    """What held the computer back in each reading; none where nothing is known of it."""
    if job.facts is None:
        return []
    held = []
    for reading in readings:
        system = msgspec.structs.replace(
            job.facts.system,
            power_source=reading.conditions.power_source,
            power_plan=reading.conditions.power_plan,
            temperature_c=reading.conditions.temperature_c,
        )
        facts = msgspec.structs.replace(job.facts, system=system)
        reads = typical(reading, "file_read") if job.complaint != "heat" else None
        held.append(find_bottleneck(facts, job.profile, reading, None, reads))
    return held


def comparisons_of(open_job: OpenJob) -> tuple[Comparison, ...]:
    """Baseline against after: CPU, RAM, and work where both know it.

    Raises:
        UsageError: a reading is missing or too short.
    """
    _both(open_job)
    return _compared(open_job, _of_one_state(open_job))


def _compared(open_job: OpenJob, alike: tuple[_Alike, _Alike]) -> tuple[Comparison, ...]:
    threshold = open_job.job.profile.threshold
    return compare_readings(*_held_together(alike), threshold, _earlier(open_job, alike))


def sides_of(open_job: OpenJob) -> tuple[list[Reading], list[Reading]]:
    """The baselines and the after readings that are held against each other.

    Those that count; and all others of this job that were taken in the same state under the same
    conditions, once there are three of them: two starts of one computer differ, and how much they
    do cannot be told from two.
    """
    return _held_together(_of_one_state(open_job))


def _held_together(alike: tuple[_Alike, _Alike]) -> tuple[list[Reading], list[Reading]]:
    before, after = alike
    return _together(before), _together(after)


_EARLIER_JOBS = 8


def _earlier(open_job: OpenJob, alike: tuple[_Alike, _Alike]) -> list[list[Reading]]:
    """Readings of this computer in groups of one state each: of this job before and after its
    changes, and the baselines of the visits before it.
    """
    casebook, mine = open_job.data_folder.casebook, open_job.job
    groups = [[r for r, _ in side] for side in alike]
    visits = [j for j in casebook.jobs() if j.identity == mine.identity and j.id != mine.id]
    for visit in visits[:_EARLIER_JOBS]:
        kept = casebook.readings(visit.id, "baseline")
        groups.append([r for r, _ in _alike(kept, kept[0][0] if kept else None)])
    return [group for group in groups if len(group) > 1]


def _of_one_state(open_job: OpenJob) -> tuple[_Alike, _Alike]:
    """Before and after the changes, alike in state and conditions."""
    job, casebook = open_job.job, open_job.data_folder.casebook
    entries = open_job.entries()
    changed_from = min((e.begun_at for e in entries), default="")
    changed_to = max((e.stage_at for e in entries), default="")
    before, after = (
        _alike(casebook.readings(job.id, role), number)
        for role, number in (("baseline", job.baseline), ("after", job.after))
    )
    journal, computer, stood = open_job.data_folder.journal, open_job.computer, job.after_stood
    return (
        [(r, own) for r, own in before if own or (changed_from and r.taken_at < changed_from)],
        [
            (r, own)
            for r, own in after
            if own or (r.taken_at > changed_to and not provisional(journal, computer, r, stood))
        ],
    )


_FEWEST_TOGETHER = 3


def _together(alike: _Alike) -> list[Reading]:
    """All of them where they are three, else the one that counts."""
    enough = len(alike) >= _FEWEST_TOGETHER
    return [reading for reading, counts in alike if counts or enough]


def _alike(kept: list[tuple[int, Reading]], number: int | None) -> _Alike:
    """Those that can be held together with the one of this number."""
    counts = next((r for n, r in kept if n == number), None)
    return [
        (reading, n == number)
        for n, reading in kept
        if n == number
        or (
            counts is not None
            and reading.settled
            and reading.ended in WHOLE
            and not mismatches(counts, reading)
        )
    ]
