"""Commands that change a computer, and put changes back."""

import contextlib
import signal
import sys
import threading
from collections.abc import Callable, Iterator
from functools import partial

import click

from lumtak.commands.believing import agreed_of, believed_of
from lumtak.commands.common import (
    ask_first,
    json_option,
    say_json,
    user_option,
    with_data_folder,
)
from lumtak.commands.journal import by_user, say_lost, say_review
from lumtak.computers.protocol import Computer
from lumtak.core.deleting import deletions
from lumtak.core.facts import Facts
from lumtak.core.plan import check_changes, guards
from lumtak.core.setting import Change, parse_change
from lumtak.core.text import plain
from lumtak.errors import ConflictError, LumtakError, UsageError
from lumtak.journal import (
    Entry,
    Outcome,
    Review,
    apply_changes,
    owed_now,
    put_back,
    scripts_left,
    warnings,
)
from lumtak.journal.outcome import nothing
from lumtak.work.data_folder import DataFolder
from lumtak.work.storage import known_facts


@click.command("apply")
@click.argument("address", metavar="COMPUTER")
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
@click.option(
    "--yes",
    is_flag=True,
    help="Answer beforehand what is asked about settings that make the system delete.",
)
@user_option
@json_option
@with_data_folder
def apply_command(
    data_folder: DataFolder,
    address: str,
    changes: tuple[str, ...],
    user: str | None,
    on_failure: str,
    *,
    yes: bool,
    as_json: bool,
) -> None:
    """Change settings of COMPUTER: before value to the journal, write, read back.

    Ctrl+C ends after the change that is being made.

    \b
    lumtak apply sim:drawing-bench services:sheet-index=demand apps:chat-horn=off
    lumtak apply local apps:tide-feed=off
    """
    wanted = [parse_change(text) for text in changes]
    computer = data_folder.computer(address, user=user)
    facts = computer.about.facts()
    ordered = check_changes(facts, wanted, guards(facts, data_folder.catalogue))
    if not yes:
        _ask_about_deletions(deletions(known_facts(data_folder, computer), ordered))
    carry_out(data_folder, computer, facts, ordered, on_failure, as_json=as_json)


def _ask_about_deletions(told: tuple[str, ...]) -> None:
    """What no undo brings back is asked about by itself."""
    for sentence in told:
        click.echo(plain(sentence, 400), err=True)
        if not sys.stdin.isatty():
            raise UsageError("Nobody is there to answer.", "Say --yes if it is to be set.")
        if not click.confirm("Set it?", default=False, err=True):
            raise UsageError("Nothing was changed.")


def carry_out(
    data_folder: DataFolder,
    computer: Computer,
    facts: Facts,
    ordered: list[Change],
    on_failure: str,
    *,
    job: str = "",
    as_json: bool,
) -> None:
    """Carry out changes in their order, tell what became of them, and let the computer go.

    Args:
        data_folder: keeps the journal.
        computer: is changed.
        facts: of it.
        ordered: from `check_changes`.
        on_failure: ask, keep or put-back.
        job: whom they belong to.
        as_json: whether one document is printed, and no lines.
    """
    reviews: list[Review] = []
    ask_first(computer, (c.ref for c in ordered))
    with stopping() as stop, _counted(len(ordered), "changed", as_json=as_json) as on_step:
        outcomes = apply_changes(
            data_folder.journal,
            computer,
            facts,
            ordered,
            job=job,
            on_step=on_step,
            on_review=reviews.append if as_json else say_review,
            stop=stop,
        )
    back = _after_failure(data_folder, computer, outcomes, on_failure, as_json=as_json)
    owed = owed_now(data_folder.journal, computer).in_words()
    scripts = scripts_left(data_folder.journal, computer)
    computer.close()
    if as_json:
        interrupted = reviews[0].lines if reviews else ()
        say_json(
            {
                "format": 1, "computer": computer.address, "outcomes": outcomes, "put_back": back,
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
    computer: Computer,
    outcomes: list[Outcome],
    on_failure: str,
    *,
    as_json: bool,
) -> list[Outcome]:
    """Put back what was done before a change that failed, where that is wanted."""
    done = [o for o in outcomes if o.result == "done"]
    if not done or {"failed", "conflict"}.isdisjoint(o.result for o in outcomes):
        return []
    if on_failure == "ask":
        on_failure = "keep" if as_json else _asked(len(done))
    say = nothing if as_json else say_outcome
    if on_failure == "put-back":
        return put_back(data_folder.journal, computer, _places(done), on_step=say)
    if not as_json:
        _say_kept(computer, done)
    return []


def _places(outcomes: list[Outcome]) -> list[int]:
    """In the journal, of those that came there."""
    return [o.id for o in outcomes if o.id is not None]


def _say_kept(computer: Computer, done: list[Outcome]) -> None:
    undo = f"lumtak undo {computer.address} {' '.join(str(o.number) for o in done)}"
    click.echo(f"What was done is kept; `{undo}` puts it back.")


def _asked(done: int) -> str:
    """What the person wants; nothing is put back where nobody can answer."""
    if not sys.stdin.isatty():
        return "keep"
    text = f"One change failed; {done} before it are done. Put those back?"
    return "put-back" if click.confirm(text, default=False) else "keep"


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
def stopping(words: str = "Ending after this change…") -> Iterator[threading.Event]:
    """An event that is set by Ctrl+C and by being told to end.

    What is being written is finished first.
    """
    stop = threading.Event()

    def tell(_: int, __: object) -> None:
        stop.set()
        click.echo(words, err=True)

    kept = {
        number: signal.signal(number, tell)
        # A closed terminal counts as much as Ctrl+C: the change under way is finished.
        for number in (signal.SIGINT, signal.SIGTERM, signal.SIGHUP)
    }
    try:
        yield stop
    finally:
        for number, handler in kept.items():
            signal.signal(number, handler)


def say_outcome(outcome: Outcome) -> None:
    """One line for one change."""
    number = f"{outcome.number}  " if outcome.number else ""
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
@click.argument("address", metavar="COMPUTER")
@click.argument("numbers", nargs=-1, type=int, metavar="[NUMBER...]")
@click.option(
    "--all",
    "everything",
    is_flag=True,
    help="Everything on that computer that is not yet put back.",
)
@click.option(
    "--overwrite", is_flag=True, help="Put back even where somebody changed the value since."
)
@click.option(
    "--believe",
    multiple=True,
    metavar="NUMBERS",
    help="Put back as root what these records say (3,5), also where the computer has no receipt.",
)
@json_option
@with_data_folder
def undo_command(
    data_folder: DataFolder,
    address: str,
    numbers: tuple[int, ...],
    *,
    everything: bool,
    overwrite: bool,
    believe: tuple[str, ...],
    as_json: bool,
) -> None:
    """Put changes back, in any order: those numbered, or all.

    The numbers are those of `lumtak journal COMPUTER` and of the sheet.
    What cannot be put back now stays on the list, with the reason.

    What takes root goes back by the receipt that root kept on the computer. Records without one, as
    an older Lumtak or somebody else wrote them, are shown with all that they would write, and asked
    about once; a script names them with --believe.

    \b
    lumtak undo local --all
    lumtak undo sim:drawing-bench 3 5
    lumtak undo local 4 7 --believe 4,7
    """
    if everything == bool(numbers):
        raise UsageError(
            "Say which changes to put back.",
            "Either --all, or numbers from `lumtak journal COMPUTER`.",
        )
    wanted, lost = _wanted(data_folder, address, numbers)
    believed = believed_of(wanted, believe)
    outcomes: list[Outcome] = []
    warned: list[str] = []
    with stopping() as stop, _counted(len(wanted), "put back", as_json=as_json) as on_step:
        for computer, mine in by_user(data_folder, address, wanted):
            ask_first(computer, (e.ref for e in mine))
            warned += _warned(computer, mine, as_json=as_json)
            back = partial(
                put_back,
                data_folder.journal,
                computer,
                overwrite=overwrite,
                on_review=nothing if as_json else say_review,
                stop=stop,
            )
            done = back([e.id for e in mine], shown=believed, on_step=on_step)
            agreed = agreed_of(mine, done, as_json=as_json)
            again = back(agreed, shown=agreed, on_step=on_step) if agreed else []
            outcomes += [o for o in done if o.id not in agreed] + again
            computer.close()
    if as_json:
        say_json({"format": 1, "computer": address, "outcomes": outcomes, "warnings": warned})
    elif not outcomes and not lost:
        click.echo("There is nothing to put back.")
    judge(outcomes, "put back")
    say_lost(data_folder, address, lost)


def _wanted(
    data_folder: DataFolder, address: str, numbers: tuple[int, ...]
) -> tuple[list[Entry], list[int]]:
    """(changes to put back, numbers of those whose records are lost); all without numbers."""
    identity = data_folder.computer(address).identity
    lost = data_folder.journal.lost(identity)
    if not numbers:
        return [e for e in data_folder.journal.entries(identity) if e.is_open], lost
    standing = {e.number for e in data_folder.journal.entries(identity) if e.is_open}
    gone = [n for n in lost if n in numbers and n not in standing]
    return [data_folder.journal.called(n, identity) for n in numbers if n not in gone], gone


def _warned(computer: Computer, entries: list[Entry], *, as_json: bool) -> tuple[str, ...]:
    """What putting these back means for others, told to whoever reads along."""
    told = warnings(computer.about.facts(), entries, [e.id for e in entries])
    if not as_json:
        for sentence in told:
            click.echo(f"Warning: {plain(sentence, 300)}")
    return told
