"""The command line: everything the screens do can be done without them."""

import importlib

import click

from lumtak import __version__
from lumtak.commands.common import home, home_option

_COMMANDS = {
    "act": ("end",),
    "change": ("apply", "undo"),
    "compare": ("compare",),
    "job": ("job",),
    "journal": ("journal", "drift", "restart"),
    "know": ("advice", "answer", "capture", "explain", "memory"),
    "knowledge": ("knowledge",),
    "known": ("known",),
    "look": ("audit", "facts", "look", "read", "starts"),
    "plan": ("plan",),
    "profile": ("profile",),
    "work": ("chart", "demo", "example", "jobs", "report"),
}
"""The module of `lumtak.commands` that has each command, so that a command waits for its own."""


class _Commands(click.Group):
    """Commands that are imported when they are named."""

    def list_commands(self, ctx: click.Context) -> list[str]:  # noqa: ARG002
        return sorted(name for names in _COMMANDS.values() for name in names)

    def get_command(self, ctx: click.Context, cmd_name: str) -> click.Command | None:  # noqa: ARG002
        module = next((m for m, names in _COMMANDS.items() if cmd_name in names), None)
        if module is None:
            return None
        found = vars(importlib.import_module(f"lumtak.commands.{module}"))
        command = found.get(f"{cmd_name}_command", found.get(f"{cmd_name}_group"))
        return command if isinstance(command, click.Command) else None


@click.group(
    cls=_Commands,
    invoke_without_command=True,
    context_settings={"help_option_names": ["-h", "--help"], "max_content_width": 110},
)
@click.version_option(__version__, prog_name="lumtak", message="%(prog)s %(version)s")
@home_option
@click.pass_context
def cli(context: click.Context) -> None:
    """Find out what slows a computer down, change it reversibly, and prove that it helped.

    Without a command the workbench opens. COMPUTER is sim:NAME (a simulated computer that ships
    with Lumtak) or local (this one).

    \b
    lumtak demo                                     try everything on made-up computers
    lumtak audit local --profile writing-and-web    what uses CPU and memory here, and is it needed?
    lumtak apply local apps:NAME=off                change a setting
    lumtak undo local --all                         put everything back

    Exit codes: 0 done, 1 failed, 2 usage, 3 conflict or partly done.
    """
    if context.invoked_subcommand is None:
        from lumtak.commands.work import open_workbench

        open_workbench(home())
