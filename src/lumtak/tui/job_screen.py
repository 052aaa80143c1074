"""A job: head, ledger, route, and the station that is open."""

from collections.abc import Sequence
from functools import partial
from typing import ClassVar

from rich.text import Text
from textual import events
from textual.app import ComposeResult
from textual.binding import Binding, BindingType
from textual.widgets import Button, ContentSwitcher, Static

from lumtak.casebook import STATIONS, Station
from lumtak.core.reading import Reading
from lumtak.core.strip import DISK_TITLES, Strip, marked, strips
from lumtak.errors import LumtakError
from lumtak.journal import warnings
from lumtak.report.charts import ChartKind
from lumtak.tui.command import Command
from lumtak.tui.confirm import ConfirmScreen, unless_at_work
from lumtak.tui.heading import head_line
from lumtak.tui.help import HelpScreen
from lumtak.tui.job_commands import JOB_COMMANDS, JobCommand
from lumtak.tui.job_doors import Doors
from lumtak.tui.keys import binding
from lumtak.tui.saver import Saver
from lumtak.tui.stations.audit import AuditStation
from lumtak.tui.stations.base import StationView
from lumtak.tui.stations.baseline import BaselineStation
from lumtak.tui.stations.handover import HandoverStation
from lumtak.tui.stations.intake import IntakeStation
from lumtak.tui.stations.plan import PlanStation
from lumtak.tui.stations.proof import ProofStation
from lumtak.tui.theme import Palette
from lumtak.tui.widgets.ledger import Ledger
from lumtak.tui.widgets.lines import whole_sentences
from lumtak.tui.widgets.route import Route
from lumtak.work.changes import in_few_lines
from lumtak.work.open_job import OpenJob
from lumtak.work.places import results_folder
from lumtak.work.plan import put_changes_back
from lumtak.work.rights import asking

_BESIDE_S = 1.0
_LOW = 30
_CHARTS: dict[Station, ChartKind] = {"baseline": "load", "proof": "bridge", "handover": "spread"}
"""The chart that fits a station; strips elsewhere."""
_TITLES = {
    "system:rest": "the system",
    "unattributed": "unattributed",
    "cache": "cache (not load)",
    "free": "free",
    **DISK_TITLES,
}
"""What stands in a strip and is no item."""


class JobScreen(Doors):
    """One job at work.

    Args:
        open_job: the job with its computer.
    """

    CSS_PATH = "job_screen.tcss"
    BINDINGS: ClassVar[list[BindingType]] = [
        *(
            Binding(str(n), f"go('{station}')", station.capitalize(), show=False)
            for n, station in enumerate(STATIONS, 1)
        ),
        Binding("escape", "bench", "To the bench", show=False),
        binding("everything", "put_back"),
        binding("this-visit", "undo_visit"),
        binding("end-process", "end_process"),
        binding("files", "files"),
        binding("programs", "programs"),
        binding("upkeep", "upkeep"),
        binding("look-job", "look"),
        binding("chart", "chart"),
        binding("piece-before", "piece(-1)"),
        binding("piece-next", "piece(1)"),
        binding("help", "help"),
    ]

    def __init__(self, open_job: OpenJob) -> None:
        super().__init__(open_job)
        self.saver = Saver(open_job.data_folder.casebook, self._not_kept)
        open_job.save = self.saver
        self._beside = ""
        self._cut: list[tuple[tuple[object, ...], tuple[Strip, Strip]]] = []

    def compose(self) -> ComposeResult:
        """Head, ledger, route, stations, hint."""
        yield Static(id="head", markup=False)
        yield Ledger(id="ledger")
        yield Route(id="route")
        with ContentSwitcher(id="stations", initial=self.job.station):
            yield IntakeStation(id="intake")
            yield BaselineStation(id="baseline")
            yield AuditStation(id="audit")
            yield PlanStation(id="plan")
            yield ProofStation(id="proof")
            yield HandoverStation(id="handover")
        yield Static(id="hint", markup=False)

    def on_mount(self) -> None:
        """Land where the job was; at Plan when something was interrupted there."""
        self.set_class(self.app.size.height < _LOW, "-low")
        self.open_job.touched = getattr(self.app, "touched_s", None)
        if self.open_job.interrupted.lines:
            self.action_go("plan")
        elif self.due:
            self.action_go("proof")
        self.update_all()
        self._view().arrive()
        self.set_interval(_BESIDE_S, self._show_beside)

    def on_resize(self, event: events.Resize) -> None:
        """Low windows have no room for air; what depends on the width is drawn anew."""
        self.set_class(event.size.height < _LOW, "-low")
        self.call_after_refresh(self.update_all)

    # -- what is shown -----------------------------------------------------------------------------

    def _view(self) -> StationView:
        return self.query_one(f"#{self.job.station}", StationView)

    def update_all(self) -> None:
        """Show everything as it is now."""
        self._view().show()
        self.update_frame()

    def update_frame(self) -> None:
        """Head, ledger, route and hint."""
        self._show_head()
        self.query_one(Route).show(self.job.station, self._done())
        self._show_ledger()
        self.update_hint()

    def _show_head(self) -> None:
        """Whose computer, and what goes on."""
        palette, beside = Palette(self.app), self.open_job.beside.words
        right = self.busy or beside or self.owed.in_words()
        colour = palette.accent if self.busy or beside else palette.warning
        head = head_line(self.job, Text(right, style=colour), self.size.width - 2, palette)
        self.query_one("#head", Static).update(head, layout=False)

    def _show_beside(self) -> None:
        """What goes on beside the job has come further, or has ended."""
        words = self.open_job.beside.words
        if words != self._beside and self.is_current:
            self._beside = words
            self._show_head()

    def update_hint(self) -> None:
        """What can be done now."""
        self.query_one("#hint", Static).update(
            whole_sentences(self._view().hint(), self.size.width - 2), layout=False
        )

    def _done(self) -> set[Station]:
        job = self.job
        marks: dict[Station, bool] = {
            "intake": True,
            "baseline": self.baseline is not None,
            "audit": job.audit is not None,
            "plan": bool(job.chosen or job.plan or self.entries),
            "proof": self.after is not None,
        }
        return {station for station, done in marks.items() if done}

    def _show_ledger(self) -> None:
        live, found = self.after or self.baseline, self.job.audit
        ledger = self.query_one(Ledger)
        if live is None:
            ledger.show(None, None)
            return
        ram, cpu = self._marked(self._strips(live))
        before = self._strips(self.baseline) if self.after and self.baseline else None
        disk, titles = self.disk_strip(), self.titles(live) | _TITLES
        ledger.show(ram, cpu, total_bytes=live.ram_total_bytes, before=before, titles=titles)
        if disk is not None and found is not None and found.room is not None:
            ledger.show_disk(self._marked([disk])[0], found.room.total_bytes)
        ledger.light(self.job.cursor or None)

    def _marked(self, cut: Sequence[Strip]) -> list[Strip]:
        """Strips with what is chosen, and with what was applied where it is not read yet."""
        standing = [e.ref for e in self.entries if e.is_open]
        chosen = [c.ref for c in self.job.chosen if c.ref not in standing]
        applied = [r for r in standing if r.area != "storage"] if self.after is None else []
        if self.job.audit:
            chosen, applied = (self.job.audit.with_brought(refs) for refs in (chosen, applied))
        return [marked(strip, chosen=chosen, applied=applied) for strip in cut]

    def _strips(self, reading: Reading) -> tuple[Strip, Strip]:
        """(RAM, CPU) of a reading.

        Cut anew only when the reading, the audit or the profile is another one.
        """
        job = self.job
        of = (reading, self.baseline, job.audit, job.profile)
        for known, cut in self._cut:
            if all(a is b for a, b in zip(known, of, strict=True)):
                return cut
        cut = strips(reading, job.audit, ceilings=job.profile.ceilings, baseline=self.baseline)
        self._cut = [(of, cut), *self._cut[:1]]
        return cut

    def light(self, consumer: str) -> None:
        """In both strips."""
        self.query_one(Ledger).light(consumer)

    # -- going about -------------------------------------------------------------------------------

    def action_go(self, station: Station) -> None:
        """Open a station."""
        if station != self.job.station:
            self.open_job.go(station)
            self.query_one(ContentSwitcher).current = station
            self.update_all()
            self._view().arrive()

    def on_route_gone(self, message: Route.Gone) -> None:
        """A station was clicked."""
        self.action_go(message.station)

    def on_ledger_picked(self, message: Ledger.Picked) -> None:
        """A piece was clicked: the audit opens on it."""
        if self.job.audit and message.key in self.job.audit.by_consumer:
            self.open_job.select(self.job.audit.by_consumer[message.key].ref)
            self.action_go("audit")
            self.update_all()

    def action_piece(self, steps: int) -> None:
        """Along the strips, piece by piece."""
        key = self.query_one(Ledger).step(steps)
        if key and self.job.audit and key in self.job.audit.by_consumer:
            self.open_job.select(self.job.audit.by_consumer[key].ref)
            self._view().show()

    def action_chart(self) -> None:
        """Save a chart: the one that fits the station, or another."""
        from lumtak.tui.chart_screen import ChartScreen
        from lumtak.work.handover import draw_chart

        kind = _CHARTS.get(self.job.station, "strips")
        if kind == "bridge" and not self.bridges:
            kind = "load"
        folder = results_folder(self.settings.report_folder)
        draw = partial(draw_chart, self.open_job)
        self.app.push_screen(ChartScreen(draw, kind, self.job.id, folder))

    def action_help(self) -> None:
        """Explain the station."""
        self.app.push_screen(HelpScreen(self.job.station))

    def action_undo_visit(self) -> None:
        """Put back exactly what this visit changed, after a question."""
        left = [e for e in self.entries if e.is_open]
        if not left:
            self.tell("This visit changed nothing that is still in place.")
        elif self.free():
            mind = (
                warnings(self.job.facts, self.entries, [e.id for e in left])
                if self.job.facts
                else ()
            )
            which = "the one change" if len(left) == 1 else f"all {len(left)} changes"
            self.app.push_screen(
                ConfirmScreen(
                    f"Put {which} of this visit back?",
                    in_few_lines(left, mind),
                    yes="Put back",
                    no="Leave it changed",
                ),
                partial(self._put_visit_back, [e.id for e in left]),
            )

    def _put_visit_back(self, numbers: list[int], yes: bool | None) -> None:  # noqa: FBT001
        if yes:
            refs = [e.ref for e in self.entries if e.id in numbers]
            self.begin(
                "putting back",
                lambda: put_changes_back(self.open_job, numbers),
                self.tell_put_back,
                asks=asking(self.open_job.computer, refs),
            )

    def action_bench(self) -> None:
        """Close what is open on the station; else back to the bench, where the job stays."""
        if not self._view().escape():
            self.action_back()

    def action_back(self) -> None:
        """A click on the head."""
        unless_at_work(self, lambda: self.leave(self.dismiss), "leave")

    def hold_on(self) -> None:
        """What is being written is finished first."""
        self.query_one("#hint", Static).update("Finishing what is being written…")

    def let_go(self) -> None:
        """The computer, and the saver once everything is kept."""
        try:
            self.open_job.close()
        except LumtakError as error:
            self.app.call_from_thread(self.tell, str(error))
        self.saver.close()

    def commands(self) -> tuple[Command, ...]:
        """For the palette, in the order of the work."""
        return tuple(Command(c.words, partial(self._do, c), c.about, c.key) for c in JOB_COMMANDS)

    async def _do(self, command: JobCommand) -> None:
        """Go to the command's station, and press its button or do its action there."""
        if command.station:
            self.action_go(command.station)
        view = self._view() if command.station else self
        if not command.does.startswith("#"):
            if command.does:
                await view.run_action(command.does)
            return
        button = view.query_one(command.does, Button)
        if button.display and not button.disabled:
            button.press()
        else:
            self.tell("That cannot be done just now; the station says what comes first.")

    # -- work in the background --------------------------------------------------------------------

    def begun(self) -> None:
        """The head says what is under way."""
        self.update_frame()

    def come_back(self, _: object = None) -> None:
        """Another screen may have put changes back: look again."""
        self.begin("looking", lambda: None, lambda _: None)

    def _not_kept(self, sentence: str) -> None:
        self.app.call_from_thread(self.tell, sentence)

    # -- what stations say -------------------------------------------------------------------------

    def on_station_view_go(self, message: StationView.Go) -> None:
        """On to another station."""
        self.action_go(message.station)

    def on_station_view_explained(self, message: StationView.Explained) -> None:
        """The audit opens on it; Backspace comes back."""
        message.stop()
        self.action_go("audit")
        self.query_one(AuditStation).explain(message.address)

    def on_station_view_put_back(self, message: StationView.PutBack) -> None:
        """After its question."""
        message.stop()
        self.action_undo_visit()

    def on_station_view_left(self, message: StationView.Left) -> None:
        """To the bench."""
        message.stop()
        self.action_back()

    def on_station_view_hinted(self, message: StationView.Hinted) -> None:
        """Something else can be done now."""
        message.stop()
        self.update_hint()

    def on_station_view_advanced(self, message: StationView.Advanced) -> None:
        """The work went on."""
        message.stop()
        self.update_frame()

    def on_station_view_changed(self, message: StationView.Changed) -> None:
        """The job is another one now."""
        message.stop()
        self.update_all()
