"""Commands for whole jobs.

The workbench, the demo, the example, and every station without a screen.
"""

import tempfile
from pathlib import Path

import click

from lumtak.commands.common import (
    asked_tongue,
    chart_form,
    columns,
    end_interrupted,
    json_option,
    log_to,
    say_json,
    with_data_folder,
)
from lumtak.computers.simulated.heads import FIRST, fleet
from lumtak.core.text import plain
from lumtak.report.charts import CHART_KINDS, ChartKind
from lumtak.storage import write_whole
from lumtak.work.data_folder import DataFolder
from lumtak.work.handover import draw_chart
from lumtak.work.intake import reopen_job
from lumtak.work.places import results_folder

_DEMO_PACE = 60.0


def open_workbench(folder: Path, *, demo: bool = False) -> None:
    """The full-screen workbench on this data folder."""
    from lumtak.tui.app import LumtakApp

    log_to(folder)
    data_folder = DataFolder(folder)
    try:
        end_interrupted(data_folder)
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
@click.option(
    "--scenario",
    type=click.Choice(fleet()),
    default=FIRST,
    show_default=True,
    help="The made-up computer that it is about.",
)
@click.option("--language", default="", metavar="NAME", help="Of sheet and report: en, de, ...")
def example_command(out: Path, seed: int, scenario: str, language: str) -> None:
    """A whole job without a screen: baseline, audit, plan, apply, restart, proof, handover, put
    back.

    Writes the owner's sheet, the technician's report, the charts and the data to DIR.

    \b
    lumtak example
    lumtak example --scenario tool-crib --language de --out tool-crib
    """
    from lumtak.work.example import run_example

    run_example(out, seed, click.echo, scenario, language)


@click.command("jobs")
@click.option("--archived", is_flag=True, help="Those in the archive too.")
@json_option
@with_data_folder
def jobs_command(data_folder: DataFolder, *, archived: bool, as_json: bool) -> None:
    """All jobs, the one worked on last first, with the last verdict.

    \b
    lumtak jobs
    lumtak jobs --archived            those in the archive too
    """
    jobs = [j for j in data_folder.casebook.jobs() if archived or not j.archived]
    if as_json:
        say_json(
            [
                {
                    "id": j.id,
                    "computer": j.address,
                    "station": j.station,
                    "profile": j.profile.name,
                    "begun_at": j.begun_at,
                    "verdict": j.verdict,
                    "archived": j.archived,
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
            (
                j.id,
                j.address,
                j.station,
                j.profile.name,
                j.begun_at[:16].replace("T", " "),
                plain(j.verdict, 80),
            )
            for j in jobs
        ]
    )


@click.command("report")
@click.argument("job")
@click.option(
    "--out",
    type=click.Path(path_type=Path, file_okay=False),
    metavar="DIR",
    help="Default: lumtak-report-JOB in the report folder of the settings, else your documents.",
)
@click.option("--language", default="", metavar="NAME", help="en, en_US, de, de_AT ...")
@click.option("--paper", type=click.Choice(["a4", "letter"]), help="Default: of the language.")
@with_data_folder
def report_command(
    data_folder: DataFolder, job: str, out: Path | None, language: str, paper: str | None
) -> None:
    """Write all that is handed over of JOB to DIR: the technician's report and the owner's sheet
    as PDF, each chart as SVG and PDF, the data as JSON and CSV, and a calendar of what is to be
    emptied and looked at again.

    \b
    lumtak report drawing-bench-1
    lumtak report drawing-bench-1 --language de --out ~/Reports/bench
    """
    from lumtak.work.handover import write_report

    open_job = reopen_job(data_folder, data_folder.casebook.job(job))
    folder = out or results_folder(data_folder.settings.report_folder) / f"lumtak-report-{job}"
    tongue = asked_tongue(data_folder.settings, language, paper)
    for path in write_report(open_job, folder, tongue):
        click.echo(str(path))
    open_job.close()


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
    form = chart_form(out)
    open_job = reopen_job(data_folder, data_folder.casebook.job(job))
    data = draw_chart(open_job, kind, form)
    open_job.close()
    write_whole(out, data)
    click.echo(f"{out}: {len(data)} bytes.")
