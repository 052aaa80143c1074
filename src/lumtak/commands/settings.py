"""Commands for what the shop sets once."""

import click

from lumtak.commands.common import columns, json_option, say_json, with_data_folder
from lumtak.core.settings import ABOUT, SETTABLE, Settings, value_of, with_value
from lumtak.core.text import plain
from lumtak.errors import UsageError
from lumtak.tui.keys import BY_NAME, KEYS, mapped, shown
from lumtak.work.data_folder import DataFolder


@click.group("settings")
def settings_group() -> None:
    """What the shop sets once: report folder, name and address, theme, units, keys, confidence.

    They stand in settings.toml of the data folder (docs/FORMATS.md); the workbench has a screen for
    them.

    \b
    lumtak settings list
    lumtak settings set shop.name "Workshop at the quay"
    lumtak settings set keys.least x
    lumtak settings unset keys.least
    """


@settings_group.command("list")
@json_option
@with_data_folder
def list_command(data_folder: DataFolder, *, as_json: bool) -> None:
    """All settings with their values, and all keys.

    \b
    lumtak settings list
    lumtak settings list --json
    """
    settings = data_folder.read_settings()
    keys, wrong = mapped(settings.keys)
    if as_json:
        say_json({"format": 1, "settings": settings, "keys": keys, "problems": wrong})
        return
    click.echo(f"{data_folder.settings_path}\n")
    columns([(name, plain(value_of(settings, name), 60), ABOUT[name]) for name in SETTABLE])
    click.echo()
    columns([(f"keys.{k.name}", shown(keys[k.name]), f"{k.words} ({k.where})") for k in KEYS])
    for sentence in wrong:
        click.echo(sentence, err=True)


@settings_group.command("set")
@click.argument("name")
@click.argument("value")
@with_data_folder
def set_command(data_folder: DataFolder, name: str, value: str) -> None:
    """Set one of them.

    \b
    lumtak settings set report_folder ~/Reports
    lumtak settings set theme light
    lumtak settings set confidence 0.95
    lumtak settings set keys.search f
    """
    made = with_value(data_folder.read_settings(), name, value)
    _refuse_bad_keys(made, name)
    data_folder.keep_settings(made)
    click.echo(f"{name} is {plain(value, 200)}.")


@settings_group.command("unset")
@click.argument("name")
@with_data_folder
def unset_command(data_folder: DataFolder, name: str) -> None:
    """Set one of them as it was before anybody set it.

    \b
    lumtak settings unset report_folder
    lumtak settings unset keys.search
    """
    now = data_folder.read_settings()
    if name.startswith("keys."):
        if name.removeprefix("keys.") not in now.keys:
            raise UsageError(f"No key is set for {plain(name.removeprefix('keys.'), 60)}.")
        before = ""
    else:
        before = value_of(Settings(), name) if name in SETTABLE else ""
    made = with_value(now, name, before)
    _refuse_bad_keys(made, name)
    data_folder.keep_settings(made)
    click.echo(f"{name} is as it was before anybody set it.")


def _refuse_bad_keys(made: Settings, name: str) -> None:
    """A key that cannot be had, or that another command has in the same place.

    Raises:
        UsageError: it names both.
    """
    if not name.startswith("keys."):
        return
    if name.removeprefix("keys.") not in BY_NAME:
        raise UsageError(
            f"There is no command “{plain(name.removeprefix('keys.'), 60)}” to give a key.",
            "`lumtak settings list` shows them.",
        )
    if wrong := mapped(made.keys)[1]:
        raise UsageError(" ".join(wrong))
