"""The owner's files for a person: the largest, downloads, folders, those of which there are
several.
"""

from collections.abc import Sequence
from datetime import datetime
from typing import NamedTuple

import click
import msgspec

from lumtak.commands.change import stopping
from lumtak.commands.common import columns, progress, say_json
from lumtak.commands.programs import say_programs
from lumtak.computers.protocol import Computer
from lumtak.core.clutter import BigFile, BigFolder, Looked, Survey, age_in_words
from lumtak.core.owned import Comparing, CopiesFound, Wanted, kind_of, largest
from lumtak.core.text import plain
from lumtak.core.units import counted, ram
from lumtak.work.data_folder import DataFolder
from lumtak.work.owned import look_for_copies
from lumtak.work.surveys import look_through_all, with_others

VIEWS = ("largest", "downloads", "folders", "hollow", "duplicates", "programs")


class Asked(NamedTuple):
    """What is to be shown."""

    view: str
    wanted: Wanted
    everything: bool
    as_json: bool


def say_view(data_folder: DataFolder, computer: Computer, asked: Asked) -> None:
    """One view."""
    if asked.view == "programs":
        say_programs(
            data_folder, computer, asked.wanted, everything=asked.everything, as_json=asked.as_json
        )
    elif asked.view == "duplicates":
        _say_duplicates(data_folder, computer, asked.wanted, as_json=asked.as_json)
    else:
        _say_files(data_folder, computer, asked)


def _say_files(data_folder: DataFolder, computer: Computer, asked: Asked) -> None:
    wanted = asked.wanted
    if asked.view == "downloads" and not wanted.folder:
        wanted = msgspec.structs.replace(wanted, folder=computer.about.folders()["downloads"])
    with stopping("Ending…") as stop:
        if wanted.folder and not computer.address.startswith("sim:"):
            # A folder by itself is looked through whole: of a volume the largest files alone stay.
            survey = computer.about.survey(_looking, stop, wanted.folder)
        else:
            survey, _, others = look_through_all(data_folder, computer, _looking, stop)
            survey = with_others(survey, (other for other, _ in others))
    progress("")
    now = computer.clock.wall()
    if asked.view in {"folders", "hollow"}:
        _say_folders(computer.address, survey, asked.view, wanted, as_json=asked.as_json)
    else:
        _say_largest(computer.address, survey, wanted, now, as_json=asked.as_json)


def _looking(looked: Looked) -> None:
    progress(f"{looked.done} looked at   {plain(looked.at, 60)}"[:100])


def _say_largest(
    address: str, survey: Survey, wanted: Wanted, now: datetime, *, as_json: bool
) -> None:
    """The largest files that are wanted."""
    found = largest(survey.largest, wanted, now.timestamp())
    if as_json:
        files = [{**msgspec.to_builtins(f), "kind": kind_of(f.path)} for f in found]
        say_json({"format": 1, "computer": address, "files": files})
        return
    if not found:
        click.echo("Of the thousand largest files none is as you want them.")
    columns([_row(file, now) for file in found])


def _row(file: BigFile, now: datetime) -> tuple[str, ...]:
    age = age_in_words(file.changed_at, now.timestamp()).removeprefix("up to ")
    return f"{ram(file.bytes):>10}", kind_of(file.path), age, plain(file.path, 100)


def _say_folders(address: str, survey: Survey, view: str, wanted: Wanted, *, as_json: bool) -> None:
    held: Sequence[BigFolder] = survey.hollow if view == "hollow" else survey.folders
    below = wanted.folder.rstrip("/") + "/"
    found = [
        f
        for f in held
        if f.bytes >= wanted.least_bytes and (not wanted.folder or f.path.startswith(below))
    ]
    if as_json:
        say_json({"format": 1, "computer": address, "folders": found})
        return
    if not found:
        click.echo("No folder is as you want them.")
    columns([(f"{ram(f.bytes):>10}", _files(f), plain(f.path, 100)) for f in found])


def _files(folder: BigFolder) -> str:
    return counted(folder.files, "file").rjust(14) if folder.files else "nothing in it".rjust(14)


def _say_duplicates(
    data_folder: DataFolder, computer: Computer, wanted: Wanted, *, as_json: bool
) -> None:
    """Files of the same content, compared byte for byte; shown, and nothing chosen."""

    def tell(done: Comparing) -> None:
        share = f"{100 * done.bytes / done.whole_bytes:.0f} %" if done.whole_bytes else ""
        progress(f"{done.what}: {done.files} files {share}")

    with stopping("Ending…") as stop:
        least = max(1, int(wanted.least_bytes))
        found = look_for_copies(data_folder, computer, wanted.folder, least, tell, stop)
    progress("")
    groups = [g for g in found.groups if wanted.kind in {None, kind_of(g.copies[0][0])}]
    if as_json:
        shown = msgspec.structs.replace(found, groups=tuple(groups))
        say_json({"computer": computer.address, **msgspec.to_builtins(shown)})
        return
    for group in groups:
        click.echo(f"{ram(group.bytes)} each, {group.count} copies:")
        for names in group.copies[:_MOST_COPIES]:
            more = f"  (and {counted(len(names) - 1, 'link')})" if len(names) > 1 else ""
            click.echo(f"    {plain(names[0], 120)}{more}")
        if len(group.copies) > _MOST_COPIES:
            more = counted(len(group.copies) - _MOST_COPIES, "more copy", "more copies")
            click.echo(f"    and {more}; --json names them all")
    most = "" if all(g.sure for g in groups) else "at most "
    size = ram(sum(g.frees_bytes for g in groups))
    click.echo(
        f"{counted(len(groups), 'group')}: {most}{size} would be free"
        f" if one of each stayed. {counted(found.files, 'file')} looked at, {found.unread} not"
        f" readable{_not_compared(found)}."
    )


_MOST_COPIES = 50


def _not_compared(found: CopiesFound) -> str:
    left = f", {found.left:,} too many to be compared" if found.left else ""
    return f"{left}, {found.changed} changed meanwhile" if found.changed else left
