"""Baseline: the load before anything is changed."""

from functools import partial

from rich.text import Text
from textual.app import ComposeResult
from textual.containers import Horizontal
from textual.widgets import Button, Static

from lumtak.core.answer import typical
from lumtak.core.felt import MEASURES, TRIED
from lumtak.core.means import half_width
from lumtak.core.reading import ENDED_WORDS, WHOLE, Conditions, Reading
from lumtak.core.record import NotMeasured, known
from lumtak.core.sample import consumer_name
from lumtak.core.text import plain
from lumtak.core.units import counted, percent, ram, span
from lumtak.tui.stations.base import StationView
from lumtak.tui.theme import Palette
from lumtak.tui.widgets.lines import Line, LineList
from lumtak.tui.widgets.live import Live
from lumtak.tui.widgets.trace import Trace
from lumtak.work.audit import make_audit
from lumtak.work.plan import restart
from lumtak.work.reading import choose_baseline, read_baseline
from lumtak.work.sampling import Precision

_HEAVIEST = 6


class BaselineStation(StationView):
    """A reading with its progress; it can be stopped early, and keeps what was read.

    All are kept, one counts.
    """

    def compose(self) -> ComposeResult:
        """What to do, the trace, what came of it, the acts."""
        yield Live("Reading", id="live")
        yield Static(id="say", classes="prose", markup=False)
        yield Trace(id="trace")
        yield LineList(id="found")
        with Horizontal(classes="acts"):
            yield Button("Take the baseline", id="take", compact=True)
            yield Button("Restart first", id="restart", compact=True)
            yield Button("Stop early, keep it", id="stop", compact=True)
            yield Button("On to the audit", id="on", compact=True)

    @property
    def _reading_now(self) -> bool:
        return self.desk.doing == "baseline"

    def show(self) -> None:
        """As far as the baseline is."""
        desk = self.desk
        reading = desk.baseline
        self.query_one("#take", Button).label = "Take another" if reading else "Take the baseline"
        self.query_one("#take").disabled = bool(desk.busy)
        self.query_one("#restart").disabled = bool(desk.busy) or bool(desk.capabilities.restart)
        self.query_one("#restart").display = not desk.capabilities.restart
        self.query_one("#stop").display = self._reading_now
        on = self.query_one("#on", Button)
        on.display = reading is not None and not desk.busy
        on.label = (
            "Nothing to gain: on to the handover" if desk.nothing_to_gain else "On to the audit"
        )
        self.query_one(Live).display = self._reading_now
        self.query_one("#say").display = not self._reading_now
        trace = self.query_one("#trace", Trace)
        trace.display = self.query_one("#found").display = (
            reading is not None and not self._reading_now
        )
        if self._reading_now:
            self.query_one(Live).draw()
        elif reading:
            trace.show(
                [s.cpu_pct for s in reading.samples],
                ceiling=desk.job.profile.ceilings.cpu_pct,
                settled_from=reading.settled_from,
            )
            self.query_one("#say", Static).update(self._headline(reading))
            self.query_one(LineList).show(self._found(reading), f"baseline {desk.job.baseline}")
        else:
            self.query_one("#say", Static).update(self._invitation())

    def _invitation(self) -> Text:
        palette = Palette(self.app)
        pace = self.desk.capabilities.pace
        rule = Precision()
        text = Text()
        text.append(
            "\nHow much load does it carry when nobody does anything?\n\n",
            style=f"bold {palette.ink}",
        )
        text.append(
            "Restart it, open nothing, then read. The reading ends by itself when the mean is sure"
            f" to ± {rule.cpu_pct:g} point of CPU and ± {rule.ram_pct:g} % of RAM, after"
            f" {span(rule.most_s)} at the latest. While the load still settles, samples are left"
            " out, and the reading says how many. Cache is counted apart, and so is what Lumtak"
            " itself costs.\n",
            style=palette.ink,
        )
        if pace > 1:
            text.append(
                f"This computer is simulated and lives {pace:.0f} times as fast here.\n",
                style=palette.soft,
            )
        if self.desk.capabilities.restart:
            text.append(f"{self.desk.capabilities.restart}\n", style=palette.soft)
        return text

    def _headline(self, reading: Reading) -> Text:
        palette = Palette(self.app)
        text, half = Text(), half_width(reading.series("cpu_pct"))
        early = (
            ""
            if reading.ended in WHOLE
            else f", {ENDED_WORDS[reading.ended]} after {span(reading.samples[-1].t_s)}"
        )
        text.append(
            f"Baseline{early}: CPU {percent(reading.mean('cpu_pct'))} ± {half:.1f}",
            style="bold",
        )
        text.append(
            f", RAM {ram(reading.mean('ram_used_bytes'))} of {ram(reading.ram_total_bytes)}",
            style="bold",
        )
        text.append(f", cache {ram(reading.mean('cache_bytes'))} (not load)", style=palette.soft)
        cut = reading.samples[reading.settled_from - 1].t_s if reading.settled_from else 0.0
        settled = (
            f"   settled after {span(cut)}, drawn faint" if cut else "   settled from the start"
        )
        word = settled if reading.settled else "   it never settled, so take another, and longer"
        text.append(word, style=palette.soft if reading.settled else palette.warning)
        wanted = Precision().cpu_pct
        if half > wanted and reading.settled:
            text.append(
                f"   wider than ± {wanted:g}: small changes will not show", style=palette.warning
            )
        return text

    def _found(self, reading: Reading) -> list[Line]:
        palette = Palette(self.app)
        by_consumer = self.desk.job.audit.by_consumer if self.desk.job.audit else {}
        total = reading.ram_total_bytes
        heavy = sorted(
            reading.consumers, key=lambda c: -(c.cpu_pct + 100 * known(c.ram_bytes) / total)
        )[:_HEAVIEST]
        lines = [Line(Text()), Line(Text(" Heaviest", style=f"bold {palette.soft}"))]
        for cost in heavy:
            memory = "not known" if isinstance(cost.ram_bytes, NotMeasured) else ram(cost.ram_bytes)
            title = (
                by_consumer[cost.key].title if cost.key in by_consumer else consumer_name(cost.key)
            )
            words = f"   {memory:>10}  {percent(cost.cpu_pct):>7}   {plain(title, 50)}"
            lines.append(Line(Text(words, style=palette.ink)))
        c = reading.conditions
        plan = c.power_plan if isinstance(c.power_plan, str) else "not known"
        lines += [Line(Text()), Line(Text(" Conditions", style=f"bold {palette.soft}"))]
        for words in (
            (
                f"   begun {span(c.uptime_s)} after the start, on {c.power_source}, plan {plan},"
                f" {_warmth(c)}logged in: {_users(c)}"
            ),
            (
                f"   {counted(len(reading.samples), 'sample')} every {reading.interval_s:g} s,"
                f" {reading.late} late, {reading.missed} missed; Lumtak's own cost"
                f" {percent(reading.mean('own_pct'))} (left out)"
            ),
        ):
            if words:
                lines.append(Line(Text(words, style=palette.soft)))
        waits = _waits(reading)
        if waits:
            lines += [
                Line(Text()),
                Line(Text(" What the owner waits for", style=f"bold {palette.soft}")),
            ]
        lines += [Line(Text(f"   {words}", style=palette.soft)) for words in waits]
        return lines + self._kept(palette)

    def _kept(self, palette: Palette) -> list[Line]:
        """All baselines of this job, to choose from once there are several."""
        kept = self.desk.baselines
        if len(kept) < 2:
            return []
        lines = [
            Line(Text()),
            Line(Text(" Baselines taken; Enter uses another one", style=f"bold {palette.soft}")),
        ]
        for number, reading in kept:
            here = number == self.desk.job.baseline
            text = Text()
            text.append("   ◆ " if here else "     ", style=palette.accent)
            text.append(
                f"{reading.taken_at[11:16]}   CPU {percent(reading.mean('cpu_pct')):>7}   RAM"
                f" {ram(reading.mean('ram_used_bytes')):>8}",
                style=f"bold {palette.ink}" if here else palette.ink,
            )
            settled = "" if reading.settled else ", never settled"
            text.append(
                f"   {counted(len(reading.kept), 'sample')}, begun"
                f" {span(reading.conditions.uptime_s)} after the start{settled}",
                style=palette.soft,
            )
            lines.append(Line(text, f"baseline {number}"))
        return lines

    def arrive(self) -> None:
        """On what comes next."""
        wanted = (
            "#stop"
            if self._reading_now
            else "#on"
            if self.desk.baseline and not self.desk.busy
            else "#take"
        )
        self.point_at(self.query_one(wanted))

    def hint(self) -> str:
        """What can be done."""
        if self._reading_now:
            return "Other stations stay open while it reads; stopping early keeps what was read."
        return self.with_keys(
            "Enter presses the highlighted button, left and right go to others; {help} explains."
        )

    def on_line_list_opened(self, message: LineList.Opened) -> None:
        """Another baseline counts."""
        message.stop()
        number = int(message.key.removeprefix("baseline "))
        if number != self.desk.job.baseline:
            self.desk.begin(
                "judging by another baseline",
                lambda: choose_baseline(self.desk.open_job, number),
                lambda _: None,
            )

    def on_button_pressed(self, event: Button.Pressed) -> None:
        """Take it, stop it, restart, go on."""
        event.stop()
        match event.button.id:
            case "take":
                self._take()
            case "restart":
                self.desk.begin(
                    "restarting",
                    partial(restart, self.desk.open_job),
                    lambda _: self.call_after_refresh(self.arrive),
                )
            case "stop":
                self.desk.stop.set()
            case "on":
                self.go("handover" if self.desk.nothing_to_gain else "audit")

    def _take(self) -> None:
        desk, live = self.desk, self.query_one(Live)

        def read() -> None:
            read_baseline(desk.open_job, on_begin=live.follow, on_sample=live.note, stop=desk.stop)
            make_audit(desk.open_job)

        def done(_: None) -> None:
            if desk.job.station == "baseline":
                self.call_after_refresh(self.arrive)

        if desk.begin("reading the baseline", read, done, doing="baseline"):
            live.begin(desk.job.profile.ceilings.cpu_pct)
            self.show()
            self.point_at(self.query_one("#stop"))


def _users(conditions: Conditions) -> str:
    if isinstance(conditions.users, NotMeasured):
        return "not known"
    return plain(", ".join(conditions.users), 60) or "nobody"


def _waits(reading: Reading) -> list[str]:
    """What the owner waits for, as it was tried, three a line; and the last start."""
    found = [
        f"{MEASURES[felt].title} {MEASURES[felt].value(value)}"
        for felt in TRIED
        if (value := typical(reading, felt)) is not None
    ]
    started = () if isinstance(reading.starts, NotMeasured) else reading.starts[-1:]
    lines = [" · ".join(found[i : i + 3]) for i in range(0, len(found), 3)]
    return lines + [start.in_words() for start in started]


def _warmth(conditions: Conditions) -> str:
    return (
        ""
        if isinstance(conditions.temperature_c, NotMeasured)
        else f"{conditions.temperature_c:.0f} °C, "
    )
