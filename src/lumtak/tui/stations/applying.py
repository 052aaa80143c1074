"""Carrying a plan out: asked, change by change, held, stopped, and what to do when one fails."""

import threading
from collections.abc import Sequence

from textual.widgets import Button

from lumtak.core.consequences import consequences
from lumtak.core.plan import Plan
from lumtak.core.text import capital, plain
from lumtak.core.units import counted
from lumtak.errors import LumtakError
from lumtak.journal import Entry, Outcome
from lumtak.tui.confirm import ConfirmScreen
from lumtak.tui.stations.base import StationView
from lumtak.work.plan import carry_out, end_interrupted, levels_of, plan_of, put_changes_back
from lumtak.work.rights import asking


class ApplyingStation(StationView):
    """The part of the plan that changes something."""

    def on_mount(self) -> None:
        """Nothing is under way."""
        self.live: list[Outcome] = []
        self.pause = threading.Event()
        self.to_bad = False
        """Whether the cursor is to go to what failed."""

    @property
    def applying(self) -> bool:
        """Whether the plan is being applied."""
        return self.desk.doing == "applying"

    def buttons_of_applying(self) -> None:
        """Which of them can be pressed."""
        desk = self.desk
        waiting, broken = desk.job.chosen, desk.open_job.interrupted
        apply = self.query_one("#apply", Button)
        apply.label = f"Apply {counted(len(waiting), 'change')}…"
        apply.display = bool(waiting) and not self.applying and not broken.lines
        apply.disabled = bool(desk.busy)
        self.query_one("#stop").display = self.applying
        pause = self.query_one("#pause", Button)
        pause.display = self.applying
        pause.label = "Go on" if self.pause.is_set() else "Pause"
        for name in ("#keep", "#back"):
            self.query_one(name).display = bool(broken.lines) and not desk.busy
        self.query_one("#back").display = bool(broken.count("done")) and not desk.busy

    def how_far(self) -> str:
        """A sentence about what was done; empty where nothing was."""
        desk = self.desk
        broken, waiting = desk.open_job.interrupted, len(desk.job.chosen)
        if broken.lines:
            return (
                f"Lumtak was interrupted here: {broken.in_words()}. Nothing has been touched since."
            )
        if self.applying:
            held = "Held" if self.pause.is_set() else "Applying"
            return f"{held}: {len(self.live)} of {waiting} done."
        bad = [e for e in desk.entries if e.stage in {"failed", "conflict"}]
        if bad:
            return (
                f"{len(bad)} of {counted(len(desk.entries), 'change')} did not go through; the"
                " others are as shown."
            )
        done = sum(e.stage == "verified" for e in desk.entries)
        if not done:
            return ""
        what = counted(done, "change is", "changes are")
        return f"{what} done and read back.{'' if waiting else f' {self._what_then()}'}"

    def _what_then(self) -> str:
        owed = self.desk.owed.in_words()
        if not owed:
            return "Next is the proof."
        return f"{capital(owed)}; after that the proof."

    def pressed(self, name: str) -> None:
        """A button of this part."""
        match name:
            case "apply":
                self.ask()
            case "pause":
                (self.pause.clear if self.pause.is_set() else self.pause.set)()
                self.show()
            case "stop":
                self.desk.stop.set()
            case "keep":
                self._settle(put_back=False)
            case "back":
                self._settle(put_back=True)

    def _settle(self, *, put_back: bool) -> None:
        """End what was interrupted; what was done stays, or goes back."""
        desk = self.desk
        done = [
            line.id
            for line in desk.open_job.interrupted.lines
            if line.found == "done" and line.id is not None
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

    def ask(self) -> None:
        """What will happen, by how much of it is noticed and by what is needed afterwards."""
        try:
            plan = plan_of(self.desk.open_job)
        except LumtakError as error:
            self.desk.tell(str(error))
            return
        name = plain(self.desk.job.computer_name)
        question = f"Change {counted(len(plan.steps), 'setting')} of {name}?"
        self.app.push_screen(
            ConfirmScreen(question, self._consequences(plan), yes="Apply them"), self._answered
        )

    def _consequences(self, plan: Plan) -> str:
        lines = [plain(line, 200) for line in consequences(plan, levels_of(self.desk.open_job))]
        back = "{this-visit} puts all of it back, {everything} one by one; any time, also later."
        return "\n".join((*lines, self.with_keys(back)))

    def _answered(self, yes: bool | None) -> None:  # noqa: FBT001 - Textual calls it so
        if not yes:
            return
        desk = self.desk
        self.live = []
        self.pause.clear()

        def note(outcome: Outcome) -> None:
            self.app.call_from_thread(self._stepped, outcome, desk.open_job.entries())

        def job() -> list[Outcome]:
            return carry_out(desk.open_job, on_step=note, stop=desk.stop, pause=self.pause)

        asks = asking(desk.open_job.computer, (c.ref for c in desk.job.chosen))
        if desk.begin("applying the plan", job, self._applied, doing="applying", asks=asks):
            self.show()
            self.point_at(self.query_one("#pause"))

    def _stepped(self, outcome: Outcome, entries: list[Entry]) -> None:
        """The strips hatch what is done, and the list goes on."""
        self.live.append(outcome)
        self.desk.entries = entries
        self.say(self.Advanced())
        if self.applying and self.desk.job.station == "plan":
            self.show()

    def _applied(self, outcomes: list[Outcome]) -> None:
        """On to what comes next; after a failure, ask about what was done before it."""
        self.call_after_refresh(self.arrive)
        bad = [o for o in outcomes if o.result in {"failed", "conflict"}]
        done = [o for o in outcomes if o.result == "done" and o.id is not None]
        self.to_bad = bool(bad)
        if bad and done:
            self._ask_about(bad, done)

    def _ask_about(self, bad: Sequence[Outcome], done: Sequence[Outcome]) -> None:
        lines = [plain(f"{o.title}: {o.note}", 400) for o in bad]
        lines += ["", "Done before it:"]
        lines += [plain(f"{o.title}: {o.before} → {o.after}", 160) for o in done]
        lines += ["", "What is kept can still be put back at any time."]
        numbers = [o.id for o in done if o.id is not None]

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
        words = "\n".join(lines)
        self.app.push_screen(
            ConfirmScreen(
                question, words, yes="Put them back", no="Keep what was done", by_itself=True
            ),
            answered,
        )
