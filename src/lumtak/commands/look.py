"""Commands that only look: facts, profiles, audit, readings, comparisons."""

from pathlib import Path
from typing import get_args

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
from lumtak.computers.protocol import Computer
from lumtak.core.audit import Audit, Finding, audit
from lumtak.core.facts import Origin, in_rows
from lumtak.core.reading import ENDED_WORDS, WHOLE, Reading, to_json
from lumtak.core.record import NotMeasured
from lumtak.core.sample import Sample
from lumtak.core.setting import AREA_TITLES, AREAS
from lumtak.core.text import plain
from lumtak.core.units import counted, percent, ram
from lumtak.errors import UsageError
from lumtak.storage import write_whole
from lumtak.work.data_folder import DataFolder
from lumtak.work.sampling import take_reading
from lumtak.work.trials_kept import kept_trials

_AUDIT_SECONDS = {"local": 5.0}
_AUDIT_SECONDS_SIMULATED = 60.0


@click.command("facts")
@click.argument("address", metavar="COMPUTER")
@user_option
@json_option
@with_data_folder
def facts_command(
    data_folder: DataFolder, address: str, user: str | None, *, as_json: bool
) -> None:
    """What COMPUTER is and has: hardware, system, items, processes.

    \b
    lumtak facts local
    lumtak facts sim:drawing-bench --json
    """
    computer = data_folder.computer(address, user=user)
    facts = computer.about.facts()
    computer.close()
    if as_json:
        say_json(facts)
        return
    columns(in_rows(facts))


@click.command("audit")
@click.argument("address", metavar="COMPUTER")
@click.option(
    "--profile",
    "profile_name",
    required=True,
    metavar="NAME|FILE",
    help="The workload profile to judge by.",
)
@click.option(
    "--seconds",
    type=float,
    help="Measure for this many seconds; 0 leaves weights out. Default: 5 local, 60 simulated.",
)
@click.option(
    "--origin",
    "origins",
    multiple=True,
    type=click.Choice(get_args(Origin)),
    help="Show only items of this origin; can be said more than once. Default: all.",
)
@user_option
@json_option
@with_data_folder
def audit_command(
    data_folder: DataFolder,
    address: str,
    profile_name: str,
    seconds: float | None,
    origins: tuple[str, ...],
    user: str | None,
    *,
    as_json: bool,
) -> None:
    """Weigh and judge every item of COMPUTER against a profile.

    \b
    lumtak audit sim:drawing-bench --profile hull-drafting
    lumtak audit local --profile writing-and-web --seconds 30 --json
    lumtak audit slow.json --profile writing-and-web          a capture from another computer
    """
    profile = data_folder.profile(profile_name)
    window = _AUDIT_SECONDS.get(address, _AUDIT_SECONDS_SIMULATED) if seconds is None else seconds
    facts, reading = data_folder.look(address, user=user, seconds=window, on_sample=count)
    progress("")
    found = audit(
        facts,
        profile,
        data_folder.catalogue,
        reading,
        data_folder.answers(facts.identity),
        kept_trials(data_folder.home, facts.identity),
    )
    if origins:
        found = msgspec.structs.replace(
            found, findings=tuple(f for f in found.findings if f.origin in origins)
        )
    for problem in data_folder.catalogue.problems:
        click.echo(plain(problem, 400), err=True)
    if as_json:
        say_json({"format": 1, "computer": facts.address, **msgspec.to_builtins(found)})
        return
    say_audit(found)
    for mark in found.marks:
        known = next((a for a in data_folder.advice if a.name == mark.advice), None)
        click.echo()
        click.echo(plain(f"Somebody followed advice here: {mark.where}.", 400))
        if known:
            click.echo(f"  {known.claim} {known.verdict}: {known.why} {known.instead}")


def count(_: Sample, done: int, whole: int) -> None:
    """How far a reading is."""
    progress(f"reading {done} of {whole}")


def _weights(finding: Finding) -> tuple[str, str]:
    weight = finding.weight
    if finding.pile is not None:
        size = weight.disk_bytes
        return ("" if isinstance(size, NotMeasured) else ram(size), "of disk")
    return (
        "" if isinstance(weight.ram_bytes, NotMeasured) else ram(weight.ram_bytes),
        "" if isinstance(weight.cpu_pct, NotMeasured) else percent(weight.cpu_pct),
    )


def say_audit(found: Audit) -> None:
    """The audit for a person."""
    for line in found.told:
        click.echo(plain(line, 400))
    for area in AREAS:
        most = found.drawing if area == "effects" else None
        more = f"; what the desktop draws: at most {most.words} in all" if most else ""
        click.echo(f"\n{AREA_TITLES[area]}{more}")
        columns([_as_row(f) for f in found.findings if f.area == area])
        for gap in found.gaps:
            if gap.area == area:
                needed = f"; needed: {gap.needed}" if gap.needed else ""
                click.echo(f"  not read: {gap.reason}{needed}")


def _as_row(f: Finding) -> tuple[str, ...]:
    """A finding for a person."""
    memory, cpu = _weights(f)
    change = plain(f.value)
    if f.can_choose and f.proposal:
        change = f"{change} → {plain(f.proposal)}"
    return (
        f"  {f.stance}",
        memory.rjust(9),
        cpu.rjust(7),
        plain(str(f.ref), 60),
        change,
        plain(f.why),
    )


@click.command("read")
@click.argument("address", metavar="COMPUTER")
@click.option(
    "--seconds",
    type=float,
    help="Length of the window. Default: until the mean is sure, 5 minutes at most.",
)
@click.option(
    "--interval",
    type=float,
    default=1.0,
    show_default=True,
    help="Seconds from sample to sample, 0.2 to 60.",
)
@click.option("--out", type=click.Path(path_type=Path, dir_okay=False), metavar="FILE.json|.csv")
@click.option(
    "--openmetrics",
    is_flag=True,
    help="Print the means as OpenMetrics text, instead of the file or besides it.",
)
@user_option
@with_data_folder
def read_command(
    data_folder: DataFolder,
    address: str,
    seconds: float | None,
    interval: float,
    out: Path | None,
    user: str | None,
    *,
    openmetrics: bool,
) -> None:
    """Sample the load of COMPUTER over a window and write it to a file. Ctrl-C ends it early and
    keeps what was read.

    \b
    lumtak read local --seconds 120 --out before.json
    lumtak read sim:drawing-bench --interval 0.5 --out bench.csv
    """
    if out is None and not openmetrics:
        raise UsageError(
            "A reading has to go somewhere.",
            "Name a file with --out FILE.json or FILE.csv, or use --openmetrics.",
        )
    if out is not None:
        _check_target(out)
    computer = data_folder.computer(address, user=user)
    reading = _until_stopped(computer, seconds, interval)
    computer.close()
    progress("")
    if out is not None:
        _write_reading(reading, out, to_stderr=openmetrics)
    if openmetrics:
        from lumtak.formats.openmetrics import to_openmetrics

        click.echo(to_openmetrics(reading), nl=False)


def _check_target(out: Path) -> None:
    """Before a long reading, not after it."""
    if out.suffix.lower() not in {".json", ".csv"}:
        raise UsageError(f"{out.name} ends in neither .json nor .csv.", "Choose one of them.")
    if not out.absolute().parent.is_dir():
        raise UsageError(
            f"There is no folder {out.absolute().parent}.", "Make it first, or choose another."
        )


def _write_reading(reading: Reading, out: Path, *, to_stderr: bool) -> None:
    from lumtak.formats.readings import to_csv

    write_whole(out, to_csv(reading).encode() if out.suffix.lower() == ".csv" else to_json(reading))
    if reading.settled_from:
        settled = f"settled after {reading.samples[reading.settled_from - 1].t_s:.0f} s"
    else:
        settled = "settled from the start"
    length = f"{reading.samples[-1].t_s:.0f} s"
    early = "" if reading.ended in WHOLE else f" ({ENDED_WORDS[reading.ended]} after {length})"
    click.echo(
        f"{out}: {counted(len(reading.samples), 'sample')}{early}, CPU"
        f" {percent(reading.mean('cpu_pct'))}, RAM {ram(reading.mean('ram_used_bytes'))}; "
        + (
            settled if reading.settled else "it had not settled when it ended, so take a longer one"
        ),
        err=to_stderr,
    )


def _until_stopped(computer: Computer, seconds: float | None, interval: float) -> Reading:
    """A reading that Ctrl-C ends early."""
    import signal
    import threading

    stop = threading.Event()
    before = signal.signal(signal.SIGINT, lambda *_: stop.set())
    try:
        return take_reading(
            computer, seconds=seconds, interval_s=interval, on_sample=count, stop=stop
        )
    finally:
        signal.signal(signal.SIGINT, before)


@click.command("look")
@click.argument("address", metavar="COMPUTER")
@click.option("--seconds", type=float, default=30.0, show_default=True, help="How long to look.")
@user_option
@json_option
@with_data_folder
def look_command(
    data_folder: DataFolder, address: str, seconds: float, user: str | None, *, as_json: bool
) -> None:
    """A quick look at COMPUTER without profile or job: what weighs, and what these figures cannot
    say.

    \b
    lumtak look local
    lumtak look sim:drawing-bench --seconds 60
    """
    from lumtak.work.quick import look_in_words, quick_look

    computer = data_folder.computer(address, user=user)
    facts = computer.about.facts()
    reading = take_reading(computer, seconds=seconds, on_sample=count)
    computer.close()
    progress("")
    found = quick_look(facts, reading)
    if as_json:
        say_json(found)
        return
    for row in look_in_words(found):
        click.echo(row.words)


@click.command("starts")
@click.argument("address", metavar="COMPUTER")
@user_option
@json_option
@with_data_folder
def starts_command(
    data_folder: DataFolder, address: str, user: str | None, *, as_json: bool
) -> None:
    """The starts of COMPUTER that its own records tell of: how long until the login screen, until
    it could be used, and what was waited for.

    \b
    lumtak starts local
    lumtak starts sim:tool-crib --json
    """
    computer = data_folder.computer(address, user=user)
    starts = computer.about.starts()
    computer.close()
    if as_json:
        say_json({"format": 1, "computer": address, "starts": starts})
    elif isinstance(starts, NotMeasured):
        click.echo(f"No start is known: {starts.not_measured}.")
    else:
        columns([(s.at[:16].replace("T", " "), s.in_words()) for s in starts])
