"""The owner's sheet from the command line: `lumtak sheet`."""

from pathlib import Path

import click

from lumtak.commands.common import agree, asked_tongue, json_option, say_json, with_data_folder
from lumtak.core.text import plain
from lumtak.report.sheet.preview import preview
from lumtak.work.data_folder import DataFolder
from lumtak.work.intake import reopen_job
from lumtak.work.sheet import (
    lacking,
    print_sheet,
    save_sheet,
    sheet_now,
    sheet_path,
)

_WIDTH = 96


@click.command("sheet")
@click.argument("job")
@click.option(
    "--out",
    type=click.Path(path_type=Path, dir_okay=False),
    metavar="FILE.pdf",
    help="Default: lumtak-sheet-JOB.pdf in the report folder of the settings, else your documents.",
)
@click.option("--language", default="", metavar="NAME", help="en, en_US, de, de_AT ...")
@click.option("--paper", type=click.Choice(["a4", "letter"]), help="Default: of the language.")
@click.option("--text", "as_text", is_flag=True, help="Only show it here; nothing is saved.")
@click.option("--print", "to_print", is_flag=True, help="Print it, after a question.")
@click.option("--yes", is_flag=True, help="Agree without being asked.")
@json_option
@with_data_folder
def sheet_command(
    data_folder: DataFolder,
    job: str,
    *,
    out: Path | None,
    language: str,
    paper: str | None,
    as_text: bool,
    to_print: bool,
    yes: bool,
    as_json: bool,
) -> None:
    """The sheet of JOB for the computer's owner: one page, in their words.

    What still lacks is said first. The numbers on a sheet that was saved or printed are never
    given to another change of that computer.

    \b
    lumtak sheet tool-crib-1
    lumtak sheet tool-crib-1 --language de --out ~/sheet.pdf
    lumtak sheet tool-crib-1 --text
    lumtak sheet tool-crib-1 --print
    """
    open_job = reopen_job(data_folder, data_folder.casebook.job(job))
    try:
        tongue = asked_tongue(data_folder.settings, language, paper)
        lacks = lacking(open_job)
        if as_json:
            say_json(
                {"format": 1, "job": job, "sheet": sheet_now(open_job, tongue), "lacks": lacks}
            )
            return
        for what, words in lacks:
            click.echo(f"Still open, {what}: {plain(words, 300)}", err=True)
        if as_text:
            for line in preview(sheet_now(open_job, tongue), _WIDTH):
                click.echo(f"{line.head:<20} {plain(line.words, 400)}".rstrip())
        elif to_print:
            if not yes:
                agree("Print the sheet on this system's own printer?", "printed")
            click.echo(print_sheet(open_job, tongue))
        else:
            click.echo(str(save_sheet(open_job, out or sheet_path(open_job), tongue)))
    finally:
        open_job.close()
