"""The last visit to a computer against this one, for Intake."""

from collections.abc import Iterable

import msgspec

from lumtak.casebook import Heading
from lumtak.computers.protocol import Computer
from lumtak.core.record import Figure, NotMeasured
from lumtak.core.strip import Glance
from lumtak.core.text import plain
from lumtak.core.upkeep.tasks import TASKS, Result
from lumtak.core.visits import LastVisit, Load
from lumtak.errors import ComputerError
from lumtak.journal.drift import Drift, drift
from lumtak.work.data_folder import DataFolder
from lumtak.work.upkeep import all_results

_MOST = 40


def last_visit(data_folder: DataFolder, computer: Computer, before: int | None) -> LastVisit | None:
    """What became of the visit before this one; None where there was none.

    Args:
        data_folder: keeps jobs and journal.
        computer: as it is now.
        before: the number of this visit; None: the newest visit is held against now.
    """
    heading = _before(data_folder, computer.identity, before)
    if heading is None:
        return None
    job = data_folder.casebook.job(heading.id)
    then = NotMeasured(not_measured="it was not looked at then")
    base = LastVisit(
        job=heading.id,
        visit=heading.visit,
        begun_at=heading.begun_at,
        verdict=heading.verdict,
        load=load_of(heading.last),
        free_bytes=then if job.free_bytes is None else job.free_bytes,
        free_now=_free(computer),
        answers=dict(data_folder.answers(computer.identity)),
        found=_since(data_folder, heading),
        hints=computer.about.hints(),
    )
    return _with_changes(base, data_folder, computer)


def _with_changes(last: LastVisit, data_folder: DataFolder, computer: Computer) -> LastVisit:
    """The same with what was changed then, and how it stands now."""
    entries = [e for e in data_folder.journal.entries_of(computer) if e.job == last.job]
    numbers, changed = {e.id for e in entries}, {e.ref for e in entries}
    now = [d for d in drift(data_folder.journal, computer) if d.entry.id in numbers]
    return msgspec.structs.replace(
        last,
        changed=len(changed),
        stands=_titles(d for d in now if not d.is_drift),
        drifted=tuple(map(_moved, filter(_is_drift, now)))[:_MOST],
        put_back=len(changed - {e.ref for e in entries if e.is_open}),
    )


def _before(data_folder: DataFolder, identity: str, visit: int | None) -> Heading | None:
    """The newest visit before this one; the newest of all for None."""
    mine = [j for j in data_folder.jobs() if j.identity == identity]
    earlier = [j for j in mine if visit is None or j.visit < visit]
    return max(earlier, key=lambda j: j.visit, default=None)


def _free(computer: Computer) -> Figure:
    try:
        return computer.about.space().free_bytes
    except ComputerError as error:
        return NotMeasured(not_measured=plain(error.message, 200))


def _titles(found: Iterable[Drift]) -> tuple[str, ...]:
    return tuple(d.entry.title for d in found)[:_MOST]


def _is_drift(one: Drift) -> bool:
    return one.is_drift


def _moved(one: Drift) -> str:
    return f"{one.entry.title}: {one.entry.value or 'unset'} then, {one.now} now"


def load_of(glance: Glance | None) -> Load | None:
    """The load as a reading of a job had it."""
    if glance is None:
        return None
    what = f"{glance.what}, {glance.taken_at[:10]}"
    return Load(cpu_pct=glance.cpu_pct, ram_pct=glance.ram_pct, what=what)


def _first(result: Result) -> str:
    """What was found, the first of it by name."""
    found = [f for f in result.found if f.counts]
    if not found:
        return result.says
    more = f", and {len(found) - 1:,} more" if len(found) > 1 else ""
    return f"{plain(found[0].what, 100)} {plain(found[0].why, 160)}{more}"


def _since(data_folder: DataFolder, heading: Heading) -> tuple[str, ...]:
    """What upkeep found after that visit began."""
    results = all_results(data_folder, heading.identity)
    return tuple(
        f"{TASKS[name].title}, {r.at[:10]}: {_first(r)}"
        for name, r in results.items()
        if r.state == "found" and r.at >= heading.begun_at
    )
