"""Reading files in and out: JSON and CSV."""

import csv
import io
from pathlib import Path
from typing import TYPE_CHECKING, TypeVar

import msgspec

from lumtak.core.reading import FORMAT, Reading
from lumtak.core.record import MOST_MEASURED, UNREADABLE, NotMeasured, Record, immeasurable
from lumtak.core.sample import COLUMNS
from lumtak.core.text import plain
from lumtak.errors import BadFileError
from lumtak.storage import read_handed_in

_LARGEST = 1 << 28
_LONG_BYTES = 1 << 20
_MOST_LINES = 1_000_000
"""That are looked at one by one, to name the one that is wrong; a day of five samples a second is
432,000."""
_START = 1 << 12
"""Bytes in which a zero says that a file is no text."""
_DIGITS = 9
"""More than any version number has; int() refuses thousands."""

_T = TypeVar("_T", bound=Record)

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray


def to_csv(reading: Reading) -> str:
    """One row a sample; `settled` is 1 for samples after the transient.

    What was not measured is an empty cell.
    """
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\n")
    writer.writerow([*COLUMNS, "settled"])
    for index, sample in enumerate(reading.samples):
        cells = [getattr(sample, column) for column in COLUMNS]
        writer.writerow(
            [
                (
                    ""
                    if isinstance(c, NotMeasured)
                    else f"{c:.6g}"
                    if isinstance(c, float) and abs(c) < 1e6
                    else c
                )
                for c in cells
            ]
            + [int(index >= reading.settled_from)]
        )
    return out.getvalue()


def _load(path: Path) -> bytes:
    return read_handed_in(path, _LARGEST, "reading")


def load_reading(path: Path) -> Reading:
    """The reading in a JSON file.

    Raises:
        BadFileError: it is none, is cut short, or was written by a newer Lumtak.
    """
    return _decode(_load(path), path)


def load_reading_if(path: Path) -> Reading | None:
    """The reading in a file that is one.

    None for a CSV file, which says nothing of its conditions.
    """
    data = _load(path)
    return _decode(data, path) if _is_json(data, path) else None


def _is_json(data: bytes, path: Path) -> bool:
    return path.suffix.lower() == ".json" or data.lstrip()[:1] == b"{"


def _decode(data: bytes, path: Path) -> Reading:
    return decode_file(
        data, path, Reading, "reading", FORMAT, "Take the reading again, or name another file."
    )


def decode_file(data: bytes, path: Path, kind: type[_T], noun: str, newest: int, again: str) -> _T:
    """The record in a JSON file of ours.

    Args:
        data: the file's content.
        path: its name, for errors.
        kind: of the record.
        noun: what the file holds, for errors.
        newest: the newest format that is known here.
        again: what to do when the file cannot be used.

    Raises:
        BadFileError: it is none, is cut short, or was written by a newer Lumtak.
    """
    try:
        version = bytes(msgspec.json.decode(data, type=dict[str, msgspec.Raw]).get("format", b""))
        if version.isdigit() and int(version[:_DIGITS]) > newest:
            problem = f"it was written by a newer Lumtak (format {int(version[:_DIGITS])})."
            raise BadFileError(str(path), problem, next_step="Update Lumtak.")
        if (number := immeasurable(msgspec.json.decode(data))) is not None:
            problem = f"a number in it is larger than anything that is measured ({number:.3g})."
            raise BadFileError(str(path), problem, next_step="Take it again, or name another file.")
        return msgspec.json.decode(data, type=kind)
    except msgspec.ValidationError as error:
        raise BadFileError(
            str(path), f"this is no {noun} ({plain(str(error))}).", next_step=again
        ) from error
    except UNREADABLE as error:
        raise BadFileError(
            str(path),
            f"this is no complete {noun}; the file is damaged or cut short.",
            next_step=again,
        ) from error


def load_column(path: Path, column: str) -> "list[float] | NDArray[np.float64]":
    """One column of a reading file or of any CSV file with a header.

    Of a reading, and of a CSV file with a column `settled`, only the samples after the transient.

    Raises:
        BadFileError: the file, the column or a cell cannot be used; with the line.
    """
    data = _load(path)
    if _is_json(data, path):
        return _column_of(_decode(data, path), column, path)
    try:
        text = data.decode("utf-8-sig") if b"\0" not in data[:_START] else None
    except UnicodeDecodeError:
        text = None
    if text is None:
        raise BadFileError(
            str(path),
            "this is neither a reading nor a CSV file in UTF-8.",
            next_step="Save it as UTF-8.",
        )
    if len(data) > _LONG_BYTES and (quick := _quick_column(text, column)) is not None:
        return quick
    if (lines := text.count("\n")) > _MOST_LINES:
        raise BadFileError(
            str(path),
            f"it has {lines:,} lines, and not all of them are plain numbers.",
            next_step=f"Leave out what is no number, or what is over {_MOST_LINES:,} lines.",
        )
    return _csv_column(text, column, path)


def _quick_column(text: str, column: str) -> "NDArray[np.float64] | None":
    """A column of a long file of plain finite numbers.

    None where anything is odd, so that the careful way names the line.
    """
    import numpy as np

    header = [cell.strip() for cell in text[: text.find("\n")].split(",")]
    if column not in header:
        return None
    wanted = [header.index(column)] + ([header.index("settled")] if "settled" in header else [])
    try:
        table = np.loadtxt(io.StringIO(text), delimiter=",", skiprows=1, usecols=wanted, ndmin=2)
    except ValueError:
        return None
    values = table[:, 0] if len(wanted) == 1 else table[table[:, 1] != 0, 0]
    return values if (np.abs(values) <= MOST_MEASURED).all() else None


def _column_of(reading: Reading, column: str, path: Path) -> list[float]:
    if column not in COLUMNS:
        raise BadFileError(
            str(path),
            f"a reading has no column {plain(column)}.",
            next_step=f"It has {', '.join(COLUMNS)}.",
        )
    values = [getattr(sample, column) for sample in reading.kept]
    missing = next((v for v in values if isinstance(v, NotMeasured)), None)
    if missing is not None:
        raise BadFileError(
            str(path),
            f"{column} was not measured: {missing.not_measured}.",
            next_step="Compare another column.",
        )
    return reading.series(column)


def _csv_column(text: str, column: str, path: Path) -> list[float]:
    rows = csv.reader(io.StringIO(text))
    try:
        header = [cell.strip() for cell in next(rows, [])]
        if column not in header:
            has = ", ".join(plain(c, 40) for c in header[:20]) or "none at all"
            raise BadFileError(
                str(path),
                f"there is no column {plain(column)}; it has {has}.",
                line=1,
                next_step="Choose one with --column NAME.",
            )
        place = header.index(column)
        settled = header.index("settled") if "settled" in header else len(header)
        values = [
            _number(row, place, column, path, rows.line_num)
            for row in rows
            if _counts(row, settled)
        ]
    except csv.Error as error:
        raise BadFileError(
            str(path), f"this is no CSV file ({error}).", line=rows.line_num
        ) from error
    return values


def _counts(row: list[str], settled: int) -> bool:
    """Whether there is anything in a row, and it is not one of a transient."""
    not_settled = len(row) > settled and row[settled].strip() == "0"
    return not not_settled and any(cell.strip() for cell in row)


def _number(row: list[str], place: int, column: str, path: Path, line: int) -> float:
    if len(row) <= place:
        raise BadFileError(
            str(path),
            f"the row has no cell for {column}; the file may be cut short.",
            line=line,
            next_step="Mend that row.",
        )
    cell = row[place].strip()
    try:
        value = float(cell)
    except ValueError as error:
        raise BadFileError(
            str(path),
            f"“{plain(cell, 40)}” in column {column} is no number.",
            line=line,
            next_step="Mend that cell.",
        ) from error
    if not abs(value) <= MOST_MEASURED:
        raise BadFileError(
            str(path),
            f"“{plain(cell, 40)}” in column {column} is no number that can have been measured.",
            line=line,
            next_step="Mend that cell.",
        )
    return value
