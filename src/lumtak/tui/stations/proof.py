"""Proof: before against after, by how much, how sure; provisional while anything is owed."""

from functools import partial

from rich.text import Text
from textual.app import ComposeResult
from textual.containers import Horizontal, VerticalScroll
from textual.widgets import Button, Static

from lumtak.core.compare import Comparison
from lumtak.core.conditions import mismatches, mover_in_words, movers
from lumtak.core.reading import Reading
from lumtak.core.record import NotMeasured
from lumtak.core.sample import Sample
from lumtak.core.units import GIB, counted, percent, ram, signed, span, took
from lumtak.core.verdict import headline, sentence, sentences
from lumtak.errors import LumtakError
from lumtak.tui.stations.base import StationView
from lumtak.tui.theme import Palette
from lumtak.tui.widgets.bridge import bridge_rows
from lumtak.tui.widgets.dots import distribution_rows
from lumtak.tui.widgets.live import Live
from lumtak.work.plan import restart
from lumtak.work.proof import attribution_of, comparisons_of, read_after

_FORMS = {"cpu_pct": ("%", 1.0, 1), "ram_used_bytes": ("GiB", GIB, 2)}
"""Unit, what it is divided by, decimals."""


class ProofStation(StationView):
    """The after reading and the verdict."""

    def compose(self) -> ComposeResult:
        """Verdict, rows, acts."""
        yield Static(id="verdict", classes="big", markup=False)
        yield Live("Reading after the changes", id="live")
        with VerticalScroll(id="rows", can_focus=False):
            yield Static(id="body", markup=False)
        with Horizontal(classes="acts"):
            yield Button("Restart now", id="restart", compact=True)
            yield Button("New login now", id="login", compact=True)
            yield Button("Take the after reading", id="take", compact=True)
            yield Button("Read now", id="now", compact=True)
            yield Button("Stop early, keep it", id="stop", compact=True)
            yield Button("On to the handover", id="on", compact=True)

    def on_mount(self) -> None:
        """Nothing is read."""
        self._pair: tuple[int | None, int | None] | None = None
        self._results: tuple[Comparison, ...] = ()
        self._shares = ""
        self._wait_s = 0.0

    @property
    def _reading_now(self) -> bool:
        return self.desk.doing == "after"

    def _comparisons(self) -> tuple[Comparison, ...]:
        """Worked out once for a pair of readings."""
        if self._pair != (self.desk.job.baseline, self.desk.job.after):
            self._work_out()
        return self._results

    def _work_out(self) -> None:
        desk = self.desk
        has_both = desk.open_job.baseline is not None and desk.open_job.after is not None
        self._results = comparisons_of(desk.open_job) if has_both else ()
        shares = attribution_of(desk.open_job, self._results)
        self._shares = f"{shares.words}\n" if shares else ""
        self._pair = (desk.job.baseline, desk.job.after)

    def show(self) -> None:
        """As far as the proof is."""
        desk = self.desk
        owed, can = desk.owed, desk.capabilities
        for name, wanted in (
            ("#restart", bool(owed.restart) and not can.restart),
            ("#login", bool(owed.login) and not owed.restart and not can.login),
            ("#take", desk.baseline is not None),
            ("#now", desk.baseline is not None and desk.same_point_s >= 1),
            ("#on", desk.after is not None),
        ):
            self.query_one(name).display = wanted and not desk.busy
        self.query_one("#stop").display = self._reading_now
        live = self.query_one(Live)
        live.display = self._reading_now
        if self._reading_now:
            live.draw()
        take = self.query_one("#take", Button)
        take.label = (
            "Read at the same point"
            if desk.same_point_s >= 1
            else "Read again"
            if desk.after
            else "Take the after reading"
        )
        verdict, body = self._texts()
        self.query_one("#verdict", Static).update(verdict)
        self.query_one("#body", Static).update(body)

    def _texts(self) -> tuple[Text, Text]:
        desk, palette = self.desk, Palette(self.app)
        if self._reading_now:
            words = (
                f"First it has to be up as long as for the baseline: {span(self._wait_s)} more."
                if self._wait_s >= 1
                else "The load after the changes."
            )
            return Text(words), self._owed_text(palette)
        if desk.baseline is None:
            return Text("There is no baseline, so nothing can be proved."), Text(
                "2 goes to the baseline.", style=palette.soft
            )
        if desk.after is None:
            first = (
                "Not proved yet: there is no reading after the changes."
                if desk.entries
                else "Nothing was changed yet."
            )
            return Text(first), self._due_text(palette) if desk.due else self._owed_text(palette)
        try:
            results = self._comparisons()
        except LumtakError as error:
            return Text(str(error)), Text()
        provisional = desk.provisional
        style = palette.warning if provisional else palette.ink
        return Text(headline(results, provisional, desk.pace), style=f"bold {style}"), self._body(
            results, palette
        )

    def _due_text(self, palette: Palette) -> Text:
        """Nothing is owed any more: the reading that is due, and when it begins alike."""
        baseline, wait_s = self.desk.baseline, self.desk.same_point_s
        text = Text(
            "\nNothing is owed: every change shows now, so the after reading is due.\n",
            style=palette.accent,
        )
        if baseline is not None:
            text.append(
                f"The baseline began {span(baseline.conditions.uptime_s)} after a start",
                style=palette.soft,
            )
            then = (
                f"; in {span(wait_s)} this one would begin as long after its start.\n"
                if wait_s >= 1
                else "; this computer has been up as long.\n"
            )
            text.append(then, style=palette.soft)
        return text

    def _owed_text(self, palette: Palette) -> Text:
        owed = self.desk.owed
        text = Text()
        if owed.restart:
            text.append(f"\nA restart is owed for {', '.join(owed.restart)}", style=palette.warning)
            text.append(
                f"{'; and then for ' + ', '.join(owed.login) if owed.login else ''}.\n",
                style=palette.warning,
            )
        elif owed.login:
            text.append(
                f"\nA new login is owed for {', '.join(owed.login)}.\n", style=palette.warning
            )
        if owed.anything:
            text.append(
                "Until then a reading is provisional: it measures a computer that still does what"
                " it did.\n",
                style=palette.soft,
            )
            why = self.desk.capabilities.restart or self.desk.capabilities.login
            if why:
                text.append(f"{why}\n", style=palette.soft)
        return text

    def _body(self, results: tuple[Comparison, ...], palette: Palette) -> Text:
        desk = self.desk
        before, after = desk.baseline, desk.after
        if before is None or after is None:
            return Text()
        width = self.app.size.width - 3
        text = self._owed_text(palette)
        for result in results:
            if result.column in _FORMS:
                text.append_text(self._compared(result, (before, after), palette, width))
            elif result.column == "work":
                text.append(f"\n{sentence(result)}", style=palette.ink)
                text.append(" The clock cannot fake this one.\n", style=palette.soft)
        text.append(self._shares, style=palette.ink)
        text.append_text(self._bridge(width, palette))
        text.append_text(self._projection(results, palette))
        text.append_text(self._times(palette))
        titles = {f.consumer: f.title for f in desk.job.audit.findings} if desk.job.audit else {}
        moved = [mover_in_words(m, titles.get(m.key, "")) for m in movers(before, after, 3)]
        if moved:
            text.append("Changed most", style=palette.soft)
            text.append("  " + " · ".join(moved) + "\n")
        for line in mismatches(before, after, (str(e.ref) for e in desk.entries)):
            text.append(f"{line}\n", style=palette.warning)
        text.append_text(self._conditions(palette))
        return text

    def _compared(
        self, result: Comparison, sides: tuple[Reading, Reading], palette: Palette, width: int
    ) -> Text:
        """One quantity: what may be said, both distributions, the figures behind it."""
        desk, (unit, scale, decimals) = self.desk, _FORMS[result.column]
        gone = desk.provisional in {"put back", "changed"}
        (said,) = sentences((result,), desk.pace)
        text = Text(f"\n{'While the changes stood: ' if gone else ''}{said}\n", style=palette.ink)
        values = [[float(getattr(s, result.column)) for s in side.kept] for side in sides]
        rows = distribution_rows(
            values[0],
            values[1],
            result,
            palette,
            width,
            unit=unit,
            scale=scale,
            decimals=decimals,
        )
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
            f"medians {medians} · 95th percentiles {tails} · shift {shift} {unit} · worth {worth}"
            f" independent samples{of}\n",
            style=palette.soft,
        )
        return text

    def _bridge(self, width: int, palette: Palette) -> Text:
        text = Text()
        for row in bridge_rows(self.desk.bridges, palette, width):
            text.append("\n")
            text.append_text(row[1:])
        if text:
            text.append("\n")
        return text

    def _times(self, palette: Palette) -> Text:
        """Start, login and answers, before and after.

        One of each, so nothing is said of how sure they are.
        """
        before, after = self.desk.baseline, self.desk.after
        text = Text()
        if before is None or after is None:
            return text
        parts = []
        for name, was in before.times.items():
            now = after.times.get(name)
            if isinstance(was, NotMeasured) or now is None or isinstance(now, NotMeasured):
                continue
            parts.append(f"{name} {took(was)} → {took(now)}")
        if parts:
            text.append("Times", style=palette.soft)
            text.append(f"  {' · '.join(parts)}")
            text.append("   one measured each, so no interval\n", style=palette.soft)
        return text

    def _projection(self, results: tuple[Comparison, ...], palette: Palette) -> Text:
        plan = self.desk.job.plan
        if plan is None or not plan.steps:
            return Text()
        saved, doubt = plan.saves_cpu
        measured = {r.column: r.difference for r in results}
        text = Text()
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

    def _conditions(self, palette: Palette) -> Text:
        text = Text()
        for name, reading in (("before", self.desk.baseline), ("after", self.desk.after)):
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
                    style=palette.soft,
                )
        return text

    def arrive(self) -> None:
        """On what comes next."""
        order = (
            ("#stop", "#restart", "#login", "#take", "#on")
            if self.desk.due
            else ("#stop", "#restart", "#login", "#on", "#take")
        )
        for wanted in order:
            widget = self.query_one(wanted)
            if widget.display:
                self.point_at(widget)
                return

    def hint(self) -> str:
        """What can be done."""
        if self.desk.owed.anything:
            return "First what is owed, then the reading. ? explains."
        return (
            "The sentence follows from the interval, not from the means. Enter does what is lit; ?"
            " explains."
        )

    def on_button_pressed(self, event: Button.Pressed) -> None:
        """Restart, log in, read, stop, go on."""
        event.stop()
        desk = self.desk
        match event.button.id:
            case "restart":
                desk.begin("restarting", partial(restart, desk.open_job), self._again)
            case "login":
                desk.begin(
                    "logging in anew", lambda: restart(desk.open_job, login_only=True), self._again
                )
            case "take":
                self._take()
            case "now":
                self._take(at_once=True)
            case "stop":
                desk.stop.set()
            case "on":
                self.go("handover")

    def _again(self, _: object) -> None:
        self.call_after_refresh(self.arrive)

    def _take(self, *, at_once: bool = False) -> None:
        desk, live = self.desk, self.query_one(Live)
        self._wait_s = 0.0 if at_once else desk.same_point_s

        def note(sample: Sample, done: int, count: int) -> None:
            if done == 1:
                self._wait_s = 0.0
                self.app.call_from_thread(self.show)
            live.note(sample, done, count)

        def read() -> None:
            read_after(
                desk.open_job, on_begin=live.follow, on_sample=note, stop=desk.stop, at_once=at_once
            )
            self._work_out()

        if desk.begin("reading after the changes", read, self._again, doing="after"):
            live.begin(desk.job.profile.ceilings.cpu_pct)
            self.show()
            self.point_at(self.query_one("#stop"))
