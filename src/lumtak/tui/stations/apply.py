"""Apply: change by change, before value first, read back after."""

import threading

from rich.text import Text
from textual.app import ComposeResult
from textual.containers import Horizontal
from textual.widgets import Button, Static

from lumtak.core.plan import Plan
from lumtak.core.setting import Change
from lumtak.core.text import plain
from lumtak.core.units import counted
from lumtak.errors import LumtakError
from lumtak.journal import Entry, Outcome, Review, ReviewLine
from lumtak.tui.confirm import ConfirmScreen
from lumtak.tui.stations.base import StationView
from lumtak.tui.stations.plan import OWED_WORDS
from lumtak.tui.theme import Palette
from lumtak.tui.widgets.lines import Line, LineList, column
from lumtak.work.plan import carry_out, end_interrupted, plan_of, put_changes_back
from lumtak.work.rights import asking

_STAGES = {
    "verified": ("done", ""),
    "undone": ("put back", "as before"),
    "failed": ("failed", "refused, as before"),
    "not done": ("not done", "interrupted before it was written"),
    "conflict": ("needs a look", ""),
    "intent": ("being written", ""),
    "written": ("written", "not read back yet"),
    "undoing": ("being put back", ""),
}


class ApplyStation(StationView):
    """What is about to be done, what was done."""

    def compose(self) -> ComposeResult:
        """Sentence, list, acts."""
        yield Static(id="say", classes="big", markup=False)
        yield LineList(id="list")
        with Horizontal(classes="acts"):
            yield Button("Apply", id="apply", compact=True)
            yield Button("Pause", id="pause", compact=True)
            yield Button("Stop after this change", id="stop", compact=True)
            yield Button("Keep what was done", id="keep", compact=True)
            yield Button("Put it back", id="back", compact=True)
            yield Button("On to the proof", id="on", compact=True)
            yield Button("To the plan", id="plan", compact=True)

    def on_mount(self) -> None:
        """Nothing is under way."""
        self._live: list[Outcome] = []
        self._pause = threading.Event()

    @property
    def _applying(self) -> bool:
        return self.desk.doing == "applying"

    def show(self) -> None:
        """As far as it is."""
        desk, palette = self.desk, Palette(self.app)
        waiting, broken = desk.job.chosen, desk.open_job.interrupted
        apply = self.query_one("#apply", Button)
        apply.label = f"Apply {counted(len(waiting), 'change')}…"
        apply.display = bool(waiting) and not self._applying and not broken.lines
        apply.disabled = bool(desk.busy)
        self.query_one("#stop").display = self._applying
        pause = self.query_one("#pause", Button)
        pause.display = self._applying
        pause.label = "Go on" if self._pause.is_set() else "Pause"
        for name in ("#keep", "#back"):
            self.query_one(name).display = bool(broken.lines) and not desk.busy
        self.query_one("#back").display = bool(broken.count("done")) and not desk.busy
        self.query_one("#on").display = (
            bool(desk.entries) and not self._applying and not broken.lines
        )
        self.query_one("#plan").display = not waiting and not desk.entries and not broken.lines
        self.query_one("#say", Static).update(self._sentence())
        self.query_one(LineList).show(self._lines(waiting, broken, palette))

    def _lines(self, waiting: tuple[Change, ...], broken: Review, palette: Palette) -> list[Line]:
        if broken.lines:
            return [_heading(palette), *(Line(_review_row(line, palette)) for line in broken.lines)]
        lines = [*self._done(palette), *self._waiting(waiting, palette)]
        return [_heading(palette), *lines] if lines else []

    def _done(self, palette: Palette) -> list[Line]:
        """What stands in the journal, and what came of this plan so far."""
        live = self._live if self._applying else []
        # What failed before it came into the journal is told until the next plan.
        told = live or [o for o in self._live if o.number is None and o.result == "failed"]
        now = {o.number for o in live}
        entries = [e for e in self.desk.entries if e.id not in now]
        return [
            *(Line(entry_row(e, palette), f"change {e.id}") for e in entries),
            *(Line(_outcome_row(o, palette)) for o in told),
        ]

    def _waiting(self, waiting: tuple[Change, ...], palette: Palette) -> list[Line]:
        """What is still to come; the first of it is under way while a plan is applied."""
        tried = {o.change.ref for o in self._live} if self._applying else set()
        left = [c for c in self._in_order(waiting) if c.ref not in tried]
        words = ["waiting"] * len(left)
        if self._applying and words:
            words[0] = "held" if self._pause.is_set() else "being written"
        rows = zip(left, words, strict=True)
        return [Line(self._waiting_row(c, palette, word)) for c, word in rows]

    def _in_order(self, waiting: tuple[Change, ...]) -> list[Change]:
        """In the order of the plan."""
        try:
            return [s.change for s in plan_of(self.desk.open_job).steps] if waiting else []
        except LumtakError:
            return list(waiting)

    def _waiting_row(self, change: Change, palette: Palette, word: str) -> Text:
        found = self.desk.job.audit.find(change.ref) if self.desk.job.audit else None
        title, before = (found.title, found.value) if found else (str(change.ref), "?")
        colour = palette.soft if word == "waiting" else palette.lit
        return _row(
            "◇" if word == "waiting" else "▸",
            title,
            (before, plain(change.value or "unset"), ""),
            word,
            "",
            colour,
            palette,
        )

    def _sentence(self) -> str:
        desk = self.desk
        broken, waiting = desk.open_job.interrupted, len(desk.job.chosen)
        if broken.lines:
            return (
                f"Lumtak was interrupted here: {broken.in_words()}. Nothing has been touched since."
            )
        if self._applying:
            held = "Held" if self._pause.is_set() else "Applying"
            return f"{held}: {len(self._live)} of {waiting} done."
        bad = [e for e in desk.entries if e.stage in {"failed", "conflict"}]
        if bad:
            untried = f" {waiting} still wait." if waiting else ""
            return (
                f"{len(bad)} of {counted(len(desk.entries), 'change')} did not go through; the"
                f" others are as shown.{untried}"
            )
        done = sum(e.stage == "verified" for e in desk.entries)
        if waiting:
            already = f"{done} are done already." if done else "Nothing is changed yet."
            return f"{waiting} chosen changes wait. {already}"
        if done:
            what = counted(done, "change is", "changes are")
            return f"{what} done and read back. {self._what_then()}"
        return "Nothing is chosen, and nothing was changed."

    def _what_then(self) -> str:
        owed = self.desk.owed.in_words()
        if not owed:
            return "Now the proof."
        return f"{owed[:1].upper()}{owed[1:]}; after that the proof."

    def arrive(self) -> None:
        """On what comes next."""
        for wanted in ("#pause", "#keep", "#apply", "#on", "#plan"):
            widget = self.query_one(wanted)
            if widget.display and not widget.disabled:
                self.point_at(widget)
                return

    def hint(self) -> str:
        """What can be done."""
        return (
            "Each value is kept before it is changed, and can be put back in any order, later: b"
            " shows everything changed here."
        )

    def on_button_pressed(self, event: Button.Pressed) -> None:
        """Ask, apply, pause, stop, go on."""
        event.stop()
        match event.button.id:
            case "apply":
                self._ask()
            case "pause":
                (self._pause.clear if self._pause.is_set() else self._pause.set)()
                self.show()
            case "stop":
                self.desk.stop.set()
            case "keep":
                self._settle(put_back=False)
            case "back":
                self._settle(put_back=True)
            case "on":
                self.go("proof")
            case "plan":
                self.go("plan")

    def _settle(self, *, put_back: bool) -> None:
        """End what was interrupted; what was done stays, or goes back."""
        desk = self.desk
        done = [
            line.number
            for line in desk.open_job.interrupted.lines
            if line.found == "done" and line.number is not None
        ]

        def job() -> list[Outcome]:
            end_interrupted(desk.open_job)
            return put_changes_back(desk.open_job, done, anywhere=True) if put_back else []

        asks = asking(
            desk.open_job.computer, (line.change.ref for line in desk.open_job.interrupted.lines)
        )
        desk.begin(
            "ending what was interrupted",
            job,
            lambda _: self.call_after_refresh(self.arrive),
            asks=asks,
        )

    def _ask(self) -> None:
        try:
            plan = plan_of(self.desk.open_job)
        except LumtakError as error:
            self.desk.tell(str(error))
            return
        question = (
            f"Change {counted(len(plan.steps), 'setting')} of {plain(self.desk.job.computer_name)}?"
        )
        self.app.push_screen(
            ConfirmScreen(question, _consequences(plan), yes="Apply them"), self._answered
        )

    def _answered(self, yes: bool | None) -> None:  # noqa: FBT001 - Textual calls it so
        if not yes:
            return
        desk = self.desk
        self._live = []
        self._pause.clear()

        def note(outcome: Outcome) -> None:
            self.app.call_from_thread(self._stepped, outcome, desk.open_job.entries())

        def job() -> list[Outcome]:
            return carry_out(desk.open_job, on_step=note, stop=desk.stop, pause=self._pause)

        asks = asking(desk.open_job.computer, (c.ref for c in desk.job.chosen))
        if desk.begin("applying the plan", job, self._applied, doing="applying", asks=asks):
            self.show()
            self.point_at(self.query_one("#pause"))

    def _stepped(self, outcome: Outcome, entries: list[Entry]) -> None:
        """The strips hatch what is done, and the list goes on."""
        self._live.append(outcome)
        self.desk.entries = entries
        self.say(self.Advanced())
        if self._applying and self.desk.job.station == "apply":
            self.show()

    def _applied(self, outcomes: list[Outcome]) -> None:
        """On to what comes next; after a failure, ask about what was done before it."""
        self.call_after_refresh(self.arrive)
        bad = [o for o in outcomes if o.result in {"failed", "conflict"}]
        done = [o for o in outcomes if o.result == "done" and o.number is not None]
        if not bad or not done:
            return
        lines = [plain(f"{o.title}: {o.note}", 400) for o in bad]
        lines += ["", "Done before it:"]
        lines += [plain(f"{o.title}: {o.before} → {o.after}", 160) for o in done]
        lines += ["", "What is kept can still be put back at any time."]
        numbers = [o.number for o in done if o.number is not None]

        def answered(yes: bool | None) -> None:  # noqa: FBT001 - Textual calls it so
            if yes:
                desk = self.desk
                asks = asking(desk.open_job.computer, (o.change.ref for o in done))
                desk.begin(
                    "putting back",
                    lambda: put_changes_back(desk.open_job, numbers),
                    lambda _: None,
                    asks=asks,
                )

        question = (
            f"{plain(bad[0].title)} could not be changed. Put back the {len(done)} done before it?"
        )
        self.app.push_screen(
            ConfirmScreen(question, "\n".join(lines), yes="Put them back", no="Keep what was done"),
            answered,
        )


def _consequences(plan: Plan) -> str:
    lines = []
    for step in plan.steps:
        stops = f": {', '.join(step.stops)}" if step.stops else ""
        lines.append(plain(f"{step.title} {step.before} → {step.change.value}{stops}", 160))
    lines += [
        "",
        OWED_WORDS[plan.owed],
        "To put it back: press b, one by one or all at once, any time, also after a restart.",
    ]
    return "\n".join(lines)


def entry_row(entry: Entry, palette: Palette) -> Text:
    """A change in the journal as a line: before, after, read back."""
    word, more = _STAGES[entry.stage]
    good = entry.stage == "verified"
    read = (
        entry.restore.word if entry.stage == "undone" else entry.after.word if entry.after else "?"
    )
    colour = (
        palette.accent if good else palette.soft if entry.stage == "undone" else palette.warning
    )
    values = (entry.before.word, entry.word, read)
    return _row(
        "◆" if good else "·", entry.title, values, word, entry.note or more, colour, palette
    )


def _outcome_row(outcome: Outcome, palette: Palette) -> Text:
    good = outcome.result in {"done", "as it was"}
    colour = palette.accent if good else palette.warning
    values = (outcome.before, plain(outcome.change.value or "unset"), outcome.after)
    return _row(
        "◆" if good else "·", outcome.title, values, outcome.result, outcome.note, colour, palette
    )


def _review_row(line: ReviewLine, palette: Palette) -> Text:
    good = line.found == "done"
    colour = (
        palette.accent
        if good
        else palette.warning
        if line.found == "needs a look"
        else palette.soft
    )
    values = (line.before, plain(line.change.value or "unset"), line.now)
    return _row("◆" if good else "·", line.title, values, line.found, line.note, colour, palette)


_TITLE, _VALUE, _WORD = 26, 9, 15


def _row(
    mark: str,
    title: str,
    values: tuple[str, str, str],
    word: str,
    note: str,
    colour: str,
    palette: Palette,
) -> Text:
    before, after, read = values
    text = Text()
    text.append(f"   {mark} ", style=colour)
    text.append(column(title, _TITLE), style=f"bold {palette.ink}")
    text.append(f"{column(before, _VALUE)}→ {column(after, _VALUE)}", style=palette.ink)
    text.append(column(read, _VALUE), style=palette.ink)
    text.append(column(word, _WORD), style=colour)
    text.append(plain(note, 200), style=palette.soft)
    return text


def _heading(palette: Palette) -> Line:
    names = f"     {'':<{_TITLE}}{'before':<{_VALUE}}  {'after':<{_VALUE}}{'read back':<{_VALUE}}"
    return Line(Text(names, style=palette.soft))
