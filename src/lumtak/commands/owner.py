"""What is said of a computer's owner: `lumtak job owner` and `lumtak forget`."""

import click

from lumtak.commands.common import agree, columns, json_option, say_json, with_data_folder
from lumtak.core.owner import FIELDS
from lumtak.core.text import plain
from lumtak.work.data_folder import DataFolder
from lumtak.work.intake import reopen_job
from lumtak.work.owner import forget_owner, note_owner, what_is_known


@click.command("owner")
@click.argument("job")
@click.option("--name", metavar="TEXT", help="Who brought the computer.")
@click.option("--contact", metavar="TEXT", help="Telephone number or mail address.")
@click.option("--agreed", metavar="TEXT", help="Price or time that was agreed.")
@click.option("--notes", metavar="TEXT", help="Anything else that belongs to the job.")
@json_option
@with_data_folder
def job_owner(data_folder: DataFolder, job: str, *, as_json: bool, **fields: str | None) -> None:
    """Who brought the computer of JOB, and what was agreed. Without an option it is shown.

    It stands in the casebook, on the sheet and in the report, and nowhere else; `lumtak forget`
    erases it. An empty text takes one back.

    \b
    lumtak job owner tool-crib-1 --name "Ada Fender" --contact "0100 555 12" --agreed "60, one hour"
    lumtak job owner tool-crib-1
    """
    found = data_folder.casebook.job(job)
    owner = found.owner
    if any(value is not None for value in fields.values()):
        open_job = reopen_job(data_folder, found)
        owner = note_owner(open_job, **fields)
        open_job.close()
    if as_json:
        say_json({"format": 1, "job": job, "owner": owner, "told": found.told})
        return
    rows = [(words, value) for n, words in FIELDS.items() if (value := getattr(owner, n))]
    rows += [("in their words", f"“{found.told}”")] if found.told else []
    columns(rows)
    if not rows:
        click.echo("Nothing is said of the owner.")


@click.command("forget")
@click.argument("job")
@click.option("--yes", is_flag=True, help="Agree without being asked.")
@json_option
@with_data_folder
def forget_command(data_folder: DataFolder, job: str, *, yes: bool, as_json: bool) -> None:
    """Erase what is said of the owner of JOB: name, telephone or mail, the complaint in their
    words, what was agreed, notes.

    It goes from the database's free pages and its log too. Journal, undo scripts, readings and
    settings stay. Sheets and reports that were written are named, and stay.

    \b
    lumtak forget tool-crib-1
    lumtak forget tool-crib-1 --yes --json
    """
    found = data_folder.casebook.job(job)
    if what_is_known(found) and not yes:
        agree(f"Erase what is said of the owner of {plain(job, 80)} for good?", "erased")
    done = forget_owner(data_folder, found)
    if as_json:
        say_json({"format": 1, **{n: getattr(done, n) for n in ("job", "named")}})
        return
    click.echo(f"Nothing is said of the owner of {plain(job, 80)} any more.")
    if done.named:
        click.echo("These files were written before, may hold it still, and were left alone:")
    for path in done.named:
        click.echo(f"  {plain(path, 400)}")
