"""Commands that only look: facts, profiles, audit, readings, comparisons."""

from pathlib import Path

import click
import msgspec

from lumtak.commands.common import columns, json_option, progress, say_json, user_option, with_workshop
from lumtak.computers import Computer
from lumtak.core.audit import Audit, Finding, audit
from lumtak.core.facts import in_rows
from lumtak.core.load import Reading, Sample, to_json
from lumtak.core.record import NotMeasured
from lumtak.core.setting import AREA_TITLES, AREAS
from lumtak.core.text import plain
from lumtak.core.units import percent, ram, signed
from lumtak.errors import UsageError
from lumtak.stations.reading import take_reading
from lumtak.stations.workshop import Workshop, read_profile
from lumtak.storage import write_whole

_AUDIT_SECONDS = {"local": 5.0}
_AUDIT_SECONDS_SIMULATED = 60.0


@click.command("facts")
@click.argument("computer")
@user_option
@json_option
@with_workshop
def facts_command(workshop: Workshop, computer: str, user: str | None, *, as_json: bool) -> None:
    """What COMPUTER is and has: hardware, system, items, processes.

    \b
    lumtak facts local
    lumtak facts sim:drawing-bench --json
    """
    machine = workshop.computer(computer, user=user)
    facts = machine.facts()
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
@with_workshop
def profile_list(workshop: Workshop, *, as_json: bool) -> None:
    """All profiles, name first; your own stand in HOME/profiles/NAME.toml."""
    profiles = workshop.profiles()
    if as_json:
        say_json(list(profiles.values()))
        return
    columns([(name, plain(p.title), plain(p.about)) for name, p in profiles.items()])


@profile_group.command("check")
@click.argument("file", type=click.Path(path_type=Path))
@with_workshop
def profile_check(workshop: Workshop, file: Path) -> None:
    """Say whether FILE is a profile, and what is wrong with it if not."""
    del workshop
    profile = read_profile(file)
    click.echo(f"{file}: the profile {profile.name} is right.")


@click.command("audit")
@click.argument("computer")
@click.option("--profile", "profile_name", required=True, metavar="NAME|FILE", help="The workload profile to judge by.")
@click.option(
    "--seconds", type=float, help="Weigh over so many seconds; 0 leaves weights out. Default: 5 local, 60 simulated."
)
@user_option
@json_option
@with_workshop
def audit_command(
    workshop: Workshop, computer: str, profile_name: str, seconds: float | None, user: str | None, *, as_json: bool
) -> None:
    """Weigh and judge every item of COMPUTER against a profile.

    \b
    lumtak audit sim:drawing-bench --profile hull-drafting
    lumtak audit local --profile writing-and-web --seconds 30 --json
    """
    profile = workshop.profile(profile_name)
    machine = workshop.computer(computer, user=user)
    window = _AUDIT_SECONDS.get(computer, _AUDIT_SECONDS_SIMULATED) if seconds is None else seconds
    reading = take_reading(machine, seconds=window, on_sample=count) if window else None
    progress("")
    facts = machine.facts()
    machine.close()
    found = audit(facts, profile, workshop.catalogue, reading)
    if as_json:
        say_json({"format": 1, "computer": facts.address, **msgspec.to_builtins(found)})
        return
    say_audit(found)


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
            change = f"{plain(f.value)} → {plain(f.proposal)}" if f.can_choose and f.proposal else plain(f.value)
            rows.append(
                (f"  {f.stance}", memory.rjust(9), cpu.rjust(7), plain(str(f.ref), 60), change, plain(f.reason))
            )
        columns(rows)
        for gap in found.gaps:
            if gap.area == area:
                click.echo(f"  not read: {gap.reason}" + (f"; needed: {gap.needed}" if gap.needed else ""))


@click.command("read")
@click.argument("computer")
@click.option("--seconds", type=float, default=60.0, show_default=True, help="Length of the window.")
@click.option(
    "--interval", type=float, default=1.0, show_default=True, help="Seconds from sample to sample, 0.2 to 60."
)
@click.option("--out", type=click.Path(path_type=Path, dir_okay=False), required=True, metavar="FILE.json|.csv")
@user_option
@with_workshop
def read_command(
    workshop: Workshop, computer: str, seconds: float, interval: float, out: Path, user: str | None
) -> None:
    """Sample the load of COMPUTER over a window and write it to a file. Ctrl-C ends it early and keeps what was read.

    \b
    lumtak read local --seconds 120 --out before.json
    lumtak read sim:drawing-bench --interval 0.5 --out bench.csv
    """
    if out.suffix.lower() not in {".json", ".csv"}:
        raise UsageError(f"{out.name} ends in neither .json nor .csv.", "Choose one of them.")
    if not out.absolute().parent.is_dir():
        raise UsageError(f"There is no folder {out.absolute().parent}.", "Make it first, or choose another.")
    machine = workshop.computer(computer, user=user)
    reading = _until_stopped(machine, seconds, interval)
    machine.close()
    if out.suffix.lower() == ".csv":
        from lumtak.stations.files import to_csv

        data = to_csv(reading).encode()
    else:
        data = to_json(reading)
    write_whole(out, data)
    progress("")
    settled = f"settled after {reading.samples[reading.settled_from - 1].t_s if reading.settled_from else 0:.0f} s"
    click.echo(
        f"{out}: {len(reading.samples)} samples, CPU {percent(reading.mean('cpu_pct'))}, RAM {ram(reading.mean('ram_used_bytes'))}; "
        + (settled if reading.settled else "it had not settled when it ended, so take a longer one")
    )


def _until_stopped(machine: Computer, seconds: float, interval: float) -> Reading:
    """A reading that Ctrl-C ends early."""
    import signal
    import threading

    stop = threading.Event()
    before = signal.signal(signal.SIGINT, lambda *_: stop.set())
    try:
        return take_reading(machine, seconds=seconds, interval_s=interval, on_sample=count, stop=stop)
    finally:
        signal.signal(signal.SIGINT, before)


@click.command("compare")
@click.argument("before", type=click.Path(path_type=Path))
@click.argument("after", type=click.Path(path_type=Path))
@click.option("--column", default="cpu_pct", show_default=True, help="Which column of the readings or CSV files.")
@json_option
@with_workshop
def compare_command(workshop: Workshop, before: Path, after: Path, column: str, *, as_json: bool) -> None:
    """Hold two readings against each other: by how much, how sure.

    BEFORE and AFTER are files of `lumtak read`, or any CSV files with a header that has the column.

    \b
    lumtak compare before.json after.json
    lumtak compare a.csv b.csv --column ram_used_bytes --json
    """
    del workshop
    from lumtak.core.compare import compare
    from lumtak.stations.files import load_column

    result = compare(load_column(before, column), load_column(after, column), column)
    if as_json:
        say_json(result)
        return
    low, high = result.ci95
    words = {"lower": "lower", "higher": "higher", "none": "no clear difference"}
    click.echo(f"{column}: {words[result.verdict]}")
    columns(
        [
            ("before", f"{result.before:.4g}", f"{result.n_before} samples"),
            ("after", f"{result.after:.4g}", f"{result.n_after} samples"),
            ("difference", signed(result.difference, 3), f"95 % sure: {signed(low, 3)} to {signed(high, 3)}"),
            ("", "", f"smallest difference that these windows could have shown: {result.smallest:.3g}"),
        ]
    )
