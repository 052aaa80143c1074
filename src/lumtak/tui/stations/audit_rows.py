"""How findings are drawn: rows, the explanation under a row, headings, memory as its sum."""

import re
from collections.abc import Container, Iterable, Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import NamedTuple

from rich.text import Text

from lumtak.casebook.job import Job
from lumtak.core.advice import Advice, for_item
from lumtak.core.audit import Finding
from lumtak.core.clutter import Pile, age_in_words
from lumtak.core.extensions import in_words
from lumtak.core.facts import LEAST_START_S, Item, Setting
from lumtak.core.reading import Reading
from lumtak.core.record import NotMeasured, known
from lumtak.core.setting import AREA_TITLES, SHOWS_WORDS, Area, SettingRef, without
from lumtak.core.shop import Wrong
from lumtak.core.sizing import Rule, emptying_the_cache, memory_parts, swap_sizes
from lumtak.core.stance import MAY_CHANGE, PROPOSED
from lumtak.core.strip import kind_of
from lumtak.core.text import plain
from lumtak.core.units import percent, ram, signed, took
from lumtak.tui.theme import FILLS, HATCH, WIDE, Palette
from lumtak.tui.widgets.lines import column, fit, wrapped

GO = "go:"
"""Begins the key of a line that leads to another item."""
_LIGHT = 0.35
"""Percent of the CPU and of the RAM together: lighter is next to nothing."""
_FOLDED_FROM = 8
_BAR, _NARROW_BAR = 12, 6
_FIGURES = 17
_NAME = 15
_INDENT = 13
_LINKS = 6
_SUBORDINATE = re.compile(r"[;,] (?:which|never|since) .*")
_RULES: dict[Rule, str] = {"shop": "shop", "hibernation": "hibernate", "measured": "measured"}
_PART_FILLS = {
    "programs and services": FILLS["ease"],
    "shared": FILLS["keep"],
    "unattributed": FILLS["guarded"],
    "cache": FILLS["cache"],
    "free": FILLS["free"],
}


class Row(NamedTuple):
    """One part of an explanation."""

    name: str
    words: str
    to: str = ""
    """Address of the item to which the line leads."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Pen:
    """What every row is drawn with."""

    palette: Palette
    width: int
    most: float
    """Heft of the heaviest item: its bar is full."""
    chosen: frozenset[SettingRef]
    applied: frozenset[SettingRef]

    def differs(self, other: "Pen | None") -> frozenset[SettingRef]:
        """Items that are marked otherwise than by the other pen."""
        if other is None:
            return self.chosen | self.applied
        return (self.chosen ^ other.chosen) | (self.applied ^ other.applied)

    def draws_like(self, other: "Pen") -> bool:
        """Whether rows look the same by both."""
        same = self.most == other.most and self.width == other.width
        return same and not self.differs(other)

    @property
    def bar(self) -> int:
        """Cells of a bar."""
        return _BAR if self.width >= WIDE else _NARROW_BAR


def heading(area: Area, sums: tuple[float, float], pen: Pen, note: str = "") -> Text:
    """An area with its sums: (bytes, percent)."""
    palette = pen.palette
    text = Text()
    text.append(f" {AREA_TITLES[area]}", style=f"bold {palette.ink}")
    memory, cpu = sums
    if memory or cpu:
        text.append(f"   {ram(memory)}   {percent(cpu)}", style=palette.soft)
    if note:
        text.append(f"   {plain(note, 90)}", style=palette.soft)
    text.append(" " + "─" * max(0, pen.width - text.cell_len - 3), style=palette.rule)
    return text


def fold(mine: list[Finding], stay: Container[str]) -> tuple[list[Finding], list[Finding]]:
    """(shown, folded): what weighs next to nothing and stays as it is folds into one line, once
    there is much of it.

    Args:
        mine: findings of an area.
        stay: consumers that are shown in any case.
    """
    light = [
        f
        for f in mine
        if f.stance not in PROPOSED and f.weight.heft < _LIGHT and f.consumer not in stay
    ]
    if len(light) < _FOLDED_FROM:
        return mine, []
    put_away = {f.key for f in light}
    return [f for f in mine if f.key not in put_away], light


def found_in_words(count: int, of: int, sums: Sequence[float], chosen: int, *, typing: bool) -> str:
    """What a search found, and where Enter leads.

    Args:
        count: how many were found.
        of: of so many.
        sums: (bytes, percent) of those found.
        chosen: how many are chosen.
        typing: whether the keys go into the search.
    """
    then = "Enter goes to them" if typing else f"{chosen} chosen; a chooses all to ease or set"
    return f"{count} of {of} shown: {ram(sums[0])}, {percent(sums[1])}. {then}, Escape shows all."


def row(f: Finding, pen: Pen, plans: Sequence[str] = ()) -> Text:
    """One finding: bar, figures, title, stance, value, the reason's main clause.

    A power plan has its plans side by side in place of figures.
    """
    palette, wide = pen.palette, pen.width >= WIDE
    colour, loud = palette.stances[f.stance], f.stance in MAY_CHANGE
    text = _mark(f, pen)
    if plans:
        text.append_text(_side_by_side(f, plans, palette, pen.bar + _FIGURES))
    else:
        text.append_text(_figures(f, pen))
    text.append(
        f"  {fit(f.title, 24 if wide else 19)}  ",
        style=f"bold {palette.ink}" if loud else palette.soft,
    )
    text.append(f"{f.stance:<9}", style=colour)
    if f.can_choose and f.proposal:
        text.append(column(f"{f.value} → {f.proposal}", 17), style=palette.ink)
    else:
        text.append(column(f.value, 17), style=palette.soft)
    if wide:
        text.append(f" {plain(_SUBORDINATE.sub('', f.why), 160)}", style=palette.soft)
    return text


def _mark(f: Finding, pen: Pen) -> Text:
    """Whether it is chosen, or changed already."""
    if f.ref in pen.chosen:
        return Text.assemble((" ◇ ", f"bold {pen.palette.lit}"))
    mark = HATCH if f.ref in pen.applied else " "
    return Text.assemble((f" {mark} ", pen.palette.kinds["ease"]))


def _figures(f: Finding, pen: Pen) -> Text:
    """The bar, memory, CPU."""
    weight = f.weight
    cells = round(weight.heft / pen.most * pen.bar)
    seen = max(cells, 1 if weight.heft > 0 else 0)
    memory = "" if isinstance(weight.ram_bytes, NotMeasured) else ram(weight.ram_bytes)
    cpu = "" if isinstance(weight.cpu_pct, NotMeasured) else percent(weight.cpu_pct)
    if f.pile is not None:
        size = weight.disk_bytes
        memory, cpu = ("", "") if isinstance(size, NotMeasured) else (ram(size), "of disk")
    bar = (FILLS[kind_of(f.stance)] * seen).ljust(pen.bar)
    return Text.assemble(
        (bar, pen.palette.stances[f.stance]), (f"{memory:>9}{cpu:>8}", pen.palette.ink)
    )


def _side_by_side(f: Finding, plans: Sequence[str], palette: Palette, width: int) -> Text:
    text = Text()
    for plan in plans:
        now, wanted = plan == f.value, plan == f.proposal
        mark = "◆" if now else "▸" if wanted else "·"
        style = (
            f"bold {palette.ink}"
            if now
            else f"bold {palette.kinds['ease']}"
            if wanted
            else palette.soft
        )
        text.append(f"{mark}{plan} ", style=style)
    text.truncate(width, overflow="ellipsis", pad=True)
    return text


def memory_sum(job: Job, reading: Reading, pen: Pen) -> list[Text]:
    """Parts of the memory with their bars; they sum to the whole."""
    if job.facts is None:
        return []
    palette, total = pen.palette, float(reading.ram_total_bytes)
    lines = []
    for part in memory_parts(job.facts, reading):
        text = Text("   ")
        fill = _PART_FILLS.get(part.name, FILLS["guarded"])
        text.append(
            (fill * round(part.size_bytes / total * 2 * pen.bar)).ljust(2 * pen.bar + 1),
            style=palette.soft,
        )
        text.append(f"{ram(part.size_bytes):>9}", style=palette.ink)
        text.append(f"{percent(100 * part.size_bytes / total):>8}  ", style=palette.ink)
        text.append(f"{part.name:<24}", style=palette.ink)
        text.append(part.note, style=palette.soft)
        lines.append(text)
    last = Text(" " * (2 * pen.bar + 4))
    last.append(f"{ram(total):>9}{percent(100.0):>8}  ", style=f"bold {palette.ink}")
    last.append("the sum, which is all there is", style=palette.soft)
    return [*lines, last]


def explanation(f: Finding, rows: Iterable[Row], pen: Pen) -> list[tuple[Text, str | None]]:
    """(line, key) of everything known of a finding, wrapped.

    A line that leads to another item has a key.
    """
    palette = pen.palette
    width = max(30, pen.width - _INDENT - _NAME - 4)
    lines: list[tuple[Text, str | None]] = []
    for name, words, to in rows:
        for number, part in enumerate(wrapped(plain(words, 600), width)):
            text = Text(" " * _INDENT)
            text.append("│ ", style=palette.stances[f.stance])
            text.append(f"{name if number == 0 else '':<{_NAME}}", style=palette.soft)
            if to and number == 0:
                text.append("▸ ", style=palette.accent)
            text.append(part, style=palette.accent if to else palette.ink)
            lines.append((text, f"{GO}{to}@{f.ref}" if to and number == 0 else None))
    return lines


def rows_of(
    f: Finding,
    job: Job,
    reading: Reading | None,
    advice: Sequence[Advice],
    wrongs: Sequence[Wrong],
) -> list[Row]:
    """Everything known of a finding.

    What it does, what starts it, what stops with it, what easing it should save, how sure that is.
    """
    item = job.facts.find(f.ref) if job.facts else None
    rows = [
        Row("", f.why),
        Row("does", "" if f.pile else f.does),
        _starts(f.started_by),
    ]
    rows += _of_item(item)
    rows += _links("started from", f.starters, job)
    rows += _links("needs", [f"{f.area}:{key}" for key in item.needs] if item else (), job)
    rows += _links("stops with it", [f"{f.area}:{key}" for key in f.stops_with], job)
    rows += _of_pile(f.pile, job)
    rows += [Row(*without(f.proposal, f.stops)), Row("may come back", f.again)]
    rows += _links("goes with it", f.brings, job)
    rows += [
        Row("ask the owner", f.question),
        Row("owner said", f.answer),
        Row("would save", _projection(f, item) if f.can_choose else ""),
        Row("tried here", f.tried),
        Row("to change it", f.fixed),
        Row("figures", f.weight.source),
        *_sizes(f, job, reading),
        *_said_of(f, advice, wrongs),
    ]
    return [r for r in rows if r.words]


def _of_item(item: Item | None) -> list[Row]:
    """How long it took to start, and what it loads, of a browser."""
    if item is None:
        return []
    start = took(item.start_s) if item.start_s and item.start_s >= LEAST_START_S else ""
    return [Row("took to start", start), Row("loads", in_words(item.extensions))]


def _of_pile(pile: Pile | None, job: Job) -> list[Row]:
    """What clutter holds, how old it is, what of it is left."""
    if pile is None or job.facts is None:
        return []
    at = job.facts.survey.at if job.facts.survey else ""
    age = age_in_words(pile.oldest_at, datetime.fromisoformat(at).timestamp()) if at else ""
    held = "" if isinstance(pile.bytes, NotMeasured) else f"{pile.files:,} files, {age}"
    return [
        Row("made by", pile.made_by),
        Row("holds", held.rstrip(", ")),
        Row("left alone", pile.left_in_words),
        Row("its command", pile.command),
    ]


def _starts(words: str) -> Row:
    """What starts it, without saying so twice."""
    for begins, name in (("starts ", "starts"), ("is started ", "started")):
        if words.startswith(begins):
            return Row(name, words.removeprefix(begins))
    return Row("starts", words)


def _said_of(f: Finding, advice: Sequence[Advice], wrongs: Sequence[Wrong]) -> list[Row]:
    """What people say of it: common advice, and whoever found it judged wrong before."""
    before = [w for w in wrongs if w.item == f.consumer]
    return [
        *(Row("said wrong", f"{w.at[:10]}, {w.by} on {w.computer}: {w.why}") for w in before),
        *(
            Row("people say", f"“{a.claim}” {a.verdict.capitalize()}: {a.why} {a.instead}")
            for a in for_item(advice, f)
        ),
    ]


def _sizes(f: Finding, job: Job, reading: Reading | None) -> list[Row]:
    """Of the size of swap: the three rules side by side."""
    if f.area != "memory" or job.facts is None:
        return []
    rows = []
    if f.key == "swap_mib":
        for size in swap_sizes(job.facts, reading):
            mib = (
                size.mib.not_measured
                if isinstance(size.mib, NotMeasured)
                else f"{size.mib[0]} to {size.mib[1]} MiB"
            )
            bound = f"; {size.bounded}" if size.bounded else ""
            rows.append(Row(f"{_RULES[size.rule]} rule", f"{mib}: {size.arithmetic}{bound}"))
    if reading is not None:
        rows.append(Row("cache", emptying_the_cache(reading)))
    return rows


def _links(name: str, addresses: Sequence[str], job: Job) -> list[Row]:
    """A line each for the items that are listed, as far as there is room, then how many more."""
    found = job.audit.by_consumer if job.audit else {}
    known_here = [a for a in dict.fromkeys(addresses) if a in found]
    rows = [
        Row(name if number == 0 else "", f"{found[a].title} ({found[a].stance})", a)
        for number, a in enumerate(known_here[:_LINKS])
    ]
    if len(known_here) > _LINKS:
        rows.append(Row("", f"and {len(known_here) - _LINKS} more"))
    return rows


def _projection(f: Finding, item: Item | None) -> str:
    """What easing it should save, how good the evidence is, when it shows."""
    weight = f.weight
    if f.pile is not None:
        free = ram(known(weight.disk_bytes))
        return f"{free} of the disk, free once it is emptied · can be put back until then"
    saved = (
        "not projected"
        if isinstance(weight.cpu_pct, NotMeasured)
        else f"{signed(-weight.cpu_pct)} ± {weight.cpu_se_pct:.1f} % CPU"
    )
    if not isinstance(weight.ram_bytes, NotMeasured):
        saved += f", {ram(-weight.ram_bytes)}"
    shows = SHOWS_WORDS[item.setting.shows] if item and isinstance(item.setting, Setting) else ""
    return " · ".join(x for x in (saved, f.grade, shows, "can be put back any time") if x)
