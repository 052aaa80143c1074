"""Every figure of a job in rows: for the report's tables, and as CSV for other programs."""

import csv
import io
from collections.abc import Iterable

from lumtak.core.compare import Comparison, Conclusion
from lumtak.core.felt import MEASURES
from lumtak.core.reading import Reading
from lumtak.core.record import NotMeasured, Record
from lumtak.core.units import large
from lumtak.report.content import Content
from lumtak.report.tongue import Tongue

_S_UNIT, _MS_UNIT, _US_UNIT, _WORK = "s", "ms", "µs", "core-seconds/s"
_DECIMALS = {_WORK: 3, "GiB": 2, "GB": 2}
FINDINGS: dict[Conclusion, str] = {
    "lower": "lower",
    "higher": "higher",
    "no effect": "the same",
    "not known": "not clear",
}
TITLES = {
    "cpu_pct": "CPU load at idle",
    "work": "Work at idle",
    "ram_used_bytes": "Memory in use at idle",
    "cache_bytes": "Cache (no load, given back when needed)",
    "swap_used_bytes": "Swap in use",
    "iowait_pct": "Waiting for the disk",
}


class Row(Record):
    """One figure, before and after, in its unit."""

    name: str
    """As in a reading."""
    title: str
    unit: str
    before: float | None = None
    after: float | None = None
    difference: float | None = None
    """In `difference_unit`."""
    difference_unit: str = ""
    low: float | None = None
    """Of the 95 % interval of the difference."""
    high: float | None = None
    finding: Conclusion | None = None
    count_before: int = 0
    count_after: int = 0


def rows_of(content: Content) -> list[Row]:
    """What the owner waits for, then the load; in numbers, for every language."""
    return [*_felt(content), *_loads(content), *_others(content)]


def _felt(content: Content) -> list[Row]:
    found = []
    for change in content.felt:
        measure = MEASURES[change.felt]
        unit, scale = ("°C", 1.0) if measure.degrees else _time_unit(change.before)
        known = not isinstance(change.ci95, NotMeasured)
        low, high = (None, None) if isinstance(change.ci95, NotMeasured) else change.ci95
        found.append(
            Row(
                name=change.felt,
                title=measure.title,
                unit=unit,
                before=change.before * scale,
                after=change.after * scale,
                difference=change.difference,
                difference_unit="°C" if measure.degrees else "%",
                low=low,
                high=high,
                finding=change.finding if known else "not known",
                count_before=change.count_before,
                count_after=change.count_after,
            )
        )
    return found


def _time_unit(seconds: float) -> tuple[str, float]:
    if seconds >= 1:
        return _S_UNIT, 1.0
    return (_MS_UNIT, 1e3) if seconds >= 1e-3 else (_US_UNIT, 1e6)


def _loads(content: Content) -> list[Row]:
    size, unit = large()
    units = {"cpu_pct": ("%", 1.0), "work": (_WORK, 1.0), "ram_used_bytes": (unit, 1 / size)}
    return [
        _load(c, *units[c.column])
        for c in content.comparisons
        if c.column in units and not (content.pace and c.column == "cpu_pct")
    ]


def _load(change: Comparison, unit: str, scale: float) -> Row:
    low, high = change.ci95
    return Row(
        name=change.column,
        title=TITLES[change.column],
        unit=unit,
        before=change.before * scale,
        after=change.after * scale,
        difference=change.difference * scale,
        difference_unit=unit,
        low=low * scale,
        high=high * scale,
        finding=change.finding,
        count_before=change.n_before,
        count_after=change.n_after,
    )


def _others(content: Content) -> list[Row]:
    """What is told and not judged: the means of the settled parts."""
    size, unit = large()
    compared = {row.name for row in _loads(content)}
    found = []
    for name, title in TITLES.items():
        if name in compared or name == "work":
            continue
        share = name.endswith("_pct")
        scale = 1.0 if share else 1 / size
        before, after = _mean(content.before, name, scale), _mean(content.after, name, scale)
        if before is not None:
            row = Row(
                name=name, title=title, unit="%" if share else unit, before=before, after=after
            )
            found.append(row)
    return found


def _mean(reading: Reading | None, name: str, scale: float) -> float | None:
    figure = reading.figure(name) if reading is not None else None
    return None if figure is None or isinstance(figure, NotMeasured) else figure * scale


def in_words(row: Row, tongue: Tongue) -> list[str]:
    """(title, before, after, difference, interval, finding) in a language."""
    decimals = _DECIMALS.get(row.unit, 1)
    sides = (row.before, row.after)
    return [
        f"{tongue.say(row.title)}, {row.unit}",
        *(tongue.number(v, decimals) if v is not None else "\u2013" for v in sides),
        *_differs(row, decimals, tongue),
        tongue.say(FINDINGS[row.finding]) if row.finding else "",
    ]


def _differs(row: Row, decimals: int, tongue: Tongue) -> tuple[str, str]:
    """(difference, interval); a difference in per cent has no decimals."""
    relative = row.difference_unit != row.unit
    less = 0 if relative else decimals
    difference = interval = ""
    if row.difference is not None:
        unit = f" {row.difference_unit}" if relative else ""
        difference = f"{tongue.signed(row.difference, less)}{unit}"
    if row.low is not None and row.high is not None:
        low, high = (tongue.signed(v, less) for v in (row.low, row.high))
        interval = tongue.say("{low} to {high}", low=low, high=high)
    return difference, interval


def figures_csv(content: Content) -> bytes:
    """The figures as CSV (RFC 4180): a row a figure; docs/FORMATS.md has the columns."""
    names = Row.__struct_fields__
    return _csv(names, ([getattr(row, n) for n in names] for row in rows_of(content)))


def changes_csv(content: Content) -> bytes:
    """The changes as CSV, likewise."""
    names = (
        "number", "id", "address", "title", "before", "value", "stage", "stands", "shows",
        "begun_at", "stage_at", "notice", "note",
    )  # fmt: skip
    return _csv(names, ([getattr(line, n) for n in names] for line in content.changes))


def samples_csv(content: Content) -> bytes:
    """The samples of both readings as CSV: what was left out while the load settled has 0 in
    `counts`.
    """
    names = ("reading", "t_s", "counts", "cpu_pct", "ram_used_bytes", "cache_bytes", "iowait_pct")
    rows: list[list[object]] = []
    for side, reading in (("before", content.before), ("after", content.after)):
        samples = reading.samples if reading is not None else ()
        left_out = len(samples) - len(reading.kept) if reading is not None else 0
        for place, s in enumerate(samples):
            values = (s.cpu_pct, s.ram_used_bytes, s.cache_bytes, s.iowait_pct)
            rows.append([side, s.t_s, int(place >= left_out), *values])
    return _csv(names, rows)


_FORMULA = ("=", "+", "-", "@", "\t", "\r")
"""Text that begins so is a formula to programs that open CSV."""


def _csv(names: Iterable[str], rows: Iterable[Iterable[object]]) -> bytes:
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\r\n")
    writer.writerow(names)
    for row in rows:
        writer.writerow(
            f"'{v}" if isinstance(v, str) and v.startswith(_FORMULA) else "" if v is None else v
            for v in row
        )
    return out.getvalue().encode()
