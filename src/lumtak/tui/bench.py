"""The opening screen.

Jobs with where each stands, computers, and a new job in three key presses.
"""

from collections.abc import Callable
from typing import TYPE_CHECKING, ClassVar

import msgspec
from rich.text import Text
from textual import events, work
from textual.app import ComposeResult
from textual.binding import Binding, BindingType
from textual.screen import Screen
from textual.widgets import Static

from lumtak.casebook import Heading
from lumtak.core.felt import COMPLAINTS, Complaint
from lumtak.core.profile import Profile
from lumtak.errors import LumtakError
from lumtak.tui import bench_rows
from lumtak.tui.command import Command
from lumtak.tui.keys import binding, pressed_for, with_keys
from lumtak.tui.theme import WIDE, Palette
from lumtak.tui.widgets.lines import Line, LineList, whole_sentences
from lumtak.work.data_folder import DataFolder

if TYPE_CHECKING:  # imported where they are first needed: the first screen waits for none
    from textual.widgets import Input

    from lumtak.computers.protocol import Computer
    from lumtak.work.changes import StandingChanges
    from lumtak.work.open_job import OpenJob

_LATER_S = 0.3
"""So long after the first picture the computers are looked at."""
_AROUND = 14
"""Lines of the bench that are no jobs."""


class BenchScreen(Screen[None]):
    """Jobs to go on with, computers to begin with; then what the computer is used for.

    Args:
        data_folder: keeps jobs and profiles; opens computers.
        pace: how fast simulated computers live.
        demo: whether nothing stays.
    """

    CSS_PATH = "bench.tcss"
    BINDINGS: ClassVar[list[BindingType]] = [
        Binding("escape", "back", "Back", show=False),
        Binding("down", "list", "Into the list", show=False),
        binding("look", "look"),
        binding("everything-bench", "put_back"),
        binding("search-bench", "search"),
        binding("sort", "sort"),
        binding("archive", "archive"),
        binding("archived", "show_archived"),
        binding("settings", "app.settings"),
        binding("help", "help"),
    ]

    def __init__(self, data_folder: DataFolder, *, pace: float, demo: bool = False) -> None:
        super().__init__()
        self._data_folder, self._pace, self._demo = data_folder, pace, demo
        self._address: str | None = None
        self._profile: Profile | None = None
        """Chosen for a new job; then the complaint is asked for."""
        self._jobs: dict[str, Heading] = {}
        self._profiles: dict[str, Profile] = {}
        self._opening = False
        self._standing: dict[str, StandingChanges] = {}
        self._order: bench_rows.Order = bench_rows.ORDERS[0]
        self._shows_archived = False
        self._words = ""
        """What is searched for."""

    def compose(self) -> ComposeResult:
        """Head, search, lines, hint."""
        yield Static(id="head", markup=False)
        yield LineList(id="lines", one_click=True)
        yield Static(id="hint", markup=False)

    def on_mount(self) -> None:
        """Into the list; what there is is shown once the screen is seen."""
        self.query_one(LineList).at_once = self._search_at_once
        self.set_focus(self.query_one(LineList))

    def on_screen_resume(self) -> None:
        """A job was left: it may stand elsewhere now."""
        self._opening = False
        self._address = self._profile = None
        self._take_jobs()
        self.update_all()
        self.set_timer(_LATER_S, self._look_at_changes)

    def _take_jobs(self) -> None:
        self._jobs = {job.id: job for job in self._data_folder.jobs()}

    @work(thread=True, exit_on_error=False, exclusive=True, group="changes")
    def _look_at_changes(self) -> None:
        """What stands changed on each computer, and whether it drifted."""
        from lumtak.work.changes import standing_changes

        try:
            found = standing_changes(self._data_folder)
        except LumtakError as error:
            self.app.call_from_thread(self._failed, str(error))
            return
        self.app.call_from_thread(self._looked, found)

    def _looked(self, found: "dict[str, StandingChanges]") -> None:
        for notice in self._data_folder.notices():
            self.notify(notice, timeout=20, markup=False)
        if found != self._standing:
            self._standing = found
            self.update_all()

    def update_all(self) -> None:
        """Draw everything as it is now."""
        palette = Palette(self.app)
        where = None if self._demo else self._data_folder.home
        self.query_one("#head", Static).update(bench_rows.head(where, palette))
        address = self._address or "local"
        if self._profile:
            lines = bench_rows.complaint_lines(address, palette)
        elif self._address:
            self._profiles = self._data_folder.profiles()
            lines = bench_rows.profile_lines(address, self._profiles.values(), palette)
        else:
            lines = self._opening_lines(palette)
        self.query_one(LineList).show(lines)
        self._say_what_can_be_done()

    def _say_what_can_be_done(self) -> None:
        if self._profile:
            self._hint("Enter or a click begins the job with that; Escape goes back.")
        elif self._address:
            self._hint("Enter or a click chooses what the owner uses it for; Escape goes back.")
        elif len(self._jobs) > self.app.size.height - _AROUND:
            self._hint(
                "Enter opens. {search-bench} searches, {sort} sorts, {archive} archives;"
                " {look} takes a quick look. {palette} finds every command, {help} explains."
            )
        else:
            self._hint(
                "Enter opens a job or begins one; {look} takes a quick look, {everything-bench}"
                " shows what was changed. {palette} finds every command, {help} explains, {quit}"
                " closes."
            )

    def _hint(self, text: str) -> None:
        words = with_keys(self.app, text)
        self.query_one("#hint", Static).update(whole_sentences(words, self.app.size.width - 2))

    def _opening_lines(self, palette: Palette) -> list[Line]:
        every = self._jobs
        archived = sum(job.archived for job in every.values())
        more = bench_rows.about_jobs(self._order, archived, shown=self._shows_archived)
        seen = filter(self._is_listed, every.values())
        shown = bench_rows.ordered(seen, self._order, self._standing)
        lines = [Line(Text()), bench_rows.heading("Jobs", palette, with_keys(self.app, more))]
        size = self.app.size
        wide, two = size.width >= WIDE, 2 * len(shown) + _AROUND <= size.height
        for job in shown:
            lines += bench_rows.job_lines(job, self._standing, palette, wide=wide, two=two)
        if not shown:
            words = "none to show" if every else "none yet: begin one on a computer below"
            lines.append(Line(Text(f"   {words}", style=palette.soft)))
        groups = bench_rows.computers([job.address for job in every.values()])
        return lines + bench_rows.computer_lines(groups, self._finds, self._standing, palette)

    def _is_listed(self, job: Heading) -> bool:
        found = self._finds(bench_rows.words_of(job, self._standing))
        return found and (self._shows_archived or not job.archived)

    def _finds(self, text: str) -> bool:
        """Whether all that is searched for stands in it."""
        return all(w in text.lower() for w in self._words.lower().split())

    def on_line_list_opened(self, message: LineList.Opened) -> None:
        """Go on with a job, choose a computer, or begin."""
        kind, _, name = message.key.partition(" ")
        if self._opening:
            return
        if kind == "job":
            self._open(name)
        elif kind == "computer":
            self._address = name
            self.update_all()
        elif kind == "profile":
            self._profile = self._profiles[name]
            self.update_all()
        elif self._profile:
            complaint: Complaint = next((c for c in COMPLAINTS if c == name), "")
            self._begin(self._address or "local", self._profile, complaint)

    def on_line_list_marked(self, message: LineList.Marked) -> None:
        """Space serves too."""
        self.on_line_list_opened(message)  # type: ignore[arg-type]  # both carry the key

    def action_back(self) -> None:
        """Close the search; else back by one question, and at last to jobs and computers."""
        if found := self.query("#words"):
            found.remove()
            self._words = ""
        elif self._profile is None:
            self._address = None
        self._profile = None
        self.update_all()
        self.action_list()

    # -- finding a job -----------------------------------------------------------------------------

    def action_list(self) -> None:
        """Into the list."""
        self.set_focus(self.query_one(LineList))

    def action_search(self) -> None:
        """Search jobs and computers."""
        from textual.widgets import Input

        if self._address is not None:
            return
        found = self.query(Input)
        line = found.first() if found else Input(placeholder="search", id="words", compact=True)
        if not found:
            self.mount(line, before="#lines")
        self.set_focus(line)

    def _search_at_once(self, key: str) -> bool:
        """Before the next key is looked at: it is the first letter."""
        wanted = key == pressed_for(self.app, "search-bench")
        if wanted:
            self.action_search()
        return wanted

    def on_input_changed(self, event: "Input.Changed") -> None:
        """The list follows."""
        event.stop()
        self._words = event.value
        self.update_all()

    def on_input_submitted(self, event: "Input.Submitted") -> None:
        """Into what was found."""
        event.stop()
        self.action_list()

    def action_sort(self) -> None:
        """The next order."""
        orders = bench_rows.ORDERS
        self._order = orders[(orders.index(self._order) + 1) % len(orders)]
        self.update_all()
        self._hint(f"Jobs: {self._order}. {{sort}} chooses another order.")

    def action_archive(self) -> None:
        """Put the job under the cursor away, or take it out again."""
        kind, _, name = (self.query_one(LineList).selected or "").partition(" ")
        if kind != "job":
            self._failed("Only a job can be archived: point at one first.")
            return
        casebook = self._data_folder.casebook
        try:
            job = casebook.job(name)
            casebook.save(msgspec.structs.replace(job, archived=not job.archived))
        except LumtakError as error:
            self._failed(str(error))
            return
        self._take_jobs()
        self.update_all()
        put_away = "Archived: {archived} shows the archive, {archive} takes a job out of it."
        self._hint("Taken out of the archive." if job.archived else put_away)

    def action_show_archived(self) -> None:
        """Show what is put away, or hide it."""
        self._shows_archived = not self._shows_archived
        self.update_all()

    def action_look(self) -> None:
        """A quick look at the computer under the cursor, without a job."""
        from lumtak.tui.quick_look import QuickLookScreen

        self._open_beside(QuickLookScreen)

    def action_put_back(self) -> None:
        """Everything ever changed on the computer under the cursor, or on that of the job."""
        from lumtak.tui.put_back import PutBackScreen

        data_folder = self._data_folder
        self._open_beside(lambda computer: PutBackScreen(data_folder, computer, keep=False))

    def _open_beside(self, screen: "Callable[[Computer], Screen[None]]") -> None:
        """A screen on the computer under the cursor, made in the background."""
        at = self._here()
        if at is not None:
            self._opening = True
            self._hint("Looking at the computer…")
            self._make_beside(screen, *at)

    @work(thread=True, exit_on_error=False)
    def _make_beside(
        self, screen: "Callable[[Computer], Screen[None]]", address: str, user: str | None
    ) -> None:
        try:
            computer = self._data_folder.computer(address, user=user, pace=self._pace)
        except LumtakError as error:
            self.app.call_from_thread(self._failed, str(error))
            return
        self.app.call_from_thread(self.app.push_screen, screen(computer))

    def _here(self) -> tuple[str, str | None] | None:
        """(address, user) of the computer under the cursor, or of the job's.

        None where there is none or one is being opened.
        """
        kind, _, name = (self.query_one(LineList).selected or "").partition(" ")
        job = self._jobs.get(name) if kind == "job" else None
        if self._opening or self._address or not (job or kind == "computer"):
            return None
        return (job.address, job.user if job.address == "local" else None) if job else (name, None)

    def action_help(self) -> None:
        """Explain the screen."""
        from lumtak.tui.help import HelpScreen

        self.app.push_screen(HelpScreen("bench"))

    def on_click(self, event: events.Click) -> None:
        """The head goes back, the bottom line opens every command."""
        where = event.widget.id if event.widget else None
        if where == "head":
            self.action_back()
        elif where == "hint":
            self.app.action_command_palette()

    def commands(self) -> tuple[Command, ...]:
        """For the palette, in the order of the work."""
        return (
            Command("Open", self.query_one(LineList).action_open, "what the cursor is on", "Enter"),
            Command("Quick look", self.action_look, "what uses CPU and memory now", "look"),
            Command(
                "Everything changed there", self.action_put_back, "by visit", "everything-bench"
            ),
            Command("Search", self.action_search, "jobs and computers", "search-bench"),
            Command("Another order", self.action_sort, f"now: {self._order}", "sort"),
            Command("Archive", self.action_archive, "put a job away, or take it out", "archive"),
            Command("Show the archive", self.action_show_archived, "or hide it", "archived"),
            Command("Explain this screen", self.action_help, "in the words of the work", "help"),
        )

    def _begin(self, address: str, profile: Profile, complaint: Complaint) -> None:
        self._opening = True
        self._hint("Looking at the computer…")
        data_folder, pace = self._data_folder, self._pace
        suits, words = bench_rows.came_with(address)
        told = words if complaint == suits else ""

        def begin() -> "OpenJob":
            from lumtak.work.intake import begin_job

            computer = data_folder.computer(address, pace=pace)
            return begin_job(data_folder, computer, profile, complaint=complaint, told=told)

        self._in_background(begin)

    def _open(self, number: str) -> None:
        self._opening = True
        self._hint("Opening the job…")
        data_folder, pace = self._data_folder, self._pace

        def reopen() -> "OpenJob":
            from lumtak.work.intake import reopen_job

            return reopen_job(data_folder, data_folder.casebook.job(number), pace=pace)

        self._in_background(reopen)

    @work(thread=True, exit_on_error=False)
    def _in_background(self, make: "Callable[[], OpenJob]") -> None:
        """Open a job without holding the screen up."""
        from lumtak.tui.job_screen import JobScreen

        try:
            open_job = make()
        except LumtakError as error:
            self.app.call_from_thread(self._failed, str(error))
            return
        screen = JobScreen(open_job)
        self.app.call_from_thread(self.app.push_screen, screen)

    def _failed(self, sentence: str) -> None:
        self._opening = False
        self.update_all()
        self.notify(sentence, severity="error", timeout=12, markup=False)
