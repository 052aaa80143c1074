"""Commands as completion needs them: names, options and choices, without what they do.

Made from the commands themselves (`make helpfiles`), so that a shell waits for none of them.
"""

import json
from importlib.resources import files
from typing import Any

import click


def stub(name: str) -> click.Command | None:
    """The command of this name; None where there is none."""
    text = (files("lumtak") / "data" / "commands.json").read_text(encoding="utf-8")
    found = json.loads(text).get(name)
    return None if found is None else _made(name, found)


def _made(name: str, found: dict[str, Any]) -> click.Command:
    params = [_option(*row) for row in found["options"]] + [
        _argument(*r) for r in found["arguments"]
    ]
    if "commands" not in found:
        return click.Command(name, params=params, help=found["about"])
    below = {n: _made(n, f) for n, f in found["commands"].items()}
    return click.Group(name, commands=below, params=params, help=found["about"])


def _type(kind: str, choices: list[str]) -> "click.ParamType[Any]":
    if kind == "choice":
        return click.Choice(choices)
    return click.Path() if kind == "path" else click.STRING


def _option(
    names: list[str],
    is_flag: bool,  # noqa: FBT001 - a row
    kind: str,
    choices: list[str],
    about: str,
) -> click.Parameter:
    shown = [n for n in names if n.startswith("-")]
    if is_flag:
        return click.Option(shown, is_flag=True, help=about)
    return click.Option(shown, type=_type(kind, choices), help=about)


def _argument(name: str, kind: str, choices: list[str], nargs: int) -> click.Parameter:
    return click.Argument([name], type=_type(kind, choices), nargs=nargs, required=False)
