"""Commands about upkeep: tasks that take long, what they found, when they are due."""

from collections.abc import Sequence
from pathlib import Path

import click

from lumtak.commands.change import stopping
from lumtak.commands.common import (
    columns,
    json_option,
    profile_option,
    progress,
    say_json,
    user_option,
    whole,
    with_data_folder,
)
from lumtak.computers.protocol import Computer
from lumtak.core.profile import Profile
from lumtak.core.text import plain
from lumtak.core.units import counted, took
from lumtak.core.upkeep.due import Due, rhythms_of
from lumtak.core.upkeep.tasks import (
    TASK_NAMES,
    TASKS,
    Found,
    Partial,
    Result,
    TaskName,
    not_possible,
    standing,
)
from lumtak.errors import ComputerError, ConflictError, UsageError
from lumtak.storage import write_whole
from lumtak.work.data_folder import DataFolder
from lumtak.work.due import all_due, day_due, today_of
from lumtak.work.storage import profile_for
from lumtak.work.upkeep import (
    all_results,
    explain,
    give_up,
    last_result,
    paused,
    run_task,
    without_explained,
)
from lumtak.work.upkeep import explained as owner_explained

_SHOWN, _WORTH_TELLING_S = 40, 0.5
_HEADS = {
    "failing": "Failing:",
    "damaged": "Not as it should be:",
    "finding": "The scanner says:",
    "look": "Look at this:",
    "waits": "Waits:",
    "configured": "Configuration that was changed, which is what it is for:",
    "stranger": "Brought by no package:",
    "setting": "As it is set:",
}


@click.command("upkeep")
@click.argument("address", metavar="COMPUTER")
@click.argument("task", required=False, type=click.Choice((*TASK_NAMES, "all")))
@click.option("--below", default="", metavar="PATH", help="Look through this folder instead.")
@click.option("--anew", is_flag=True, help="Begin again, although it was stopped in the middle.")
@click.option("--forget", is_flag=True, help="Forget what it found before it was stopped.")
@click.option(
    "--explained",
    multiple=True,
    type=int,
    metavar="NUMBER",
    help="The owner explained this one, by its number in the list; it is told no more.",
)
@profile_option
@user_option
@json_option
@with_data_folder
def upkeep_command(
    data_folder: DataFolder,
    address: str,
    task: str | None,
    below: str,
    explained: tuple[int, ...],
    profile_name: str | None,
    user: str | None,
    *,
    anew: bool,
    forget: bool,
    as_json: bool,
) -> None:
    """Tasks of upkeep of COMPUTER. They only read, give way to all other work, and wait while a
    reading is taken. Ctrl-C pauses one; it goes on where it was. Without a task: how each stands.

    disks, integrity (the system's files), odd (what starts from odd places), unwanted (files shown
    to a scanner), updates, fragments, stopping (start and stop), drift, space; all: one after the
    other. It ends with 3 where something is failing, damaged or unwanted. MD5 tells damage of
    files, and is no proof against somebody who meant it.

    \b
    lumtak upkeep local
    lumtak upkeep local integrity
    lumtak upkeep local unwanted --below ~/downloads
    lumtak upkeep local odd --explained 2          the owner knows what the second one is for
    sudo lumtak upkeep local all --json            what only root may read, too
    """
    computer = data_folder.computer(address, user=user)
    try:
        profile = profile_for(data_folder, computer.identity, profile_name)
        keeps = bool(explained) or forget
        names = _named(task, address, keeps=keeps)
        if not names:
            _overview(data_folder, computer, profile, as_json=as_json)
            return
        if keeps:
            _keep(data_folder, computer, names[0], explained, forget=forget)
            return
        folder = whole(below) if below else ""
        results = _run(data_folder, computer, names, profile, folder, anew=anew)
    finally:
        computer.close()
    known = owner_explained(data_folder, computer.identity)
    told = [without_explained(r, known) for r in results]
    if as_json:
        say_json({"format": 1, "computer": address, "results": told})
    else:
        for result in told:
            _say(result)
    if any(r.is_grave for r in told):
        raise ConflictError(
            "Not all is as it should be.", "See what is named above." if not as_json else ""
        )


def _named(task: str | None, address: str, *, keeps: bool) -> tuple[TaskName, ...]:
    """The tasks that are meant; none for all that there is to know of them.

    Raises:
        UsageError: something is to be kept of one, and none is named.
    """
    if keeps and task in {None, "all"}:
        raise UsageError("Say of which task.", f"lumtak upkeep {address} odd --explained 1")
    return TASK_NAMES if task == "all" else tuple(n for n in TASK_NAMES if n == task)


def _run(
    data_folder: DataFolder,
    computer: Computer,
    names: Sequence[TaskName],
    profile: Profile,
    folder: str,
    *,
    anew: bool,
) -> list[Result]:
    found = []
    with stopping("Pausing…") as stop:
        for name in names:
            try:
                done = run_task(
                    data_folder,
                    computer,
                    name,
                    profile=profile,
                    top=folder,
                    anew=anew,
                    on_progress=_tell,
                    stop=stop,
                )
            except ComputerError as error:
                if len(names) == 1:
                    raise
                at = computer.clock.wall().isoformat(timespec="seconds")
                done = not_possible(name, at, error.message.rstrip("."), error.next_step)
            found.append(done)
            progress("")
    return found


def _tell(done: Partial, waits: str) -> None:
    at = waits or plain(done.after, 60)
    progress(f"{TASKS[done.task].title}: {done.in_words()}   {at}"[:110])


def _keep(
    data_folder: DataFolder,
    computer: Computer,
    task: TaskName,
    numbers: tuple[int, ...],
    *,
    forget: bool,
) -> None:
    if forget:
        give_up(data_folder, computer.identity, task)
        click.echo(f"{TASKS[task].title}: it begins anew next time.")
        return
    last = last_result(data_folder, computer.identity, task)
    known = owner_explained(data_folder, computer.identity)
    found = [] if last is None else _listed(without_explained(last, known))
    wrong = [n for n in numbers if not 1 <= n <= len(found)]
    if wrong:
        raise UsageError(
            f"There is no number {wrong[0]} in the list.",
            f"`lumtak upkeep {computer.address} {task}` shows it; numbers are of its last run.",
        )
    chosen = [found[n - 1] for n in numbers]
    explain(data_folder, computer.identity, chosen)
    for one in chosen:
        click.echo(f"Explained by the owner: {plain(one.what, 300)}")


def _overview(
    data_folder: DataFolder, computer: Computer, profile: Profile, *, as_json: bool
) -> None:
    results = all_results(data_folder, computer.identity)
    today = today_of(data_folder, computer.address)
    rhythms = rhythms_of(profile)
    rows, documents = [], []
    for name in TASK_NAMES:
        task = TASKS[name]
        last = results.get(name)
        begun = paused(data_folder, computer.identity, name)
        every = rhythms.get(name)
        day = day_due(last, every, today) if every else ""
        due = every is not None and (last is None or day <= today.isoformat())
        state = standing(last, begun, is_due=due)
        rows.append(
            (
                name,
                state,
                last.at[:10] if last else "",
                plain(last.says, 120) if last else task.about,
            )
        )
        documents.append(
            {
                "task": name,
                "title": task.title,
                "state": state,
                "every": every,
                "due": day,
                "cost": task.cost,
                "only_reads": True,
                "paused": begun,
                "last": last,
            }
        )
    if as_json:
        say_json({"format": 1, "computer": computer.address, "tasks": documents})
        return
    columns(rows)
    click.echo(f"\nlumtak upkeep {computer.address} TASK does one; each only reads.")


def _listed(result: Result) -> list[Found]:
    """What was found in the order in which it is numbered."""
    return [f for kind in _HEADS for f in result.of_kind(kind)]


def _say(result: Result) -> None:
    at, long = result.at[:16].replace("T", " "), result.took_s >= _WORTH_TELLING_S
    spent = f", in {took(result.took_s)}" if long else ""
    click.echo(f"{TASKS[result.task].title}, {at}{spent}: {result.says}")
    for note in result.notes:
        click.echo(f"  {plain(note, 400)}")
    number = 0
    for kind, head in _HEADS.items():
        found = result.of_kind(kind)
        if not found:
            continue
        click.echo(f"\n{head}")
        rows = [
            (f"  {number + n}", plain(f.what, 150), plain(f.of, 40), plain(f.why, 200))
            for n, f in enumerate(found, 1)
        ]
        columns(rows[:_SHOWN])
        if len(rows) > _SHOWN:
            click.echo(f"  and {len(rows) - _SHOWN:,} more; --json names them")
        for advice in dict.fromkeys(f.advice for f in found if f.advice):
            click.echo(f"  {plain(advice, 600)}")
        number += len(found)
    for line in result.mend:
        click.echo(f"\nWhat puts it right: {plain(line, 4000)}")


# -- when it is due --------------------------------------------------------------------------------


@click.command("due")
@click.option("--all", "everything", is_flag=True, help="Also what is not due yet.")
@click.option(
    "--calendar",
    metavar="FILE",
    help="Write all of it as an iCalendar file with alarms, which calendars open.",
)
@json_option
@with_data_folder
def due_command(
    data_folder: DataFolder, calendar: str | None, *, everything: bool, as_json: bool
) -> None:
    """What is to be done again on the computers that were worked on, by the profile of each
    newest job. Counted from when it was last done, else from the visit.

    \b
    lumtak due
    lumtak due --all --json
    lumtak due --calendar upkeep.ics
    """
    found = all_due(data_folder)
    if calendar:
        _write(found, Path(calendar))
    told = [d for d in found if everything or d.is_due]
    if as_json:
        say_json({"format": 1, "due": told})
    else:
        _say_due(found, told)


def _say_due(found: list[Due], told: list[Due]) -> None:
    if not told:
        some = "Nothing is due. --all shows what comes."
        click.echo(some if found else "No job's profile says when to look again.")
    columns(
        [
            (d.day, "due" if d.is_due else "", plain(d.computer, 40), d.title,
             f"last {d.last}" if d.last else "never", d.every, d.note)
            for d in told
        ]
    )  # fmt: skip


def _write(found: list[Due], path: Path) -> None:
    from datetime import UTC, datetime

    from lumtak.report.reminders import calendar, of_due

    write_whole(path, calendar(of_due(found), datetime.now(UTC).isoformat(timespec="seconds")))
    click.echo(f"{path}: {counted(len(found), 'reminder')}.", err=True)
