"""Apply: change by change, before value first, read back after."""

from rich.text import Text
from textual.app import ComposeResult
from textual.containers import Horizontal
from textual.widgets import Button, Static

from lumtak.core.plan import Plan
from lumtak.core.text import plain
from lumtak.errors import LumtakError
from lumtak.journal import Entry, Outcome
from lumtak.tui.confirm import ConfirmScreen
from lumtak.tui.stations.base import Station
from lumtak.tui.stations.plan import OWED_WORDS
from lumtak.tui.theme import Palette
from lumtak.tui.widgets.lines import Line, LineList, fit

_STAGES = {
    "verified": ("done", "read back"),
    "undone": ("put back", "as before"),
    "failed": ("failed", "refused, as before"),
    "not done": ("not done", "interrupted before it was written"),
    "conflict": ("needs a look", ""),
    "intent": ("being written", ""),
    "written": ("written", "not read back yet"),
    "undoing": ("being put back", ""),
}


class ApplyStation(Station):
    """What is about to be done, what was done."""

    def compose(self) -> ComposeResult:
        """Sentence, list, acts."""
        yield Static(id="say", classes="big", markup=False)
        yield LineList(id="list")
        with Horizontal(classes="acts"):
            yield Button("Apply", id="apply", compact=True)
            yield Button("Stop after this change", id="stop", compact=True)
            yield Button("On to the proof", id="on", compact=True)
            yield Button("To the plan", id="plan", compact=True)

    def on_mount(self) -> None:
        """Nothing is under way."""
        self._live: list[Outcome] = []

    @property
    def _applying(self) -> bool:
        return self.desk.busy.startswith("applying")

    def show(self) -> None:
        """As far as it is."""
        desk, palette = self.desk, Palette(self.app)
        waiting = desk.job.chosen
        apply = self.query_one("#apply", Button)
        apply.label = f"Apply {len(waiting)} change{'s' if len(waiting) != 1 else ''}…"
        apply.display = bool(waiting) and not self._applying
        apply.disabled = bool(desk.busy)
        self.query_one("#stop").display = self._applying
        self.query_one("#on").display = bool(desk.entries) and not self._applying
        self.query_one("#plan").display = not waiting and not desk.entries
        self.query_one("#say", Static).update(self._sentence())
        lines = [Line(entry_row(e, palette), f"change {e.id}") for e in desk.entries]
        if self._applying:
            lines += [Line(_outcome_row(o, palette)) for o in self._live]
        else:
            lines += [
                Line(_outcome_row(o, palette)) for o in self._live if o.number is None and o.result != "as it was"
            ]
        done = {o.change.ref for o in self._live} if self._applying else set()
        titles = {f.ref: f.title for f in desk.job.audit.findings} if desk.job.audit else {}
        for change in waiting:
            if change.ref not in done:
                text = Text(f"   ◇ {fit(titles.get(change.ref, str(change.ref)), 26)}", style=palette.soft)
                text.append(f"→ {plain(change.value or 'unset')}   waiting", style=palette.soft)
                lines.append(Line(text))
        self.query_one(LineList).show(lines)

    def _sentence(self) -> str:
        desk = self.desk
        if self._applying:
            return f"Applying: {len(self._live)} of {len(desk.job.chosen)} done."
        bad = [e for e in desk.entries if e.stage in {"failed", "conflict"}]
        if bad:
            return f"{len(bad)} of {len(desk.entries)} changes need a look; the others are as shown. Handover can put them back."
        done = sum(e.stage == "verified" for e in desk.entries)
        if desk.job.chosen:
            return f"{len(desk.job.chosen)} chosen changes wait." + (
                f" {done} are done already." if done else " Nothing is changed yet."
            )
        if done:
            owed = desk.owed.in_words()
            then = f"{owed[:1].upper()}{owed[1:]}; after that the proof." if owed else "Now the proof."
            return f"{done} changes are done and read back. {then}"
        return "Nothing is chosen, and nothing was changed."

    def arrive(self) -> None:
        """On what comes next."""
        for wanted in ("#stop", "#apply", "#on", "#plan"):
            widget = self.query_one(wanted)
            if widget.display and not widget.disabled:
                self.point_at(widget)
                return

    def hint(self) -> str:
        """What can be done."""
        return "Each value is kept before it is changed, and can be put back in any order, later, from Handover."

    def on_button_pressed(self, event: Button.Pressed) -> None:
        """Ask, apply, stop, go on."""
        event.stop()
        match event.button.id:
            case "apply":
                self._ask()
            case "stop":
                self.desk.stop.set()
            case "on":
                self.desk.action_go("proof")
            case "plan":
                self.desk.action_go("plan")

    def _ask(self) -> None:
        try:
            plan = self.desk.visit.make_plan()
        except LumtakError as error:
            self.desk.tell(str(error))
            return
        question = f"Change {len(plan.steps)} settings of {plain(self.desk.job.computer_name)}?"
        self.app.push_screen(ConfirmScreen(question, _consequences(plan), yes="Apply them"), self._answered)

    def _answered(self, yes: bool | None) -> None:  # noqa: FBT001 - Textual calls it so
        if not yes:
            return
        desk = self.desk
        self._live = []

        def note(outcome: Outcome) -> None:
            self.app.call_from_thread(self._stepped, outcome)

        if desk.begin("applying the plan", lambda: desk.visit.apply(on_step=note, stop=desk.stop), lambda _: None):
            self.show()
            self.point_at(self.query_one("#stop"))

    def _stepped(self, outcome: Outcome) -> None:
        self._live.append(outcome)
        if self._applying and self.desk.job.station == "apply":
            self.show()
        if not self._applying or len(self._live) == len(self.desk.job.chosen):
            self.call_after_refresh(self.arrive)


def _consequences(plan: Plan) -> str:
    lines = []
    for step in plan.steps:
        stops = f": {', '.join(step.stops)}" if step.stops else ""
        lines.append(plain(f"{step.title} {step.before} → {step.change.value}{stops}", 160))
    lines += [
        "",
        OWED_WORDS[plan.owed],
        "To put it back: Handover, one by one or all at once, any time, also after a restart.",
    ]
    return "\n".join(lines)


def entry_row(entry: Entry, palette: Palette) -> Text:
    """A change in the journal as a line."""
    word, more = _STAGES[entry.stage]
    good = entry.stage == "verified"
    text = Text()
    text.append(f"   {'◆' if good else '·'} ", style=palette.accent if good else palette.warning)
    text.append(fit(entry.title, 26), style=f"bold {palette.ink}")
    now = entry.after.word if entry.after else "?"
    moved = f"{now} → {entry.restore.word}" if entry.stage == "undone" else f"{entry.before.word} → {now}"
    text.append(fit(moved, 20), style=palette.ink)
    text.append(f"{word:<14}", style=palette.accent if good else palette.warning)
    text.append(plain(entry.note or more, 200), style=palette.soft)
    return text


def _outcome_row(outcome: Outcome, palette: Palette) -> Text:
    good = outcome.result in {"done", "as it was"}
    text = Text()
    text.append(f"   {'◆' if good else '·'} ", style=palette.accent if good else palette.warning)
    text.append(fit(outcome.title, 26), style=f"bold {palette.ink}")
    text.append(fit(f"{outcome.before} → {outcome.after}", 20), style=palette.ink)
    text.append(f"{outcome.result:<14}", style=palette.accent if good else palette.warning)
    text.append(plain(outcome.note or ("read back" if outcome.result == "done" else ""), 200), style=palette.soft)
    return text
