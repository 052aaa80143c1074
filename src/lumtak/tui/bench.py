"""The opening screen.

Jobs with where each stands, computers, and a new job in three key presses.
"""

from collections.abc import Callable, Iterable
from typing import ClassVar

from rich.text import Text
from textual import events, work
from textual.app import ComposeResult, SystemCommand
from textual.binding import Binding, BindingType
from textual.screen import Screen
from textual.widgets import Static

from lumtak.casebook import Heading
from lumtak.computers.addresses import known_addresses
from lumtak.computers.protocol import Computer
from lumtak.core.felt import COMPLAINTS, Complaint, measures_of
from lumtak.core.profile import Profile
from lumtak.core.text import plain
from lumtak.errors import LumtakError
from lumtak.storage import in_short
from lumtak.tui.job_screen import JobScreen
from lumtak.tui.theme import WIDE, Palette
from lumtak.tui.widgets.lines import Line, LineList, fit, whole_sentences
from lumtak.tui.widgets.mini import glance_line
from lumtak.work.changes import StandingChanges, standing_changes
from lumtak.work.data_folder import DataFolder
from lumtak.work.intake import begin_job, reopen_job
from lumtak.work.open_job import OpenJob

_PLAIN_PROFILE = "writing-and-web"
"""The one to begin with where nothing is known."""
_ABOUT = {"local": ("this computer", "the Linux computer that Lumtak runs on")}


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
        Binding("l", "look", "A quick look", show=False),
        Binding("b", "put_back", "Everything changed on that computer", show=False),
        Binding("question_mark", "help", "Help", show=False),
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

    def compose(self) -> ComposeResult:
        """Head, lines, hint."""
        yield Static(id="head", markup=False)
        yield LineList(id="lines")
        yield Static(id="hint", markup=False)

    def on_mount(self) -> None:
        """Show what there is."""
        self.update_all()
        self.query_one(LineList).focus()

    def on_screen_resume(self) -> None:
        """A job was left: it may stand elsewhere now."""
        self._opening = False
        self._address = self._profile = None
        self.update_all()

        self._look_at_changes()

    @work(thread=True, exit_on_error=False, exclusive=True, group="changes")
    def _look_at_changes(self) -> None:
        """What stands changed on each computer, and whether it drifted."""
        try:
            found = standing_changes(self._data_folder)
        except LumtakError as error:
            self.app.call_from_thread(self._failed, str(error))
            return
        self.app.call_from_thread(self._looked, found)

    def _looked(self, found: dict[str, StandingChanges]) -> None:
        for notice in self._data_folder.notices():
            self.notify(notice, timeout=20, markup=False)
        if found != self._standing:
            self._standing = found
            self.update_all()

    def update_all(self) -> None:
        """Draw everything as it is now."""
        palette = Palette(self.app)
        head = Text()
        head.append(" Lumtak", style=f"bold {palette.accent}")
        where = (
            "  demo: made-up computers, nothing stays"
            if self._demo
            else f"  {in_short(self._data_folder.home)}"
        )
        head.append(where, style=palette.soft)
        self.query_one("#head", Static).update(head)
        if self._profile:
            lines = self._complaint_lines(palette)
        elif self._address:
            lines = self._profile_lines(palette)
        else:
            lines = self._opening_lines(palette)
        self.query_one(LineList).show(lines)
        self._hint(
            "Enter begins the job with that; Escape goes back."
            if self._profile
            else "Enter chooses what the owner uses it for; Escape goes back."
            if self._address
            else (
                "Enter opens a job or begins one; l takes a quick look, b shows what was changed."
                " Ctrl+P finds every command, ? explains, q closes."
            )
        )

    def _hint(self, text: str) -> None:
        self.query_one("#hint", Static).update(whole_sentences(text, self.app.size.width - 2))

    def _opening_lines(self, palette: Palette) -> list[Line]:
        self._jobs = {job.id: job for job in self._data_folder.casebook.jobs()}
        lines = [Line(Text()), _heading("Jobs", palette)]
        lines += [
            Line(self._job_line(job, palette), f"job {job.id}") for job in self._jobs.values()
        ]
        if not self._jobs:
            lines.append(
                Line(Text("   none yet: begin one on a computer below", style=palette.soft))
            )
        lines += [Line(Text()), _heading("Computers", palette)]
        for address in known_addresses():
            name, about = self._about(address)
            text = Text()
            text.append(f"   {name:<16}", style="bold")
            text.append(f"{address:<19}", style=palette.soft)
            if stands := self._standing.get(address):
                text.append(
                    f"{stands.in_words()} · ",
                    style=palette.warning if stands.drifted else palette.accent,
                )
            text.append(about)
            lines.append(Line(text, f"computer {address}"))
        return lines

    def _job_line(self, job: Heading, palette: Palette) -> Text:
        """Where it stands, the last load against the ceilings, what is owed or due."""
        wide = self.app.size.width >= WIDE
        text = Text()
        text.append(f"   {fit(job.computer_name, 20 if wide else 14)} ", style="bold")
        text.append(f"visit {job.visit:<3} ")
        text.append(f"{job.station:<10}", style=palette.accent)
        text.append_text(glance_line(job.last, palette, 20 if wide else 6))
        stands = self._standing.get(job.address.partition("?")[0])
        if stands and (stands.owed or stands.drifted):
            drifted = f"{stands.drifted} drifted" if stands.drifted else ""
            text.append(
                f"{', '.join(w for w in (stands.owed, drifted) if w)}  ", style=palette.warning
            )
        elif stands and job.after is None and job.station in {"apply", "proof"}:
            text.append("after reading due  ", style=palette.accent)
        text.append(
            f"{plain(job.profile.title.lower(), 28)}, {job.begun_at[:10]}", style=palette.soft
        )
        return text

    @staticmethod
    def _suits(address: str) -> str:
        """The profile that was made for this computer; empty where none was."""
        if address in _ABOUT:
            return _PLAIN_PROFILE
        from lumtak.computers.simulated.spec import head_of

        return head_of(address.removeprefix("sim:")).profile

    @staticmethod
    def _about(address: str) -> tuple[str, str]:
        if address in _ABOUT:
            return _ABOUT[address]
        from lumtak.computers.simulated.spec import head_of

        head = head_of(address.removeprefix("sim:"))
        return head.title.lower(), head.about

    def _profile_lines(self, palette: Palette) -> list[Line]:
        self._profiles = self._data_folder.profiles()
        name, _ = self._about(self._address or "local")
        lines = [
            Line(Text()),
            _heading(
                (
                    f"What is the {name} used for?"
                    if self._address != "local"
                    else "What is this computer used for?"
                ),
                palette,
            ),
        ]
        suits = self._suits(self._address or "local")
        for profile in sorted(self._profiles.values(), key=lambda p: p.name != suits):
            text = Text()
            text.append(f"   {plain(profile.title, 26):<28}", style="bold")
            text.append(plain(profile.about))
            if profile.name == suits and suits != _PLAIN_PROFILE:
                text.append("   made for it", style=palette.accent)
            lines.append(Line(text, f"profile {profile.name}"))
        return lines

    @staticmethod
    def _came_with(address: str) -> tuple[Complaint, str]:
        """(the complaint that the owner of a made-up computer comes with, in their words)."""
        if address in _ABOUT:
            return "", ""
        from lumtak.computers.simulated.spec import head_of

        head = head_of(address.removeprefix("sim:"))
        return head.complaint, head.told

    def _complaint_lines(self, palette: Palette) -> list[Line]:
        name, _ = self._about(self._address or "local")
        suits, told = self._came_with(self._address or "local")
        whose = name if self._address == "local" else f"the {name}"
        lines = [Line(Text()), _heading(f"What does the owner of {whose} complain of?", palette)]
        if told:
            lines.append(Line(Text(f"   “{told}”", style=palette.accent)))
        for complaint in sorted(COMPLAINTS, key=lambda c: c != suits):
            text = Text()
            text.append(f"   {COMPLAINTS[complaint]:<28}", style="bold")
            text.append(measures_of(complaint), style=palette.soft)
            lines.append(Line(text, f"complaint {complaint}"))
        text = Text(f"   {'nothing':<28}", style="bold")
        text.append("it is only looked at", style=palette.soft)
        return [*lines, Line(text, "complaint none")]

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
        """Back by one question, and at last to jobs and computers."""
        if self._profile is None:
            self._address = None
        self._profile = None
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

    def _open_beside(self, screen: Callable[[Computer], Screen[None]]) -> None:
        """A screen on the computer under the cursor, made in the background."""
        at = self._here()
        if at is not None:
            self._opening = True
            self._hint("Looking at the computer…")
            self._make_beside(screen, *at)

    @work(thread=True, exit_on_error=False)
    def _make_beside(
        self, screen: Callable[[Computer], Screen[None]], address: str, user: str | None
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

    def commands(self) -> Iterable[SystemCommand]:
        """For the palette."""
        yield SystemCommand(
            "Quick look",
            "What weighs now on the computer under the cursor; nothing is kept",
            self.action_look,
        )
        yield SystemCommand(
            "Put back",
            "Everything ever changed on the computer under the cursor",
            self.action_put_back,
        )
        yield SystemCommand("Explain this screen", "In the words of the work", self.action_help)

    def _begin(self, address: str, profile: Profile, complaint: Complaint) -> None:
        self._opening = True
        self._hint("Looking at the computer…")
        data_folder, pace = self._data_folder, self._pace
        suits, words = self._came_with(address)
        told = words if complaint == suits else ""
        self._in_background(
            lambda: begin_job(
                data_folder,
                data_folder.computer(address, pace=pace),
                profile,
                complaint=complaint,
                told=told,
            )
        )

    def _open(self, number: str) -> None:
        self._opening = True
        self._hint("Opening the job…")
        data_folder, pace = self._data_folder, self._pace
        self._in_background(
            lambda: reopen_job(data_folder, data_folder.casebook.job(number), pace=pace)
        )

    @work(thread=True, exit_on_error=False)
    def _in_background(self, make: Callable[[], OpenJob]) -> None:
        """Open a job without holding the screen up."""
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


def _heading(text: str, palette: Palette) -> Line:
    return Line(Text(f" {text}", style=f"bold {palette.soft}"))
