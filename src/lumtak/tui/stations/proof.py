"""Proof: before against after, by how much, how sure; provisional while anything is owed."""

from functools import partial

from rich.text import Text
from textual.app import ComposeResult
from textual.containers import Horizontal, VerticalScroll
from textual.widgets import Button, Static

from lumtak.core.proof import Proof
from lumtak.core.sample import Sample
from lumtak.core.units import span
from lumtak.errors import LumtakError, UsageError
from lumtak.tui.stations.base import StationView
from lumtak.tui.stations.proof_text import Sheet
from lumtak.tui.theme import Palette
from lumtak.tui.widgets.live import Live
from lumtak.work.plan import restart
from lumtak.work.proof import note_verdict, proof_of, read_after


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
        self._of: tuple[object, ...] = ()
        self._proof: Proof | None = None
        self._wait_s = 0.0

    @property
    def _reading_now(self) -> bool:
        return self.desk.doing == "after"

    def _proved(self) -> Proof:
        """Worked out once for what it depends on."""
        if self._of != self._depends or self._proof is None:
            self._work_out()
        if self._proof is None:
            raise UsageError("There is nothing to compare yet.", "Take both readings first.")
        return self._proof

    @property
    def _depends(self) -> tuple[object, ...]:
        desk, job = self.desk, self.desk.job
        said = (job.complaint, job.told, job.profile)
        return job.baseline, job.after, desk.provisional, *said

    def _work_out(self) -> None:
        desk = self.desk
        has_both = desk.open_job.baseline is not None and desk.open_job.after is not None
        self._proof = proof_of(desk.open_job) if has_both else None
        if self._proof is not None:
            note_verdict(desk.open_job, self._proof)
        self._of = self._depends

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
                "First it waits until the computer has been up as long as for the baseline:"
                f" {span(self._wait_s)} more."
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
            proof = self._proved()
        except LumtakError as error:
            return Text(str(error)), Text()
        style = palette.warning if desk.provisional else palette.ink
        return Text(proof.headline, style=f"bold {style}"), self._owed_text(palette) + Sheet(
            desk, proof, palette, self.app.size.width - 3
        ).text()

    def _due_text(self, palette: Palette) -> Text:
        """Nothing is owed any more: the reading that is due, and when it begins alike."""
        baseline, wait_s = self.desk.baseline, self.desk.same_point_s
        text = Text(
            "\nEvery change has taken effect, so the after reading is due.\n",
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
            text.append(
                f"\nA restart is needed for {', '.join(owed.restart)}", style=palette.warning
            )
            text.append(
                f"{'; and then for ' + ', '.join(owed.login) if owed.login else ''}.\n",
                style=palette.warning,
            )
        elif owed.login:
            text.append(
                f"\nA new login is needed for {', '.join(owed.login)}.\n", style=palette.warning
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
            return self.with_keys("First the restart or login, then the reading. {help} explains.")
        return self.with_keys(
            "The verdict follows from the interval, not from the averages. Enter presses the"
            " highlighted button, {help} explains."
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
