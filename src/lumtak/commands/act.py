"""Commands for actions: what cannot be put back."""

import click

from lumtak.commands.common import (
    agree,
    columns,
    json_option,
    say_json,
    user_option,
    with_data_folder,
)
from lumtak.core.actions import Action, Running
from lumtak.core.text import plain
from lumtak.core.units import percent, ram
from lumtak.errors import LumtakError, UsageError
from lumtak.work.actions import end_process, find_process, heavy_processes
from lumtak.work.data_folder import DataFolder

_SHOWN = 15


@click.command("end")
@click.argument("address", metavar="COMPUTER")
@click.argument("process", required=False, metavar="[PID|NAME]")
@click.option("--force", is_flag=True, help="Do not ask the process first.")
@click.option("--yes", is_flag=True, help="Answer the question beforehand; for scripts.")
@click.option(
    "--job",
    "job_id",
    metavar="JOB",
    help="Record it there. Default: the newest job on this computer.",
)
@click.option(
    "--wait",
    "wait_s",
    type=click.FloatRange(0, 600),
    default=5.0,
    show_default=True,
    metavar="SECONDS",
)
@user_option
@json_option
@with_data_folder
def end_command(
    data_folder: DataFolder,
    address: str,
    process: str | None,
    job_id: str | None,
    wait_s: float,
    user: str | None,
    *,
    force: bool,
    yes: bool,
    as_json: bool,
) -> None:
    """End a running process of COMPUTER: ask it first, force it only when told. Without a process:
    list the heaviest.

    This cannot be put back, so it is asked each time and is never part of a plan.

    \b
    lumtak end local                                          what runs, heaviest first
    lumtak end local 4711                                     ask process 4711 to end
    lumtak end sim:drawing-bench sheet-index --force --yes
    """
    computer = data_folder.computer(address, user=user)
    found = heavy_processes(computer, data_folder.catalogue)
    if process is None:
        _list(found, address, as_json=as_json)
        return
    chosen = find_process(found, process)
    if chosen.why_not:
        raise UsageError(
            f"{chosen.title} is not ended: {chosen.why_not}.", "Choose another process."
        )
    if not yes:
        _ask(chosen, force=force)
    action = end_process(
        computer, chosen.process, "forced" if force else "asked", title=chosen.title, wait_s=wait_s
    )
    computer.close()
    where = data_folder.record_action(computer.identity, action, job_id)
    if as_json:
        say_json({"format": 1, "computer": address, "action": action, "job": where})
    else:
        click.echo(plain(action.in_words(), 500))
        click.echo(
            f"Recorded in {where}."
            if where
            else "There is no job on this computer, so it is recorded nowhere."
        )
    _judge(action, chosen, address, force=force)


def _list(found: list[Running], address: str, *, as_json: bool) -> None:
    if as_json:
        say_json({"format": 1, "computer": address, "processes": found})
        return
    rows = [("pid", "CPU", "memory", "user", "process", "belongs to", "")]
    rows += [
        (
            str(r.process.pid), percent(r.cpu_pct), ram(r.ram_bytes), dict(r.closely).get("user",
            ""), plain(r.process.name, 30), r.title,
            f"never ended: {r.why_not}" if r.why_not else plain(dict(r.closely).get("command", ""),
            80),
        )
        for r in found[:_SHOWN]
    ]  # fmt: skip
    columns(rows)


def _ask(chosen: Running, *, force: bool) -> None:
    how = "Force" if force else "Ask"
    click.echo(
        f"{chosen.title} (process {chosen.process.pid}): {percent(chosen.cpu_pct)},"
        f" {ram(chosen.ram_bytes)}."
    )
    for name, value in chosen.closely:
        click.echo(f"  {name:<12}{value}")
    click.echo(plain(f"{chosen.loses} {chosen.comes_back} This cannot be put back.", 600))
    agree(f"{how} it to end?", "ended")


def _judge(action: Action, chosen: Running, address: str, *, force: bool) -> None:
    if action.ended:
        return
    more = (
        ""
        if force
        else f"`lumtak end {address} {chosen.process.pid} --force` ends it without asking."
    )
    raise LumtakError(f"{chosen.title} did not end.", more or "See the reason above.")
