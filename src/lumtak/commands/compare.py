"""The command that holds readings against each other."""

from collections.abc import Sequence
from pathlib import Path

import click
import msgspec

from lumtak.commands.common import columns, json_option, say_json, with_data_folder
from lumtak.core.answer import FeltChange
from lumtak.core.compare import TO_KNOW, Comparison
from lumtak.core.conditions import Mover, mismatches, mover_in_words, movers
from lumtak.core.reading import Reading
from lumtak.core.units import counted, signed
from lumtak.work.data_folder import DataFolder


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
    _: DataFolder,
    before: Path,
    after: Path,
    also_before: tuple[Path, ...],
    also_after: tuple[Path, ...],
    column: str,
    threshold: float,
    *,
    as_json: bool,
) -> None:
    """Compare two readings, or several on each side: by how much they differ, and how sure that is.

    BEFORE and AFTER are files of `lumtak read`, or any CSV files with a header that has the
    column. With several readings on a side the variation between them counts too.

    \b
    lumtak compare before.json after.json
    lumtak compare a.csv b.csv --column ram_used_bytes --json
    lumtak compare b1.json a1.json --also-before b2.json --also-after a2.json --threshold 1
    """
    from lumtak.core.compare import compare_many
    from lumtak.core.verdict import caution_for
    from lumtak.formats.readings import load_column, load_reading_if

    sides = ((before, *also_before), (after, *also_after))
    first, second = ([load_column(path, column) for path in paths] for paths in sides)
    readings = [load_reading_if(path) for paths in sides for path in paths]
    caution = caution_for(*(r for r in readings if r))
    result = compare_many(first, second, column, threshold=threshold, caution=caution)
    warnings, moved = _differ(readings[0], readings[len(first)])
    felt = _felt(readings[: len(first)], readings[len(first) :])
    if as_json:
        whole = {**msgspec.to_builtins(result), "mismatches": warnings, "movers": moved}
        say_json({**whole, "felt": felt})
        return
    _say_comparison(result)
    for change in felt:
        click.echo(change.sentence)
    for mover in moved:
        click.echo(f"changed most: {mover_in_words(mover)}")
    for warning in warnings:
        click.echo(warning)


def _felt(
    before: Sequence[Reading | None], after: Sequence[Reading | None]
) -> tuple[FeltChange, ...]:
    """What was waited for, where all files are readings that tried it."""
    from lumtak.core.answer import felt_changes

    sides = [[r for r in side if r is not None] for side in (before, after)]
    if (len(sides[0]), len(sides[1])) != (len(before), len(after)):
        return ()
    return felt_changes(sides[0], sides[1])


def _differ(
    first: Reading | None, second: Reading | None
) -> tuple[tuple[str, ...], tuple[Mover, ...]]:
    """What differs between the conditions of two readings, and what changed most; of columns of
    numbers nothing is known.
    """
    if first is None or second is None:
        return (), ()
    return mismatches(first, second), movers(first, second)


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
            (
                f"{counted(samples, 'sample')}{of}, as telling as"
                f" {counted(round(worth), 'independent one')}"
            ),
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
    if result.wanders:
        click.echo(f"This cannot be known from these readings: {result.wanders}. {TO_KNOW}")
    if result.note:
        click.echo(result.note)
