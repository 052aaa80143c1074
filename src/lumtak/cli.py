"""The command line: everything the screens do can be done without them."""

import importlib
from typing import TYPE_CHECKING

import click

from lumtak import __version__
from lumtak.where import default_home, home_option

if TYPE_CHECKING:
    from click.shell_completion import CompletionItem

_COMMANDS = {
    "advice": ("know", "Common advice about slow computers: what it does, and why."),
    "answer": ("know", "Keep what the owner of COMPUTER said about an item."),
    "apply": ("change", "Change settings of COMPUTER; each can be put back."),
    "audit": ("look", "Weigh and judge every item of COMPUTER against a profile."),
    "capture": ("know", "Write what COMPUTER is and does to a file, to audit it elsewhere."),
    "chart": ("work", "Draw one chart of JOB as SVG or PDF."),
    "compare": ("compare", "Compare two readings: by how much they differ, how sure."),
    "completion": ("install", "Print what makes a shell complete lumtak's commands."),
    "decide": ("decide", "What the owner of COMPUTER says of their own files."),
    "demo": ("work", "The workbench on made-up computers, in a throwaway folder."),
    "drift": ("journal", "What on COMPUTER is no longer as Lumtak left it."),
    "due": ("upkeep", "What is to be done again on the computers that were worked on."),
    "empty-aside": ("aside", "Delete what was set aside on COMPUTER, after a question."),
    "end": ("act", "End a running process of COMPUTER, after a question."),
    "example": ("work", "A whole job on a made-up computer, without a screen."),
    "explain": ("know", "All that is known about one item of COMPUTER."),
    "facts": ("look", "What COMPUTER is and has: hardware, system, items, processes."),
    "job": ("job", "A job station by station, without a screen."),
    "last-visit": ("watch", "What became of the newest visit to COMPUTER."),
    "jobs": ("work", "All jobs, the one worked on last first."),
    "journal": ("journal", "All changes that Lumtak made on COMPUTER, oldest first."),
    "knowledge": ("knowledge", "What the shop knows by itself: taught, exported, checked."),
    "known": ("known", "What a service or app is for, by its name alone."),
    "look": ("look", "A quick look at COMPUTER: what uses CPU and memory now."),
    "man": ("install", "Print the man page, made from the help."),
    "memory": ("know", "Memory of COMPUTER as its sum, and how large swap should be."),
    "plan": ("plan", "The least change that brings COMPUTER under its ceilings."),
    "profile": ("profile", "Workload profiles: what a computer's owner does on it."),
    "read": ("look", "Sample the load of COMPUTER over a window, into a file."),
    "remove": ("programs", "Remove programs of COMPUTER, after a question."),
    "report": ("work", "Write the report of JOB: PDF, chart, data."),
    "restart": ("journal", "Restart COMPUTER, so that changes which need it show."),
    "set-aside": ("aside", "Set clutter of COMPUTER aside; it can be put back."),
    "sheet": ("sheet", "The page for the owner of JOB's computer: shown, saved, printed."),
    "settings": ("settings", "What the shop sets once: name, report folder, theme, keys."),
    "starts": ("look", "The starts of COMPUTER: login screen after, usable after."),
    "storage": ("storage", "Where the disk of COMPUTER went, and what may be set aside."),
    "undo": ("change", "Put changes of COMPUTER back, in any order."),
    "forget": ("owner", "Erase what is said of the owner of JOB, after a question."),
    "gather": ("acting", "Put files of COMPUTER together that lie in many pieces."),
    "repair": ("acting", "Unpack damaged packages of COMPUTER once more, after a question."),
    "trial": ("trial", "Switch changes of COMPUTER on and off in random order, and look."),
    "trim": ("acting", "Tell the solid-state disks of COMPUTER what is free on them."),
    "watch": ("watch", "A short look that COMPUTER takes by itself, for the next visit."),
    "upkeep": ("upkeep", "Tasks of upkeep of COMPUTER: what they found, when they are due."),
}
"""The module of `lumtak.commands` that has each command, and what it does: so that a command waits
for its own module, and neither help nor completion for any.
"""


class _Commands(click.Group):
    """Commands that are imported when they are named."""

    def list_commands(self, ctx: click.Context) -> list[str]:  # noqa: ARG002
        return sorted(_COMMANDS)

    def get_command(self, ctx: click.Context, cmd_name: str) -> click.Command | None:
        if cmd_name not in _COMMANDS:
            return None
        if ctx.resilient_parsing:  # for completion
            from lumtak.commands.stubs import stub

            return stub(cmd_name)
        found = vars(importlib.import_module(f"lumtak.commands.{_COMMANDS[cmd_name][0]}"))
        name = cmd_name.replace("-", "_")
        command = found.get(f"{name}_command", found.get(f"{name}_group"))
        return command if isinstance(command, click.Command) else None

    def format_commands(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:  # noqa: ARG002
        with formatter.section("Commands"):
            formatter.write_dl([(name, about) for name, (_, about) in _COMMANDS.items()])

    def shell_complete(self, ctx: click.Context, incomplete: str) -> "list[CompletionItem]":
        from click.shell_completion import CompletionItem

        found = [
            CompletionItem(name, help=about)
            for name, (_, about) in _COMMANDS.items()
            if name.startswith(incomplete)
        ]
        return found + click.Command.shell_complete(self, ctx, incomplete)


def _version(context: click.Context, _: click.Parameter, value: bool) -> None:  # noqa: FBT001 - click calls it so
    """What this is, and where its data, settings and knowledge stand."""
    if not value or context.resilient_parsing:
        return
    home = context.find_root().meta.get("lumtak.home") or default_home()
    click.echo(f"lumtak {__version__}")
    for name, path in (
        ("data", home),
        ("settings", home / "settings.toml"),
        ("knowledge", home / "knowledge"),
        ("profiles", home / "profiles"),
    ):
        there = "" if path.exists() else "   (nothing there yet)"
        click.echo(f"{name:<11}{path}{there}")
    context.exit()


@click.group(
    cls=_Commands,
    invoke_without_command=True,
    context_settings={"help_option_names": ["-h", "--help"], "max_content_width": 110},
)
@home_option
@click.option(
    "--version",
    is_flag=True,
    expose_value=False,
    callback=_version,
    help="Say which Lumtak this is, and where its data, settings and knowledge stand.",
)
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
        from lumtak.commands.common import home
        from lumtak.commands.work import open_workbench

        open_workbench(home())
