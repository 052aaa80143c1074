"""Plan: one list from proposed to done; the frontier above it, what is selected beside it."""

from rich.text import Text
from textual import events
from textual.app import ComposeResult
from textual.containers import Horizontal, VerticalScroll
from textual.widgets import Button, Static

from lumtak.core.audit import Finding
from lumtak.core.plan import Plan, Step
from lumtak.core.planner import reaches_of
from lumtak.core.reading import Reading
from lumtak.core.setting import OWED_WORDS, SettingRef, parse_ref
from lumtak.core.units import counted, percent, ram
from lumtak.journal import Outcome
from lumtak.tui.stations import plan_rows
from lumtak.tui.stations.plan_trial import TryingStation
from lumtak.tui.theme import WIDE, Palette
from lumtak.tui.widgets.lines import Line, LineList
from lumtak.work.audit import toggle
from lumtak.work.plan import levels_of

_ENTRY = "change "
_LOW = 30


class PlanStation(TryingStation):
    """What is to be changed, what was, and by how little disruption the ceilings are reached."""

    def compose(self) -> ComposeResult:
        """Sum, frontier, list with what is selected beside it, acts."""
        yield Static(id="sum", classes="big", markup=False)
        yield Static(id="more", classes="prose soft", markup=False)
        yield Static(id="frontier", markup=False)
        with Horizontal(id="halves"):
            yield LineList(id="list")
            with VerticalScroll(id="pane", can_focus=False):
                yield Static(id="about", markup=False)
        with Horizontal(classes="acts"):
            yield Button("Apply", id="apply", compact=True)
            yield Button("Pause", id="pause", compact=True)
            yield Button("Stop after this change", id="stop", compact=True)
            yield Button("Keep what was done", id="keep", compact=True)
            yield Button("Put it back", id="back", compact=True)
            yield Button("On to the proof", id="on", compact=True)
            yield Button("On to the handover", id="handover-button", compact=True)
            yield Button("Choose the least plan", id="least", compact=True)
            yield Button("Choose in the audit", id="audit-button", compact=True)

    def on_mount(self) -> None:
        """Nothing is wrong."""
        self._problem = ""

    # -- drawing -----------------------------------------------------------------------------------

    def show(self) -> None:
        """The plan as it is now, and as far as it was carried out."""
        palette = Palette(self.app)
        plan = self._plan()
        self.find_out()
        self._buttons()
        self.query_one("#sum", Static).update(self._sum(plan))
        more = self.query_one("#more", Static)
        more.update(self._more(plan))
        more.display = self.app.size.height >= _LOW or not plan.steps
        self.show_frontier(palette)
        self.query_one(LineList).show(self._lines(plan, palette), self._bad())
        self._show_selected()

    def _buttons(self) -> None:
        desk = self.desk
        self.buttons_of_applying()
        chosen, done = bool(desk.job.chosen), any(e.is_open for e in desk.entries)
        nothing = desk.nothing_to_gain
        idle = not self.applying and not desk.open_job.interrupted.lines
        shown = {
            "#on": bool(desk.entries) and not nothing,
            "#handover-button": nothing and not chosen,
            "#least": desk.baseline is not None and not nothing and (chosen or not done),
            "#audit-button": not desk.entries or chosen,
        }
        for name, wanted in shown.items():
            self.query_one(name).display = wanted and idle

    def _sum(self, plan: Plan) -> Text:
        """How far it is, what is chosen, what that leaves."""
        if self._problem:
            return Text(self._problem)
        far = self.how_far()
        said = "" if self.applying or self.desk.open_job.interrupted.lines else self._chosen(plan)
        return Text(" ".join(filter(None, (far, said))))

    def _chosen(self, plan: Plan) -> str:
        desk = self.desk
        if not plan.steps:
            found = desk.job.audit
            if desk.entries:
                return "" if any(e.is_open for e in desk.entries) else "Nothing is chosen."
            if found is not None and found.nothing_to_gain:
                return found.lines[-1]
            return "Nothing is chosen, and nothing was changed."
        reading: Reading | None = desk.after or desk.baseline
        count = f"{counted(len(plan.steps), 'change')} chosen"
        if reading is None:
            return f"{count}; what they save is not known without a baseline."
        return f"{count}: {self._reaches(plan, reading)}."

    def _reaches(self, plan: Plan, reading: Reading) -> str:
        """What both loads will be; by the planner where it knows all that is chosen."""
        ceilings = self.desk.job.profile.ceilings
        places = self.places()
        if places is not None and self.frontier is not None:
            both = reaches_of(self.frontier[0], places)
            return "; ".join(r.words for r in both)
        saved, doubt = plan.saves_cpu
        cpu, memory = reading.mean("cpu_pct"), reading.mean("ram_used_bytes")
        allowed = ceilings.ram_pct / 100 * reading.ram_total_bytes
        return (
            f"CPU {percent(cpu)} → {percent(max(0.0, cpu - saved))} ± {doubt:.1f} (ceiling"
            f" {ceilings.cpu_pct:g} %), RAM {ram(memory)} → {ram(memory - plan.saves_ram_bytes)}"
            f" (ceiling {ram(allowed)})"
        )

    def _more(self, plan: Plan) -> str:
        if self.said and plan.steps:
            return self.said
        if not plan.steps:
            if self.desk.entries or self.desk.baseline is None:
                return ""
            return self.with_keys(
                "{least} chooses the least plan that reaches both ceilings; or choose in the audit."
            )
        blind = len(plan.unprojected)
        unknown = f" {blind} cannot be projected." if blind else ""
        aside = f" {ram(plan.aside_bytes)} of the disk are set aside." if plan.aside_bytes else ""
        projected = f"Projected from what each cost in the reading.{unknown}{aside}"
        return f"{projected} {OWED_WORDS[plan.owed]}"

    def _lines(self, plan: Plan, palette: Palette) -> list[Line]:
        broken = self.desk.open_job.interrupted
        if broken.lines:
            rows = [
                Line(plan_rows.found(line, palette), f"broken {number}")
                for number, line in enumerate(broken.lines)
            ]
        else:
            rows = [*self._done(palette), *self._waiting(plan, palette)]
        proposed = bool(plan.steps) and not self.desk.entries
        return [plan_rows.heading(palette, proposed=proposed), *rows] if rows else []

    def _done(self, palette: Palette) -> list[Line]:
        """What stands in the journal, and what came of this plan so far."""
        steps = self._applied_steps()
        told = self._told()
        now = {o.id for o in self.live if o.id is not None} if self.applying else set()
        lines = [
            Line(plan_rows.made(e, steps.get(str(e.ref)), palette), f"{_ENTRY}{e.id}")
            for e in self.desk.entries
            if e.id not in now
        ]
        return lines + [
            Line(plan_rows.became(o, palette), f"outcome {number}") for number, o in enumerate(told)
        ]

    def _told(self) -> list[Outcome]:
        """Outcomes that have a line of their own.

        What failed before it came into the journal is told until the next plan.
        """
        if self.applying:
            return list(self.live)
        return [o for o in self.live if o.id is None and o.result == "failed"]

    def _applied_steps(self) -> dict[str, Step]:
        applied = self.desk.job.plan
        return {str(s.change.ref): s for s in applied.steps} if applied else {}

    def _waiting(self, plan: Plan, palette: Palette) -> list[Line]:
        """What is still to come; the first of it is under way while a plan is applied."""
        tried = {o.change.ref for o in self.live} if self.applying else set()
        left = [s for s in plan.steps if s.change.ref not in tried]
        words = ["waiting" if self.applying else ""] * len(left)
        if self.applying and words:
            words[0] = "held" if self.pause.is_set() else "being written"
        rows = zip(left, words, strict=True)
        return [Line(plan_rows.proposed(s, palette, w), str(s.change.ref)) for s, w in rows]

    def _bad(self) -> str | None:
        """Where the cursor goes when something did not go through; else it stays."""
        if not self.to_bad or self.applying:
            return None
        self.to_bad = False
        bad = [e for e in self.desk.entries if e.stage in {"failed", "conflict"}]
        return f"{_ENTRY}{bad[-1].id}" if bad else None

    # -- what is selected --------------------------------------------------------------------------

    def _show_selected(self) -> None:
        key = self.query_one(LineList).selected
        pane = self.query_one("#pane")
        pane.display = key is not None
        if key is None:
            return
        wide = self.app.size.width >= WIDE
        width = self.app.size.width * 43 // 100 - 4 if wide else self.app.size.width - 6
        words = plan_rows.pane(self._about(key), width, Palette(self.app))
        self.query_one("#about", Static).update(words)

    def _about(self, key: str) -> list[tuple[str, str]]:
        """All that is to be said of the change under the cursor."""
        kind, _, number = key.partition(" ")
        match kind:
            case "broken":
                return plan_rows.of_review(self.desk.open_job.interrupted.lines[int(number)])
            case "outcome":
                return plan_rows.of_outcome(self._told()[int(number)])
            case "change":
                entry = next((e for e in self.desk.entries if e.id == int(number)), None)
                return plan_rows.of_entry(entry, self._finding(entry.ref)) if entry else []
        ref = parse_ref(key)
        step = next((s for s in self._plan().steps if s.change.ref == ref), None)
        level = levels_of(self.desk.open_job).get(ref)
        return plan_rows.of_step(step, self._finding(ref), level) if step and level else []

    def _finding(self, ref: SettingRef) -> Finding | None:
        found = self.desk.job.audit
        return found.find(ref) if found else None

    def on_line_list_selected(self, message: LineList.Selected) -> None:
        """The piece is lit in both strips, and all is said of it."""
        message.stop()
        kind, _, number = message.key.partition(" ")
        if kind == "change":
            entry = next((e for e in self.desk.entries if e.id == int(number)), None)
            if entry is not None:
                self.pick(entry.ref)
        elif not number:
            self.pick(parse_ref(message.key))
        self._show_selected()

    def on_line_list_opened(self, message: LineList.Opened) -> None:
        """Enter explains: all that the audit knows of it."""
        message.stop()
        found = self.desk.job.audit
        address = self.desk.job.cursor
        if found is not None and address in found.by_consumer:
            self.say(self.Explained(address))

    def on_line_list_marked(self, message: LineList.Marked) -> None:
        """Take an item out."""
        message.stop()
        if self.applying or " " in message.key:
            return
        self.said = ""
        toggle(self.desk.open_job, parse_ref(message.key))
        self.say(self.Changed())

    # -- keys and buttons --------------------------------------------------------------------------

    def on_resize(self, event: events.Resize) -> None:
        """What is selected stands beside the list where there is room, else below it."""
        self.set_class(event.size.width < WIDE, "-narrow")

    def arrive(self) -> None:
        """On what comes next."""
        for wanted in (
            "#pause",
            "#keep",
            "#apply",
            "#on",
            "#handover-button",
            "#least",
            "#audit-button",
        ):
            widget = self.query_one(wanted)
            if widget.display and not widget.disabled:
                self.point_at(widget)
                return

    def hint(self) -> str:
        """What can be done."""
        if self.desk.job.chosen:
            return self.with_keys(
                "Enter presses the highlighted button. In the list Space takes a change out and"
                " Enter explains it. {least} chooses the least plan, {help} explains."
            )
        return self.with_keys(
            "Enter presses the highlighted button. {this-visit} puts back what this visit changed,"
            " {help} explains."
        )

    def on_button_pressed(self, event: Button.Pressed) -> None:
        """Go on, or back."""
        event.stop()
        match event.button.id:
            case "least":
                self.action_least()
            case "on":
                self.go("proof")
            case "handover-button":
                self.go("handover")
            case "audit-button":
                self.go("audit")
            case name:
                self.pressed(name or "")
