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
    with_workshop,
)
from lumtak.commands.look import count, say_audit
from lumtak.core.setting import parse_ref
from lumtak.core.units import counted, percent, ram, signed, span
from lumtak.errors import UsageError
from lumtak.report.charts import KINDS_OF_CHART, Format, Kind
from lumtak.storage import write_whole
from lumtak.work.handover import draw_chart
from lumtak.work.places import results_folder
from lumtak.work.visit import Visit
from lumtak.work.workshop import Workshop

_DEMO_PACE = 60.0


def open_workbench(folder: Path, *, demo: bool = False) -> None:
    """The full-screen workbench on this data folder."""
    from lumtak.tui.app import LumtakApp

    log_to(folder)
    workshop = Workshop(folder)
    try:
        app = LumtakApp(workshop, pace=_DEMO_PACE, demo=demo)
        app.run()
        if app.problem is not None:
            raise app.problem
    finally:
        workshop.close()


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
@with_workshop
def jobs_command(workshop: Workshop, *, as_json: bool) -> None:
    """All jobs, the one worked on last first."""
    jobs = workshop.casebook.jobs()
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
@with_workshop
def report_command(workshop: Workshop, job: str, out: Path) -> None:
    """Write the report of JOB to DIR: report.pdf, load.svg, job.json."""
    from lumtak.work.handover import write_report

    visit = Visit.reopen(workshop, workshop.casebook.job(job))
    for path in write_report(visit, out):
        click.echo(str(path))
    visit.close()


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
@click.option("--kind", type=click.Choice(KINDS_OF_CHART), default="load", show_default=True)
@click.option(
    "--out",
    type=click.Path(path_type=Path, dir_okay=False),
    required=True,
    metavar="FILE.svg|FILE.pdf",
)
@with_workshop
def chart_command(workshop: Workshop, job: str, kind: Kind, out: Path) -> None:
    """Draw one chart of JOB: load over time, spread of the samples, bridge from before to after,
    RAM and CPU as strips.

    \b
    lumtak chart drawing-bench-1 --kind bridge --out bridge.svg
    lumtak chart drawing-bench-1 --kind load --out load.pdf
    """
    forms: dict[str, Format] = {".svg": "svg", ".pdf": "pdf"}
    form = forms.get(out.suffix.lower())
    if form is None:
        raise UsageError(
            f"{out} is neither .svg nor .pdf.", "Name the file with one of these endings."
        )
    visit = _reopen(workshop, job)
    data = draw_chart(visit, kind, form)
    visit.close()
    write_whole(out, data)
    click.echo(f"{out}: {len(data)} bytes.")


@job_group.command("start")
@click.argument("computer")
@click.option("--profile", "profile_name", required=True, metavar="NAME|FILE")
@user_option
@with_workshop
def job_start(workshop: Workshop, computer: str, profile_name: str, user: str | None) -> None:
    """Intake: identify COMPUTER and begin a job; prints its name."""
    profile = workshop.profile(profile_name)
    visit = Visit.start(workshop, workshop.computer(computer, user=user), profile)
    visit.close()
    click.echo(visit.job.id)


def _reopen(workshop: Workshop, job: str) -> Visit:
    return Visit.reopen(workshop, workshop.casebook.job(job))


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
@with_workshop
def job_baseline(
    workshop: Workshop, job: str, seconds: float | None, use: int | None, *, listing: bool
) -> None:
    """Read the load before anything is changed. All baselines are kept; the newest counts, or the
    one that is chosen.

    \b
    lumtak job baseline drawing-bench-1
    lumtak job baseline drawing-bench-1 --list
    lumtak job baseline drawing-bench-1 --use 3
    """
    visit = _reopen(workshop, job)
    if use is not None:
        visit.choose_baseline(use)
    if listing or use is not None:
        rows = [
            (
                "◆" if number == visit.job.baseline else "",
                str(number),
                reading.taken_at[:16].replace("T", " "),
                f"CPU {percent(reading.mean('cpu_pct'))}",
                f"RAM {ram(reading.mean('ram_used_bytes'))}",
                f"{counted(len(reading.kept), 'sample')}",
            )
            for number, reading in visit.baselines()
        ]
        visit.close()
        columns(rows)
        return
    reading = visit.read_baseline(seconds=seconds, on_sample=count)
    progress("")
    visit.go("audit")
    visit.close()
    click.echo(f"CPU {percent(reading.mean('cpu_pct'))}, RAM {ram(reading.mean('ram_used_bytes'))}")


@job_group.command("audit")
@click.argument("job")
@with_workshop
def job_audit(workshop: Workshop, job: str) -> None:
    """Weigh and judge every item."""
    visit = _reopen(workshop, job)
    say_audit(visit.make_audit())
    visit.close()


@job_group.command("choose")
@click.argument("job")
@click.argument("items", nargs=-1, metavar="[AREA:KEY...]")
@click.option("--eased", is_flag=True, help="Everything that the profile does not need.")
@with_workshop
def job_choose(workshop: Workshop, job: str, items: tuple[str, ...], *, eased: bool) -> None:
    """Choose items, or take them back; then show the plan."""
    visit = _reopen(workshop, job)
    if visit.job.audit is None:
        visit.make_audit()
    if eased:
        visit.choose_all_eased()
    for item in items:
        visit.toggle(parse_ref(item))
    plan = visit.make_plan()
    visit.go("plan")
    visit.close()
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
@with_workshop
def job_apply(workshop: Workshop, job: str) -> None:
    """Carry the plan out: before value to the journal, write, read back."""
    visit = _reopen(workshop, job)
    ask_first(visit.computer, (c.ref for c in visit.job.chosen))
    outcomes = visit.apply(on_step=say_outcome)
    owed = visit.owed().in_words()
    visit.go("proof")
    visit.close()
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
@with_workshop
def job_after(workshop: Workshop, job: str, seconds: float | None, *, now: bool) -> None:
    """Read the load again, as long after the restart as the baseline; say whether it changed."""
    from lumtak.report.content import headline, sentences

    visit = _reopen(workshop, job)
    if not now and (wait_s := visit.same_point_s()):
        progress(
            f"waiting {span(wait_s)}, until it has been up as long as for the baseline (--now does"
            " not wait)"
        )
    visit.read_after(seconds=seconds, on_sample=count, at_once=now)
    progress("")
    results = visit.comparisons()
    visit.go("proof")
    visit.close()
    click.echo(headline(results, visit.provisional(), visit.pace()))
    for said in sentences(results, visit.pace()):
        click.echo(said)
