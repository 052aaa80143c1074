"""What is made from the help of every command: the man page, and what completion offers without
importing any command: `make helpfiles`.
"""

import json
from pathlib import Path

import click

from lumtak.cli import cli
from lumtak.commands.install import man_page

HERE = Path(__file__).parents[1]
MAN = HERE / "docs" / "lumtak.1"
TREE = HERE / "src" / "lumtak" / "data" / "commands.json"


def tree(command, context):
    """A command: its options, its arguments, and the commands below it."""
    found = {"about": command.get_short_help_str(70), "options": [], "arguments": []}
    for param in command.params:
        choices = list(param.type.choices) if isinstance(param.type, click.Choice) else []
        kind = "choice" if choices else "path" if isinstance(param.type, click.Path) else "text"
        if isinstance(param, click.Option):
            found["options"].append(
                [
                    [*param.opts, *param.secondary_opts],
                    param.is_flag,
                    kind,
                    choices,
                    param.help or "",
                ]
            )
        else:
            found["arguments"].append([param.name, kind, choices, param.nargs])
    if isinstance(command, click.Group):
        found["commands"] = {
            name: tree(below, click.Context(below, info_name=name, parent=context))
            for name in command.list_commands(context)
            if (below := command.get_command(context, name))
        }
    return found


def files():
    """(path, text) of each."""
    commands = tree(cli, click.Context(cli, **cli.context_settings))["commands"]
    return [(MAN, man_page(cli)), (TREE, json.dumps(commands, indent=0, ensure_ascii=False) + "\n")]


if __name__ == "__main__":
    for path, text in files():
        path.write_text(text, encoding="utf-8")
        print(path.relative_to(HERE))
