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
from lumtak.computers import Computer
from lumtak.core.audit import Audit, Finding, audit
from lumtak.core.compare import Comparison
from lumtak.core.facts import Origin, in_rows
from lumtak.core.reading import Reading, to_json
from lumtak.core.record import NotMeasured
from lumtak.core.sample import Sample
from lumtak.core.setting import AREA_TITLES, AREAS
from lumtak.core.text import plain
from lumtak.core.units import counted, percent, ram, signed
from lumtak.errors import UsageError
from lumtak.storage import write_whole
from lumtak.work.data_folder import DataFolder, read_profile
from lumtak.work.sampling import take_reading

_AUDIT_SECONDS = {"local": 5.0}
_AUDIT_SECONDS_SIMULATED = 60.0


@click.command("facts")
@click.argument("computer")
@user_option
@json_option
@with_data_folder
def facts_command(
    data_folder: DataFolder, computer: str, user: str | None, *, as_json: bool
) -> None:
    """What COMPUTER is and has: hardware, system, items, processes.

    \b
    lumtak facts local
    lumtak facts sim:drawing-bench --json
    """
    machine = data_folder.computer(computer, user=user)
    facts = machine.about.facts()
    machine.close()
    if as_json:
        say_json(facts)
        return
    columns(in_rows(facts))


@click.group("profile")
def profile_group() -> None:
    """Workload profiles: what a computer's owner does on it."""


@profile_group.command("list")
@json_option
@with_data_folder
def profile_list(data_folder: DataFolder, *, as_json: bool) -> None:
    """All profiles, name first; your own stand in HOME/profiles/NAME.toml."""
    profiles = data_folder.profiles()
    if as_json:
        say_json(list(profiles.values()))
        return
    columns([(name, plain(p.title), plain(p.about)) for name, p in profiles.items()])


@profile_group.command("check")
@click.argument("file", type=click.Path(path_type=Path))
@with_data_folder
def profile_check(data_folder: DataFolder, file: Path) -> None:
    """Say whether FILE is a profile, and what is wrong with it if not."""
    del data_folder
    profile = read_profile(file)
    click.echo(f"{file}: the profile {profile.name} is right.")


@click.command("audit")
@click.argument("computer")
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
    help="Weigh over so many seconds; 0 leaves weights out. Default: 5 local, 60 simulated.",
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
    computer: str,
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
    window = _AUDIT_SECONDS.get(computer, _AUDIT_SECONDS_SIMULATED) if seconds is None else seconds
    facts, reading = data_folder.look(computer, user=user, seconds=window, on_sample=count)
    progress("")
    found = audit(
        facts, profile, data_folder.catalogue, reading, data_folder.answers(facts.identity)
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
    return (
        "" if isinstance(weight.ram_bytes, NotMeasured) else ram(weight.ram_bytes),
        "" if isinstance(weight.cpu_pct, NotMeasured) else percent(weight.cpu_pct),
    )


def say_audit(found: Audit) -> None:
    """The audit for a person."""
    click.echo(plain(found.headline, 400))
    for area in AREAS:
        mine = [f for f in found.findings if f.area == area]
        click.echo(f"\n{AREA_TITLES[area]}")
        rows = []
        for f in mine:
            memory, cpu = _weights(f)
            change = (
                f"{plain(f.value)} → {plain(f.proposal)}"
                if f.can_choose and f.proposal
                else plain(f.value)
            )
            rows.append(
                (
                    f"  {f.stance}",
                    memory.rjust(9),
                    cpu.rjust(7),
                    plain(str(f.ref), 60),
                    change,
                    plain(f.reason),
                )
            )
        columns(rows)
        for gap in found.gaps:
            if gap.area == area:
                click.echo(
                    f"  not read: {gap.reason}" + (f"; needed: {gap.needed}" if gap.needed else "")
                )


@click.command("read")
@click.argument("computer")
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
    computer: str,
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
    machine = data_folder.computer(computer, user=user)
    reading = _until_stopped(machine, seconds, interval)
    machine.close()
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
    early = "" if reading.ended in {"complete", "precise"} else f" ({reading.ended} early)"
    click.echo(
        f"{out}: {counted(len(reading.samples), 'sample')}{early}, CPU"
        f" {percent(reading.mean('cpu_pct'))}, RAM {ram(reading.mean('ram_used_bytes'))}; "
        + (
            settled if reading.settled else "it had not settled when it ended, so take a longer one"
        ),
        err=to_stderr,
    )


def _until_stopped(machine: Computer, seconds: float | None, interval: float) -> Reading:
    """A reading that Ctrl-C ends early."""
    import signal
    import threading

    stop = threading.Event()
    before = signal.signal(signal.SIGINT, lambda *_: stop.set())
    try:
        return take_reading(
            machine, seconds=seconds, interval_s=interval, on_sample=count, stop=stop
        )
    finally:
        signal.signal(signal.SIGINT, before)


@click.command("look")
@click.argument("computer")
@click.option("--seconds", type=float, default=30.0, show_default=True, help="How long to look.")
@user_option
@json_option
@with_data_folder
def look_command(
    data_folder: DataFolder, computer: str, seconds: float, user: str | None, *, as_json: bool
) -> None:
    """A quick look at COMPUTER without profile or job: what weighs, and what these figures cannot
    say.

    \b
    lumtak look local
    lumtak look sim:drawing-bench --seconds 60
    """
    from lumtak.work.quick import look_in_words, quick_look

    machine = data_folder.computer(computer, user=user)
    facts = machine.about.facts()
    reading = take_reading(machine, seconds=seconds, on_sample=count)
    machine.close()
    progress("")
    found = quick_look(facts, reading)
    if as_json:
        say_json(found)
        return
    for row in look_in_words(found):
        click.echo(row.words)


@click.command("compare")
@click.argument("before", type=click.Path(path_type=Path))
@click.argument("after", type=click.Path(path_type=Path))
@click.option(
    "--also-before",
    type=click.Path(path_type=Path),
    multiple=True,
    help="One more reading before; can be repeated.",
)
@click.option(
    "--also-after",
    type=click.Path(path_type=Path),
    multiple=True,
    help="One more reading after; can be repeated.",
)
@click.option(
    "--column",
    default="cpu_pct",
    show_default=True,
    help="Which column of the readings or CSV files.",
)
@click.option(
    "--threshold",
    type=click.FloatRange(0),
    default=0.0,
    help="Differences smaller than this do not matter in practice.",
)
@json_option
@with_data_folder
def compare_command(
    data_folder: DataFolder,
    before: Path,
    after: Path,
    also_before: tuple[Path, ...],
    also_after: tuple[Path, ...],
    column: str,
    threshold: float,
    *,
    as_json: bool,
) -> None:
    """Hold readings against each other: by how much, how sure.

    BEFORE and AFTER are files of `lumtak read`, or any CSV files with a header that has the
    column. With several readings on a side
    the variation between them counts too.

    \b
    lumtak compare before.json after.json
    lumtak compare a.csv b.csv --column ram_used_bytes --json
    lumtak compare b1.json a1.json --also-before b2.json --also-after a2.json --threshold 1
    """
    del data_folder
    from lumtak.core.compare import compare_many
    from lumtak.core.conditions import mismatches, mover_in_words, movers
    from lumtak.core.verdict import caution_for
    from lumtak.formats.readings import load_column, load_reading_if

    sides = [
        [load_column(path, column) for path in paths]
        for paths in ((before, *also_before), (after, *also_after))
    ]
    readings = [load_reading_if(path) for path in (before, after, *also_before, *also_after)]
    caution = caution_for(*(r for r in readings if r))
    result = compare_many(sides[0], sides[1], column, threshold=threshold, caution=caution)
    first, second = readings[:2]
    warnings = mismatches(first, second) if first and second else ()
    moved = movers(first, second) if first and second else ()
    if as_json:
        say_json({**msgspec.to_builtins(result), "mismatches": warnings, "movers": moved})
        return
    _say_comparison(result)
    for mover in moved:
        click.echo(f"changed most: {mover_in_words(mover)}")
    for warning in warnings:
        click.echo(warning)


def _say_comparison(result: Comparison) -> None:
    low, high = result.ci95
    words = {
        "lower": "lower",
        "higher": "higher",
        "no effect": "no effect",
        "not known": "no clear difference",
    }
    click.echo(f"{result.column}: {words[result.finding]}")

    def side(mean: float, samples: int, worth: float, readings: int) -> tuple[str, str]:
        of = f" in {readings} readings" if readings > 1 else ""
        return (
            f"{mean:.4g}",
            f"{counted(samples, 'sample')}{of}, worth {counted(round(worth), 'independent one')}",
        )

    columns(
        [
            (
                "before",
                *side(
                    result.before, result.n_before, result.effective_before, result.readings_before
                ),
            ),
            (
                "after",
                *side(result.after, result.n_after, result.effective_after, result.readings_after),
            ),
            (
                "difference",
                signed(result.difference, 3),
                f"95 % sure: {signed(low, 3)} to {signed(high, 3)}",
            ),
            (
                "of medians",
                signed(result.median_difference, 3),
                f"of 95th percentiles {signed(result.p95_difference, 3)}",
            ),
            ("shift", signed(result.shift, 3), "Hodges-Lehmann"),
            (
                "smallest",
                f"{result.smallest:.3g}",
                "difference that these windows could have shown",
            ),
        ]
    )
    if result.note:
        click.echo(result.note)
