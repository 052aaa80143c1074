"""Commands that say what was changed on a computer, and how it stands now."""

from collections.abc import Iterator

import click

from lumtak.commands.common import columns, json_option, say_json, with_data_folder
from lumtak.computers.protocol import Computer
from lumtak.core.text import plain
from lumtak.core.units import counted
from lumtak.errors import ConflictError
from lumtak.journal import (
    Drift,
    Entry,
    Owed,
    Review,
    drift,
    give_up_lost,
    older_scripts,
    owed_now,
    review,
)
from lumtak.work.data_folder import DataFolder


@click.command("drift")
@click.argument("address", metavar="COMPUTER")
@json_option
@with_data_folder
def drift_command(data_folder: DataFolder, address: str, *, as_json: bool) -> None:
    """Which settings of COMPUTER are no longer as Lumtak left them, and when they were last seen
    right.

    Exits with 3 when there are any.

    \b
    lumtak drift local
    lumtak drift sim:drawing-bench --json
    """
    identity = data_folder.computer(address).identity
    changed = [e for e in data_folder.journal.entries(identity) if e.is_open]
    found: list[Drift] = []
    for computer, _ in by_user(data_folder, address, changed):
        found += drift(data_folder.journal, computer)
        computer.close()
    gone = [d for d in found if d.is_drift]
    if as_json:
        say_json(
            {
                "format": 1,
                "computer": address,
                "settings": [_drift_json(d) for d in found],
                "drifted": len(gone),
            }
        )
    elif not found:
        click.echo("Nothing on this computer stands changed by Lumtak.")
    else:
        rows = [("no.", "setting", "before", "left as", "now", "", "last seen right", "note")]
        rows += [
            (
                str(d.entry.number), plain(str(d.entry.ref), 60), d.entry.restore.word,
                d.entry.word, d.now, d.standing,
                d.last_right[:16].replace("T", " "), plain(d.note, 200),
            )
            for d in found
        ]  # fmt: skip
        columns(rows)
    say_lost(data_folder, address, data_folder.journal.lost(identity))
    if gone:
        raise ConflictError(
            f"{len(gone)} of {counted(len(found), 'setting is', 'settings are')} no longer as"
            " left.",
            "Apply them again, or `lumtak undo` puts back what is left.",
        )


def _drift_json(found: Drift) -> dict[str, object]:
    return {
        "id": found.entry.id,
        "number": found.entry.number,
        "setting": str(found.entry.ref),
        "user": found.entry.user,
        "before": found.entry.restore.value,
        "left_as": found.entry.value,
        "now": found.now,
        "standing": found.standing,
        "last_seen_right": found.last_right,
        "note": found.note,
    }


@click.command("journal")
@click.argument("address", metavar="COMPUTER")
@click.option(
    "--settle-lost",
    is_flag=True,
    help="Changes whose records were lost are put back by hand or by the undo script.",
)
@json_option
@with_data_folder
def journal_command(
    data_folder: DataFolder, address: str, *, settle_lost: bool, as_json: bool
) -> None:
    """All changes that Lumtak made on COMPUTER, oldest first.

    Exits with 3 while there are changes whose records were lost.
    """
    computer = data_folder.computer(address)
    if settle_lost:
        give_up_lost(data_folder.journal, computer)
    entries = data_folder.journal.entries(computer.identity)
    owed = owed_now(data_folder.journal, computer)
    found = review(data_folder.journal, computer)
    if as_json:
        shown = [_as_json(e) for e in entries]
        lost = data_folder.journal.lost(computer.identity)
        say_json(
            {
                "format": 1, "computer": address, "changes": shown, "owed": owed,
                "interrupted": found.lines, "lost": lost,
            }
        )  # fmt: skip
    elif not entries:
        click.echo("The journal holds no change of this computer.")
    else:
        _say_entries(entries, found, owed)
    say_lost(data_folder, address, data_folder.journal.lost(computer.identity))


def _say_entries(entries: list[Entry], found: Review, owed: Owed) -> None:
    rows = [("no.", "when", "setting", "before", "changed to", "state", "note")]
    rows += [
        (
            str(e.number),
            e.begun_at[:16].replace("T", " "),
            plain(str(e.ref), 60),
            e.before.word,
            e.word,
            e.stage,
            e.note,
        )
        for e in entries
    ]
    columns(rows)
    if found.lines:
        say_review(found)
    if owed.anything:
        click.echo(f"{owed.in_words()}: {', '.join((*owed.restart, *owed.login))}")


def _as_json(entry: Entry) -> dict[str, object]:
    return {
        "id": entry.id,
        "number": entry.number,
        "setting": str(entry.ref),
        "title": entry.title,
        "user": entry.user,
        "job": entry.job,
        "before": entry.before.value,
        "value": entry.value,
        "restores": entry.restore.value,
        "read_back": None if entry.after is None else entry.after.value,
        "state": entry.stage,
        "open": entry.is_open,
        "shows": entry.shows,
        "note": entry.note,
        "force": entry.force,
        "begun_at": entry.begun_at,
        "state_at": entry.stage_at,
        "seen_right_at": entry.seen_at,
    }


@click.command("restart")
@click.argument("address", metavar="COMPUTER")
@click.option("--login-only", is_flag=True, help="Only log the user out and in again.")
@with_data_folder
def restart_command(data_folder: DataFolder, address: str, *, login_only: bool) -> None:
    """Restart COMPUTER, so that changes which need it show."""
    computer = data_folder.computer(address)
    computer.clock.restart(login_only=login_only)
    owed = owed_now(data_folder.journal, computer)
    computer.close()
    click.echo(f"{computer.name} is up again; {owed.in_words() or 'nothing more is needed'}.")


def say_review(found: Review) -> None:
    """What an interruption left, before anything is touched."""
    click.echo(f"The last time Lumtak was interrupted here: {found.in_words()}.")
    for line in found.lines:
        note = f" ({plain(line.note, 300)})" if line.note else ""
        where = f": {line.before} → {line.now}" if line.now else ""
        click.echo(f"  {plain(str(line.change.ref))}{where}, {line.found}{note}")


def say_lost(data_folder: DataFolder, address: str, lost: list[int]) -> None:
    """Exit 3 where records are lost: nothing here can put those changes back.

    Raises:
        ConflictError: some are.
    """
    if not lost:
        return
    computer = data_folder.computer(address)
    scripts = ", ".join(plain(s.command, 400) for s in older_scripts(data_folder.journal, computer))
    computer.close()
    way = (
        f"The undo script that was left before still knows them: {scripts}."
        if scripts
        else "Set them back by hand."
    )
    what = f"The record of change {lost[0]} is lost, so Lumtak cannot put it back."
    if len(lost) > 1:
        numbers = ", ".join(map(str, lost))
        what = (
            f"The records of {len(lost)} changes are lost ({numbers}), so Lumtak cannot put those"
            " back."
        )
    raise ConflictError(
        what,
        f"{way} After that, `lumtak journal {address} --settle-lost` ends this warning.",
    )


def by_user(
    data_folder: DataFolder, address: str, entries: list[Entry]
) -> Iterator[tuple[Computer, list[Entry]]]:
    """The computer opened for each user who has one of these changes."""
    for user in sorted({e.user for e in entries}):
        yield (
            data_folder.computer(address, user=_named(user, address)),
            [e for e in entries if e.user == user],
        )


def _named(user: str, address: str) -> str | None:
    """The user as an option.

    None where it is who called anyway, so that HOME and the XDG variables count.
    """
    if address != "local":
        return None
    import os

    from lumtak.computers.hands.whose import chosen_user

    return None if chosen_user(None, os.environ).name == user else user
