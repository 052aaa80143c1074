"""Handover: the report for the owner, and putting changes back."""

from pathlib import Path

from rich.text import Text
from textual.app import ComposeResult
from textual.containers import Horizontal
from textual.widgets import Button, Input, Static

from lumtak.core.text import plain
from lumtak.core.units import all_of, counted
from lumtak.journal import Entry, warnings
from lumtak.storage import in_short
from lumtak.tui.confirm import ConfirmScreen
from lumtak.tui.stations.apply import entry_row
from lumtak.tui.stations.base import StationView
from lumtak.tui.theme import Palette
from lumtak.tui.widgets.lines import Line, LineList
from lumtak.work.places import results_folder
from lumtak.work.plan import put_changes_back
from lumtak.work.rights import asking


class HandoverStation(StationView):
    """What is given to the owner; what can be taken back."""

    def compose(self) -> ComposeResult:
        """Report, list of changes, acts."""
        yield Static(id="say", classes="big", markup=False)
        with Horizontal(id="where", classes="acts"):
            yield Static("Report goes to ", classes="soft", markup=False)
            yield Input(id="folder", compact=True)
        yield Static(id="written", classes="prose soft", markup=False)
        yield LineList(id="list")
        with Horizontal(classes="acts"):
            yield Button("Write the report", id="write", compact=True)
            yield Button("Put everything back…", id="all", compact=True)

    _standing: list[tuple[int, str]] | None = None

    def on_input_changed(self, event: Input.Changed) -> None:
        """Another folder: nothing is written there yet."""
        event.stop()
        self.query_one("#written", Static).update("")

    def on_mount(self) -> None:
        """The report goes to the person's documents."""
        self.query_one(Input).value = in_short(
            results_folder() / f"lumtak-report-{self.desk.job.id}"
        )

    def show(self) -> None:
        """As far as it is."""
        desk, palette = self.desk, Palette(self.app)
        left = [e for e in desk.entries if e.is_open]
        standing: list[tuple[int, str]] = [(e.id, e.stage) for e in desk.entries]
        if standing != self._standing:  # what was written tells of something else
            self._standing = standing
            self.query_one("#written", Static).update("")
        self.query_one("#say", Static).update(self._sentence(left))
        self.query_one("#write").disabled = bool(desk.busy)
        everything = self.query_one("#all", Button)
        everything.label = f"Put all {len(left)} back…"
        everything.disabled = bool(desk.busy)
        everything.display = bool(left)
        rows = [Line(entry_row(e, palette), f"change {e.id}") for e in desk.entries]
        self.query_one(LineList).show([Line(Text()), *rows])

    def _sentence(self, left: list[Entry]) -> str:
        desk = self.desk
        if not desk.entries:
            return "Nothing was changed in this job. The report says so."
        if not left:
            return (
                f"{all_of(len(desk.entries), 'change of this job', 'changes of this job')} put back"
                " or came to nothing."
            )
        proof = (
            "" if desk.after else " There is no reading after them yet, and the report will say so."
        )
        return f"{counted(len(left), 'change is', 'changes are')} still in place.{proof}"

    def arrive(self) -> None:
        """On the report."""
        self.point_at(self.query_one("#write"))

    def hint(self) -> str:
        """What can be done."""
        return (
            "Enter presses the highlighted button; in the list Enter puts one change back; ?"
            " explains."
        )

    def on_button_pressed(self, event: Button.Pressed) -> None:
        """Write, or ask."""
        event.stop()
        if event.button.id == "write":
            self._write()
        else:
            left = [e for e in self.desk.entries if e.is_open]
            self._ask(
                left,
                f"Put {'the one change' if len(left) == 1 else f'all {len(left)} changes'} of this"
                " job back?",
            )

    def on_input_submitted(self, event: Input.Submitted) -> None:
        """Enter in the folder's name writes too."""
        event.stop()
        self._write()

    def on_line_list_opened(self, message: LineList.Opened) -> None:
        """Put one back."""
        message.stop()
        entry = next(e for e in self.desk.entries if f"change {e.id}" == message.key)
        if entry.is_open:
            self._ask([entry], f"Put {plain(entry.title)} back?")
        else:
            self.desk.tell(f"{plain(entry.title)} is not changed any more: {entry.stage}.")

    def _write(self) -> None:
        from lumtak.work.handover import write_report

        folder = Path(self.query_one(Input).value).expanduser()
        open_job = self.desk.open_job

        def done(paths: list[Path]) -> None:
            self.query_one("#written", Static).update(
                plain(f"Written: {', '.join(p.name for p in paths)} in {folder}", 300)
            )

        self.desk.begin("writing the report", lambda: write_report(open_job, folder), done)

    def _ask(self, entries: list[Entry], question: str) -> None:
        lines = [
            plain(f"{e.title}: {e.after.word if e.after else '?'} → {e.restore.word}", 160)
            for e in reversed(entries)
        ]
        facts = self.desk.job.facts
        mind = warnings(facts, self.desk.entries, [e.id for e in entries]) if facts else ()
        lines += [
            "",
            *(plain(f"Warning: {w}", 200) for w in mind),
            (
                "What it changed starts and weighs again as before. A value that somebody else"
                " changed since is left alone."
            ),
        ]
        numbers = [e.id for e in entries]

        def answered(yes: bool | None) -> None:  # noqa: FBT001 - Textual calls it so
            if yes:
                open_job = self.desk.open_job
                asks = asking(
                    self.desk.open_job.computer,
                    (e.ref for e in self.desk.entries if e.id in numbers),
                )
                self.desk.begin(
                    "putting back",
                    lambda: put_changes_back(open_job, numbers),
                    self.desk.tell_put_back,
                    asks=asks,
                )

        self.app.push_screen(
            ConfirmScreen(question, "\n".join(lines), yes="Put back", no="Leave it changed"),
            answered,
        )
