"""The owner's files as a list to take home: a PDF to tick, a CSV to fill in and read back."""

import csv
import io
from collections.abc import Mapping, Sequence
from datetime import UTC, datetime
from itertools import groupby

from lumtak.core.deciding import CHANGED_SINCE, DECISIONS, Decided, Decision, Thing
from lumtak.core.text import plain
from lumtak.core.units import counted, ram
from lumtak.errors import BadFileError
from lumtak.report.document import FRAME_PADDING, Doc, paragraphs, table
from lumtak.report.tongue import SOURCE, Tongue

_COLUMNS = ("decision", "kind", "bytes", "changed", "opened", "copies", "path", "note")
_MOST_LINES, _PATH = 200_000, 400
_TICK = "☐"


def day_of(seconds: int) -> str:
    """A day by the seconds since 1970; empty where it is not known."""
    return f"{datetime.fromtimestamp(seconds, UTC):%Y-%m-%d}" if seconds else ""


def to_csv(found: Sequence[Thing], decided: Mapping[str, Decided]) -> str:
    """A row a thing; `decision` is keep, aside, later or empty. docs/FORMATS.md has the form."""
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\n")
    writer.writerow(_COLUMNS)
    for thing in found:
        said, note = _said(decided, thing)
        writer.writerow(
            (
                said.decision if said else "", thing.kind, round(thing.bytes),
                day_of(thing.changed_at), thing.opened, thing.others, thing.path, note,
            )
        )  # fmt: skip
    return out.getvalue()


def _said(decided: Mapping[str, Decided], thing: Thing) -> tuple[Decided | None, str]:
    """(what was said of this thing, what is to be noted of it)."""
    said = decided.get(thing.path)
    if said is None or said.is_of(thing):
        return said, ""
    return None, CHANGED_SINCE


def from_csv(data: bytes, path: str) -> dict[str, Decision]:
    """What was decided, by path; rows without a decision are passed over.

    Raises:
        BadFileError: it is no such list.
    """
    found: dict[str, Decision] = {}
    try:
        rows = csv.reader(io.StringIO(data.decode("utf-8-sig"), newline=""))
        head = next(rows, [])
        if "decision" not in head or "path" not in head:
            raise BadFileError(path, "it has no columns “decision” and “path”.", line=1)
        places = head.index("decision"), head.index("path")
        for line, row in enumerate(rows, start=2):
            if line > _MOST_LINES:
                raise BadFileError(path, f"it has more than {_MOST_LINES} lines.")
            found.update(_decided(row, places, path, line))
    except (UnicodeDecodeError, csv.Error) as error:
        raise BadFileError(path, f"this is no list in CSV: {error}.") from error
    return found


def _decided(row: list[str], places: tuple[int, int], path: str, line: int) -> dict[str, Decision]:
    """What a row says; nothing where it says none."""
    if not any(cell.strip() for cell in row):
        return {}
    if len(row) <= max(places):
        raise BadFileError(path, "the line is cut short.", line=line)
    said, at = row[places[0]].strip().lower(), row[places[1]]
    if not said:
        return {}
    decision = next((d for d in DECISIONS if d == said), None)
    if decision is None:
        known = ", ".join(DECISIONS)
        raise BadFileError(path, f"“{plain(said, 30)}” is none of {known}.", line=line)
    return {at: decision}


def to_pdf(computer: str, at: str, found: Sequence[Thing], decided: Mapping[str, Decided]) -> bytes:
    """The list on paper: grouped by folder and kind, with room for a tick."""
    made = Doc(f"{plain(computer)}: the owner's files", Tongue(SOURCE))
    width = made.width - 2 * FRAME_PADDING
    say = paragraphs(width)
    total = sum(thing.bytes for thing in found)
    story = [
        say.title("What is on the disk, to decide about"),
        say.body(
            f"{computer}, {at[:10]}: {counted(len(found), 'file or folder', 'files and folders')},"
            f" {ram(total)}. Nothing was chosen for you. What is set aside is moved, not deleted,"
            " and can be put back."
        ),
    ]
    for (folder, kind), group in groupby(found, key=lambda t: t.group):
        mine = list(group)
        story.append(say.head(f"{plain(folder, 90)}: {kind}, {ram(sum(t.bytes for t in mine))}"))
        story.append(table(_rows(mine, decided, say.body), _widths(width)))
    return made.built(story)


def _widths(width: float) -> list[float]:
    narrow = [34.0, 46.0, 34.0, 56.0, 60.0, 60.0]
    return [*narrow, width - sum(narrow)]


def _rows(
    found: Sequence[Thing], decided: Mapping[str, Decided], cell: object
) -> list[list[object]]:
    rows: list[list[object]] = [["keep", "set aside", "later", "size", "changed", "opened", "name"]]
    for thing in found:
        said, note = _said(decided, thing)
        ticks = ["☒" if said and said.decision == d else _TICK for d in DECISIONS]
        name = plain(thing.path.rpartition("/")[2], _PATH)
        if thing.copies:
            name += f" ({counted(thing.others, 'other copy', 'other copies')})"
        name += f" ({note})" if note else ""
        words = cell(name) if callable(cell) else name
        sizes = [ram(thing.bytes), day_of(thing.changed_at) or "not known"]
        rows.append([*ticks, *sizes, thing.opened or "not known", words])
    return rows
