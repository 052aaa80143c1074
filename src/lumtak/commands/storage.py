"""Commands about the disk: where it went, set aside, emptied."""

from datetime import datetime
from pathlib import Path

import click

from lumtak.commands.change import stopping
from lumtak.commands.common import (
    columns,
    json_option,
    profile_option,
    progress,
    say_json,
    user_option,
    with_data_folder,
)
from lumtak.commands.owned import VIEWS, Asked, say_view
from lumtak.computers.protocol import Computer
from lumtak.core.audit import Audit, Finding
from lumtak.core.clutter import Grown, Looked, Survey, age_in_words, growth_in_words
from lumtak.core.floor import floor_bytes
from lumtak.core.owned import KINDS, Kind, Wanted
from lumtak.core.profile import Profile
from lumtak.core.record import NotMeasured
from lumtak.core.text import plain
from lumtak.core.units import MIB, counted, ram
from lumtak.work.data_folder import DataFolder
from lumtak.work.storage import Held, growth, held_on, judged, profile_for, storage_of, with_survey
from lumtak.work.surveys import look_through, look_through_all

_SHOWN = 10
_PARTS = {
    "system": "the system",
    "programs": "programs",
    "own": "the owner's files",
    "leftovers": "leftovers of checks of the disk",
}


@click.command("storage")
@click.argument("address", metavar="COMPUTER")
@click.argument("view", required=False, type=click.Choice(VIEWS))
@click.option("--least", default=0.0, metavar="MIB", help="Only files of at least so many MiB.")
@click.option("--older", default=0.0, metavar="DAYS", help="Only what was changed before that.")
@click.option("--kind", type=click.Choice(KINDS), help="Only files of a kind, by their ending.")
@click.option("--folder", default="", metavar="PATH", help="Only below a folder.")
@click.option("--all", "everything", is_flag=True, help="Programs: those that others need, too.")
@click.option(
    "--volume",
    default="/",
    metavar="PATH",
    help="Another volume, by a folder on it: one on a network, a stick. Default: the system's.",
)
@profile_option
@user_option
@json_option
@with_data_folder
def storage_command(
    data_folder: DataFolder,
    address: str,
    view: str | None,
    least: float,
    older: float,
    kind: Kind | None,
    folder: str,
    volume: str,
    profile_name: str | None,
    user: str | None,
    *,
    everything: bool,
    as_json: bool,
) -> None:
    """Where the disk of COMPUTER went, what may be set aside, what grew since the last look.
    Nothing is touched; Ctrl-C ends it. With a view: the owner's files and programs, shown and never
    chosen. Hollow folders have nothing or next to nothing in them.

    \b
    lumtak storage local
    lumtak storage sim:tool-crib --json
    lumtak storage local --volume /media/stick
    lumtak storage local largest --kind film --older 365
    lumtak storage local downloads --older 180
    lumtak storage local duplicates --least 1 --folder ~/pictures
    lumtak storage local programs --json
    sudo lumtak storage local --user mia       folders that only root may look into, too
    """
    below = "" if not folder else str(Path(folder).expanduser().absolute())
    wanted = Wanted(least_bytes=least * MIB, older_days=older, kind=kind, folder=below)
    top = str(Path(volume).resolve())
    computer = data_folder.computer(address, user=user)
    try:
        if view is not None:
            say_view(data_folder, computer, Asked(view, wanted, everything, as_json))
        elif top != "/":
            _say_one(data_folder, computer, top, profile_name, as_json=as_json)
        else:
            _say_all(data_folder, computer, profile_name, as_json=as_json)
    finally:
        computer.close()


def _say_one(
    data_folder: DataFolder, computer: Computer, top: str, name: str | None, *, as_json: bool
) -> None:
    """A volume that somebody named."""
    with stopping("Ending…") as stop:
        survey, before = look_through(data_folder, computer, _tell, stop, top)
    progress("")
    grew = growth(before, survey)
    if as_json:
        say_json({"format": 1, "computer": computer.address, "survey": survey, "grown": grew})
    else:
        _say_other(survey, grew, profile_for(data_folder, computer.identity, name))


def _say_all(
    data_folder: DataFolder, computer: Computer, name: str | None, *, as_json: bool
) -> None:
    """The system's volume, then each other that holds something of the owner's."""
    with stopping("Ending…") as stop:
        survey, before, others = look_through_all(data_folder, computer, _tell, stop)
    progress("")
    facts = with_survey(computer.about.facts(), survey)
    now = computer.clock.wall()
    profile = profile_for(data_folder, facts.identity, name)
    found = judged(data_folder, facts, profile)
    held = held_on(facts, profile, now)
    grew = growth(before, survey)
    if as_json:
        also = [{"survey": s, "grown": growth(b, s)} for s, b in others]
        document = _document(computer.address, found, survey, held, grew)
        say_json({**document, "volumes": also})
        return
    _say_volume(found, survey)
    _say_classes(found, now)
    _say_held(held, now)
    _say_largest(survey)
    _say_growth(before, survey, grew)
    for other, then in others:
        click.echo(f"\nThe volume at {plain(other.top, 90)}, which holds something of the owner's:")
        _say_other(other, growth(then, other), profile)


def _say_growth(before: Survey | None, survey: Survey, grew: list[Grown]) -> None:
    if before is None:
        return
    click.echo(f"\n{growth_in_words(before, survey)}")
    columns([("  " + _more(g), plain(g.path, 90)) for g in grew[:_SHOWN]])


def _say_other(survey: Survey, grew: list[Grown], profile: Profile) -> None:
    """A volume that is not the system's: what is on it, and nothing of clutter."""
    floor = ram(floor_bytes(profile, survey.total_bytes))
    click.echo(
        f"{ram(survey.free_bytes)} of {ram(survey.total_bytes)} are free; {floor} should be."
    )
    if survey.reserved_bytes >= MIB:
        click.echo(f"  {ram(survey.reserved_bytes):>10}  kept back by the file system for root")
    click.echo("\nThe largest folders:")
    columns([(f"  {ram(f.bytes):>10}", plain(f.path, 90)) for f in survey.folders[:_SHOWN]])
    _say_largest(survey)
    columns([("  " + _more(g), plain(g.path, 90)) for g in grew[:_SHOWN]])


def _tell(looked: Looked) -> None:
    share = f" of about {looked.whole}" if looked.whole else ""
    progress(f"{looked.done}{share} looked at   {plain(looked.at, 50)}"[:100])


def _document(
    address: str, found: Audit, survey: Survey, held: list[Held], grew: list[Grown]
) -> dict[str, object]:
    room = found.room
    return {
        "format": 1,
        "computer": address,
        "at": survey.at,
        "profile": found.profile,
        "total_bytes": survey.total_bytes,
        "free_bytes": survey.free_bytes,
        "floor_bytes": None if room is None else room.floor_bytes,
        "classes": [
            {
                "name": f.pile.clutter,
                "title": f.title,
                "bytes": f.weight.disk_bytes,
                "files": f.pile.files,
                "stance": f.stance,
                "reason": f.reason,
                "all_bytes": f.pile.all_bytes,
                "left": f.pile.left,
                "oldest_at": f.pile.oldest_at,
                "command": f.pile.command,
            }
            for f in storage_of(found)
            if f.pile and not f.pile.held_at
        ],
        "held": [
            {
                "address": str(h.ref),
                "bytes": h.bytes,
                "files": h.files,
                "since": h.since.isoformat(),
                "due": h.due.isoformat(),
            }
            for h in held
        ],
        "survey": survey,
        "grown": grew,
    }


def _say_volume(found: Audit, survey: Survey) -> None:
    room = found.room
    floor = "" if room is None else f"; {ram(room.floor_bytes)} should be"
    click.echo(f"{ram(survey.free_bytes)} of {ram(survey.total_bytes)} are free{floor}.")
    if room is not None and room.is_short:
        click.echo(room.in_words())
    columns([(f"  {ram(size):>10}", _PARTS.get(p, p)) for p, size in _parts(survey)])
    unseen = survey.unseen_bytes
    if survey.reserved_bytes >= MIB:
        click.echo(f"  {ram(survey.reserved_bytes):>10}  kept back by the file system for root")
    if unseen > 0 and survey.unread:
        where = ", ".join(plain(p, 60) for p in survey.unread_named[:3])
        click.echo(
            f"  {ram(unseen):>10}  not seen: {counted(survey.unread, 'folder')} cannot be looked"
            f" into ({where}{', …' if survey.unread > 3 else ''})"
        )
    elif unseen > 0:
        click.echo(f"  {ram(unseen):>10}  in no folder here: the file system's own, or still open")


def _parts(survey: Survey) -> list[tuple[str, float]]:
    held = ((part, size) for part, size in survey.parts.items() if size >= MIB)
    return sorted(held, key=lambda part: -part[1])


def _say_classes(found: Audit, now: datetime) -> None:
    click.echo("\nWhat may be set aside, by class:")
    columns([_as_row(f, now) for f in storage_of(found) if f.pile and not f.pile.held_at])


def _as_row(finding: Finding, now: datetime) -> tuple[str, ...]:
    pile, size = finding.pile, finding.weight.disk_bytes
    if pile is None or isinstance(size, NotMeasured):
        return (f"  {finding.stance}", "", "", "", plain(finding.key, 40), plain(finding.why))
    how = f" Its command: {pile.command}" if pile.command else ""
    if unread := pile.left.get("cannot be read"):
        how += f" Not all of it is seen: {unread} cannot be read without root."
    return (
        f"  {finding.stance}",
        ram(size).rjust(9),
        counted(pile.files, "file").rjust(13),
        age_in_words(pile.oldest_at, now.timestamp()),
        plain(finding.key, 40),
        plain(f"{finding.why}{how}", 200),
    )


def _say_held(held: list[Held], now: datetime) -> None:
    if not held:
        return
    click.echo("\nSet aside, until it is emptied:")
    columns(
        [
            (
                f"  {ram(h.bytes):>9}",
                counted(h.files, "file").rjust(13),
                plain(str(h.ref), 60),
                f"since {h.since:%Y-%m-%d}",
                "can be emptied" if h.due <= now else f"to be emptied from {h.due:%Y-%m-%d} on",
            )
            for h in held
        ]
    )


def _say_largest(survey: Survey) -> None:
    if not survey.largest:
        return
    click.echo("\nThe largest files:")
    columns([(f"  {ram(f.bytes):>10}", plain(f.path, 90)) for f in survey.largest[:_SHOWN]])


def _more(grew: Grown) -> str:
    sign = "+" if grew.bytes > 0 else ""
    return f"{sign}{ram(grew.bytes)}".rjust(11) + (" and more" if grew.at_least else "")
