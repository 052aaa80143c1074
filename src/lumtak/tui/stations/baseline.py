"""Baseline: the load before anything is changed."""

from rich.text import Text
from textual.app import ComposeResult
from textual.containers import Horizontal, VerticalScroll
from textual.widgets import Button, Static

from lumtak.core.load import Conditions, Reading, Sample, batch_error, consumer_name
from lumtak.core.record import NotMeasured, known
from lumtak.core.text import plain
from lumtak.core.units import percent, ram, span
from lumtak.stations.reading import Precision
from lumtak.tui.stations.base import Station
from lumtak.tui.theme import Palette
from lumtak.tui.widgets.trace import Trace

_REDRAW_EVERY_S = 0.1
_HEAVIEST = 6


class BaselineStation(Station):
    """A reading with its progress; it can be stopped early, and keeps what was read."""

    def compose(self) -> ComposeResult:
        """What to do, the trace, what came of it, the acts."""
        yield Static(id="say", classes="prose", markup=False)
        yield Trace(id="trace")
        with VerticalScroll(can_focus=False):
            yield Static(id="found", classes="prose", markup=False)
        with Horizontal(classes="acts"):
            yield Button("Take the baseline", id="take", compact=True)
            yield Button("Restart first", id="restart", compact=True)
            yield Button("Stop early, keep it", id="stop", compact=True)
            yield Button("On to the audit", id="on", compact=True)

    def on_mount(self) -> None:
        """Samples arrive faster than they are worth drawing."""
        self._samples: list[Sample] = []
        self._count = 0
        self._drawn = 0
        self.set_interval(_REDRAW_EVERY_S, self._redraw)

    @property
    def _reading_now(self) -> bool:
        return self.desk.busy.startswith("reading the baseline")

    def show(self) -> None:
        """As far as the baseline is."""
        desk = self.desk
        reading = desk.baseline
        self.query_one("#take", Button).label = "Take it again" if reading else "Take the baseline"
        self.query_one("#take").disabled = bool(desk.busy)
        self.query_one("#restart").disabled = bool(desk.busy) or bool(desk.capabilities.restart)
        self.query_one("#restart").display = not desk.capabilities.restart
        self.query_one("#stop").display = self._reading_now
        self.query_one("#on").display = reading is not None and not desk.busy
        trace = self.query_one(Trace)
        ceiling = desk.job.profile.ceilings.cpu_pct
        if self._reading_now:
            self._redraw(force=True)
        elif reading:
            trace.display = True
            trace.show([s.cpu_pct for s in reading.samples], ceiling=ceiling, settled_from=reading.settled_from)
            self.query_one("#say", Static).update(self._headline(reading))
            self.query_one("#found", Static).update(self._found(reading))
        else:
            trace.display = False
            self.query_one("#say", Static).update(self._invitation())
            self.query_one("#found", Static).update("")

    def _invitation(self) -> Text:
        palette = Palette(self.app)
        pace = self.desk.capabilities.pace
        rule = Precision()
        text = Text()
        text.append("\nHow much load does it carry when nobody does anything?\n\n", style=f"bold {palette.ink}")
        text.append(
            "Restart it, open nothing, then read. The reading ends by itself when the mean is sure to"
            f" ± {rule.cpu_pct:g} point of CPU and ± {rule.ram_pct:g} % of RAM, after {span(rule.most_s)} at the latest."
            " While the load still settles, samples are left out, and the reading says how many. Cache is counted apart, and so"
            " is what Lumtak itself costs.\n",
            style=palette.ink,
        )
        if pace > 1:
            text.append(f"This computer is simulated and lives {pace:.0f} times as fast here.\n", style=palette.soft)
        if self.desk.capabilities.restart:
            text.append(f"{self.desk.capabilities.restart}\n", style=palette.soft)
        return text

    def _headline(self, reading: Reading) -> Text:
        palette = Palette(self.app)
        cpu = [s.cpu_pct for s in reading.kept]
        text = Text()
        early = (
            ""
            if reading.ended in {"complete", "precise"}
            else f", {reading.ended} after {span(reading.samples[-1].t_s)}"
        )
        text.append(
            f"Baseline{early}: CPU {percent(reading.mean('cpu_pct'))} ± {1.96 * batch_error(cpu):.1f}", style="bold"
        )
        text.append(f", RAM {ram(reading.mean('ram_used_bytes'))} of {ram(reading.ram_total_bytes)}", style="bold")
        text.append(f", cache {ram(reading.mean('cache_bytes'))} (not load)", style=palette.soft)
        cut = reading.samples[reading.settled_from - 1].t_s if reading.settled_from else 0.0
        word = (
            f"   settled after {span(cut)}, drawn faint"
            if reading.settled
            else "   it never settled, so take it again, and longer"
        )
        text.append(word, style=palette.soft if reading.settled else palette.warning)
        return text

    def _found(self, reading: Reading) -> Text:
        palette = Palette(self.app)
        titles = {str(f.ref): f.title for f in self.desk.job.audit.findings} if self.desk.job.audit else {}
        total = reading.ram_total_bytes
        heavy = sorted(reading.consumers, key=lambda c: -(c.cpu_pct + 100 * known(c.ram_bytes) / total))[:_HEAVIEST]
        text = Text()
        text.append("\nHeaviest\n", style=f"bold {palette.soft}")
        for cost in heavy:
            memory = "not known" if isinstance(cost.ram_bytes, NotMeasured) else ram(cost.ram_bytes)
            text.append(f"  {memory:>10}  {percent(cost.cpu_pct):>7}   ", style=palette.ink)
            text.append(f"{plain(titles.get(cost.key, consumer_name(cost.key)), 50)}\n", style=palette.ink)
        c = reading.conditions
        plan = c.power_plan if isinstance(c.power_plan, str) else "not known"
        text.append("\nConditions\n", style=f"bold {palette.soft}")
        text.append(
            f"  begun {span(c.uptime_s)} after the start, on {c.power_source}, plan {plan}, {_warmth(c)}logged in: {_users(c)}\n"
            f"  {len(reading.samples)} samples every {reading.interval_s:g} s, {reading.late} late, {reading.missed} missed;"
            f" Lumtak's own cost {percent(reading.mean('own_pct'))} (left out)",
            style=palette.soft,
        )
        return text

    def _redraw(self, *, force: bool = False) -> None:
        if not self.is_mounted or not self._reading_now or (len(self._samples) == self._drawn and not force):
            return
        samples = list(self._samples)
        self._drawn = len(samples)
        trace = self.query_one(Trace)
        trace.display = True
        trace.show([s.cpu_pct for s in samples], ceiling=self.desk.job.profile.ceilings.cpu_pct)
        text = Text("Reading…", style="bold")
        if samples:
            left = (self._count - len(samples)) * samples[-1].length_s
            text = Text()
            text.append(
                f"Reading: {len(samples)} of at most {self._count} samples, {span(left)} left at most", style="bold"
            )
            cpu = [s.cpu_pct for s in samples]
            text.append(
                f"   CPU {percent(sum(cpu) / len(cpu))} ± {1.96 * batch_error(cpu):.1f} so far, RAM {ram(samples[-1].ram_used_bytes)}",
                style=Palette(self.app).soft,
            )
        self.query_one("#say", Static).update(text)
        self.query_one("#found", Static).update("")

    def arrive(self) -> None:
        """On what comes next."""
        wanted = "#stop" if self._reading_now else "#on" if self.desk.baseline and not self.desk.busy else "#take"
        self.point_at(self.query_one(wanted))

    def hint(self) -> str:
        """What can be done."""
        if self._reading_now:
            return "Other stations stay open while it reads; stopping early keeps what was read."
        return "Enter does what is lit, Tab goes to the next; ? explains."

    def on_button_pressed(self, event: Button.Pressed) -> None:
        """Take it, stop it, restart, go on."""
        event.stop()
        match event.button.id:
            case "take":
                self._take()
            case "restart":
                self.desk.begin("restarting", self.desk.visit.restart, lambda _: self.point_at(self.query_one("#take")))
            case "stop":
                self.desk.stop.set()
            case "on":
                self.desk.action_go("audit")

    def _take(self) -> None:
        desk = self.desk
        self._samples, self._count, self._drawn = [], 0, 0

        def note(sample: Sample, _: int, count: int) -> None:
            self._count = count
            self._samples.append(sample)

        def read() -> None:
            desk.visit.read_baseline(on_sample=note, stop=desk.stop)
            desk.visit.make_audit()

        def done(_: None) -> None:
            if desk.job.station == "baseline":
                self.call_after_refresh(self.arrive)

        if desk.begin("reading the baseline", read, done):
            self.show()
            self.point_at(self.query_one("#stop"))


def _users(conditions: Conditions) -> str:
    if isinstance(conditions.users, NotMeasured):
        return "not known"
    return plain(", ".join(conditions.users), 60) or "nobody"


def _warmth(conditions: Conditions) -> str:
    return "" if isinstance(conditions.temperature_c, NotMeasured) else f"{conditions.temperature_c:.0f} °C, "
