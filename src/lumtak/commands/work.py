"""Commands for whole jobs.

The workbench, the demo, the example, and every station without a screen.
"""

import tempfile
from pathlib import Path

import click

from lumtak.commands.change import judge, say_outcome
from lumtak.commands.common import (
    ask_first,
    columns,
    json_option,
    log_to,
    progress,
    say_json,
    user_option,
    with_data_folder,
)
from lumtak.commands.look import count, say_audit
from lumtak.core.setting import parse_ref
from lumtak.core.units import counted, percent, ram, signed, span
from lumtak.errors import UsageError
from lumtak.report.charts import CHART_KINDS, ChartFormat, ChartKind
from lumtak.storage import write_whole
from lumtak.work.audit import choose_all_eased, make_audit, toggle
from lumtak.work.data_folder import DataFolder
from lumtak.work.handover import draw_chart
from lumtak.work.intake import begin_job, reopen_job
from lumtak.work.open_job import OpenJob
from lumtak.work.places import results_folder
from lumtak.work.plan import carry_out, plan_of
from lumtak.work.proof import (
    attribution_of,
    comparisons_of,
    pace_of,
    read_after,
    same_point_s,
    why_provisional,
)
from lumtak.work.reading import baselines_of, choose_baseline, read_baseline

_DEMO_PACE = 60.0


def open_workbench(folder: Path, *, demo: bool = False) -> None:
    """The full-screen workbench on this data folder."""
    from lumtak.tui.app import LumtakApp

    log_to(folder)
    data_folder = DataFolder(folder)
    try:
        app = LumtakApp(data_folder, pace=_DEMO_PACE, demo=demo)
        app.run()
        if app.problem is not None:
            raise app.problem
    finally:
        data_folder.close()


@click.command("demo")
def demo_command() -> None:
    """The workbench on the demo fleet, in a throwaway folder: try anything, nothing stays."""
    with tempfile.TemporaryDirectory(prefix="lumtak-demo-") as folder:
        open_workbench(Path(folder), demo=True)


@click.command("example")
@click.option(
    "--out",
    type=click.Path(path_type=Path, file_okay=False),
    default=lambda: results_folder() / "lumtak-example",
    show_default="lumtak-example among your documents",
    metavar="DIR",
)
@click.option(
    "--seed",
    type=click.IntRange(1, 2**31),
    default=7,
    show_default=True,
    help="The same seed gives the same bytes.",
)
def example_command(out: Path, seed: int) -> None:
    """A whole job without a screen: baseline, audit, plan, apply, restart, proof, report, put back.

    Writes report.pdf, load.svg and job.json to DIR.
    """
    from lumtak.work.example import run_example

    run_example(out, seed, click.echo)


@click.command("jobs")
@json_option
@with_data_folder
def jobs_command(data_folder: DataFolder, *, as_json: bool) -> None:
    """All jobs, the one worked on last first."""
    jobs = data_folder.casebook.jobs()
    if as_json:
        say_json(
            [
                {
                    "id": j.id,
                    "computer": j.address,
                    "station": j.station,
                    "profile": j.profile.name,
                    "begun_at": j.begun_at,
                }
                for j in jobs
            ]
        )
        return
    if not jobs:
        click.echo(
            "There is no job yet. `lumtak` opens the workbench; `lumtak job start COMPUTER"
            " --profile NAME` starts one here."
        )
        return
    columns(
        [
            (j.id, j.address, j.station, j.profile.name, j.begun_at[:16].replace("T", " "))
            for j in jobs
        ]
    )


@click.command("report")
@click.argument("job")
@click.option(
    "--out", type=click.Path(path_type=Path, file_okay=False), required=True, metavar="DIR"
)
@with_data_folder
def report_command(data_folder: DataFolder, job: str, out: Path) -> None:
    """Write the report of JOB to DIR: report.pdf, load.svg, job.json."""
    from lumtak.work.handover import write_report

    open_job = reopen_job(data_folder, data_folder.casebook.job(job))
    for path in write_report(open_job, out):
        click.echo(str(path))
    open_job.close()


@click.group("job")
def job_group() -> None:
    """A job station by station, without a screen.

    \b
    lumtak job start sim:drawing-bench --profile hull-drafting
    lumtak job baseline drawing-bench-1
    lumtak job audit drawing-bench-1
    lumtak job choose drawing-bench-1 --eased
    lumtak job apply drawing-bench-1
    lumtak restart sim:drawing-bench
    lumtak job after drawing-bench-1
    lumtak report drawing-bench-1 --out report
    """


@click.command("chart")
@click.argument("job")
@click.option("--kind", type=click.Choice(CHART_KINDS), default="load", show_default=True)
@click.option(
    "--out",
    type=click.Path(path_type=Path, dir_okay=False),
    required=True,
    metavar="FILE.svg|FILE.pdf",
)
@with_data_folder
def chart_command(data_folder: DataFolder, job: str, kind: ChartKind, out: Path) -> None:
    """Draw one chart of JOB: load over time, spread of the samples, bridge from before to after,
    RAM and CPU as strips.

    \b
    lumtak chart drawing-bench-1 --kind bridge --out bridge.svg
    lumtak chart drawing-bench-1 --kind load --out load.pdf
    """
    forms: dict[str, ChartFormat] = {".svg": "svg", ".pdf": "pdf"}
    form = forms.get(out.suffix.lower())
    if form is None:
        raise UsageError(
            f"{out} is neither .svg nor .pdf.", "Name the file with one of these endings."
        )
    open_job = _reopen(data_folder, job)
    data = draw_chart(open_job, kind, form)
    open_job.close()
    write_whole(out, data)
    click.echo(f"{out}: {len(data)} bytes.")


@job_group.command("start")
@click.argument("address", metavar="COMPUTER")
@click.option("--profile", "profile_name", required=True, metavar="NAME|FILE")
@user_option
@with_data_folder
def job_start(data_folder: DataFolder, address: str, profile_name: str, user: str | None) -> None:
    """Intake: identify COMPUTER and begin a job; prints its name."""
    profile = data_folder.profile(profile_name)
    open_job = begin_job(data_folder, data_folder.computer(address, user=user), profile)
    open_job.close()
    click.echo(open_job.job.id)


def _reopen(data_folder: DataFolder, job: str) -> OpenJob:
    return reopen_job(data_folder, data_folder.casebook.job(job))


@job_group.command("baseline")
@click.argument("job")
@click.option(
    "--seconds",
    type=float,
    help="Length of the window. Default: until the mean is sure, 5 minutes at most.",
)
@click.option(
    "--list", "listing", is_flag=True, help="List the baselines that were taken; nothing is read."
)
@click.option(
    "--use",
    type=int,
    metavar="NUMBER",
    help="Judge and compare by this one of them; nothing is read.",
)
@with_data_folder
def job_baseline(
    data_folder: DataFolder, job: str, seconds: float | None, use: int | None, *, listing: bool
) -> None:
    """Read the load before anything is changed. All baselines are kept; the newest counts, or the
    one that is chosen.

    \b
    lumtak job baseline drawing-bench-1
    lumtak job baseline drawing-bench-1 --list
    lumtak job baseline drawing-bench-1 --use 3
    """
    open_job = _reopen(data_folder, job)
    if use is not None:
        choose_baseline(open_job, use)
    if listing or use is not None:
        rows = [
            (
                "◆" if number == open_job.job.baseline else "",
                str(number),
                reading.taken_at[:16].replace("T", " "),
                f"CPU {percent(reading.mean('cpu_pct'))}",
                f"RAM {ram(reading.mean('ram_used_bytes'))}",
                f"{counted(len(reading.kept), 'sample')}",
            )
            for number, reading in baselines_of(open_job)
        ]
        open_job.close()
        columns(rows)
        return
    reading = read_baseline(open_job, seconds=seconds, on_sample=count)
    progress("")
    open_job.go("audit")
    open_job.close()
    click.echo(f"CPU {percent(reading.mean('cpu_pct'))}, RAM {ram(reading.mean('ram_used_bytes'))}")


@job_group.command("audit")
@click.argument("job")
@with_data_folder
def job_audit(data_folder: DataFolder, job: str) -> None:
    """Weigh and judge every item."""
    open_job = _reopen(data_folder, job)
    say_audit(make_audit(open_job))
    open_job.close()


@job_group.command("choose")
@click.argument("job")
@click.argument("items", nargs=-1, metavar="[AREA:KEY...]")
@click.option("--eased", is_flag=True, help="Everything that the profile does not need.")
@with_data_folder
def job_choose(data_folder: DataFolder, job: str, items: tuple[str, ...], *, eased: bool) -> None:
    """Choose items, or take them back; then show the plan."""
    open_job = _reopen(data_folder, job)
    if open_job.job.audit is None:
        make_audit(open_job)
    if eased:
        choose_all_eased(open_job)
    for item in items:
        toggle(open_job, parse_ref(item))
    plan = plan_of(open_job)
    open_job.go("plan")
    open_job.close()
    columns(
        [(str(s.change.ref), f"{s.before} → {s.change.value}", s.projected) for s in plan.steps]
    )
    saved, doubt = plan.saves_cpu
    click.echo(
        f"{len(plan.steps)} chosen, projected {signed(-saved)} ± {doubt:.1f} points of CPU,"
        f" {ram(-plan.saves_ram_bytes)}"
    )


@job_group.command("apply")
@click.argument("job")
@with_data_folder
def job_apply(data_folder: DataFolder, job: str) -> None:
    """Carry the plan out: before value to the journal, write, read back."""
    open_job = _reopen(data_folder, job)
    ask_first(open_job.computer, (c.ref for c in open_job.job.chosen))
    outcomes = carry_out(open_job, on_step=say_outcome)
    owed = open_job.owed().in_words()
    open_job.go("proof")
    open_job.close()
    if owed:
        click.echo(owed)
    judge(outcomes, "changed")


@job_group.command("after")
@click.argument("job")
@click.option(
    "--seconds",
    type=float,
    help="Length of the window. Default: until the mean is sure, 5 minutes at most.",
)
@click.option(
    "--now",
    is_flag=True,
    help="Do not wait until the computer has been up as long as for the baseline.",
)
@with_data_folder
def job_after(data_folder: DataFolder, job: str, seconds: float | None, *, now: bool) -> None:
    """Read the load again, as long after the restart as the baseline; say whether it changed."""
    from lumtak.core.verdict import headline, sentences

    open_job = _reopen(data_folder, job)
    if not now and (wait_s := same_point_s(open_job)):
        progress(
            f"waiting {span(wait_s)}, until it has been up as long as for the baseline (--now does"
            " not wait)"
        )
    read_after(open_job, seconds=seconds, on_sample=count, at_once=now)
    progress("")
    results = comparisons_of(open_job)
    shares = attribution_of(open_job, results)
    open_job.go("proof")
    open_job.close()
    click.echo(headline(results, why_provisional(open_job), pace_of(open_job)))
    for said in sentences(results, pace_of(open_job)):
        click.echo(said)
    if shares is not None:
        click.echo(shares.words)
