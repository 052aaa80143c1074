"""The shop's own knowledge: what it changes, and how it goes from one shop to another."""

from pathlib import Path

import click
import msgspec

from lumtak.commands.common import columns, json_option, say_json, with_data_folder
from lumtak.core.catalogue import read_roles
from lumtak.core.record import UNREADABLE, FileName, json_document
from lumtak.core.shop import FORMAT, Export
from lumtak.core.text import plain
from lumtak.core.units import counted
from lumtak.errors import BadFileError, UsageError
from lumtak.storage import read_handed_in, write_whole
from lumtak.work.data_folder import DataFolder
from lumtak.work.described import differences

_LARGEST = 1 << 22


@click.group("knowledge")
def knowledge_group() -> None:
    """What the shop knows by itself: entries that were taught, and what was said to be wrong.

    Files stand in knowledge/ of the data folder. They add to what Lumtak knows; a guard can be
    added, and is never lifted.
    """


@knowledge_group.command("check")
@click.argument("file", type=click.Path(path_type=Path), required=False)
@click.option("--profile", "profile_name", default="writing-and-web", show_default=True)
@json_option
@with_data_folder
def check_command(
    data_folder: DataFolder, file: Path | None, profile_name: str, *, as_json: bool
) -> None:
    """What the shop's entries change, on plain desktops and on the computers of the casebook.

    With FILE: what that file would change besides.

    \b
    lumtak knowledge check
    lumtak knowledge check new.toml --json
    """
    catalogue = data_folder.catalogue
    if file is not None:
        text = read_handed_in(file, _LARGEST, "knowledge").decode("utf-8", "replace")
        catalogue = catalogue.extended(read_roles(text, str(file)), str(file))
    profile = data_folder.profile(profile_name)
    found = list(differences(data_folder, catalogue, profile))
    if as_json:
        changes = [d._asdict() for d in found]
        say_json({"format": 1, "changes": changes, "problems": catalogue.problems})
        return
    for problem in catalogue.problems:
        click.echo(plain(problem, 400), err=True)
    if not found:
        click.echo("Nothing is judged otherwise than without the shop's own knowledge.")
        return
    rows = [("item", "where", "role", "stance")]
    rows += [
        (
            d.item,
            ", ".join(d.places),
            f"{d.role_before or 'not known'} → {d.role or 'not known'}",
            d.stance if d.stance == d.stance_before else f"{d.stance_before} → {d.stance}",
        )
        for d in found
    ]
    columns([tuple(plain(cell, 80) for cell in row) for row in rows])


@knowledge_group.command("export")
@click.option("--out", type=click.Path(path_type=Path), required=True)
@with_data_folder
def export_command(data_folder: DataFolder, out: Path) -> None:
    """Write the shop's own knowledge to one file, for another shop."""
    found = Export(roles=data_folder.own_roles(), wrong=data_folder.wrongs)
    write_whole(out, json_document(found))
    click.echo(
        f"{out}: {counted(len(found.roles), 'entry', 'entries')},"
        f" {counted(len(found.wrong), 'judgement')} that were wrong."
    )


@knowledge_group.command("import")
@click.argument("file", type=click.Path(path_type=Path))
@click.option("--name", default="taken-over", show_default=True, help="Of the file it becomes.")
@with_data_folder
def import_command(data_folder: DataFolder, file: Path, name: str) -> None:
    """Take over what another shop exported; `lumtak knowledge check` says what it changes."""
    try:
        msgspec.convert(name, FileName)
    except msgspec.ValidationError as error:
        raise UsageError(f"{plain(name)} is no name of a file.", "Choose a plain word.") from error
    try:
        found = msgspec.json.decode(read_handed_in(file, _LARGEST, "knowledge"), type=Export)
    except UNREADABLE as error:
        raise BadFileError(str(file), "this is no knowledge that was exported.") from error
    if found.format != FORMAT:
        raise BadFileError(str(file), f"format {found.format} is not known here.")
    data_folder.take_over(found, name)
    click.echo(f"{counted(len(found.roles), 'entry', 'entries')} taken over as {name}.toml.")
