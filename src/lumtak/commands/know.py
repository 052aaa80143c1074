"""Commands about what Lumtak knows: advice, explanations, the owner's answers, captures."""

from pathlib import Path

import click
import msgspec

from lumtak.commands.common import (
    columns,
    json_option,
    progress,
    say_json,
    user_option,
    with_data_folder,
)
from lumtak.commands.look import count
from lumtak.computers.protocol import Computer
from lumtak.core.advice import search
from lumtak.core.causes import causes
from lumtak.core.explain import explain
from lumtak.core.facts import Facts
from lumtak.core.plan import find_item
from lumtak.core.record import NotMeasured
from lumtak.core.setting import parse_ref
from lumtak.core.sizing import emptying_the_cache, memory_parts, swap_sizes
from lumtak.core.text import number, plain
from lumtak.core.units import counted, ram
from lumtak.errors import UnknownNameError, UsageError
from lumtak.formats.capture import make_capture, to_json
from lumtak.storage import write_whole
from lumtak.work.actions import looked_at_closely, programs_closely
from lumtak.work.data_folder import DataFolder, is_capture

_ANSWERS = {"needed": "needed", "not-needed": "not needed"}


@click.command("advice")
@click.argument("word", required=False)
@json_option
@with_data_folder
def advice_command(data_folder: DataFolder, word: str | None, *, as_json: bool) -> None:
    """Common advice about slow computers: what it does, and why.

    \b
    lumtak advice                                             all of it, a line each
    lumtak advice cache                                       with the mechanism
    """
    found = search(data_folder.advice, word) if word else data_folder.advice
    if as_json:
        say_json({"format": 1, "advice": found})
        return
    if not found:
        names = [a.name for a in data_folder.advice] + [
            w for a in data_folder.advice for w in a.words
        ]
        raise UnknownNameError(
            "advice", plain(word or ""), names, "`lumtak advice` lists all of it."
        )
    if word is None:
        columns([(a.name, a.verdict, a.claim) for a in found])
        return
    for a in found:
        click.echo(f"{a.name}: {a.verdict}")
        for name, text in (("advice", a.claim), ("why", a.why), ("instead", a.instead)):
            click.echo(f"  {name:<8}{text}")


@click.command("explain")
@click.argument("address", metavar="COMPUTER")
@click.argument("item", metavar="AREA:KEY|PID")
@user_option
@json_option
@with_data_folder
def explain_command(
    data_folder: DataFolder, address: str, item: str, user: str | None, *, as_json: bool
) -> None:
    """Everything known about one item of COMPUTER: what it does, what starts it, what stops with
    it.

    Of a running process, by its number: the chain that started it.

    \b
    lumtak explain sim:steam-box apps:process/log-boiler
    lumtak explain local services:cups
    lumtak explain local 4711
    """
    facts, computer = data_folder.opened(address, user=user)
    try:
        _explain(data_folder, facts, computer, item, as_json=as_json)
    finally:
        if computer:
            computer.close()


def _explain(
    data_folder: DataFolder, facts: Facts, computer: Computer | None, item: str, *, as_json: bool
) -> None:
    if (pid := number(item)) is not None:
        _say_causes(facts, pid, computer, as_json=as_json)
        return
    found = explain(find_item(facts, parse_ref(item)), facts, data_folder.catalogue)
    seen = programs_closely(computer, facts, found.address) if computer else ()
    if as_json:
        say_json(
            {"format": 1, "computer": facts.address, **msgspec.to_builtins(found), "closely": seen}
        )
        return
    columns([(name, plain(text, 600)) for name, text in found.rows])
    for line in seen:
        click.echo(line)


def _say_causes(facts: Facts, pid: int, computer: Computer | None, *, as_json: bool) -> None:
    process = next((p for p in facts.processes if p.pid == pid), None)
    if process is None:
        raise UnknownNameError("process", str(pid), (), "`lumtak end COMPUTER` lists them.")
    chain = causes(process, facts)
    seen = looked_at_closely(computer, process, facts) if computer else ()
    if as_json:
        say_json(
            {
                "format": 1,
                "computer": facts.address,
                "pid": pid,
                "name": process.name,
                "closely": dict(seen),
                "causes": chain,
            }
        )
        return
    click.echo(f"{plain(process.name, 60)} (process {pid})")
    for name, value in seen:
        click.echo(f"  {name:<12}{value}")
    for depth, cause in enumerate(chain):
        click.echo(f"  {'  ' * min(depth, 12)}{cause.words}")


@click.command("memory")
@click.argument("address", metavar="COMPUTER")
@click.option(
    "--seconds",
    type=click.FloatRange(1, 3600),
    default=20.0,
    show_default=True,
    help="Length of the reading.",
)
@user_option
@json_option
@with_data_folder
def memory_command(
    data_folder: DataFolder, address: str, seconds: float, user: str | None, *, as_json: bool
) -> None:
    """Memory of COMPUTER as its sum, how large swap should be by three rules, and what emptying the
    cache would do.

    \b
    lumtak memory local
    lumtak memory sim:sail-loft --json
    """
    facts, reading = data_folder.look(address, user=user, seconds=seconds)
    if reading is None:
        raise UsageError(
            "This capture holds no reading.", "Capture the computer again with --seconds 30."
        )
    parts, sizes, emptying = (
        memory_parts(facts, reading),
        swap_sizes(facts, reading),
        emptying_the_cache(reading),
    )
    if as_json:
        say_json(
            {
                "format": 1,
                "computer": facts.address,
                "parts": parts,
                "swap": sizes,
                "emptying_the_cache": emptying,
            }
        )
        return
    columns([(p.name, ram(p.size_bytes).rjust(9), p.note) for p in parts])
    click.echo(f"{'total':<22} {ram(reading.ram_total_bytes):>9}")
    click.echo(
        f"swap: {ram(reading.mean('swap_used_bytes'))} of {ram(facts.memory.swap_total_bytes)} in"
        " use. By three rules it should be:"
    )
    for size in sizes:
        mib = (
            size.mib.not_measured
            if isinstance(size.mib, NotMeasured)
            else f"{size.mib[0]} to {size.mib[1]} MiB"
        )
        click.echo(
            f"  {size.rule:<12} {mib}:"
            f" {size.arithmetic}{'; ' + size.bounded if size.bounded else ''}"
        )
    click.echo(f"Emptying the cache: {emptying}")


@click.command("answer")
@click.argument("address", metavar="COMPUTER")
@click.argument("item", required=False, metavar="[AREA:KEY]")
@click.argument("answer", required=False, type=click.Choice(["needed", "not-needed", "forget"]))
@user_option
@json_option
@with_data_folder
def answer_command(
    data_folder: DataFolder,
    address: str,
    item: str | None,
    answer: str | None,
    user: str | None,
    *,
    as_json: bool,
) -> None:
    """Keep what the owner of COMPUTER said about an item; the next audit goes by it. Without an
    item: list what was said.

    What is guarded, and what the profile needs, stays whatever was said.

    \b
    lumtak answer local apps:sail-sync needed
    lumtak answer local apps:sail-sync forget
    """
    computer = data_folder.computer(address, user=user)
    facts = computer.about.facts()
    if item is not None:
        if answer is None:
            raise UsageError("Say what the owner said.", "needed, not-needed, or forget.")
        known = find_item(facts, parse_ref(item))
        data_folder.casebook.answer(
            computer.identity,
            known.consumer,
            _ANSWERS.get(answer),
            computer.clock.wall().isoformat(timespec="seconds"),
        )
    said = data_folder.casebook.answers(computer.identity)
    computer.close()
    if as_json:
        say_json({"format": 1, "computer": address, "answers": said})
    elif not said:
        click.echo("Nothing was asked about this computer yet.")
    else:
        columns([(plain(address, 80), words) for address, words in said.items()])


@click.command("capture")
@click.argument("address", metavar="COMPUTER")
@click.option("--out", type=click.Path(path_type=Path), required=True, metavar="FILE.json")
@click.option(
    "--seconds",
    type=click.FloatRange(0, 3600),
    default=30.0,
    show_default=True,
    help="Length of the reading; 0: none.",
)
@click.option(
    "--names", is_flag=True, help="Leave the names of the user and of the computer as they are."
)
@user_option
@with_data_folder
def capture_command(
    data_folder: DataFolder,
    address: str,
    out: Path,
    seconds: float,
    user: str | None,
    *,
    names: bool,
) -> None:
    """Write what COMPUTER is and does to a file, to be audited elsewhere: `lumtak audit FILE.json
    --profile NAME`.

    No command-line arguments are in it, and names of the user and the computer are replaced.

    \b
    lumtak capture local --out slow.json
    """
    if is_capture(address):
        raise UsageError(f"{plain(address)} is a file, and no computer.", "Name a computer.")
    facts, reading = data_folder.look(address, user=user, seconds=seconds, on_sample=count)
    progress("")
    write_whole(out, to_json(make_capture(facts, reading, names=names)))
    click.echo(
        f"{out}: {counted(len(facts.items), 'item')},"
        f" {counted(len(facts.processes), 'process', 'processes')}."
    )
