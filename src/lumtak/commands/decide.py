"""What the owner decides about their files, without a screen: said, exported, read back."""

import sys
from collections.abc import Collection, Sequence
from pathlib import Path

import click

from lumtak.commands.common import (
    columns,
    json_option,
    only_copy_option,
    say_json,
    user_option,
    whole,
    with_data_folder,
)
from lumtak.computers.protocol import Computer
from lumtak.core.deciding import (
    CHANGED_SINCE,
    DECISIONS,
    IN_WORDS,
    Decided,
    Decision,
    Thing,
    latest,
    leaving_one,
    may_be_alone,
    sums,
    undecided,
)
from lumtak.core.deciding_rules import RULES, by_rule
from lumtak.core.text import plain
from lumtak.core.units import counted, ram
from lumtak.errors import UnknownNameError, UsageError
from lumtak.storage import read_handed_in
from lumtak.work.data_folder import DataFolder
from lumtak.work.owned import (
    job_here,
    kept_copies,
    marked,
    needing_yes,
    said_of,
    things_of,
    with_said,
    write_list,
)

_MOST_LIST = 1 << 26


@click.command("decide")
@click.argument("address", metavar="COMPUTER")
@click.argument("decision", required=False, type=click.Choice(DECISIONS))
@click.argument("what", nargs=-1, metavar="[PATH...|RULE]")
@click.option("--write", type=click.Path(path_type=Path), metavar="FILE", help="A .pdf or .csv.")
@click.option(
    "--read-back",
    type=click.Path(path_type=Path),
    metavar="FILE.csv",
    help="What the owner filled in.",
)
@only_copy_option
@user_option
@json_option
@with_data_folder
def decide_command(
    data_folder: DataFolder,
    address: str,
    decision: Decision | None,
    what: tuple[str, ...],
    write: Path | None,
    read_back: Path | None,
    only_copy: tuple[str, ...],
    user: str | None,
    *,
    as_json: bool,
) -> None:
    """What the owner of COMPUTER says of their own files: keep, aside or later; kept with the
    newest job on it. Files are named by their paths, or by a rule. Nothing is moved:
    `lumtak set-aside COMPUTER --decided` does that.

    Words of a rule: a kind (film, picture, music, document, archive, program, mail, disk-image,
    folder), a size (>500m, <2g), older>365 (days), in:PATH, copies; anything else stands in the
    path. All of them have to hold.

    \b
    lumtak decide local
    lumtak decide local aside ~/films/old.mkv
    lumtak decide local aside 'film >1g older>365'
    lumtak decide local --write list.pdf
    lumtak decide local --write list.csv
    lumtak decide local --read-back list.csv
    """
    if bool(what) != bool(decision):
        raise UsageError("A decision needs files or a rule.", RULES)
    computer = data_folder.computer(address, user=user)
    try:
        found = things_of(data_folder, computer)
        agreed = [whole(p) for p in only_copy]
        if read_back is not None:
            _read_back(data_folder, computer, found, read_back, agreed)
        if decision is not None:
            _say(data_folder, computer, found, (decision, what), agreed)
        decided = latest(job_here(data_folder, computer).decided)
        if write is not None:
            write_list(computer, found, decided, write)
    finally:
        computer.close()
    if as_json:
        mine = [{"thing": t, "said": decided.get(t.path)} for t in found]
        say_json({"format": 1, "computer": address, "things": mine})
    elif write is not None:
        click.echo(f"Written to {write}.")
    else:
        _show(found, decided, address, rows=decision is None and read_back is None)


def _say(
    data_folder: DataFolder,
    computer: Computer,
    found: list[Thing],
    wanted: tuple[Decision, Sequence[str]],
    agreed: list[str],
) -> None:
    decision, what = wanted
    by_path = {thing.path: thing for thing in found}
    named = all(word.startswith(("/", "./", "../", "~")) for word in what)
    rule = "" if named else " ".join(what)
    if named:
        paths = [whole(p) for p in what]
        missing = next((p for p in paths if p not in by_path), None)
        if missing is not None:
            raise UnknownNameError(
                "file on the list",
                plain(missing, 200),
                by_path,
                f"`lumtak decide {computer.address}` lists them; `lumtak set-aside"
                f" {computer.address} PATH` sets aside what is on no list.",
            )
        mine = [by_path[p] for p in paths]
    else:
        mine = by_rule(found, rule, computer.clock.wall().timestamp())
        if not mine:
            raise UsageError(f"Nothing is as this rule says: {plain(rule, 100)}", RULES)
    if decision == "aside":
        mine = _that_may_go(data_folder, computer, mine, agreed)
    _keep(data_folder, computer, mine, (decision, rule), agreed)


def _that_may_go(
    data_folder: DataFolder, computer: Computer, mine: list[Thing], agreed: list[str]
) -> list[Thing]:
    """Without one of each content that would go whole, and what may be an only copy and got no yes
    of its own.
    """
    said = latest(job_here(data_folder, computer).decided)
    going = {path for path, one in said.items() if one.decision == "aside"}
    mine, again = _parted(mine, going)
    left = leaving_one(mine, kept_copies(data_folder, computer), going)
    for thing in _parted(mine, {t.path for t in left})[0]:
        click.echo(f"{plain(thing.path, 200)} stays: of its copies one always does.", err=True)
    yes = needing_yes(computer, [thing.path for thing in left])
    agreed += [p for p, alone in yes.items() if p not in agreed and _agrees(p, alone)]
    return again + _parted(left, yes.keys() - set(agreed))[0]


def _parted(found: list[Thing], paths: Collection[str]) -> tuple[list[Thing], list[Thing]]:
    """(the others, those of these paths)."""
    return [t for t in found if t.path not in paths], [t for t in found if t.path in paths]


def _agrees(path: str, alone: Sequence[tuple[str, str]]) -> bool:
    """Whether somebody says yes to what may be an only copy."""
    click.echo(f"{plain(path, 200)} {may_be_alone(alone, path)}", err=True)
    if sys.stdin.isatty() and click.confirm("Set it aside all the same?", default=False):
        return True
    click.echo(f"It stays; its yes is --only-copy {plain(path, 200)}", err=True)
    return False


def _keep(
    data_folder: DataFolder,
    computer: Computer,
    mine: list[Thing],
    said: tuple[Decision, str],
    agreed: list[str],
) -> None:
    decision, rule = said
    job = job_here(data_folder, computer)
    if decision == "aside":
        mine = marked(computer, mine, agreed)
    made = said_of(mine, decision, computer.clock.wall(), rule=rule, agreed=agreed)
    data_folder.casebook.save(with_said(job, made))
    size = ram(sum(thing.bytes for thing in mine))
    click.echo(f"{IN_WORDS[decision]}: {counted(len(mine), 'thing')}, {size}", err=True)


def _read_back(
    data_folder: DataFolder, computer: Computer, found: list[Thing], path: Path, agreed: list[str]
) -> None:
    from lumtak.report.owned_list import from_csv

    filled = from_csv(read_handed_in(path, _MOST_LIST, "list"), str(path))
    by_path = {thing.path: thing for thing in found}
    gone = [p for p in filled if p not in by_path]
    for decision in DECISIONS:
        mine = [by_path[p] for p, d in filled.items() if d == decision and p in by_path]
        if mine and decision == "aside":
            mine = _that_may_go(data_folder, computer, mine, agreed)
        if mine:
            _keep(data_folder, computer, mine, (decision, ""), agreed)
    if gone:
        click.echo(
            f"{counted(len(gone), 'line')} of it name what is not on the list any more, such as"
            f" {plain(gone[0], 100)}: nothing is kept of those.",
            err=True,
        )


def _word(said: Decided | None, thing: Thing) -> str:
    if said is None:
        return ""
    return IN_WORDS[said.decision] if said.is_of(thing) else CHANGED_SINCE


def _show(found: list[Thing], decided: dict[str, Decided], address: str, *, rows: bool) -> None:
    """What was said, and of each thing where that is asked for."""
    made = sums(found, decided)
    columns(
        [
            (
                _word(decided.get(t.path), t),
                f"{ram(t.bytes):>10}",
                t.kind,
                plain(t.path, 100),
            )
            for t in (found if rows else ())
        ]
    )
    words = [f"{IN_WORDS[d]} {len(made[d])} ({ram(sum(made[d]))})" for d in DECISIONS if d in made]
    words.append(f"nothing said of {len(undecided(found, decided))}")
    click.echo(f"{'; '.join(words)}.")
    if "aside" in made:
        click.echo(f"`lumtak set-aside {address} --decided` sets aside what is to go.")
