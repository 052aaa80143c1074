"""Commands about upkeep: checks that take long, and what they found."""

import click

from lumtak.commands.change import stopping
from lumtak.commands.common import (
    columns,
    json_option,
    progress,
    say_json,
    user_option,
    with_data_folder,
)
from lumtak.core.text import plain
from lumtak.core.units import ram
from lumtak.core.upkeep import Checked, Damage, Integrity
from lumtak.errors import ConflictError
from lumtak.work.data_folder import DataFolder
from lumtak.work.upkeep import check_integrity, last_integrity

_SHOWN = 40


@click.command("upkeep")
@click.argument("address", metavar="COMPUTER")
@click.argument("task", required=False, type=click.Choice(("integrity",)))
@user_option
@json_option
@with_data_folder
def upkeep_command(
    data_folder: DataFolder, address: str, task: str | None, user: str | None, *, as_json: bool
) -> None:
    """Checks of COMPUTER that take long. They only read and give way to all other work; Ctrl-C
    ends them. Without a task: when each last ran, and what it found.

    integrity: the system's files held against what the package database recorded of them. Damaged
    programs are told apart from configuration that somebody changed; it ends with 3 where a program
    is damaged. MD5 tells damage, and is no proof against somebody who meant it.

    \b
    lumtak upkeep local
    lumtak upkeep local integrity
    sudo lumtak upkeep local integrity --json      files that only root may read, too
    """
    computer = data_folder.computer(address, user=user)
    try:
        if task is None:
            found = last_integrity(data_folder, computer.identity)
        else:
            with stopping("Ending…") as stop:
                found = check_integrity(data_folder, computer, _tell, stop)
            progress("")
    finally:
        computer.close()
    if as_json:
        say_json({"format": 1, "computer": address, "integrity": found})
    elif found is None:
        click.echo(f"The system's files were never checked: lumtak upkeep {address} integrity")
    else:
        _say(found)
    if task and found and found.damaged_count:
        raise ConflictError(
            "Not all of the system's files are as they should be.",
            "See what is named above." if not as_json else "",
        )


def _tell(done: Checked) -> None:
    share = 100 * done.bytes / done.whole_bytes if done.whole_bytes else 0.0
    progress(f"{share:.0f} % of {ram(done.whole_bytes)}   {plain(done.at, 60)}"[:100])


def _say(found: Integrity) -> None:
    click.echo(f"{found.at[:16].replace('T', ' ')}: {found.in_words()}")
    _say_files(found.damaged, "Not as the packages brought them:", found.damaged_count)
    _say_files(found.configured, "Configuration that was changed:", found.configured_count)
    if found.strangers:
        click.echo("\nBrought by no package:")
        columns([(f"  {plain(path, 150)}",) for path in found.strangers[:_SHOWN]])
    if found.repair:
        click.echo(f"\nWhat puts them in place again: {plain(found.repair, 2000)}")


def _say_files(files: tuple[Damage, ...], head: str, whole: int) -> None:
    if files:
        click.echo(f"\n{head}")
        columns([(f"  {d.why}", plain(d.package, 40), plain(d.path, 150)) for d in files[:_SHOWN]])
        if whole > _SHOWN:
            click.echo(f"  and {whole - _SHOWN:,} more; --json names them")
