"""The command line: everything the screens do can be done without them."""

import click

from lumtak import __version__
from lumtak.commands.act import end_command
from lumtak.commands.change import apply_command, undo_command
from lumtak.commands.common import home, home_option
from lumtak.commands.compare import compare_command
from lumtak.commands.journal import drift_command, journal_command, restart_command
from lumtak.commands.know import (
    advice_command,
    answer_command,
    capture_command,
    explain_command,
    memory_command,
    profile_show,
    profile_suggest,
)
from lumtak.commands.knowledge import knowledge_group
from lumtak.commands.known import known_command
from lumtak.commands.look import (
    audit_command,
    facts_command,
    look_command,
    profile_group,
    read_command,
)
from lumtak.commands.work import (
    chart_command,
    demo_command,
    example_command,
    job_group,
    jobs_command,
    open_workbench,
    report_command,
)


@click.group(
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
    lumtak demo                                               try everything on made-up computers
    lumtak audit local --profile writing-and-web              what weighs here, and is it needed?
    lumtak apply local apps:NAME=off                          change a setting
    lumtak undo local --all                                   put everything back

    Exit codes: 0 done, 1 failed, 2 usage, 3 conflict or partly done.
    """
    if context.invoked_subcommand is None:
        open_workbench(home())


for command in (
    demo_command,
    example_command,
    facts_command,
    profile_group,
    audit_command,
    look_command,
    read_command,
    compare_command,
    apply_command,
    restart_command,
    journal_command,
    undo_command,
    drift_command,
    end_command,
    explain_command,
    known_command,
    knowledge_group,
    memory_command,
    answer_command,
    advice_command,
    capture_command,
    jobs_command,
    job_group,
    report_command,
    chart_command,
):
    cli.add_command(command)
for command in (profile_show, profile_suggest):
    profile_group.add_command(command)
