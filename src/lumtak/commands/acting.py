"""Commands by which upkeep acts: each asked for, each recorded."""

import click

from lumtak.commands.common import (
    agree,
    ask_first,
    computer_to_act_on,
    json_option,
    say_json,
    user_option,
    whole,
    with_data_folder,
)
from lumtak.core.actions import Action
from lumtak.core.setting import SettingRef
from lumtak.core.text import plain
from lumtak.core.units import counted
from lumtak.errors import LumtakError, UsageError
from lumtak.work.acting import gather, repair, to_repair, trim
from lumtak.work.data_folder import DataFolder
from lumtak.work.upkeep import last_result

_AS_ROOT = [SettingRef(area="memory", key="swappiness")]
"""Stands for whatever takes root, to be asked for once."""


def _told(
    data_folder: DataFolder, address: str, identity: str, action: Action, *, as_json: bool
) -> None:
    where = data_folder.record_action(identity, action)
    if as_json:
        say_json({"format": 1, "computer": address, "action": action, "job": where})
    else:
        click.echo(plain(action.in_words(), 1500))
    if not action.ended:
        raise LumtakError("It was not done.", plain(action.note, 600))


@click.command("trim")
@click.argument("address", metavar="COMPUTER")
@user_option
@json_option
@with_data_folder
def trim_command(data_folder: DataFolder, address: str, user: str | None, *, as_json: bool) -> None:
    """Tell the solid-state disks of COMPUTER now what is free on them. No file is touched; where a
    timer does it weekly, it is not needed.

    \b
    lumtak upkeep local disks      when it was last done
    sudo lumtak trim local
    """
    with computer_to_act_on(data_folder, address, user) as computer:
        ask_first(computer, _AS_ROOT)
        action = trim(computer)
    _told(data_folder, address, computer.identity, action, as_json=as_json)


@click.command("repair")
@click.argument("address", metavar="COMPUTER")
@click.argument("names", nargs=-1, metavar="[PACKAGE...]")
@click.option("--look", is_flag=True, help="Only say what it would do.")
@click.option("--yes", is_flag=True, help="Answer the question beforehand; for scripts.")
@user_option
@json_option
@with_data_folder
def repair_command(
    data_folder: DataFolder,
    address: str,
    names: tuple[str, ...],
    user: str | None,
    *,
    look: bool,
    yes: bool,
    as_json: bool,
) -> None:
    """Unpack the packages of COMPUTER once more whose files the last check found damaged, all or
    those named, from the archives that are on it: nothing is fetched, configuration stays. The
    package manager goes through it first without doing it.

    \b
    lumtak upkeep local integrity      what is damaged
    lumtak repair local --look         what it would do
    sudo lumtak repair local
    sudo lumtak repair local coreutils
    """
    with computer_to_act_on(data_folder, address, user) as computer:
        packages = to_repair(last_result(data_folder, computer.identity, "integrity"), names)
        lines = computer.settings.reinstall(packages, rehearse=True)
        command = f"apt-get install --reinstall {' '.join(packages)}"
        if look:
            if as_json:
                document = {"packages": packages, "rehearsed": lines, "command": command}
                say_json({"format": 1, "computer": address, **document})
                return
            click.echo(f"{counted(len(packages), 'package')}; the command: {plain(command, 4000)}")
            for line in lines:
                click.echo(f"  {line}")
            return
        if not yes:
            agree(f"Unpack {', '.join(packages[:6])} once more?", "done")
        ask_first(computer, _AS_ROOT)
        action = repair(computer, packages)
    _told(data_folder, address, computer.identity, action, as_json=as_json)


@click.command("gather")
@click.argument("address", metavar="COMPUTER")
@click.argument("paths", nargs=-1, metavar="[PATH...]")
@click.option("--yes", is_flag=True, help="Answer the question beforehand; for scripts.")
@user_option
@json_option
@with_data_folder
def gather_command(
    data_folder: DataFolder,
    address: str,
    paths: tuple[str, ...],
    user: str | None,
    *,
    yes: bool,
    as_json: bool,
) -> None:
    """Put files of the user's on COMPUTER together that lie in many pieces: those named, else the
    worst of the last measurement. Only on a spinning disk with room; elsewhere it is refused. The
    bytes stay the same, and nothing is lost where the power is cut.

    \b
    lumtak upkeep local fragments      in how many pieces files lie
    lumtak gather local
    """
    computer = data_folder.computer(address, user=user)
    try:
        last = last_result(data_folder, computer.identity, "fragments")
        known = [f.what for f in last.found] if last else []
        wanted = [whole(p) for p in paths] or known
        if not wanted:
            raise UsageError(
                "Nothing is known to lie in pieces.",
                f"Name files, or measure first: lumtak upkeep {address} fragments.",
            )
        if not yes:
            agree(f"Put {counted(len(wanted), 'file')} together?", "done")
        action = gather(computer, wanted)
    finally:
        computer.close()
    _told(data_folder, address, computer.identity, action, as_json=as_json)
