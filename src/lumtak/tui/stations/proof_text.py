"""What the proof says below its headline, drawn: the complaint first, then the load, the ceilings,
the bridge, and what may be held against it.
"""

from rich.text import Text

from lumtak.core.answer import FeltChange, counts_in_words, tries_of
from lumtak.core.compare import Comparison
from lumtak.core.conditions import mismatches, mover_in_words, movers
from lumtak.core.felt import MEASURES, TRIED
from lumtak.core.plan import Plan
from lumtak.core.proof import Proof, complaint_in_words
from lumtak.core.reading import Reading
from lumtak.core.record import NotMeasured
from lumtak.core.standing import in_words
from lumtak.core.text import plain
from lumtak.core.units import counted, large, percent, ram, signed, span
from lumtak.core.verdict import sentence, sentences
from lumtak.tui.desk import Desk
from lumtak.tui.theme import Palette
from lumtak.tui.widgets.bridge import bridge_rows
from lumtak.tui.widgets.dots import Difference, Form, distribution_rows

_DRAWN = ("cpu_pct", "ram_used_bytes")
_OTHERS = 2
"""So many of the other measures stand on one line."""


class Sheet:
    """The text of one proof.

    Args:
        desk: has the job.
        proof: what is said.
        palette: of the theme.
        width: of the screen.
    """

    def __init__(self, desk: Desk, proof: Proof, palette: Palette, width: int) -> None:
        self._desk, self._proof = desk, proof
        self._palette, self._width = palette, width
        self._then = "While the changes stood: " if proof.gone else ""

    def text(self) -> Text:
        """All of it; nothing where a reading is missing."""
        before, after = self._desk.baseline, self._desk.after
        if before is None or after is None:
            return Text()
        sides, proof, palette = (before, after), self._proof, self._palette
        text = self._complaint(sides)
        for result in proof.comparisons:
            if result.column in _DRAWN:
                text.append_text(self._compared(result, sides))
            elif result.column == "work":
                text.append(f"\n{sentence(result)}", style=palette.ink)
                text.append(
                    " The speed of the clock does not change this figure.\n", style=palette.soft
                )
        shares = proof.attribution.words if proof.attribution else ""
        space = proof.space.words if proof.space else ""
        for line in (shares, in_words(proof.standings), proof.brake, space):
            text.append(f"{line}\n" if line else "", style=palette.ink)
        for line in mismatches(*sides, (str(e.ref) for e in self._desk.entries)):
            text.append(f"{line}\n", style=palette.warning)
        text.append_text(self._bridge())
        text.append_text(self._projection(self._desk.job.plan))
        text.append_text(self._others())
        text.append_text(self._moved(sides))
        text.append_text(self._conditions(sides))
        return text

    def _complaint(self, sides: tuple[Reading, Reading]) -> Text:
        """What the owner came with, and what became of it: the most telling measure drawn."""
        proof, palette = self._proof, self._palette
        text = Text()
        if words := complaint_in_words(proof.complaint, proof.told):
            text.append("\nThe complaint", style=palette.soft)
            text.append(f"  {plain(words, 300)}\n", style=palette.ink)
        for number, change in enumerate(proof.lead):
            text.append(f"{self._then}{change.sentence}\n", style=palette.ink)
            for row in self._drawn(change, sides) if number == 0 else ():
                text.append_text(row[1:])
                text.append("\n")
        return text

    def _drawn(self, change: FeltChange, sides: tuple[Reading, Reading]) -> list[Text]:
        was, now = (tries_of(side, change.felt) for side in sides)
        if isinstance(change.ci95, NotMeasured) or not was or not now:
            return []
        degrees = MEASURES[change.felt].degrees
        unit, scale = ("s", 1.0) if max(*was, *now) >= 1 else ("ms", 1e-3)
        form = Form("°C", 0) if degrees else Form(unit, 1)
        by = 1.0 if degrees else scale
        low, high = change.ci95
        difference = Difference(
            middle=change.difference,
            low=low,
            high=high,
            clear=change.finding in {"lower", "higher"},
            form=Form("°C" if degrees else "%", 0),
            reach=10.0 if degrees else 50.0,
        )
        return distribution_rows(
            [v / by for v in was],
            [v / by for v in now],
            difference,
            form,
            self._palette,
            self._width,
        )

    def _compared(self, result: Comparison, sides: tuple[Reading, Reading]) -> Text:
        """One quantity: what may be said, both distributions, the figures behind it."""
        palette, (form, scale) = self._palette, _form(result.column)
        decimals = form.decimals
        (said,) = sentences((result,), self._proof.pace)
        text = Text(f"\n{self._then}{said}\n", style=palette.ink)
        was, now = ([float(getattr(s, result.column)) / scale for s in side.kept] for side in sides)
        difference = Difference(
            middle=result.difference / scale,
            low=result.ci95[0] / scale,
            high=result.ci95[1] / scale,
            clear=result.verdict != "none",
            form=form,
            reach=max(*was, *now) * 0.25,
        )
        rows = distribution_rows(was, now, difference, form, palette, self._width)
        for row in rows:
            text.append_text(row[1:])
            text.append("\n")
        medians, tails, shift = (
            signed(x / scale, decimals)
            for x in (result.median_difference, result.p95_difference, result.shift)
        )
        worth = f"{result.effective_before:.0f} and {result.effective_after:.0f}"
        several = (result.readings_before, result.readings_after)
        of = f" · {several[0]} readings before, {several[1]} after" if max(several) > 1 else ""
        text.append(
            f"medians {medians} · 95th percentiles {tails} · shift {shift} {form.unit}"
            f" · as telling as {worth} independent samples{of}\n",
            style=palette.soft,
        )
        return text

    def _bridge(self) -> Text:
        text = Text()
        for row in bridge_rows(self._desk.bridges, self._palette, self._width):
            text.append("\n")
            text.append_text(row[1:])
        if text:
            text.append("\n")
        return text

    def _projection(self, plan: Plan | None) -> Text:
        if plan is None or not plan.steps:
            return Text()
        saved, doubt = plan.saves_cpu
        measured = {r.column: r.difference for r in self._proof.comparisons}
        text, palette = Text(), self._palette
        text.append("\nProjected", style=palette.soft)
        text.append(
            f"  CPU {signed(-saved)} ± {doubt:.1f} points, RAM {ram(-plan.saves_ram_bytes)}"
        )
        text.append("   measured", style=palette.soft)
        text.append(
            f"  CPU {signed(measured['cpu_pct'])} points, RAM {ram(measured['ram_used_bytes'])}"
        )
        if plan.unprojected:
            text.append(
                f"   ({counted(len(plan.unprojected), 'change')} not projected)", style=palette.soft
            )
        text.append("\n")
        return text

    def _others(self) -> Text:
        """What else was tried, in few words."""
        proof, palette = self._proof, self._palette
        text = Text()
        others = proof.felt[proof.led :]
        for at in range(0, len(others), _OTHERS):
            text.append("Also tried" if at == 0 else "          ", style=palette.soft)
            told = " · ".join(change.short for change in others[at : at + _OTHERS])
            text.append(f"  {told}\n", style=palette.ink)
        counts = [counts_in_words(c) for c in proof.felt if c.felt not in TRIED][:1]
        if counts:
            text.append("Starts    ", style=palette.soft)
            text.append(f"  known from the computer's records: {counts[0]}\n")
        return text

    def _moved(self, sides: tuple[Reading, Reading]) -> Text:
        """What changed most."""
        audit = self._desk.job.audit
        titles = {f.consumer: f.title for f in audit.findings} if audit else {}
        moved = [mover_in_words(m, titles.get(m.key, "")) for m in movers(*sides, 3)]
        text = Text()
        if moved:
            text.append("Changed most", style=self._palette.soft)
            text.append("  " + " · ".join(moved) + "\n")
        return text

    def _conditions(self, sides: tuple[Reading, Reading]) -> Text:
        text = Text()
        for name, reading in zip(("before", "after"), sides, strict=True):
            if reading:
                c = reading.conditions
                plan = (
                    "plan not known"
                    if isinstance(c.power_plan, NotMeasured)
                    else f"plan {c.power_plan}"
                )
                text.append(
                    f"{name:<8}begun {span(c.uptime_s)} after the start, on {c.power_source},"
                    f" {plan}, {len(reading.kept)} of {len(reading.samples)} samples kept; CPU"
                    f" {percent(reading.mean('cpu_pct'))}, cache"
                    f" {ram(reading.mean('cache_bytes'))}\n",
                    style=self._palette.soft,
                )
        return text


def _form(column: str) -> tuple[Form, float]:
    """How a measure is written, and what it is divided by."""
    if column == "cpu_pct":
        return Form("%", 1), 1.0
    size, unit = large()
    return Form(unit, 2), size
