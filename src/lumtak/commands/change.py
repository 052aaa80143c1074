"""Commands that change a computer, and what is known of changes."""

import contextlib
import signal
import sys
import threading
from collections.abc import Callable, Iterator

import click

from lumtak.commands.common import (
    ask_first,
    columns,
    json_option,
    say_json,
    user_option,
    with_data_folder,
)
from lumtak.computers.protocol import Computer
from lumtak.core.plan import check_changes, guards
from lumtak.core.setting import parse_change
from lumtak.core.text import plain
from lumtak.core.units import counted
from lumtak.errors import ConflictError, LumtakError, UsageError
from lumtak.journal import (
    Drift,
    Entry,
    Outcome,
    Owed,
    Review,
    apply_changes,
    drift,
    is_asked,
    older_scripts,
    owed_now,
    put_back,
    recorded,
    review,
    scripts_left,
    settle,
    warnings,
)
from lumtak.journal.outcome import nothing
from lumtak.work.data_folder import DataFolder


@click.command("apply")
@click.argument("computer")
@click.argument("changes", nargs=-1, required=True, metavar="AREA:KEY=VALUE...")
@click.option(
    "--on-failure",
    type=click.Choice(["ask", "keep", "put-back"]),
    default="ask",
    help=(
        "What becomes of the changes before one that fails. Default: ask, or keep where nobody can"
        " answer."
    ),
)
@user_option
@json_option
@with_data_folder
def apply_command(
    data_folder: DataFolder,
    computer: str,
    changes: tuple[str, ...],
    user: str | None,
    on_failure: str,
    *,
    as_json: bool,
) -> None:
    """Change settings of COMPUTER: before value to the journal, write, read back.

    Ctrl+C ends after the change that is being made.

    \b
    lumtak apply sim:drawing-bench services:sheet-index=demand apps:chat-horn=off
    lumtak apply local apps:tide-feed=off
    """
    wanted = [parse_change(text) for text in changes]
    machine = data_folder.computer(computer, user=user)
    facts = machine.about.facts()
    ordered = check_changes(facts, wanted, guards(facts, data_folder.catalogue))
    reviews: list[Review] = []
    ask_first(machine, (c.ref for c in ordered))
    with stopping() as stop, _counted(len(ordered), "changed", as_json=as_json) as on_step:
        outcomes = apply_changes(
            data_folder.journal,
            machine,
            facts,
            ordered,
            on_step=on_step,
            on_review=reviews.append if as_json else say_review,
            stop=stop,
        )
    back = _after_failure(data_folder, machine, outcomes, on_failure, as_json=as_json)
    owed = owed_now(data_folder.journal, machine).in_words()
    scripts = scripts_left(data_folder.journal, machine)
    machine.close()
    if as_json:
        interrupted = reviews[0].lines if reviews else ()
        say_json(
            {
                "format": 1, "computer": computer, "outcomes": outcomes, "put_back": back,
                "owed": owed,
                "interrupted": interrupted, "undo_scripts": scripts,
            }
        )  # fmt: skip
    else:
        if owed:
            click.echo(f"{owed}: until then readings are provisional.")
        for script in scripts:
            click.echo(f"Without Lumtak: {plain(script.command, 400)}")
    judge(outcomes, "changed")


def _after_failure(
    data_folder: DataFolder,
    machine: Computer,
    outcomes: list[Outcome],
    on_failure: str,
    *,
    as_json: bool,
) -> list[Outcome]:
    """Put back what was done before a change that failed, where that is wanted."""
    done = [o.number for o in outcomes if o.result == "done" and o.number is not None]
    if not done or not any(o.result in {"failed", "conflict"} for o in outcomes):
        return []
    if on_failure == "ask":
        asked = sys.stdin.isatty() and not as_json
        text = f"One change failed; {len(done)} before it are done. Put those back?"
        on_failure = "put-back" if asked and click.confirm(text, default=False) else "keep"
    if on_failure == "keep":
        if not as_json:
            click.echo(
                f"What was done is kept; `lumtak undo {machine.address} {' '.join(map(str, done))}`"
                " puts it back."
            )
        return []
    return put_back(data_folder.journal, machine, done, on_step=nothing if as_json else say_outcome)


@contextlib.contextmanager
def _counted(whole: int, verb: str, *, as_json: bool) -> Iterator[Callable[[Outcome], None]]:
    """Tells each outcome as it comes; what ends the work in the middle ends it as partly done.

    Raises:
        ConflictError: something was done before it ended.
    """
    done: list[Outcome] = []

    def on_step(outcome: Outcome) -> None:
        done.extend([outcome] if outcome.result == "done" else [])
        if not as_json:
            say_outcome(outcome)

    try:
        yield on_step
    except LumtakError as error:
        if not done:
            raise
        raise ConflictError(
            f"{len(done)} of {whole} were {verb}, and then: {error.message}", error.next_step
        ) from error


@contextlib.contextmanager
def stopping() -> Iterator[threading.Event]:
    """An event that is set by Ctrl+C and by being told to end.

    What is being written is finished first.
    """
    stop = threading.Event()

    def tell(_: int, __: object) -> None:
        stop.set()
        click.echo("Ending after this change…", err=True)

    kept = {
        number: signal.signal(number, tell)
        for number in (signal.SIGINT, signal.SIGTERM, signal.SIGHUP)
    }
    try:
        yield stop
    finally:
        for number, handler in kept.items():
            signal.signal(number, handler)


def say_review(found: Review) -> None:
    """What an interruption left, before anything is touched."""
    click.echo(f"The last time Lumtak was interrupted here: {found.in_words()}.")
    for line in found.lines:
        note = f" ({plain(line.note, 300)})" if line.note else ""
        where = f": {line.before} → {line.now}" if line.now else ""
        click.echo(f"  {plain(str(line.change.ref))}{where}, {line.found}{note}")


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
        f"{number}{plain(str(outcome.change.ref))}: {outcome.before} → {outcome.after},"
        f" {words[outcome.result]}{plain(note, 4000)}"
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
@click.option(
    "--all",
    "everything",
    is_flag=True,
    help="Everything on that computer that is not yet put back.",
)
@click.option(
    "--overwrite", is_flag=True, help="Put back even where somebody changed the value since."
)
@json_option
@with_data_folder
def undo_command(
    data_folder: DataFolder,
    computer: str,
    numbers: tuple[int, ...],
    *,
    everything: bool,
    overwrite: bool,
    as_json: bool,
) -> None:
    """Put changes back, in any order: those numbered, or all.

    What cannot be put back now stays on the list, with the reason.

    \b
    lumtak undo local --all
    lumtak undo sim:drawing-bench 3 5
    """
    if everything == bool(numbers):
        raise UsageError(
            "Say which changes to put back.",
            "Either --all, or numbers from `lumtak journal COMPUTER`.",
        )
    identity = data_folder.computer(computer).identity
    lost = data_folder.journal.lost(identity)
    wanted = [data_folder.journal.entry(n, identity) for n in numbers if n not in lost]
    if everything:
        wanted = [e for e in data_folder.journal.entries(identity) if e.is_open]
    outcomes: list[Outcome] = []
    warned: list[str] = []
    with stopping() as stop, _counted(len(wanted), "put back", as_json=as_json) as on_step:
        for machine, mine in _by_user(data_folder, computer, wanted):
            numbers_of_user = [e.id for e in mine]
            ask_first(machine, (e.ref for e in mine))
            told = warnings(machine.about.facts(), mine, numbers_of_user)
            warned += told
            for sentence in () if as_json else told:
                click.echo(f"Mind: {plain(sentence, 300)}")
            outcomes += put_back(
                data_folder.journal,
                machine,
                numbers_of_user,
                overwrite=overwrite,
                shown=_agreed(machine, mine, as_json=as_json),
                on_step=on_step,
                on_review=nothing if as_json else say_review,
                stop=stop,
            )
            machine.close()
    if as_json:
        say_json({"format": 1, "computer": computer, "outcomes": outcomes, "warnings": warned})
    elif not outcomes and not lost:
        click.echo("There is nothing to put back.")
    judge(outcomes, "put back")
    _say_lost(data_folder, computer, [n for n in lost if everything or n in numbers])


def _agreed(machine: Computer, entries: list[Entry], *, as_json: bool) -> set[int]:
    """Numbers of rescued records that take root, where a person was shown all that they say and
    agreed; nobody else can.
    """
    agreed = set()
    for entry in entries:
        if not is_asked(machine, entry) or as_json or not sys.stdin.isatty():
            continue
        click.echo(
            f"Change {entry.id} was rescued from its second copy, which somebody else may have"
            " written. As root it would write:"
        )
        for line in recorded(entry):
            click.echo(f"  {line}")
        if click.confirm("Is that what stood there before?", default=False):
            agreed.add(entry.id)
    return agreed


def _say_lost(data_folder: DataFolder, computer: str, lost: list[int]) -> None:
    """Exit 3 where records are lost: nothing here can put those changes back.

    Raises:
        ConflictError: some are.
    """
    if not lost:
        return
    machine = data_folder.computer(computer)
    scripts = ", ".join(plain(s.command, 400) for s in older_scripts(data_folder.journal, machine))
    machine.close()
    way = (
        f"The undo script that was left before still knows them: {scripts}."
        if scripts
        else "Set them back by hand."
    )
    raise ConflictError(
        (
            f"The records of {len(lost)} changes are lost ({', '.join(map(str, lost))}), so Lumtak"
            " cannot put those back."
            if len(lost) > 1
            else f"The record of change {lost[0]} is lost, so Lumtak cannot put it back."
        ),
        f"{way} After that, `lumtak journal {computer} --settle-lost` ends this warning.",
    )


def _by_user(
    data_folder: DataFolder, computer: str, entries: list[Entry]
) -> Iterator[tuple[Computer, list[Entry]]]:
    """The computer opened for each user who has one of these changes."""
    for user in sorted({e.user for e in entries}):
        yield (
            data_folder.computer(computer, user=_named(user, computer)),
            [e for e in entries if e.user == user],
        )


def _named(user: str, computer: str) -> str | None:
    """The user as an option.

    None where it is who called anyway, so that HOME and the XDG variables count.
    """
    if computer != "local":
        return None
    import os

    from lumtak.computers.hands.whose import chosen_user

    return None if chosen_user(None, os.environ).name == user else user


@click.command("drift")
@click.argument("computer")
@json_option
@with_data_folder
def drift_command(data_folder: DataFolder, computer: str, *, as_json: bool) -> None:
    """Which settings of COMPUTER are no longer as Lumtak left them, and when they were last seen
    right.

    Exits with 3 when there are any.

    \b
    lumtak drift local
    lumtak drift sim:drawing-bench --json
    """
    identity = data_folder.computer(computer).identity
    changed = [e for e in data_folder.journal.entries(identity) if e.is_open]
    found: list[Drift] = []
    for machine, _ in _by_user(data_folder, computer, changed):
        found += drift(data_folder.journal, machine)
        machine.close()
    gone = [d for d in found if d.is_drift]
    if as_json:
        say_json(
            {
                "format": 1,
                "computer": computer,
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
                str(d.entry.id), plain(str(d.entry.ref), 60), d.entry.restore.word, d.entry.word,
                d.now, d.standing,
                d.last_right[:16].replace("T", " "), plain(d.note, 200),
            )
            for d in found
        ]  # fmt: skip
        columns(rows)
    _say_lost(data_folder, computer, data_folder.journal.lost(identity))
    if gone:
        raise ConflictError(
            f"{len(gone)} of {counted(len(found), 'setting is', 'settings are')} no longer as"
            " left.",
            "Apply them again, or `lumtak undo` puts back what is left.",
        )


def _drift_json(found: Drift) -> dict[str, object]:
    return {
        "id": found.entry.id,
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
@click.argument("computer")
@click.option(
    "--settle-lost",
    is_flag=True,
    help="Changes whose records were lost are put back by hand or by the undo script.",
)
@json_option
@with_data_folder
def journal_command(
    data_folder: DataFolder, computer: str, *, settle_lost: bool, as_json: bool
) -> None:
    """All changes that Lumtak made on COMPUTER, oldest first.

    Exits with 3 while there are changes whose records were lost.
    """
    machine = data_folder.computer(computer)
    if settle_lost:
        settle(data_folder.journal, machine)
    entries = data_folder.journal.entries(machine.identity)
    owed = owed_now(data_folder.journal, machine)
    found = review(data_folder.journal, machine)
    if as_json:
        shown = [_as_json(e) for e in entries]
        lost = data_folder.journal.lost(machine.identity)
        say_json(
            {
                "format": 1, "computer": computer, "changes": shown, "owed": owed,
                "interrupted": found.lines, "lost": lost,
            }
        )  # fmt: skip
    elif not entries:
        click.echo("The journal holds no change of this computer.")
    else:
        _say_entries(entries, found, owed)
    _say_lost(data_folder, computer, data_folder.journal.lost(machine.identity))


def _say_entries(entries: list[Entry], found: Review, owed: Owed) -> None:
    rows = [("no.", "when", "setting", "before", "changed to", "state", "note")]
    rows += [
        (
            str(e.id),
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
        "seen_right_at": entry.seen_at,
    }


@click.command("restart")
@click.argument("computer")
@click.option("--login-only", is_flag=True, help="Only log the user out and in again.")
@with_data_folder
def restart_command(data_folder: DataFolder, computer: str, *, login_only: bool) -> None:
    """Restart COMPUTER, so that changes which need it show."""
    machine = data_folder.computer(computer)
    machine.clock.restart(login_only=login_only)
    owed = owed_now(data_folder.journal, machine)
    machine.close()
    click.echo(f"{machine.name} is up again; {owed.in_words() or 'nothing is owed'}.")
