"""Trials from the command line: `lumtak trial`."""

import secrets
from pathlib import Path

import click

from lumtak.commands.change import stopping
from lumtak.commands.common import (
    ask_first,
    columns,
    json_option,
    profile_option,
    progress,
    say_json,
    user_option,
    with_data_folder,
)
from lumtak.core.setting import UNSET_WORD, parse_change
from lumtak.core.text import plain
from lumtak.core.trial import design
from lumtak.core.trial.design import BLOCK_S, BLOCKS, WASHOUT_S
from lumtak.core.trial.inference import ASSUMES
from lumtak.core.trial.record import MEASURED, Measure, Trial, measure_for, title_of
from lumtak.core.trial.words import figure
from lumtak.core.units import counted, span
from lumtak.errors import ConflictError, LumtakError, UsageError
from lumtak.report.charts import ChartFormat
from lumtak.storage import write_whole
from lumtak.work.data_folder import DataFolder
from lumtak.work.storage import profile_for
from lumtak.work.trial import Switchback
from lumtak.work.trials_kept import kept_trials

_WORDS = {
    "lower": "It is lower with the change.",
    "higher": "It is higher with the change.",
    "no effect": "The change has no effect that would matter here.",
    "not known": "Whether the change does anything here is not known.",
}


@click.command("trial")
@click.argument("address", metavar="COMPUTER")
@click.argument("change", required=False, metavar="[AREA:KEY=VALUE]")
@click.option(
    "--measure",
    type=click.Choice(MEASURED),
    help="What is judged. Default: what the complaint of the newest job is about, else cpu.",
)
@click.option("--blocks", type=int, default=BLOCKS, show_default=True, help="An even number.")
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
@click.option("--seed", type=int, help="Draws the order; default: by chance.")
@profile_option
@user_option
@json_option
@with_data_folder
def trial_command(
    data_folder: DataFolder,
    address: str,
    change: str | None,
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
    """Switch one change of COMPUTER on and off in random order, and say what it really does here.

    Blocks come in pairs, one with the change and one without; which of them is first is drawn. What
    is judged is fixed before the trial begins. It may end early, by a rule that is fixed too. Every
    switch is a change in the journal, and the starting state is restored at the end.

    \b
    lumtak trial sim:tide-logger power:battery=balanced --measure program_start
    lumtak trial local effects:animations=off --blocks 16
    lumtak trial local --list
    lumtak trial local --chart trial.svg
    """
    computer = data_folder.computer(address, user=user)
    try:
        if chart is not None:
            _draw(data_folder, kept_trials(data_folder.home, computer.identity), chart)
            return
        if listing or change is None:
            _list(address, kept_trials(data_folder.home, computer.identity), as_json=as_json)
            return
        wanted = parse_change(change)
        judged_by = measure or _measure_of(data_folder, computer.identity)
        seed = secrets.randbelow(2**31) if seed is None else seed
        planned = design(blocks, block_seconds, washout, seed=seed)
        profile = profile_for(data_folder, computer.identity, profile_name)
        ask_first(computer, [wanted.ref])
        trial = Switchback(data_folder, computer, profile, wanted, judged_by, planned, keep_on=keep)
        progress(f"a trial of at most {span(planned.length_s)}; {title_of(judged_by)} is judged")
        with stopping("Ending after this block…") as stop:
            done = trial.run(_count, stop)
        progress("")
    finally:
        computer.close()
    if as_json:
        say_json(done)
    else:
        _say(done)
    _judge(done)


def _draw(data_folder: DataFolder, trials: list[Trial], path: Path) -> None:
    """The newest trial that has a result, as a picture."""
    from lumtak.report.tongue import tongue_of
    from lumtak.report.trial_chart import trial_plot

    forms: dict[str, ChartFormat] = {".svg": "svg", ".pdf": "pdf"}
    form = forms.get(path.suffix.lower())
    shown = [t for t in trials if t.shown is not None]
    if form is None:
        raise UsageError(f"“{plain(path.name, 80)}” ends neither in .svg nor in .pdf.")
    if not shown:
        raise UsageError("No trial was made here that could be drawn.", "Make one first.")
    write_whole(path, trial_plot(shown[-1], tongue_of(data_folder.settings)).file(form))
    click.echo(str(path))


def _measure_of(data_folder: DataFolder, identity: str) -> Measure:
    """By the complaint of the newest job on this computer."""
    job = next((j.id for j in data_folder.casebook.jobs() if j.identity == identity), None)
    return measure_for(data_folder.casebook.job(job).complaint if job else "")


def _count(trial: Trial) -> None:
    whole = 2 * trial.design.pairs
    found = trial.shown
    so_far = ""
    if found is not None and found.ci95 is not None:
        low, high = (figure(x, trial) for x in found.ci95)
        so_far = f", so far {low} to {high}"
    pauses = f"; {trial.note}" if trial.note and trial.state == "under way" else ""
    progress(f"{len(trial.blocks)} of {whole} blocks{so_far}{pauses}")


def _say(trial: Trial) -> None:
    """What came of it: the result, how sure, what is assumed."""
    on, off = (UNSET_WORD if v is None else v for v in (trial.on, trial.off))
    click.echo(f"{plain(trial.title, 80)} ({trial.ref}), {off} against {on}: {trial.state}.")
    if trial.note:
        click.echo(f"{plain(trial.note, 400)}.")
    found = trial.shown
    if found is not None and found.ci95 is not None and trial.state == "done":
        low, high = (figure(x, trial) for x in found.ci95)
        click.echo(f"{title_of(trial.measure)}: {_WORDS[found.finding]}")
        click.echo(
            f"{figure(found.difference, trial)} (95 % sure: {low} to {high}), of"
            f" {counted(found.pairs, 'pair')} of {trial.design.block_s:g} s. {ASSUMES}"
        )
    if trial.could_show is not None:
        click.echo(f"It could be expected to show {figure(trial.could_show, trial)} and more.")
    kept = f"It was left at {on}." if trial.kept_on else f"It is {off} again, as before."
    if trial.state not in {"conflict", "failed"}:
        click.echo(kept)


def _judge(trial: Trial) -> None:
    """Exit 3 where somebody else was at it, 1 where it failed."""
    if trial.state == "conflict":
        raise ConflictError(
            "The trial ended in a conflict.", "Look at it: lumtak journal COMPUTER."
        )
    if trial.state in {"failed", "disturbed"}:
        raise LumtakError(f"The trial is {trial.state}.", "See the reason above; try it again.")


def _list(address: str, trials: list[Trial], *, as_json: bool) -> None:
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
        found = t.shown
        said = figure(found.difference, t) if found else ""
        sure = " to ".join(figure(x, t) for x in found.ci95) if found and found.ci95 else ""
        word = found.finding if found and t.state == "done" else t.state
        rows.append(
            (
                str(t.id), t.begun_at[:16].replace("T", " "), plain(str(t.ref), 60),
                str(t.on), t.measure, word, said, sure,
            )
        )  # fmt: skip
    columns(rows)
