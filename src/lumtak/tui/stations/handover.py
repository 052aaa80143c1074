"""Handover: the owner's sheet as it will print, what it still lacks, and how to take all back."""

import logging
from collections.abc import Iterable
from functools import partial
from pathlib import Path
from typing import ClassVar

from rich.text import Text
from textual import work
from textual.app import ComposeResult
from textual.binding import BindingType
from textual.containers import Horizontal
from textual.widgets import Button, Input, Static

from lumtak.core.text import plain
from lumtak.core.units import all_of, counted
from lumtak.errors import LumtakError
from lumtak.journal import Entry
from lumtak.storage import in_short
from lumtak.tui.confirm import ConfirmScreen
from lumtak.tui.keys import binding
from lumtak.tui.stations import plan_rows
from lumtak.tui.stations.base import StationView
from lumtak.tui.theme import Palette
from lumtak.tui.widgets.lines import Line, LineList, wrapped
from lumtak.work.places import results_folder

_ENTRY, _SHEET = "change ", "sheet "
_NAME = 26
_EXPLAINED = 8
"""Lines of an explanation, at most."""
_HEADS = 20


class HandoverStation(StationView):
    """What is given to the owner."""

    BINDINGS: ClassVar[list[BindingType]] = [
        binding("print-sheet", "print_sheet"),
        binding("save-sheet", "save_sheet"),
        binding("open-sheet", "open_sheet"),
    ]

    def compose(self) -> ComposeResult:
        """Verdict, what the sheet lacks, the sheet, acts."""
        yield Static(id="say", classes="big", markup=False)
        yield LineList(id="list")
        with Horizontal(id="where", classes="acts"):
            yield Static("Sheet and report go to ", classes="soft", markup=False)
            yield Input(id="folder", compact=True)
        yield Static(id="written", classes="prose soft", markup=False)
        with Horizontal(classes="acts"):
            yield Button("Write the report", id="write", compact=True)
            yield Button("Save the sheet", id="save", compact=True)
            yield Button("Open it", id="open", compact=True)
            yield Button("Print it…", id="print", compact=True)
        with Horizontal(id="more", classes="acts"):
            yield Button("Put this visit back…", id="all", compact=True)
            yield Button("To the bench", id="bench-button", compact=True)

    _standing: list[tuple[int, str]] | None = None

    def on_input_changed(self, event: Input.Changed) -> None:
        """Another folder: nothing is written there yet."""
        event.stop()
        self._say_written("")

    def on_mount(self) -> None:
        """All goes where the settings say."""
        self._opened: set[str] = set()
        self._printed: list[Line] = []
        self._lacking: list[tuple[str, str]] = []
        self._drawn: tuple[object, ...] = ()
        self._say_written("")
        folder = results_folder(self.desk.settings.report_folder)
        self.query_one(Input).value = in_short(folder / f"lumtak-report-{self.desk.job.id}")

    def _say_written(self, words: str) -> None:
        written = self.query_one("#written", Static)
        written.update(words)
        written.display = bool(words)

    # -- what is shown -----------------------------------------------------------------------------

    def show(self) -> None:
        """As far as it is; the sheet follows once it is worked out."""
        desk = self.desk
        left = [e for e in desk.entries if e.is_open]
        standing: list[tuple[int, str]] = [(e.id, e.stage) for e in desk.entries]
        if standing != self._standing:  # what was written tells of something else
            self._standing = standing
            self._say_written("")
        self.query_one("#say", Static).update(plain(self._verdict(left), 400))
        for name in ("write", "print", "save", "open"):
            self.query_one(f"#{name}").disabled = bool(desk.busy)
        everything = self.query_one("#all", Button)
        everything.disabled = bool(desk.busy)
        everything.display = bool(left)
        self._list()
        job = desk.job
        wanted = (
            job.told, job.owner, job.complaint, job.after, job.baseline, tuple(standing),
            job.chosen, desk.owed, desk.provisional, desk.settings, self.size.width,
        )  # fmt: skip
        if wanted != self._drawn:
            self._drawn = wanted
            self._work_out(self.app.size.width)

    @work(thread=True, exclusive=True, exit_on_error=False, group="sheet")
    def _work_out(self, width: int) -> None:
        """The sheet as it is now; no key waits for it."""
        from lumtak.report.sheet.preview import Printed, preview
        from lumtak.report.tongue import tongue_of
        from lumtak.work.sheet import lacking, sheet_now

        open_job = self.desk.open_job
        try:
            printed = preview(sheet_now(open_job, tongue_of(self.desk.settings)), width - 6)
            lacks = lacking(open_job)
        except LumtakError as error:
            printed, lacks = [Printed("", str(error))], []
        except Exception:  # the screen stays, the log has the rest
            logging.getLogger(__name__).exception("working out the sheet")
            printed, lacks = [Printed("", "The sheet could not be made; the log has why.")], []
        self.app.call_from_thread(self._worked_out, printed, lacks)

    def _worked_out(self, printed: list[object], lacks: list[tuple[str, str]]) -> None:
        from lumtak.report.sheet.preview import Printed

        palette = Palette(self.app)
        self._lacking = lacks
        self._printed = []
        for number, line in enumerate(printed):
            if not isinstance(line, Printed):
                continue
            text = Text()
            text.append(f"   {line.head:<{_HEADS}} ", style=f"bold {palette.soft}")
            style = f"bold {palette.ink}" if line.strong else palette.ink
            text.append(plain(line.words, 400), style=palette.soft if line.soft else style)
            self._printed.append(Line(text, f"{_SHEET}{number}"))
        if self.is_mounted:
            self._list()

    def _list(self) -> None:
        left = [e for e in self.desk.entries if e.is_open]
        self.query_one(LineList).show(self._lines(left, Palette(self.app)))

    def _verdict(self, left: list[Entry]) -> str:
        """What came of it."""
        desk = self.desk
        found = desk.job.audit
        if not desk.entries:
            if found is not None and found.nothing_to_gain:
                return f"{found.lines[-1]} Nothing was changed, and the sheet says so."
            return "Nothing was changed in this job. The sheet says so."
        if not left:
            every = all_of(len(desk.entries), "change of this job", "changes of this job")
            return f"{every} put back or came to nothing."
        still = f"{counted(len(left), 'change is', 'changes are')} still in place."
        if desk.after is None:
            return f"{still} There is no reading after them yet, and the sheet will say so."
        return f"{desk.job.said or 'The proof says what came of it.'} {still}"

    def _lines(self, left: list[Entry], palette: Palette) -> list[Line]:
        disk = [("disk", self.desk.space.words)] if self.desk.space else []
        lines = self._part("Still open, before it is handed over", [*self._lacking, *disk], palette)
        lines += [Line(Text()), _head("The owner's sheet, as it will print", palette)]
        waiting = Line(Text("   It is being worked out…", style=palette.soft), f"{_SHEET}0")
        lines += self._printed or [waiting]
        lines += self._part("To put it back", self._back(left), palette)
        if self.desk.entries:
            lines += [Line(Text()), _head("What was changed", palette), *self._changes(palette)]
        return lines

    def _part(self, title: str, rows: list[tuple[str, str]], palette: Palette) -> list[Line]:
        if not rows:
            return []
        return [Line(Text()), _head(title, palette), *self._prose(rows, palette)]

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
        """On what is done first."""
        self.point_at(self.query_one("#write"))

    def hint(self) -> str:
        """What can be done."""
        return self.with_keys(
            "{print-sheet} prints the sheet after a question, {save-sheet} saves it, {open-sheet}"
            " opens it. Enter presses the highlighted button; in the list it explains a change."
            " {this-visit} puts back what this visit changed, {help} explains."
        )

    # -- keys and buttons --------------------------------------------------------------------------

    def on_button_pressed(self, event: Button.Pressed) -> None:
        """Print, save, open, write, ask, or leave."""
        event.stop()
        match event.button.id:
            case "print":
                self.action_print_sheet()
            case "save":
                self.action_save_sheet()
            case "open":
                self.action_open_sheet()
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
        if not message.key.startswith(_ENTRY):
            return
        self._opened ^= {message.key}
        self._list()
        if message.key in self._opened:
            self.query_one(LineList).reveal_under(_EXPLAINED)

    def escape(self) -> bool:
        """Close what is explained."""
        if not self._opened:
            return False
        self._opened.clear()
        self._list()
        return True

    # -- the sheet ---------------------------------------------------------------------------------

    @property
    def _folder(self) -> Path:
        return Path(self.query_one(Input).value).expanduser()

    def _sheet_file(self) -> Path:
        from lumtak.report.tongue import tongue_of
        from lumtak.work.sheet import save_sheet

        open_job = self.desk.open_job
        path = self._folder / f"sheet-{open_job.job.id}.pdf"
        return save_sheet(open_job, path, tongue_of(self.desk.settings))

    def action_save_sheet(self) -> None:
        """The sheet becomes a file."""

        def done(path: Path) -> None:
            self._say_written(plain(f"Saved: {in_short(path)}", 300))

        self.desk.begin("saving the sheet", self._sheet_file, done)

    def action_open_sheet(self) -> None:
        """The sheet becomes a file, and the desktop shows it."""
        from lumtak.work.sheet import open_file

        def job() -> Path:
            path = self._sheet_file()
            open_file(path)
            return path

        def done(path: Path) -> None:
            self._say_written(plain(f"Opened: {in_short(path)}", 300))

        self.desk.begin("opening the sheet", job, done)

    def action_print_sheet(self) -> None:
        """Asked first: paper does not come back."""
        from lumtak.work.sheet import printer

        command = printer()
        lacks = ", ".join(name for name, _ in self._lacking)
        still = f" It still lacks: {lacks}." if lacks else ""
        self.app.push_screen(
            ConfirmScreen(
                "Print the sheet?",
                (
                    f"It goes to this system's own printer, by {command}.{still}"
                    if command
                    else "This system has no command that prints (lp or lpr). Save the sheet"
                    " instead."
                ),
                yes="Print it",
                no="Do not print",
            ),
            partial(self._print),
        )

    def _print(self, yes: bool | None) -> None:  # noqa: FBT001 - what a question gives
        from lumtak.report.tongue import tongue_of
        from lumtak.work.sheet import print_sheet

        if not yes:
            return
        open_job = self.desk.open_job

        def done(said: str) -> None:
            self._say_written(f"Printed: {said}")

        self.desk.begin(
            "printing the sheet", lambda: print_sheet(open_job, tongue_of(self.desk.settings)), done
        )

    def _write(self) -> None:
        from lumtak.work.handover import write_report

        folder = self._folder
        open_job = self.desk.open_job

        def done(paths: list[Path]) -> None:
            first = ", ".join(p.name for p in paths[:2])
            words = f"Written: {first} and {len(paths) - 2} more in {in_short(folder)}"
            self._say_written(plain(words, 300))

        self.desk.begin("writing the report", lambda: write_report(open_job, folder), done)


def _head(title: str, palette: Palette) -> Line:
    return Line(Text(f" {title}", style=f"bold {palette.soft}"))
