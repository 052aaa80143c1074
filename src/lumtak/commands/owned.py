"""The owner's files for a person: the largest, and those of which there are several."""

from datetime import datetime

import click
import msgspec

from lumtak.commands.change import stopping
from lumtak.commands.common import columns, progress, say_json
from lumtak.computers.protocol import Computer
from lumtak.core.clutter import Survey, age_in_words
from lumtak.core.owned import Comparing, CopiesFound, Wanted, kind_of, largest
from lumtak.core.text import plain
from lumtak.core.units import counted, ram


def say_largest(
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
    columns(
        [
            (
                f"{ram(f.bytes):>10}",
                kind_of(f.path),
                age_in_words(f.changed_at, now.timestamp()).removeprefix("up to "),
                plain(f.path, 100),
            )
            for f in found
        ]
    )


def say_duplicates(computer: Computer, wanted: Wanted, *, as_json: bool) -> None:
    """Files of the same content, compared byte for byte; shown, and nothing chosen."""

    def tell(done: Comparing) -> None:
        share = f"{100 * done.bytes / done.whole_bytes:.0f} %" if done.whole_bytes else ""
        progress(f"{done.what}: {done.files} files {share}")

    try:
        with stopping("Ending…") as stop:
            least = max(1, int(wanted.least_bytes))
            found = computer.about.copies(wanted.folder, least, tell, stop)
        progress("")
    finally:
        computer.close()
    groups = [g for g in found.groups if wanted.kind in {None, kind_of(g.copies[0][0])}]
    if as_json:
        shown = msgspec.structs.replace(found, groups=tuple(groups))
        say_json({"computer": computer.address, **msgspec.to_builtins(shown)})
        return
    for group in groups:
        click.echo(f"{ram(group.bytes)} each, {group.count} copies:")
        for names in group.copies:
            more = f"  (and {counted(len(names) - 1, 'link')})" if len(names) > 1 else ""
            click.echo(f"    {plain(names[0], 120)}{more}")
    click.echo(
        f"{counted(len(groups), 'group')}: {ram(sum(g.frees_bytes for g in groups))} would be free"
        f" if one of each stayed. {counted(found.files, 'file')} looked at, {found.unread} not"
        f" readable{_not_compared(found)}."
    )


def _not_compared(found: CopiesFound) -> str:
    left = f", {found.left} of the smallest not compared" if found.left else ""
    return f"{left}, {found.changed} changed meanwhile" if found.changed else left
