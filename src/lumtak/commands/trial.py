"""Trials from the command line: `lumtak trial`."""

import secrets
import threading
from pathlib import Path

import click

from lumtak.commands.change import stopping
from lumtak.commands.common import (
    ask_first,
    chart_form,
    columns,
    json_option,
    profile_option,
    progress,
    say_json,
    user_option,
    with_data_folder,
)
from lumtak.computers.protocol import Computer
from lumtak.core.profile import Profile
from lumtak.core.setting import UNSET_WORD, Change, parse_change
from lumtak.core.text import plain
from lumtak.core.trial import Design, design
from lumtak.core.trial.design import BLOCK_S, BLOCKS, WASHOUT_S
from lumtak.core.trial.effects import ASSUMES as ASSUMES_TOGETHER
from lumtak.core.trial.inference import ASSUMES
from lumtak.core.trial.record import (
    MEASURED,
    Experiment,
    Measure,
    Screening,
    Trial,
    measure_for,
    title_of,
)
from lumtak.core.trial.screening import Layout, screening
from lumtak.core.trial.words import (
    EXPECTED,
    SAID,
    apart_words,
    between,
    counting,
    figure,
    screened_rows,
    size,
)
from lumtak.core.units import counted, span
from lumtak.errors import ConflictError, LumtakError, UsageError
from lumtak.storage import write_whole
from lumtak.work.data_folder import DataFolder
from lumtak.work.sampling import Watched
from lumtak.work.storage import profile_for
from lumtak.work.trial.screening import ScreeningRun
from lumtak.work.trial.switchback import Switchback
from lumtak.work.trials_kept import kept_trials


@click.command("trial")
@click.argument("address", metavar="COMPUTER")
@click.argument("changes", nargs=-1, metavar="[AREA:KEY=VALUE]...")
@click.option(
    "--measure",
    type=click.Choice(MEASURED),
    help="What is judged. Default: what the complaint of the newest job is about, else cpu.",
)
@click.option("--blocks", type=int, default=BLOCKS, show_default=True, help="At most.")
@click.option(
    "--block-seconds", type=float, default=BLOCK_S, show_default=True, help="Kept of each block."
)
@click.option(
    "--washout",
    type=float,
    default=WASHOUT_S,
    show_default=True,
    metavar="SECONDS",
    help="Left out after each switch.",
)
@click.option("--keep", is_flag=True, help="Leave the change in place at the end.")
@click.option("--list", "listing", is_flag=True, help="The trials made here; nothing is switched.")
@click.option(
    "--chart",
    type=click.Path(path_type=Path, dir_okay=False),
    metavar="FILE.svg|FILE.pdf",
    help="Draw the newest trial made here; nothing is switched.",
)
@click.option(
    "--seed", type=click.IntRange(0, 2**31 - 1), help="Draws the order; default: by chance."
)
@profile_option
@user_option
@json_option
@with_data_folder
def trial_command(
    data_folder: DataFolder,
    address: str,
    changes: tuple[str, ...],
    measure: Measure | None,
    blocks: int,
    block_seconds: float,
    washout: float,
    seed: int | None,
    profile_name: str | None,
    user: str | None,
    chart: Path | None,
    *,
    keep: bool,
    listing: bool,
    as_json: bool,
) -> None:
    """Switch changes of COMPUTER on and off in random order, and say what they really do here.

    One change is a switchback: blocks come in pairs, one with the change and one without; which of
    them is first is drawn. Two to seven changes are a screening: all are switched in the same
    blocks, 12 a round (8 are enough for up to three), each on in half of them; a round that leaves
    something open is folded over. A screening says what is worth a switchback of its own.

    What is judged is fixed before a trial begins. It may end early, by a rule that is fixed too.
    Every switch is a change in the journal, and the starting state is restored at the end.

    \b
    lumtak trial sim:tide-logger power:battery=balanced --measure program_start
    lumtak trial sim:drawing-bench effects:shadows=off effects:animations=off --measure ram
    lumtak trial local effects:animations=off --blocks 16
    lumtak trial local --list
    lumtak trial local --chart trial.svg
    """
    computer = data_folder.computer(address, user=user)
    try:
        if changes and not listing and chart is None:
            wanted = [parse_change(change) for change in changes]
            seed = secrets.randbelow(2**31) if seed is None else seed
            planned = _planned(len(wanted), (blocks, block_seconds, washout), seed, keep=keep)
            profile = profile_for(data_folder, computer.identity, profile_name)
            judged_by = measure or _measure_of(data_folder, computer.identity)
            run = _run(data_folder, computer, profile, wanted, judged_by, planned, keep=keep)
            _make(run, computer, wanted, planned.length_s, judged_by, as_json=as_json)
            return
        made = kept_trials(data_folder.home, computer.identity)
    finally:
        computer.close()
    if chart is not None:
        _draw(data_folder, made, chart)
    else:
        _list(address, made, as_json=as_json)


def _make(
    run: Switchback | ScreeningRun,
    computer: Computer,
    wanted: list[Change],
    length_s: float,
    judged_by: Measure,
    *,
    as_json: bool,
) -> None:
    """The trial, and what came of it."""
    ask_first(computer, [change.ref for change in wanted])
    progress(f"a trial of at most {span(length_s)}; {title_of(judged_by)} is judged")
    with stopping("Ending after this block…") as stop:
        done = run.run(_count, stop)
    progress("")
    if as_json:
        say_json(done)
    else:
        _say(done)
    _judge(done)


def _planned(
    changes: int, times: tuple[int, float, float], seed: int, *, keep: bool
) -> Design | Layout:
    """One change in pairs, several in rounds."""
    if changes == 1:
        return design(*times, seed=seed)
    if keep:
        raise UsageError(
            "A screening leaves nothing in place.",
            "Leave --keep out, and apply what it finds: lumtak apply COMPUTER CHANGE.",
        )
    return screening(changes, *times, seed=seed)


def _run(
    data_folder: DataFolder,
    computer: Computer,
    profile: Profile,
    wanted: list[Change],
    measure: Measure,
    planned: Design | Layout,
    *,
    keep: bool,
) -> Switchback | ScreeningRun:
    program = ""
    if measure == "large_program" and (job := data_folder.newest_job(computer.identity)):
        program = data_folder.casebook.job(job.id).program
    watched = Watched(program=program)
    if isinstance(planned, Layout):
        args = data_folder, computer, profile, wanted, measure
        return ScreeningRun(*args, planned, watched=watched)
    stays = threading.Event()
    if keep:
        stays.set()
    alone = data_folder, computer, profile, wanted[0], measure
    return Switchback(*alone, planned, keep=stays, watched=watched)


def _draw(data_folder: DataFolder, trials: list[Experiment], path: Path) -> None:
    """The newest trial that has a result, as a picture."""
    from lumtak.report.tongue import tongue_of
    from lumtak.report.trial_chart import chart_of_trial

    form = chart_form(path)
    tongue = tongue_of(data_folder.settings)
    plots = (chart_of_trial(t, tongue) for t in reversed(trials))
    newest = next((plot for plot in plots if plot is not None), None)
    if newest is None:
        raise UsageError("No trial was made here that could be drawn.", "Make one first.")
    write_whole(path, newest.file(form))
    click.echo(str(path))


def _measure_of(data_folder: DataFolder, identity: str) -> Measure:
    """By the complaint of the newest job on this computer."""
    job = data_folder.newest_job(identity)
    return measure_for(data_folder.casebook.job(job.id).complaint if job else "")


def _count(trial: Experiment) -> None:
    so_far = ""
    if not trial.blocks and not trial.note and trial.could_show is not None:
        progress("")
        could = size(trial.could_show, trial)
        click.echo(f"It can be expected to show {could} and more.", err=True)
    if isinstance(trial, Screening):
        whole = trial.layout.blocks
    else:
        whole = trial.design.blocks
        sure = between(trial.shown.ci95 if trial.shown else None, trial)
        so_far = f", so far {sure}" if sure else ""
    pauses = f"; {trial.note}" if trial.note and trial.state == "under way" else ""
    progress(f"{counting(trial)} of {whole} blocks{so_far}{pauses}")


def _say(trial: Experiment) -> None:
    """What came of it: the result, how sure, what is assumed."""
    if isinstance(trial, Screening):
        _say_screening(trial)
    else:
        _say_switchback(trial)


def _say_switchback(trial: Trial) -> None:
    on, off = (UNSET_WORD if v is None else v for v in (trial.on, trial.off))
    click.echo(f"{plain(trial.title, 80)} ({trial.ref}), {off} against {on}: {trial.state}.")
    if trial.note:
        click.echo(f"{plain(trial.note, 400)}.")
    found = trial.shown
    if found is not None and found.ci95 is not None and trial.state == "done":
        click.echo(f"{title_of(trial.measure)}: {SAID[found.finding]}.")
        click.echo(
            f"{figure(found.difference, trial)} (95 % sure: {between(found.ci95, trial)}), of"
            f" {counted(found.pairs, 'pair')} of {trial.design.block_s:g} s. {ASSUMES}"
        )
    kept = f"It was left at {on}." if trial.kept_on else f"It is {off} again, as before."
    if trial.state not in {"conflict", "failed"}:
        click.echo(kept)


def _say_screening(trial: Screening) -> None:
    """A line a change, the largest first; what is confounded, what is assumed."""
    count = counting(trial)
    click.echo(
        f"{len(trial.tried)} changes in {counted(count, 'block')}, {title_of(trial.measure)}:"
        f" {trial.state}."
    )
    if trial.note:
        click.echo(f"{plain(trial.note, 400)}.")
    if trial.seen is not None:
        columns([("setting", "value", "with it", "95 % sure", "found"), *screened_rows(trial)])
        if trial.seen.apart > 0:
            click.echo(f"{apart_words(trial)}")
        click.echo(trial.layout.confounded(trial.seen.rounds))
        click.echo(f"{ASSUMES_TOGETHER} {EXPECTED}")
    if trial.state not in {"conflict", "failed"}:
        click.echo("All is as it was before.")


def _judge(trial: Experiment) -> None:
    """Exit 3 where somebody else was at it, 1 where it failed."""
    if trial.state == "conflict":
        raise ConflictError(
            "The trial ended in a conflict.", "Look at it: lumtak journal COMPUTER."
        )
    if trial.state in {"failed", "disturbed"}:
        raise LumtakError(f"The trial is {trial.state}.", "See the reason above; try it again.")


def _list(address: str, trials: list[Experiment], *, as_json: bool) -> None:
    if as_json:
        say_json({"format": 1, "computer": address, "trials": trials})
        return
    if not trials:
        raise UsageError(
            f"No trial was made on {address} yet.",
            f"Name a change, for example: lumtak trial {address} effects:animations=off.",
        )
    rows = [("no.", "begun", "setting", "tried", "measure", "state", "difference", "95 % sure")]
    for t in trials:
        head = str(t.id), t.begun_at[:16].replace("T", " ")
        if isinstance(t, Screening):
            for number, (ref, value, said, sure, word) in enumerate(screened_rows(t)):
                first = head if number == 0 else ("", "")
                rows.append((*first, ref, value, t.measure, word or t.state, said, sure))
            continue
        found = t.shown
        word = SAID[found.finding] if found and t.state == "done" else t.state
        said = figure(found.difference, t) if found else ""
        sure = between(found.ci95 if found else None, t)
        rows.append((*head, plain(str(t.ref), 60), str(t.on), t.measure, word, said, sure))
    columns(rows)
