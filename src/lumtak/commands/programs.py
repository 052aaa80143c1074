"""Installed programs for a person, and removing them after a question."""

import click

from lumtak.commands.common import (
    agree,
    ask_first,
    columns,
    computer_to_act_on,
    json_option,
    profile_option,
    say_json,
    user_option,
    with_data_folder,
)
from lumtak.computers.protocol import Computer
from lumtak.core.installed import Installed, Removal, used_in_words
from lumtak.core.owned import Wanted
from lumtak.core.record import NotMeasured
from lumtak.core.setting import SettingRef
from lumtak.core.text import plain
from lumtak.core.units import counted, ram
from lumtak.errors import LumtakError
from lumtak.work.data_folder import DataFolder
from lumtak.work.programs import looked_at, programs_of, remove
from lumtak.work.storage import known_facts, profile_for

_NAMED = 6


def say_programs(
    data_folder: DataFolder,
    computer: Computer,
    wanted: Wanted,
    *,
    everything: bool,
    as_json: bool,
) -> None:
    """What is installed, those first that hold most; nothing is chosen."""
    facts = known_facts(data_folder, computer)
    profile = profile_for(data_folder, facts.identity, None)
    programs = programs_of(data_folder, computer, facts, profile)
    found = [
        p
        for p in programs.found
        if (everything or not p.auto)
        and p.whole_bytes >= wanted.least_bytes
        and (not wanted.older_days or _unused(p) >= wanted.older_days)
    ]
    if as_json:
        say_json(
            {"format": 1, "computer": computer.address, "programs": found, "gaps": programs.gaps}
        )
        return
    rows = [("size", "with only its own", "last use", "program", "")]
    rows.extend(_row(p) for p in found)
    columns(rows)
    for gap in programs.gaps:
        click.echo(gap)
    click.echo(
        f"{counted(len(found), 'program')}; `lumtak remove {computer.address} NAME` removes one,"
        " after a question."
    )


def _unused(program: Installed) -> float:
    return 0.0 if isinstance(program.used_days, NotMeasured) else program.used_days


def _row(program: Installed) -> tuple[str, str, str, str, str]:
    used = used_in_words(program)
    used = f"{used}: {program.used_by}" if program.used_by else used
    size = program.bytes
    notes = [program.title]
    if program.starts:
        notes.append(f"starts {', '.join(program.starts[:_NAMED])}")
    if program.takes:
        notes.append(f"needed by {counted(len(program.takes), 'other package')}")
    if program.why_not:
        notes.append(f"stays: {program.why_not}")
    return (
        "not known" if isinstance(size, NotMeasured) else ram(size),
        ram(program.whole_bytes) if program.only else "",
        used,
        plain(program.name, 60),
        plain("; ".join(notes), 200),
    )


@click.command("remove")
@click.argument("address", metavar="COMPUTER")
@click.argument("names", nargs=-1, required=True, metavar="PROGRAM...")
@click.option("--look", is_flag=True, help="Only say what it would do.")
@click.option("--yes", is_flag=True, help="Answer the question beforehand; for scripts.")
@profile_option
@user_option
@json_option
@with_data_folder
def remove_command(
    data_folder: DataFolder,
    address: str,
    names: tuple[str, ...],
    profile_name: str | None,
    user: str | None,
    *,
    look: bool,
    yes: bool,
    as_json: bool,
) -> None:
    """Remove programs of COMPUTER, and nothing along with them that is not named too. Their
    configuration and the owner's files stay. Lumtak cannot put it back: the job keeps the list that
    installs them again. What the system, its desktop or the profile needs is refused.

    \b
    lumtak storage local programs              what there is
    lumtak remove local old-editor --look      what it would do
    lumtak remove local old-editor
    """
    with computer_to_act_on(data_folder, address, user) as computer:
        facts = known_facts(data_folder, computer)
        profile = profile_for(data_folder, facts.identity, profile_name)
        programs = programs_of(data_folder, computer, facts, profile)
        wanted = looked_at(computer, programs, names)
        if look:
            _say(wanted, address, as_json=as_json)
            return
        if not yes:
            _ask(wanted)
        ask_first(computer, [SettingRef(area="services", key=wanted.names[0])])
        titles = [p.title if (p := programs.find(n)) else n for n in wanted.names]
        action = remove(computer, wanted, titles)
    where = data_folder.record_action(computer.identity, action)
    if as_json:
        say_json({"format": 1, "computer": address, "action": action, "job": where})
    else:
        click.echo(plain(action.in_words(), 2000))
        for line in action.again:
            click.echo(f"To have it again: {plain(line, 4000)}")
        if not where:
            click.echo("There is no job on this computer, so it is recorded nowhere.")
    if not action.ended:
        raise LumtakError("Not everything was removed.", "See the reason above.")


def _say(wanted: Removal, address: str, *, as_json: bool) -> None:
    if as_json:
        say_json({"format": 1, "computer": address, "removal": wanted})
        return
    click.echo(wanted.in_words())
    click.echo(f"The command: {plain(wanted.command, 4000)}")
    for line in wanted.again:
        click.echo(f"To have it again: {plain(line, 4000)}")


def _ask(wanted: Removal) -> None:
    _say(wanted, "", as_json=False)
    agree("Remove it?", "removed")
