"""Plan: what is chosen, what it should save, what stops, what is owed afterwards.

Nothing is changed yet.
"""

from collections.abc import Callable
from typing import ClassVar

from rich.text import Text
from textual.app import ComposeResult
from textual.binding import Binding, BindingType
from textual.containers import Horizontal
from textual.widgets import Button, Static

from lumtak.core.plan import Plan, Step
from lumtak.core.planner import Planned, Point, Problem
from lumtak.core.reading import Reading
from lumtak.core.setting import SHOWS_WORDS, Shows, parse_ref, without
from lumtak.core.text import plain
from lumtak.core.units import GIB, counted, percent, ram, signed
from lumtak.errors import LumtakError
from lumtak.tui.stations.base import StationView
from lumtak.tui.theme import Palette
from lumtak.tui.widgets.lines import Line, LineList, column, fit
from lumtak.work.audit import toggle
from lumtak.work.plan import plan_of
from lumtak.work.planner import choose_places, choose_planned, frontier_of, plan_job

OWED_WORDS: dict[Shows, str] = {
    "now": "All changes take effect immediately.",
    "login": "Some changes take effect only after a new login.",
    "restart": "Some changes take effect only after a restart.",
}


_BARS = "▁▂▃▄▅▆▇█"


class PlanStation(StationView):
    """Chosen changes in the order in which they are applied."""

    BINDINGS: ClassVar[list[BindingType]] = [
        Binding("p", "least", "The least plan", show=False),
        Binding("comma", "walk(-1)", "Less disruption", show=False),
        Binding("full_stop", "walk(1)", "More disruption", show=False),
    ]

    def compose(self) -> ComposeResult:
        """Sum, list, acts."""
        yield Static(id="sum", classes="big", markup=False)
        yield Static(id="more", classes="prose soft", markup=False)
        yield Static(id="steps", markup=False)
        yield LineList(id="list")
        with Horizontal(classes="acts"):
            yield Button("On to applying", id="on", compact=True)
            yield Button("Choose the least plan", id="least", compact=True)
            yield Button("Choose in the audit", id="audit", compact=True)

    def on_mount(self) -> None:
        """Nothing is planned yet."""
        self._frontier: tuple[Problem, tuple[Point, ...]] | None = None
        self._of: tuple[object, ...] = ()
        self._at = 0
        self._said = ""
        """Of the least plan, until something else is chosen."""

    def show(self) -> None:
        """The plan as it is now."""
        desk, palette = self.desk, Palette(self.app)
        self.query_one("#on").display = bool(desk.job.chosen)
        self.query_one("#least").display = desk.baseline is not None
        self.query_one("#steps", Static).update(self._steps(palette))
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

    def _bars(
        self,
        name: str,
        values: list[float],
        ceiling: float,
        words: Callable[[float], str],
        palette: Palette,
    ) -> Text:
        """A load at each step; orange where it is over its ceiling."""
        text = Text()
        text.append(f" {name} ", style=f"bold {palette.soft}")
        top = max(*values, ceiling) or 1.0
        for place, value in enumerate(values):
            bar = _BARS[min(len(_BARS) - 1, int(value / top * (len(_BARS) - 1) + 0.5))]
            over = palette.kinds["ease"] if value > ceiling else palette.kinds["keep"]
            text.append(f"{bar} ", style=f"bold {palette.lit}" if place == self._at else over)
        over = "over" if values[self._at] > ceiling else "under"
        text.append(f" {over} its ceiling of {words(ceiling)}\n", style=palette.ink)
        return text

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

    # -- the least plan and the frontier -----------------------------------------------------------

    def action_least(self) -> None:
        """The least plan that reaches both ceilings is what is chosen, or the one that comes
        nearest.
        """
        desk = self.desk
        if desk.doing != "applying" and desk.free():
            desk.begin("planning", lambda: plan_job(desk.open_job, "both"), self._planned)

    def _planned(self, plan: Planned) -> None:
        self._frontier = None
        choose_planned(self.desk.open_job, plan.changes)
        answers = f" To be asked: {', '.join(plan.answers)}." if plan.answers else ""
        self._said = f"{plan.headline}{answers} {plan.lasting}".strip()
        self.say(self.Changed())
        self.arrive()

    def action_walk(self, steps: int) -> None:
        """Along the frontier: the list follows."""
        desk = self.desk
        if desk.doing == "applying":
            return
        if self._frontier is not None and self._of == self._depends:
            self._go(self._at + steps)
        elif desk.free():
            desk.begin("planning", lambda: frontier_of(desk.open_job), self._stand)

    @property
    def _depends(self) -> tuple[object, ...]:
        job = self.desk.job
        return job.baseline, job.after, id(job.audit), job.profile

    def _stand(self, found: tuple[Problem, tuple[Point, ...]]) -> None:
        """On the point with as many changes as are chosen, else on the first."""
        self._frontier, self._of = found, self._depends
        chosen = {str(c.ref) for c in self.desk.job.chosen}
        problem, points = found
        names = [{problem.choices[i].address for i in point.chosen} for point in points]
        self._go(names.index(chosen) if chosen in names else 0)

    def _go(self, place: int) -> None:
        if self._frontier is None:
            return
        problem, points = self._frontier
        self._at = max(0, min(place, len(points) - 1))
        self._said = ""
        choose_places(self.desk.open_job, problem, points[self._at].chosen)
        self.say(self.Changed())

    def _steps(self, palette: Palette) -> Text:
        """Where on the frontier this is: disruption rises to the right, the loads fall."""
        text = Text()
        if self._said:
            text.append(f"{self._said}\n", style=palette.accent)
        if self._frontier is None or self._of != self._depends:
            return text
        problem, points = self._frontier
        here = points[self._at]
        text.append_text(
            self._bars(
                "CPU", [p.cpu_pct for p in points], problem.cpu_ceiling_pct, percent, palette
            )
        )
        text.append_text(
            self._bars(
                "RAM", [p.ram_bytes for p in points], problem.ram_ceiling_bytes, ram, palette
            )
        )
        gone = ", ".join(problem.choices[i].title for i in here.gone)
        text.append(
            f" step {self._at + 1} of {len(points)}, disruption {here.disruption}"
            f"{f'; without {gone}' if gone else ''}\n",
            style=palette.soft,
        )
        return text

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
            f"{SHOWS_WORDS[step.shows]:<32}",
            style=palette.warning if step.shows != "now" else palette.soft,
        )
        if step.stops:
            label, words = without(step.change.value, ", ".join(step.stops))
            text.append(f"{label}: {plain(words, 200)}", style=palette.soft)
        return text

    def arrive(self) -> None:
        """On what comes next."""
        self.point_at(self.query_one("#on" if self.desk.job.chosen else "#audit"))

    def hint(self) -> str:
        """What can be done."""
        return (
            "p chooses the least plan; comma and full stop walk along the frontier. Enter presses"
            " the highlighted button; in the list Space takes an item out; ? explains."
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
        self._said = ""
        toggle(self.desk.open_job, parse_ref(message.key))
        self.say(self.Changed())

    def on_button_pressed(self, event: Button.Pressed) -> None:
        """Go on, or back."""
        event.stop()
        if event.button.id == "least":
            self.action_least()
        else:
            self.go("apply" if event.button.id == "on" else "audit")
