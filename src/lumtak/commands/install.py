"""What a tool brings with it: completion for shells, and a man page made from the help."""

import inspect
import re

import click
from click.shell_completion import get_completion_class

from lumtak import __version__

_SHELLS = ("bash", "zsh", "fish")


@click.command("completion")
@click.argument("shell", type=click.Choice(_SHELLS))
@click.pass_context
def completion_command(context: click.Context, shell: str) -> None:
    """Print what makes SHELL complete lumtak's commands and options.

    \b
    lumtak completion bash > ~/.local/share/bash-completion/completions/lumtak
    lumtak completion zsh > ~/.zfunc/_lumtak          (a folder of $fpath)
    lumtak completion fish > ~/.config/fish/completions/lumtak.fish
    """
    kind = get_completion_class(shell)
    if kind is None:  # pragma: no cover - click knows all three
        raise click.UsageError(f"{shell} is not known.")
    root = context.find_root().command
    click.echo(kind(root, {}, "lumtak", "_LUMTAK_COMPLETE").source())


@click.command("man")
@click.pass_context
def man_command(context: click.Context) -> None:
    """Print the man page, made from the help of every command.

    \b
    lumtak man | man -l -
    lumtak man > ~/.local/share/man/man1/lumtak.1
    """
    click.echo(man_page(context.find_root().command), nl=False)


def man_page(root: click.Command) -> str:
    """The man page as roff (man(7)), made from the help of every command."""
    context = click.Context(root, info_name="lumtak", **root.context_settings)
    about, *rest = _paragraphs(root.help or "")
    lines = [
        f'.TH LUMTAK 1 "" "lumtak {__version__}" "User Commands"',
        ".SH NAME",
        f"lumtak \\- {_roff(_first(about))}",
        ".SH SYNOPSIS",
        ".B lumtak",
        r"[\fIOPTIONS\fR] [\fICOMMAND\fR [\fIARGUMENTS\fR]...]",
        ".SH DESCRIPTION",
        *_prose([about, *rest]),
        ".SH OPTIONS",
        *_options(root, context),
        ".SH COMMANDS",
        *_commands(root, context, "lumtak"),
        ".SH FILES",
        ".TP",
        ".I ~/.local/share/lumtak",
        "Jobs, journal, settings.toml, knowledge and profiles of the shop; --home names another.",
    ]
    return "\n".join(lines) + "\n"


def _commands(group: click.Command, context: click.Context, path: str) -> list[str]:
    """Every command below a group, with its usage, help and options."""
    if not isinstance(group, click.Group):
        return []
    lines = []
    for name in group.list_commands(context):
        command = group.get_command(context, name)
        if command is None or command.hidden:
            continue
        inside = click.Context(command, info_name=name, parent=context)
        usage = " ".join(command.collect_usage_pieces(inside))
        lines += [
            f".SS {_roff(f'{path} {name} {usage}')}",
            *_prose(_paragraphs(command.help or "")),
            *_options(command, inside),
            *_commands(command, inside, f"{path} {name}"),
        ]
    return lines


def _options(command: click.Command, context: click.Context) -> list[str]:
    """The options of a command, but for those that all have."""
    lines = []
    for option in command.get_params(context):
        record = option.get_help_record(context)
        if record is None or (context.parent is not None and option.name == "help"):
            continue
        names, words = record
        lines += [".TP", f".B {_roff(names)}", _roff(words or names)]
    return lines


def _paragraphs(text: str) -> list[str]:
    """Without their common indentation, which a docstring has."""
    return [p for p in re.split(r"\n\s*\n", inspect.cleandoc(text)) if p.strip()]


def _prose(paragraphs: list[str]) -> list[str]:
    r"""Paragraphs; one that begins with \b keeps its lines."""
    lines = []
    for words in paragraphs:
        if words.startswith("\b"):
            kept = words.removeprefix("\b").strip("\n").split("\n")
            lines += [".PP", ".nf", *(_roff(line) for line in kept), ".fi"]
        else:
            lines += [".PP", _roff(" ".join(words.split()))]
    return lines


def _first(words: str) -> str:
    return " ".join(words.split()).rstrip(".").split(". ", maxsplit=1)[0]


def _roff(words: str) -> str:
    """Text that is no request and no escape."""
    safe = words.replace("\\", r"\e").replace("-", r"\-")
    return rf"\&{safe}" if safe.startswith((".", "'")) else safe
