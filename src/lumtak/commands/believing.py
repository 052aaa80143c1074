"""Records of which the computer has no receipt: named by a script, or shown and asked about."""

import sys

import click

from lumtak.core.text import plain
from lumtak.core.units import counted
from lumtak.errors import UsageError
from lumtak.journal import UNSEEN, Entry, Outcome, recorded


def believed_of(entries: list[Entry], named: tuple[str, ...]) -> list[int]:
    """Places in the journal of the records that a script says are to be believed.

    Raises:
        UsageError: one is no number, or none of those that are put back.
    """
    words = [word for text in named for word in text.replace(",", " ").split()]
    by_number = {str(e.number): e.id for e in entries}
    if strange := next((word for word in words if word not in by_number), ""):
        raise UsageError(
            f"{plain(strange, 20)} is no number of a change that is put back now.",
            "Name it among the changes too, or see `lumtak journal COMPUTER`.",
        )
    return [by_number[word] for word in words]


def agreed_of(entries: list[Entry], outcomes: list[Outcome], *, as_json: bool) -> list[int]:
    """Places of records without a receipt, where a person was shown all that they would write and
    agreed; nobody else can.
    """
    unseen = {o.id for o in outcomes if o.unseen}
    waiting = [e for e in entries if e.id in unseen]
    if not waiting or as_json or not sys.stdin.isatty():
        return []
    click.echo(UNSEEN)
    for entry in waiting:
        click.echo(f"Change {entry.number}, {plain(entry.title, 80)}:")
        for line in recorded(entry):
            click.echo(f"  {line}")
    count = counted(len(waiting), "change")
    if not click.confirm(f"Is that what stood there before, and {count} put back?", default=False):
        return []
    return [e.id for e in waiting]
