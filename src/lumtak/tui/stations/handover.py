"""Handover: the verdict, what stops working, what is still open, and how to take it back."""

from collections.abc import Iterable
from pathlib import Path

from rich.text import Text
from textual.app import ComposeResult
from textual.containers import Horizontal
from textual.widgets import Button, Input, Static

from lumtak.core.asking import questions
from lumtak.core.setting import without
from lumtak.core.text import capital, plain
from lumtak.core.units import all_of, counted
from lumtak.journal import Entry
from lumtak.storage import in_short
from lumtak.tui.stations import plan_rows
from lumtak.tui.stations.base import StationView
from lumtak.tui.theme import Palette
from lumtak.tui.widgets.lines import Line, LineList, wrapped
from lumtak.work.places import results_folder

_ENTRY = "change "
_NAME = 26
_EXPLAINED = 8
"""Lines of an explanation, at most."""
_ASKED = 3
"""Questions that are told; the others are counted."""


class HandoverStation(StationView):
    """What is given to the owner."""

    def compose(self) -> ComposeResult:
        """Verdict, all that is to be known, the report, acts."""
        yield Static(id="say", classes="big", markup=False)
        yield LineList(id="list")
        with Horizontal(id="where", classes="acts"):
            yield Static("Report goes to ", classes="soft", markup=False)
            yield Input(id="folder", compact=True)
        yield Static(id="written", classes="prose soft", markup=False)
        with Horizontal(classes="acts"):
            yield Button("Write the report", id="write", compact=True)
            yield Button("Put this visit back…", id="all", compact=True)
            yield Button("To the bench", id="bench-button", compact=True)

    _standing: list[tuple[int, str]] | None = None

    def on_input_changed(self, event: Input.Changed) -> None:
        """Another folder: nothing is written there yet."""
        event.stop()
        self._say_written("")

    def on_mount(self) -> None:
        """The report goes where the settings say."""
        self._opened: set[str] = set()
        self._say_written("")
        folder = results_folder(self.desk.settings.report_folder)
        self.query_one(Input).value = in_short(folder / f"lumtak-report-{self.desk.job.id}")

    def _say_written(self, words: str) -> None:
        written = self.query_one("#written", Static)
        written.update(words)
        written.display = bool(words)

    # -- what is shown -----------------------------------------------------------------------------

    def show(self) -> None:
        """As far as it is."""
        desk, palette = self.desk, Palette(self.app)
        left = [e for e in desk.entries if e.is_open]
        standing: list[tuple[int, str]] = [(e.id, e.stage) for e in desk.entries]
        if standing != self._standing:  # what was written tells of something else
            self._standing = standing
            self._say_written("")
        self.query_one("#say", Static).update(plain(self._verdict(left), 400))
        self.query_one("#write").disabled = bool(desk.busy)
        everything = self.query_one("#all", Button)
        everything.disabled = bool(desk.busy)
        everything.display = bool(left)
        self.query_one(LineList).show(self._lines(left, palette))

    def _verdict(self, left: list[Entry]) -> str:
        """What came of it."""
        desk = self.desk
        found = desk.job.audit
        if not desk.entries:
            if found is not None and found.nothing_to_gain:
                return f"{found.lines[-1]} Nothing was changed, and the report says so."
            return "Nothing was changed in this job. The report says so."
        if not left:
            every = all_of(len(desk.entries), "change of this job", "changes of this job")
            return f"{every} put back or came to nothing."
        still = f"{counted(len(left), 'change is', 'changes are')} still in place."
        if desk.after is None:
            return f"{still} There is no reading after them yet, and the report will say so."
        return f"{desk.job.said or 'The proof says what came of it.'} {still}"

    def _lines(self, left: list[Entry], palette: Palette) -> list[Line]:
        parts = (
            ("What stops working, or works otherwise", self._otherwise(left)),
            ("Still open", self._open()),
            ("If something is missing", self._back(left)),
        )
        lines: list[Line] = []
        for title, rows in parts:
            if rows:
                lines += [Line(Text()), Line(Text(f" {title}", style=f"bold {palette.soft}"))]
                lines += self._prose(rows, palette)
        if self.desk.entries:
            head = Text(" What was changed", style=f"bold {palette.soft}")
            lines += [Line(Text()), Line(head), *self._changes(palette)]
        return lines

    def _prose(self, rows: Iterable[tuple[str, str]], palette: Palette) -> list[Line]:
        lines = []
        for name, words in rows:
            width = max(20, self.app.size.width - _NAME - 7)
            for number, part in enumerate(wrapped(plain(words, 500), width)):
                text = Text(f"   {plain(name, _NAME - 1) if number == 0 else '':<{_NAME}}")
                text.stylize(f"bold {palette.ink}")
                text.append(part, style=palette.ink)
                lines.append(Line(text))
        return lines

    def _otherwise(self, left: list[Entry]) -> list[tuple[str, str]]:
        """What the owner would notice of each change, from what stops without it."""
        found = self.desk.job.audit
        rows = []
        for entry in left:
            finding = found.find(entry.ref) if found else None
            label, words = without(entry.value, finding.stops if finding else "")
            if words:
                said = f"{label}: {words}" if label in {"without it", "until started"} else words
                rows.append((entry.title, f"{capital(said)}."))
        return rows

    def _open(self) -> list[tuple[str, str]]:
        """What is not done yet."""
        desk = self.desk
        owed = desk.owed.in_words()
        bad = [e.title for e in desk.entries if e.stage in {"failed", "conflict"}]
        chosen = counted(len(desk.job.chosen), "change")
        rows = (
            ("restart", f"{capital(owed)}; then the reading counts." if owed else ""),
            ("after reading", self._reading_due()),
            self._to_ask(),
            ("plan", f"{chosen} chosen and not made." if desk.job.chosen else ""),
            ("did not go through", ", ".join(bad)),
            ("disk", desk.space.words if desk.space else ""),
        )
        return [row for row in rows if row[1]]

    def _reading_due(self) -> str:
        if not self.desk.entries:
            return ""
        if self.desk.after is None:
            return "Not taken yet: 5 takes it."
        return "It does not count any more: 5 takes another." if self.desk.provisional else ""

    def _to_ask(self) -> tuple[str, str]:
        """Questions that only the owner can answer, and that nobody asked yet."""
        found = self.desk.job.audit
        asked = [q.words for q in questions(found)[0] if not q.answer] if found else []
        more = f" and {len(asked) - _ASKED} more" if len(asked) > _ASKED else ""
        return f"to ask ({len(asked)})", f"{' '.join(asked[:_ASKED])}{more}"

    def _back(self, left: list[Entry]) -> list[tuple[str, str]]:
        """How it is put back: here, and without Lumtak."""
        if not left:
            return []
        keys = "{this-visit} puts back what this visit changed, {everything} one by one."
        rows = [("here", self.with_keys(keys))]
        scripts = self.desk.scripts
        if isinstance(scripts, str):
            return [*rows, ("without Lumtak", scripts)]
        rows += [
            ("without Lumtak" if number == 0 else "", f"type: {script.command}")
            for number, script in enumerate(scripts)
        ]
        return rows

    def _changes(self, palette: Palette) -> list[Line]:
        steps = (
            {str(s.change.ref): s for s in self.desk.job.plan.steps} if self.desk.job.plan else {}
        )
        found = self.desk.job.audit
        lines = []
        for entry in self.desk.entries:
            key = f"{_ENTRY}{entry.id}"
            lines.append(Line(plan_rows.made(entry, steps.get(str(entry.ref)), palette), key))
            if key in self._opened:
                rows = plan_rows.of_entry(entry, found.find(entry.ref) if found else None)
                about = plan_rows.pane(rows[1:], self.app.size.width - 14, palette)
                lines += [Line(Text("       │ ") + line) for line in about.split("\n") if line]
        return lines

    def arrive(self) -> None:
        """On the report."""
        self.point_at(self.query_one("#write"))

    def hint(self) -> str:
        """What can be done."""
        return self.with_keys(
            "Enter presses the highlighted button; in the list it explains a change. {this-visit}"
            " puts back what this visit changed, {help} explains."
        )

    # -- keys and buttons --------------------------------------------------------------------------

    def on_button_pressed(self, event: Button.Pressed) -> None:
        """Write, ask, or leave."""
        event.stop()
        match event.button.id:
            case "write":
                self._write()
            case "all":
                self.say(self.PutBack())
            case "bench-button":
                self.say(self.Left())

    def on_input_submitted(self, event: Input.Submitted) -> None:
        """Enter in the folder's name writes too."""
        event.stop()
        self._write()

    def on_line_list_opened(self, message: LineList.Opened) -> None:
        """Explain a change, or close that."""
        message.stop()
        self._opened ^= {message.key}
        self.show()
        if message.key in self._opened:
            self.query_one(LineList).reveal_under(_EXPLAINED)

    def escape(self) -> bool:
        """Close what is explained."""
        if not self._opened:
            return False
        self._opened.clear()
        self.show()
        return True

    def _write(self) -> None:
        from lumtak.work.handover import write_report

        folder = Path(self.query_one(Input).value).expanduser()
        open_job = self.desk.open_job

        def done(paths: list[Path]) -> None:
            self._say_written(
                plain(f"Written: {', '.join(p.name for p in paths)} in {folder}", 300)
            )

        self.desk.begin("writing the report", lambda: write_report(open_job, folder), done)
