"""Plan: what is chosen, what it should save, what stops, what is owed afterwards.

Nothing is changed yet.
"""

from rich.text import Text
from textual.app import ComposeResult
from textual.containers import Horizontal
from textual.widgets import Button, Static

from lumtak.core.plan import Plan, Step
from lumtak.core.reading import Reading
from lumtak.core.setting import SHOWS_WORDS, Shows, parse_ref
from lumtak.core.text import plain
from lumtak.core.units import GIB, counted, percent, ram, signed
from lumtak.errors import LumtakError
from lumtak.tui.stations.base import StationView
from lumtak.tui.theme import Palette
from lumtak.tui.widgets.lines import Line, LineList, column, fit
from lumtak.work.audit import toggle
from lumtak.work.plan import plan_of

OWED_WORDS: dict[Shows, str] = {
    "now": "Everything shows at once.",
    "login": "Some of it shows only after a new login.",
    "restart": "Some of it shows only after a restart.",
}


class PlanStation(StationView):
    """Chosen changes in the order in which they are applied."""

    def compose(self) -> ComposeResult:
        """Sum, list, acts."""
        yield Static(id="sum", classes="big", markup=False)
        yield Static(id="more", classes="prose soft", markup=False)
        yield LineList(id="list")
        with Horizontal(classes="acts"):
            yield Button("On to applying", id="on", compact=True)
            yield Button("Choose in the audit", id="audit", compact=True)

    def show(self) -> None:
        """The plan as it is now."""
        desk, palette = self.desk, Palette(self.app)
        self.query_one("#on").display = bool(desk.job.chosen)
        if not desk.job.chosen:
            done = len(desk.job.plan.steps) if desk.job.plan else 0
            self.query_one("#sum", Static).update(
                "Nothing is chosen."
                + (f" {counted(done, 'change')} of this job applied already." if done else "")
            )
            self.query_one("#more", Static).update(
                "Choose in the audit what is to be changed; it shows here with what it should save."
            )
            self.query_one(LineList).show([])
            return
        try:
            plan = plan_of(desk.open_job)
        except LumtakError as error:
            self.query_one("#sum", Static).update(plain(str(error), 400))
            self.query_one(LineList).show([])
            return
        self.query_one("#sum", Static).update(self._sum(plan))
        self.query_one("#more", Static).update(self._more(plan))
        self.query_one(LineList).show(
            [Line(Text()), *(Line(self._row(s, palette), str(s.change.ref)) for s in plan.steps)]
        )

    def _sum(self, plan: Plan) -> str:
        reading: Reading | None = self.desk.after or self.desk.baseline
        saved, doubt = plan.saves_cpu
        count = f"{counted(len(plan.steps), 'change')}"
        if reading is None:
            return f"{count}; what they save is not known without a baseline."
        cpu, memory = reading.mean("cpu_pct"), reading.mean("ram_used_bytes")
        ceilings = self.desk.job.profile.ceilings
        return (
            f"{count}: CPU {percent(cpu)} → {percent(max(0.0, cpu - saved))} ± {doubt:.1f} (ceiling"
            f" {ceilings.cpu_pct:g}), RAM {memory / GIB:.1f} →"
            f" {(memory - plan.saves_ram_bytes) / GIB:.1f} GiB (ceiling"
            f" {ceilings.ram_pct / 100 * reading.ram_total_bytes / GIB:.1f})"
        )

    @staticmethod
    def _more(plan: Plan) -> str:
        blind = len(plan.unprojected)
        unknown = f" {blind} cannot be projected." if blind else ""
        return (
            f"Nothing is changed yet. Projected from what each cost in the reading.{unknown}"
            f" {OWED_WORDS[plan.owed]}"
        )

    def _row(self, step: Step, palette: Palette) -> Text:
        text = Text("   ")
        text.append(f"{fit(step.title, 24)}  ", style=f"bold {palette.ink}")
        text.append(column(f"{step.before} → {step.change.value}", 18), style=palette.ink)
        if step.saves_ram_bytes or step.saves_cpu_pct:
            text.append(
                f"{ram(-step.saves_ram_bytes):>10}{signed(-step.saves_cpu_pct) + ' %':>9}   ",
                style=palette.kinds["ease"],
            )
        else:
            text.append(f"{'not projected':>19}   ", style=palette.soft)
        text.append(
            f"{SHOWS_WORDS[step.shows]:<26}",
            style=palette.warning if step.shows != "now" else palette.soft,
        )
        if step.stops:
            text.append("without it: " + plain(", ".join(step.stops), 200), style=palette.soft)
        return text

    def arrive(self) -> None:
        """On what comes next."""
        self.point_at(self.query_one("#on" if self.desk.job.chosen else "#audit"))

    def hint(self) -> str:
        """What can be done."""
        return (
            "Hollow pieces above are what goes. Enter does what is lit; in the list Space takes an"
            " item out; ? explains."
        )

    def on_line_list_selected(self, message: LineList.Selected) -> None:
        """The piece is lit in both strips."""
        message.stop()
        self.pick(parse_ref(message.key))

    def on_line_list_marked(self, message: LineList.Marked) -> None:
        """Take an item out."""
        message.stop()
        if self.desk.doing == "applying":
            return
        toggle(self.desk.open_job, parse_ref(message.key))
        self.say(self.Changed())

    def on_button_pressed(self, event: Button.Pressed) -> None:
        """Go on, or back."""
        event.stop()
        self.go("apply" if event.button.id == "on" else "audit")
