"""When upkeep is due on each computer that a job was begun for."""

import calendar
from datetime import UTC, date, datetime, timedelta

from lumtak.casebook import Heading
from lumtak.core.profile import Rhythm
from lumtak.core.upkeep.due import RHYTHMS, Due, Recurring, rhythms_of, title_of
from lumtak.core.upkeep.tasks import Result
from lumtak.errors import LumtakError
from lumtak.work.data_folder import DataFolder
from lumtak.work.upkeep import last_result

_SIMULATED = "sim:"
_BACK = "the clock was set back since it was last done"


def all_due(data_folder: DataFolder) -> list[Due]:
    """What is to be done again on every computer with a job, the earliest day first."""
    newest: dict[str, Heading] = {}
    for job in data_folder.jobs():
        at = newest.get(job.identity)
        if at is None or job.visit > at.visit:
            newest[job.identity] = job
    found: list[Due] = []
    for job in newest.values():
        if not job.archived:
            found += due_of(data_folder, job)
    return sorted(found, key=lambda d: (d.day, d.computer, d.task))


def due_of(data_folder: DataFolder, job: Heading, today: date | None = None) -> list[Due]:
    """What is to be done again on the computer of one job, by its profile.

    Counted from when it was last done, else from the visit itself.

    Args:
        data_folder: keeps what the tasks found.
        job: the newest of the computer.
        today: by the computer's clock; None: looked up.
    """
    day = today or today_of(data_folder, job.address)
    visit = _day(job.begun_at) or day
    found = []
    for task, every in rhythms_of(job.profile).items():
        last = _last(data_folder, job, task, visit)
        note = ""
        if last is not None and last > day:
            last, note = day, _BACK
        due = next_day(last or visit, every)
        found.append(
            Due(
                identity=job.identity,
                address=job.address,
                computer=job.computer_name,
                task=task,
                title=title_of(task),
                every=every,
                last="" if last is None else last.isoformat(),
                day=due.isoformat(),
                is_due=due <= day or bool(note),
                note=note,
            )
        )
    return sorted(found, key=lambda d: (d.day, d.task))


def _last(data_folder: DataFolder, job: Heading, task: Recurring, visit: date) -> date | None:
    """The day on which a task was last done."""
    if task == "audit":
        return visit
    result = last_result(data_folder, job.identity, task)
    return None if result is None or result.state == "not possible" else _day(result.at)


def next_day(last: date, every: Rhythm) -> date:
    """The day that follows after so many months and days; the last of a shorter month."""
    months, days = RHYTHMS[every]
    try:
        years, month = divmod(last.month - 1 + months, 12)
        year = last.year + years
        of_month = min(last.day, calendar.monthrange(year, month + 1)[1])
        return date(year, month + 1, of_month) + timedelta(days=days)
    except (ValueError, OverflowError):
        return date.max


def today_of(data_folder: DataFolder, address: str) -> date:
    """The day by the clock of a simulated computer, which is its own; else by this computer's."""
    if address.startswith(_SIMULATED):
        try:
            computer = data_folder.computer(address)
        except LumtakError:
            return datetime.now(UTC).date()
        return computer.clock.wall().date()
    return datetime.now().astimezone().date()


def _day(at: str) -> date | None:
    try:
        return datetime.fromisoformat(at).date()
    except ValueError:
        return None


def day_due(last: Result | None, every: Rhythm, today: date) -> str:
    """The day on which a task is due that was last done then; today where it never was."""
    done = None if last is None else _day(last.at)
    return (today if done is None else next_day(min(done, today), every)).isoformat()
