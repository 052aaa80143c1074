"""Commands about a watch on the computer, and about the visit before."""

import click

from lumtak.commands.change import carry_out, judge, say_outcome, stopping
from lumtak.commands.common import (
    json_option,
    profile_option,
    say_json,
    user_option,
    with_data_folder,
)
from lumtak.computers.protocol import Computer
from lumtak.core.plan import check_changes, guards
from lumtak.core.setting import Change, SettingRef
from lumtak.core.text import plain
from lumtak.core.upkeep.due import RHYTHMS
from lumtak.errors import UnknownNameError
from lumtak.journal import Entry, put_back
from lumtak.work.data_folder import DataFolder
from lumtak.work.storage import profile_for
from lumtak.work.visits import last_visit

_NO_CEILING = 100.0
"""Of the profile where nobody chose one."""
_REF = SettingRef(area="upkeep", key="watch")


@click.command("watch")
@click.argument("address", metavar="COMPUTER")
@click.argument("every", required=False, type=click.Choice((*RHYTHMS, "off")))
@profile_option
@user_option
@json_option
@with_data_folder
def watch_command(
    data_folder: DataFolder,
    address: str,
    every: str | None,
    profile_name: str | None,
    user: str | None,
    *,
    as_json: bool,
) -> None:
    """A short look that COMPUTER takes by itself: a timer of the user's own, never of the system,
    only while they are logged in. It reads the load for a minute and looks whether settings
    drifted, keeps that for the next visit, tells the owner once a due date, and sends nothing.
    Without a rhythm: what it kept. off puts it back, and what it kept goes.

    \b
    lumtak watch local weekly
    lumtak watch local
    lumtak watch local off
    """
    computer = data_folder.computer(address, user=user)
    if every is None:
        _say(computer, as_json=as_json)
        return
    mine = [e for e in data_folder.journal.entries_of(computer) if e.is_open and e.ref == _REF]
    if every == "off" and mine:
        _put_back(data_folder, computer, mine, as_json=as_json)
        return
    ceilings = profile_for(data_folder, computer.identity, profile_name).ceilings
    if ceilings.cpu_pct < _NO_CEILING:
        computer.settings.note_ceilings(ceilings.cpu_pct, ceilings.ram_pct)
    facts = computer.about.facts()
    change = Change(ref=_REF, value=None if every == "off" else every)
    ordered = check_changes(facts, [change], guards(facts, data_folder.catalogue))
    newest = data_folder.newest_job(computer.identity)
    job = newest.id if newest else ""
    carry_out(data_folder, computer, facts, ordered, "keep", job=job, as_json=as_json)


def _say(computer: Computer, *, as_json: bool) -> None:
    """How often it looks, and what it kept."""
    hints, state = computer.about.hints(), computer.settings.read(_REF)
    address = computer.address
    computer.close()
    if as_json:
        say_json({"format": 1, "computer": address, "every": state.value, "hints": hints})
        return
    click.echo(f"The watch is {state.value or 'off'}.")
    for line in hints:
        click.echo(f"  {plain(line, 500)}")


def _put_back(
    data_folder: DataFolder, computer: Computer, mine: list[Entry], *, as_json: bool
) -> None:
    numbers = [e.id for e in mine]
    with stopping() as stop:
        outcomes = put_back(data_folder.journal, computer, numbers, stop=stop)
    address = computer.address
    computer.close()
    if as_json:
        say_json({"format": 1, "computer": address, "outcomes": outcomes})
    else:
        for outcome in outcomes:
            say_outcome(outcome)
    judge(outcomes, "put back")


@click.command("last-visit")
@click.argument("address", metavar="COMPUTER")
@user_option
@json_option
@with_data_folder
def last_visit_command(
    data_folder: DataFolder, address: str, user: str | None, *, as_json: bool
) -> None:
    """What became of the newest visit to COMPUTER: what was changed and still stands, what drifted,
    load and disk then and now, what the owner said, what upkeep found since.

    \b
    lumtak last-visit local
    lumtak last-visit sim:drawing-bench --json
    """
    computer = data_folder.computer(address, user=user)
    try:
        found = last_visit(data_folder, computer, None)
    finally:
        computer.close()
    if found is None:
        raise UnknownNameError("visit to this computer", plain(address), (), "Begin a job first.")
    if as_json:
        say_json({"format": 1, "computer": address, "last": found})
        return
    for name, words in found.in_rows(None):
        click.echo(f"{name:<20}{plain(words, 400)}")
