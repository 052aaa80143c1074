"""Commands that change a computer, and what is known of changes."""

import click

from lumtak.commands.common import columns, json_option, say_json, user_option, with_workshop
from lumtak.core.plan import check_changes
from lumtak.core.setting import State, parse_change
from lumtak.core.text import plain
from lumtak.errors import ConflictError, LumtakError, UsageError
from lumtak.journal import Entry, Outcome, apply_changes, owed_now, put_back
from lumtak.stations.workshop import Workshop


@click.command("apply")
@click.argument("computer")
@click.argument("changes", nargs=-1, required=True, metavar="AREA:KEY=VALUE...")
@user_option
@json_option
@with_workshop
def apply_command(
    workshop: Workshop, computer: str, changes: tuple[str, ...], user: str | None, *, as_json: bool
) -> None:
    """Change settings of COMPUTER: before value to the journal, write, read back.

    \b
    lumtak apply sim:drawing-bench services:sheet-index=demand apps:chat-horn=off
    lumtak apply local apps:tide-feed=off
    """
    wanted = [parse_change(text) for text in changes]
    machine = workshop.computer(computer, user=user)
    facts = machine.facts()
    guarded = [i.ref for i in facts.items if (role := workshop.catalogue.find(i.role)) and role.guarded]
    ordered = check_changes(facts, wanted, guarded)
    outcomes = apply_changes(workshop.journal, machine, facts, ordered, on_step=_nothing if as_json else say_outcome)
    owed = owed_now(workshop.journal, machine).in_words()
    machine.close()
    if as_json:
        say_json({"format": 1, "computer": computer, "outcomes": outcomes, "owed": owed})
    elif owed:
        click.echo(f"{owed}: until then readings are provisional.")
    judge(outcomes, "changed")


def _nothing(_: Outcome) -> None:
    pass


def say_outcome(outcome: Outcome) -> None:
    """One line for one change."""
    number = f"{outcome.number}  " if outcome.number is not None else ""
    words = {
        "done": "read back",
        "as it was": "unchanged",
        "failed": "FAILED",
        "conflict": "CONFLICT",
        "not tried": "not tried",
    }
    note = f" ({outcome.note})" if outcome.note else ""
    click.echo(
        f"{number}{plain(str(outcome.change.ref))}: {outcome.before} → {outcome.after}, {words[outcome.result]}{plain(note, 500)}"
    )


def judge(outcomes: list[Outcome], verb: str) -> None:
    """Exit 1 when nothing worked, 3 when part did or there is a conflict."""
    bad = [o for o in outcomes if o.result not in {"done", "as it was"}]
    if not bad:
        return
    text = f"{len(bad)} of {len(outcomes)} could not be {verb}."
    if len(bad) == len(outcomes) and all(o.result in {"failed", "not tried"} for o in bad):
        raise LumtakError(text, "See the reason above.")
    raise ConflictError(text, "See the reasons above; `lumtak journal COMPUTER` keeps them.")


@click.command("undo")
@click.argument("computer")
@click.argument("numbers", nargs=-1, type=int, metavar="[ID...]")
@click.option("--all", "everything", is_flag=True, help="Everything on that computer that is not yet put back.")
@click.option("--overwrite", is_flag=True, help="Put back even where somebody changed the value since.")
@json_option
@with_workshop
def undo_command(
    workshop: Workshop, computer: str, numbers: tuple[int, ...], *, everything: bool, overwrite: bool, as_json: bool
) -> None:
    """Put changes back, in any order: those numbered, or all.

    \b
    lumtak undo local --all
    lumtak undo sim:drawing-bench 3 5
    """
    if everything == bool(numbers):
        raise UsageError("Say which changes to put back.", "Either --all, or numbers from `lumtak journal COMPUTER`.")
    identity = workshop.computer(computer).identity
    wanted = [workshop.journal.entry(n, identity) for n in numbers]
    if everything:
        wanted = [e for e in workshop.journal.entries(identity) if e.is_open]
    outcomes: list[Outcome] = []
    for user in sorted({e.user for e in wanted}):
        machine = workshop.computer(computer, user=_named(user, computer))
        mine = [e.id for e in wanted if e.user == user]
        outcomes += put_back(
            workshop.journal, machine, mine, overwrite=overwrite, on_step=_nothing if as_json else say_outcome
        )
        machine.close()
    if as_json:
        say_json({"format": 1, "computer": computer, "outcomes": outcomes})
    elif not outcomes:
        click.echo("There is nothing to put back.")
    judge(outcomes, "put back")


def _named(user: str, computer: str) -> str | None:
    """The user as an option: None where it is who called anyway, so that HOME and the XDG variables count."""
    if computer != "local":
        return None
    import os

    from lumtak.computers.linux.user import chosen_user

    return None if chosen_user(None, os.environ).name == user else user


@click.command("journal")
@click.argument("computer")
@json_option
@with_workshop
def journal_command(workshop: Workshop, computer: str, *, as_json: bool) -> None:
    """All changes that Lumtak made on COMPUTER, oldest first."""
    machine = workshop.computer(computer)
    entries = workshop.journal.entries(machine.identity)
    owed = owed_now(workshop.journal, machine)
    if as_json:
        say_json({"format": 1, "computer": computer, "changes": [_as_json(e) for e in entries], "owed": owed})
        return
    if not entries:
        click.echo("Nothing was ever changed on this computer by Lumtak.")
        return
    rows = [("no.", "when", "setting", "before", "changed to", "state", "note")]
    rows += [
        (
            str(e.id),
            e.begun_at[:16].replace("T", " "),
            plain(str(e.ref), 60),
            e.before.word,
            State(value=e.value).word,
            e.stage,
            e.note,
        )
        for e in entries
    ]
    columns(rows)
    if owed.anything:
        click.echo(f"{owed.in_words()}: {', '.join((*owed.restart, *owed.login))}")


def _as_json(entry: Entry) -> dict[str, object]:
    return {
        "id": entry.id,
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
        "begun_at": entry.begun_at,
        "state_at": entry.stage_at,
    }


@click.command("restart")
@click.argument("computer")
@click.option("--login-only", is_flag=True, help="Only log the user out and in again.")
@with_workshop
def restart_command(workshop: Workshop, computer: str, *, login_only: bool) -> None:
    """Restart COMPUTER, so that changes which need it show."""
    machine = workshop.computer(computer)
    machine.restart(login_only=login_only)
    owed = owed_now(workshop.journal, machine)
    machine.close()
    click.echo(f"{machine.name} is up again; {owed.in_words() or 'nothing is owed'}.")
