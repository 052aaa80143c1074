"""End a process: the heaviest first; asked each time, and recorded in the job."""

from rich.text import Text
from textual.widgets import Static

from lumtak.core.actions import Action, Running, Way
from lumtak.core.text import plain
from lumtak.core.units import counted, percent, ram
from lumtak.tui.confirm import ConfirmScreen
from lumtak.tui.keys import with_keys
from lumtak.tui.looking import LookingScreen
from lumtak.tui.theme import Palette
from lumtak.tui.widgets.lines import Line, LineList, column
from lumtak.work.actions import heavy_processes
from lumtak.work.open_job import OpenJob


class EndingScreen(LookingScreen):
    """Processes that run now.

    Args:
        open_job: the job in which it is recorded.
    """

    topic, what = "end", "what runs now"

    def __init__(self, open_job: OpenJob) -> None:
        super().__init__(open_job)
        self._found: list[Running] = []

    def action_look_again(self) -> None:
        """What runs now."""
        open_job = self._open_job
        self.begin(
            "looking at what runs",
            lambda: heavy_processes(
                open_job.computer, open_job.data_folder.catalogue, stop=self.stop
            ),
            self._looked,
        )

    def _looked(self, found: list[Running]) -> None:
        self._found = found

    def update_all(self) -> None:
        """As it is now."""
        palette = Palette(self.app)
        self.draw_head(self._open_job.job.computer_name, "end a process")
        self.query_one("#say", Static).update(
            "An ended process cannot be put back, so this is never part of a plan. It is recorded"
            " in the job."
        )
        mine = [r for r in self._found if not r.why_not]
        lines = [Line(self._row(r, palette), f"process {r.process.pid}") for r in mine]
        lines += self._never([r for r in self._found if r.why_not], palette)
        done = [
            Line(Text(f"   {plain(a.at[11:16])}  {a.in_words()}", style=palette.soft))
            for a in self._open_job.job.actions
            if a.kind == "end a process"
        ]
        if done:
            lines = [
                Line(Text(" ended in this job", style=f"bold {palette.soft}")),
                *done,
                Line(Text()),
                *lines,
            ]
        self.query_one(LineList).show(lines)
        self.query_one("#hint", Static).update(
            with_keys(
                self.app,
                "Enter asks a process to end, after a question; {look-again} looks again; Escape"
                " goes back.",
            )
        )

    def _never(self, kept: list[Running], palette: Palette) -> list[Line]:
        """What is never ended."""
        sums = f"{percent(sum(r.cpu_pct for r in kept))}, {ram(sum(r.ram_bytes for r in kept))}"
        words = f"{counted(len(kept), 'process is', 'processes are')} never ended ({sums})"
        rows = [Line(self._row(r, palette), f"process {r.process.pid}") for r in kept]
        return self.folded(words, rows, palette)

    def _row(self, one: Running, palette: Palette) -> Text:
        style = palette.soft if one.why_not else palette.ink
        text = Text()
        text.append(f"   {percent(one.cpu_pct):>7}{ram(one.ram_bytes):>10}   ", style=style)
        text.append(column(one.title, 28), style=style if one.why_not else f"bold {palette.ink}")
        text.append(column(f"{one.process.name} {one.process.pid}", 26), style=palette.soft)
        text.append(
            f"never ended: {one.why_not}" if one.why_not else one.comes_back, style=palette.soft
        )
        return text

    def opened(self, key: str) -> None:
        """Ask before asking it to end."""
        one = next(r for r in self._found if f"process {r.process.pid}" == key)
        if one.why_not:
            self.tell(f"{one.title} is never ended: {one.why_not}.")
            return
        self._ask(one, "asked")

    def _ask(self, one: Running, way: Way) -> None:
        seen = "".join(f"{name}: {value}\n" for name, value in one.closely)
        about = (
            f"{seen}{one.loses}\n{one.comes_back}\n\nThis cannot be put back. It is recorded in the"
            " job."
        )
        if way == "asked":
            question, yes = f"Ask {one.title} (process {one.process.pid}) to end?", "Ask it to end"
        else:
            question, yes = f"{one.title} still runs. Force it to end?", "Force it"
            about = f"It gets no time to save anything.\n{about}"

        def answered(agreed: bool | None) -> None:  # noqa: FBT001 - Textual calls it so
            if agreed:
                what = f"ending {plain(one.title, 30)}"
                self.begin(
                    what,
                    lambda: self._open_job.end_process(one, way),
                    lambda a: self._ended_one(one, a),
                )

        self.app.push_screen(
            ConfirmScreen(
                question, about, yes=yes, no="Leave it running", by_itself=way == "forced"
            ),
            answered,
        )

    def _ended_one(self, one: Running, action: Action) -> None:
        if action.ended:
            self._found = [r for r in self._found if r.process.pid != one.process.pid]
            self.notify(action.in_words(), markup=False)
        elif action.way == "asked" and not action.refused:
            self._ask(one, "forced")
        else:
            self.tell(action.in_words())
