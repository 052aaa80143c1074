"""The baseline: the load before anything is changed."""

import threading

from lumtak.core.audit import Audit
from lumtak.core.reading import Reading
from lumtak.errors import UsageError
from lumtak.work.audit import make_audit
from lumtak.work.open_job import OpenJob
from lumtak.work.sampling import OnBegin, OnSample, take_reading


def read_baseline(
    open_job: OpenJob,
    *,
    seconds: float | None = None,
    interval_s: float = 1.0,
    on_begin: OnBegin | None = None,
    on_sample: OnSample | None = None,
    stop: threading.Event | None = None,
) -> Reading:
    """The load before anything is changed."""
    reading = take_reading(
        open_job.computer,
        seconds=seconds,
        interval_s=interval_s,
        on_begin=on_begin,
        on_sample=on_sample,
        stop=stop,
        watched=open_job.watched,
    )
    open_job.keep(
        baseline=open_job.data_folder.casebook.add_reading(open_job.job, "baseline", reading),
        audit=None,
        last=open_job.glance_at(reading, "baseline", open_job.job.audit),
    )
    return reading


def baselines_of(open_job: OpenJob) -> list[tuple[int, Reading]]:
    """(number, reading) of all baselines that were taken, the newest first."""
    return open_job.data_folder.casebook.readings(open_job.job.id, "baseline")


def choose_baseline(open_job: OpenJob, number: int) -> Audit:
    """Judge and compare by this baseline from now on.

    Raises:
        UsageError: this job has no baseline of this number.
    """
    kept = dict(baselines_of(open_job))
    if number not in kept:
        numbers = ", ".join(map(str, sorted(kept))) or "none"
        raise UsageError(f"This job has no baseline {number}.", f"It has {numbers}.")
    open_job.keep(
        baseline=number,
        last=(
            open_job.glance_at(kept[number], "baseline", open_job.job.audit)
            if open_job.job.after is None
            else open_job.job.last
        ),
    )
    return make_audit(open_job)
