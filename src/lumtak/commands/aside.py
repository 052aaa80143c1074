"""Commands that set clutter aside, and delete what was set aside."""

import sys
from datetime import datetime

import click

from lumtak.commands.change import carry_out
from lumtak.commands.common import (
    agree,
    ask_first,
    columns,
    computer_to_act_on,
    json_option,
    only_copy_option,
    profile_option,
    progress,
    say_json,
    user_option,
    whole,
    with_data_folder,
)
from lumtak.computers.protocol import Computer
from lumtak.core.deciding import (
    CHANGED_SINCE,
    Elsewhere,
    latest,
    may_be_alone,
)
from lumtak.core.emptying import LAST_COPY, Doubts, Emptied, total
from lumtak.core.plan import check_changes, guards
from lumtak.core.text import plain
from lumtak.core.units import counted, ram
from lumtak.errors import UsageError
from lumtak.work.data_folder import DataFolder
from lumtak.work.owned import (
    job_here,
    lost_on,
    needing_yes,
    to_choose,
    to_set_aside_as_said,
    with_held,
)
from lumtak.work.storage import (
    Held,
    check_not_held,
    classes_to_set_aside,
    empty,
    held_on,
    known_facts,
    profile_for,
)


@click.command("set-aside")
@click.argument("address", metavar="COMPUTER")
@click.argument("what", nargs=-1, metavar="CLASS|PATH...")
@click.option("--decided", is_flag=True, help="What the owner said is to be set aside.")
@click.option(
    "--elsewhere",
    type=click.Choice(["yes", "no", "not known"]),
    help="With --decided: whether what goes exists anywhere else, as its owner said.",
)
@only_copy_option
@user_option
@json_option
@with_data_folder
def set_aside_command(
    data_folder: DataFolder,
    address: str,
    what: tuple[str, ...],
    elsewhere: Elsewhere | None,
    only_copy: tuple[str, ...],
    user: str | None,
    *,
    decided: bool,
    as_json: bool,
) -> None:
    """Set classes of clutter of COMPUTER aside, or files and folders of the user's own. They are
    moved, not deleted: `lumtak undo` puts them back, and so does the undo script. Space is free
    only once they are emptied. Of files of the same content one always stays, and what may be the
    only copy of something takes a yes of its own.

    \b
    lumtak set-aside local temp-own thumbnails
    lumtak set-aside local ~/films/old.mkv
    lumtak set-aside sim:tool-crib temp-own crash-dumps
    lumtak set-aside local --decided
    """
    if not what and not decided:
        raise UsageError("Nothing is named.", "Name classes or paths, or say --decided.")
    computer = data_folder.computer(address, user=user)
    facts = known_facts(data_folder, computer)
    profile = profile_for(data_folder, facts.identity, None)
    paths = [whole(name) for name in what if "/" in name]
    check_not_held(facts, profile, computer.clock.wall(), [*what, *paths])
    changes, _ = classes_to_set_aside(facts, what)
    if paths:
        _ask_about(computer, paths, [whole(p) for p in only_copy])
        choice = to_choose(data_folder, computer, facts, paths)
        if choice.not_searched:
            files = counted(choice.not_searched, "file")
            click.echo(
                f"It was not looked everywhere for copies of {files}; `lumtak storage {address}"
                " duplicates` takes its time.",
                err=True,
            )
        facts, changes = choice.facts, [*changes, *choice.changes]
    if decided:
        job_said = job_here(data_folder, computer)
        choice = to_set_aside_as_said(data_folder, computer, facts, latest(job_said.decided))
        for path in choice.changed:
            click.echo(f"{plain(path, 200)} stays: {CHANGED_SINCE}.", err=True)
        data_folder.casebook.save(with_held(job_said, choice.keys, elsewhere or _ask_elsewhere()))
        facts, changes = choice.facts, [*changes, *choice.changes]
    ordered = check_changes(facts, changes, guards(facts, data_folder.catalogue))
    newest = data_folder.newest_job(computer.identity)
    job = newest.id if newest else ""
    carry_out(data_folder, computer, facts, ordered, "keep", job=job, as_json=as_json)


def _ask_elsewhere() -> Elsewhere:
    """Whether what goes exists anywhere else; nobody says where nobody can answer."""
    if not sys.stdin.isatty():
        return ""
    said = click.prompt(
        "Does what goes exist anywhere else?",
        type=click.Choice(["yes", "no", "not known"]),
        default="not known",
    )
    return "yes" if said == "yes" else "no" if said == "no" else "not known"


def _ask_about(computer: Computer, paths: list[str], agreed: list[str]) -> None:
    """What may be the only copy of something takes a yes of its own."""
    yes = needing_yes(computer, paths)
    for path, alone in yes.items():
        if path in agreed:
            continue
        question = f"{plain(path, 120)} {may_be_alone(alone, path)}"
        if not sys.stdin.isatty():
            raise UsageError(question, f"Its yes is --only-copy {plain(path, 200)}")
        click.echo(question)
        if not click.confirm("Set it aside all the same?", default=False):
            raise UsageError("Nothing was set aside.")


@click.command("empty-aside")
@click.argument("address", metavar="COMPUTER")
@click.argument("what", nargs=-1, metavar="[KEY...]")
@click.option(
    "--early", is_flag=True, help="Also what has not been set aside for the profile's days yet."
)
@click.option("--yes", is_flag=True, help="Answer the question beforehand; for scripts.")
@click.option(
    "--last-copy",
    multiple=True,
    metavar="PATH",
    help="Delete this too, though no other copy of it is there any more.",
)
@profile_option
@user_option
@json_option
@with_data_folder
def empty_aside_command(
    data_folder: DataFolder,
    address: str,
    what: tuple[str, ...],
    profile_name: str | None,
    user: str | None,
    *,
    early: bool,
    yes: bool,
    last_copy: tuple[str, ...],
    as_json: bool,
) -> None:
    """Delete what was set aside on COMPUTER, for good, after a question. This alone frees space.

    What has not been set aside for the profile's number of days stays, unless --early is said. All
    of it is looked at again first: what became the last copy of something since stays, unless you
    say yes to just that. What cannot be deleted is named, and can still be put back.

    \b
    lumtak empty-aside local
    lumtak empty-aside local temp-own --early
    lumtak empty-aside local --yes --last-copy ~/films/old.mkv
    """
    with computer_to_act_on(data_folder, address, user) as computer:
        facts = computer.about.facts()
        now = computer.clock.wall()
        profile = profile_for(data_folder, facts.identity, profile_name)
        chosen, later = _chosen(held_on(facts, profile, now), what, now, early=early)
        if not as_json:
            for held in later:
                due = f"{held.due:%Y-%m-%d}"
                click.echo(f"{plain(str(held.ref), 60)} stays: the owner has until {due}.")
        if not chosen:
            _nothing(later, address, as_json=as_json)
            return
        ask_first(computer, (h.ref for h in chosen))
        doubts = [(held, computer.settings.doubts(held.ref)) for held in chosen]
        if not yes:
            _ask(doubts, lost_on(data_folder, computer, chosen))
        done = []
        for held, found in doubts:
            agreed = _agreed(found, [whole(path) for path in last_copy], ask=not yes)
            done.append(empty(data_folder, computer, held, _count, agreed))
            progress("")
            data_folder.record_action(computer.identity, done[-1])
            if not as_json:
                click.echo(done[-1].in_words())
        if as_json:
            say_json({"format": 1, "computer": address, "emptied": done})


def _chosen(
    held: list[Held], what: tuple[str, ...], now: datetime, *, early: bool
) -> tuple[list[Held], list[Held]]:
    """(what is emptied, what has to wait)."""
    names = {name.removeprefix("storage:") for name in what}
    unknown = names - {h.ref.key for h in held}
    if unknown:
        raise UsageError(
            f"Nothing of {plain(min(unknown), 60)} is set aside.",
            "`lumtak storage COMPUTER` lists what is.",
        )
    mine = [h for h in held if not names or h.ref.key in names]
    ready = [h for h in mine if early or h.due <= now]
    return ready, [h for h in mine if h not in ready]


def _nothing(later: list[Held], address: str, *, as_json: bool) -> None:
    if as_json:
        say_json({"format": 1, "computer": address, "emptied": []})
    elif later:
        click.echo("Nothing was emptied; --early empties it sooner, if the owner agrees.")
    else:
        click.echo("Nothing is set aside.")


def _ask(doubts: list[tuple[Held, Doubts]], lost: str) -> None:
    columns([(f"  {ram(d.bytes):>9}", h.title, f"since {h.since:%Y-%m-%d}") for h, d in doubts])
    for line in total(found for _, found in doubts).in_words():
        click.echo(line)
    if lost:
        click.echo(lost)
    click.echo("What is emptied is deleted for good: nothing can put it back.")
    agree("Delete it for good?", "emptied")


def _agreed(found: Doubts, agreed: list[str], *, ask: bool) -> set[int]:
    """Numbers of the pieces that go though no other copy of them is left."""
    yes = set()
    for number, path in found.last:
        shown = plain(path, 200)
        if path in agreed:
            yes.add(number)
        elif not ask or not sys.stdin.isatty():
            click.echo(f"{shown} stays: {LAST_COPY}. Its yes is --last-copy {shown}", err=True)
        else:
            click.echo(f"{shown}: {LAST_COPY}.")
            if click.confirm("Delete the last copy too?", default=False):
                yes.add(number)
    if found.more_last:
        click.echo(
            f"{counted(found.more_last, 'more file')} stay so; empty again for them.", err=True
        )
    return yes


def _count(ended: Emptied) -> None:
    progress(f"{counted(ended.files, 'file')}, {ram(ended.bytes)} emptied")
