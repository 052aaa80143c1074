"""The tasks of upkeep of a computer: how each stands, what it found; they run beside the job."""

from functools import partial
from typing import ClassVar

from rich.text import Text
from textual.binding import BindingType
from textual.widgets import Static

from lumtak.core.actions import Action
from lumtak.core.profile import Rhythm
from lumtak.core.setting import SettingRef
from lumtak.core.text import capital, plain
from lumtak.core.upkeep.due import rhythms_of, shortest
from lumtak.core.upkeep.tasks import (
    GRAVE,
    TASK_NAMES,
    TASKS,
    Found,
    Partial,
    Result,
    TaskName,
    standing,
)
from lumtak.journal import Outcome
from lumtak.tui.command import Command
from lumtak.tui.confirm import ConfirmScreen
from lumtak.tui.keys import binding, with_keys
from lumtak.tui.looking import LookingScreen
from lumtak.tui.pick import PickScreen
from lumtak.tui.theme import Palette
from lumtak.tui.widgets.lines import Line, LineList, column, wrapped
from lumtak.work.acting import trim
from lumtak.work.due import day_due, today_of
from lumtak.work.open_job import OpenJob
from lumtak.work.owned import needing_yes
from lumtak.work.rights import asking
from lumtak.work.sitting import set_aside_found
from lumtak.work.upkeep import all_results, explain, paused
from lumtak.work.watch import watch

_REFRESH_S, _BAR, _SHOWN = 0.5, 20, 12
_WATCH = "upkeep:watch"


class _Seen:
    """What is kept of the tasks, looked up in the background."""

    def __init__(self, open_job: OpenJob) -> None:
        data_folder, identity = open_job.data_folder, open_job.job.identity
        today = today_of(data_folder, open_job.job.address)
        self.rhythms = rhythms_of(open_job.job.profile)
        self.results = all_results(data_folder, identity)
        self.paused: dict[TaskName, Partial] = {
            t: p for t in TASK_NAMES if (p := paused(data_folder, identity, t)) is not None
        }
        self.days = {
            t: day_due(self.results.get(t), every, today)
            for t in TASK_NAMES
            if (every := self.rhythms.get(t))
        }
        self.due = {t for t, day in self.days.items() if day <= today.isoformat()}


class UpkeepScreen(LookingScreen):
    """Every task: Space begins, pauses and goes on; Enter shows what it found.

    Args:
        open_job: the job beside which they run.
    """

    topic, what = "upkeep", "what the tasks found"
    BINDINGS: ClassVar[list[BindingType]] = [
        binding("all-due", "all_due"),
        binding("cancel-task", "cancel_task"),
        binding("trim", "trim"),
        binding("watch", "watch"),
    ]

    def __init__(self, open_job: OpenJob) -> None:
        super().__init__(open_job)
        self._seen: _Seen | None = None
        self._opened: set[str] = set()
        self._known = -1

    def on_mount(self) -> None:
        """Look again while something runs; that it is looked at first is every such screen's."""
        self.set_interval(_REFRESH_S, self._again)

    def action_look_again(self) -> None:
        """What is kept."""
        self._known = self._open_job.beside.ended
        self.begin("looking at what was found", lambda: _Seen(self._open_job), self._looked)

    def _looked(self, seen: _Seen) -> None:
        self._seen = seen

    def _again(self) -> None:
        beside = self._open_job.beside
        if self.busy:
            return
        if beside.ended != self._known:
            self.action_look_again()
        elif beside.running is not None:
            self.update_all()

    # -- what is shown -----------------------------------------------------------------------------

    def update_all(self) -> None:
        """As it is now."""
        palette, seen = Palette(self.app), self._seen
        self.draw_head(self._open_job.job.computer_name, "upkeep")
        due = len(seen.due) if seen else 0
        says = "nothing is due" if not due else f"{due} due"
        self.query_one("#say", Static).update(
            f"{capital(says)}. Tasks only read, give way to all other work, go on while you do"
            " something else, and wait for readings."
        )
        lines: list[Line] = []
        for name in TASK_NAMES if seen else ():
            lines += self._rows(name, palette)
        self.query_one(LineList).show(lines)
        self.query_one("#hint", Static).update(
            with_keys(
                self.app,
                "Space begins, pauses, goes on; Enter shows what was found; {all-due} all that is"
                " due; {cancel-task} ends one; {trim} trims; {watch} watches; Escape goes back.",
            )
        )

    def _rows(self, name: TaskName, palette: Palette) -> list[Line]:
        """A line, and what it found where that is opened."""
        seen = self._seen
        if seen is None:
            return []
        result = seen.results.get(name)
        state, colour = self._state(name, result, palette)
        text = Text()
        text.append(f"   {column(TASKS[name].title, 30)}", style=f"bold {palette.ink}")
        text.append(column(state, 17), style=colour)
        text.append(column(self._when(name, result), 25), style=palette.soft)
        if name == self._open_job.beside.running:
            text.append_text(self._progress(palette))
        else:
            text.append(result.says if result else TASKS[name].about, style=palette.soft)
        lines = [Line(text, f"task {name}")]
        if name in self._opened:
            lines += self._details(name, result, palette)
        return lines

    def _state(self, name: TaskName, result: Result | None, palette: Palette) -> tuple[str, str]:
        beside, seen = self._open_job.beside, self._seen
        if name == beside.running:
            return ("waits" if beside.waits else "running"), palette.accent
        if name in beside.waiting:
            return "next", palette.accent
        if seen is None:
            return "", palette.soft
        begun, due = seen.paused.get(name), name in seen.due
        state = standing(result, begun, is_due=due)
        if result is None or result.state != "found":
            return state, palette.warning if due or begun else palette.ink
        more = f", found {result.found_count:,}" if due else ""
        return state + more, f"bold {palette.warning}" if result.is_grave else palette.warning

    def _when(self, name: TaskName, result: Result | None) -> str:
        every: Rhythm | None = self._seen.rhythms.get(name) if self._seen else None
        last = result.at[:10] if result else "never"
        return f"{last}, {every}" if every else last

    def _progress(self, palette: Palette) -> Text:
        beside = self._open_job.beside
        text, partial = Text(), beside.partial
        if beside.waits:
            return Text(beside.waits, style=palette.accent)
        if partial is None:
            return Text("…", style=palette.accent)
        done = round(_BAR * partial.share)
        text.append("━" * done, style=palette.accent)
        text.append("━" * (_BAR - done), style=palette.soft)
        text.append(f"  {partial.in_words()}  ", style=palette.ink)
        text.append(plain(partial.after, 60) if "/" in partial.after else "", style=palette.soft)
        return text

    def _details(self, name: TaskName, result: Result | None, palette: Palette) -> list[Line]:
        """What it does, what it costs, what it found, what puts it right."""
        task, problem = TASKS[name], self._open_job.beside.problems.get(name, "")
        said = [f"{task.about} It only reads. While it runs: {task.cost}."]
        said += [problem] if problem else []
        said += [result.says, *result.notes] if result else []
        width = max(40, self.size.width - 12)
        lines = [
            Line(Text(f"      {part}", style=palette.soft))
            for words in said
            for part in wrapped(plain(words, 1000), width)
        ]
        shown = result.found[:_SHOWN] if result else ()
        lines += [Line(self._found(f, palette), f"found {name} {n}") for n, f in enumerate(shown)]
        if result and len(result.found) > _SHOWN:
            more = f"      and {len(result.found) - _SHOWN:,} more: lumtak upkeep names them"
            lines.append(Line(Text(more, style=palette.soft)))
        for words in result.mend if result else ():
            right = wrapped(f"What puts it right: {plain(words, 1500)}", width)
            lines += [Line(Text(f"      {part}", style=palette.ink)) for part in right]
        return [*lines, Line(Text())]

    def _found(self, found: Found, palette: Palette) -> Text:
        style = palette.warning if found.kind in GRAVE else palette.ink
        text = Text("      ")
        text.append(plain(found.what, 120), style=style if found.counts else palette.soft)
        of = f" ({plain(found.of, 60)})" if found.of else ""
        text.append(f"{of}: {plain(found.why, 200)}", style=palette.soft)
        return text

    # -- what is done ------------------------------------------------------------------------------

    def _pointed(self) -> TaskName | None:
        kind, _, name = (self.query_one(LineList).selected or "").partition(" ")
        task = name.partition(" ")[0]
        return next((t for t in TASK_NAMES if t == task), None) if kind else None

    def on_line_list_marked(self, message: LineList.Marked) -> None:
        """Begin, pause, go on."""
        del message
        task, beside = self._pointed(), self._open_job.beside
        if task is None:
            return
        if task == beside.running or task in beside.waiting:
            beside.pause(task)
        else:
            beside.begin(task)
        self.update_all()

    def action_all_due(self) -> None:
        """One after the other."""
        for task in TASK_NAMES:
            if self._seen and task in self._seen.due:
                self._open_job.beside.begin(task)
        self.update_all()

    def action_cancel_task(self) -> None:
        """It ends, and begins anew another time."""
        task = self._pointed()
        if task is not None:
            self._open_job.beside.cancel(task)
            self.action_look_again()

    def opened(self, key: str) -> None:
        """Show what a task found, or ask about one thing."""
        kind, _, name = key.partition(" ")
        if kind == "task":
            self._opened ^= {name}
            self.update_all()
        elif self._seen is not None:
            task, _, number = name.partition(" ")
            result = self._seen.results.get(next(t for t in TASK_NAMES if t == task))
            if result is not None and int(number) < len(result.found):
                self._ask(result.found[int(number)])

    def _ask(self, found: Found) -> None:
        """Whether the owner explained what was found; of a finding, whether it is set aside."""
        about = [f"{plain(found.what, 300)}: {plain(found.why, 300)}.", plain(found.advice, 600)]
        words = "\n".join(filter(None, about))
        if found.kind not in {"look", "finding"}:
            self.notify(words, timeout=12, markup=False)
            return
        options = [
            ("explained", "The owner knows what it is for", "it is told no more"),
            ("leave", "Leave it in the list", "nothing is done"),
        ]
        if found.kind == "finding" and not found.of:
            options.insert(0, ("aside", "Set it aside", "moved, not deleted; it can be put back"))
        pick = PickScreen("What does the owner say?", words, options, "leave")
        self.app.push_screen(pick, partial(self._said, found))

    def _said(self, found: Found, what: str | None) -> None:
        job = self._open_job
        if what == "explained":
            explain(job.data_folder, job.job.identity, [found])
            self.action_look_again()
        elif what == "aside" and self.free():
            yes = needing_yes(job.computer, [found.what])
            if yes:
                self.tell("It may be the only copy of something: decide about it with the files.")
                return
            self.begin("setting it aside", lambda: set_aside_found(job, found.what), self._is_aside)

    def _is_aside(self, outcomes: list[Outcome]) -> None:
        for outcome in outcomes:
            done = outcome.result in {"done", "as it was"}
            words = f"{outcome.title}: {'set aside' if done else outcome.note}"
            self.notify(plain(words, 400), markup=False)

    def action_watch(self) -> None:
        """Switch the watch on by the shortest rhythm of the profile, or put it back."""
        job = self._open_job
        stands = any(e.is_open and str(e.ref) == _WATCH for e in job.entries())
        every = shortest(self._seen.rhythms.values()) if self._seen else "monthly"

        def answered(yes: bool | None) -> None:  # noqa: FBT001 - Textual calls it so
            if yes:
                what = "putting the watch back" if stands else "switching the watch on"
                self.begin(what, lambda: watch(job, "" if stands else every), self._is_aside)

        if self.free():
            self.app.push_screen(
                ConfirmScreen(
                    "Put the watch back?" if stands else f"Let it look by itself, {every}?",
                    "A timer of the user's own, never of the system, only while they are logged in."
                    " It reads for a minute and looks what drifted, keeps that for the next visit,"
                    " tells the owner once a due date, and sends nothing.",
                    yes="Put it back" if stands else "Switch it on",
                    no="Leave it",
                ),
                answered,
            )

    def action_trim(self) -> None:
        """Tell the disks what is free, after a question."""

        def answered(yes: bool | None) -> None:  # noqa: FBT001 - Textual calls it so
            if yes:
                job = self._open_job
                ref = SettingRef(area="memory", key="swappiness")
                self.begin(
                    "telling the disk what is free",
                    lambda: trim(job.computer),
                    self._trimmed,
                    asks=asking(job.computer, [ref]),
                )

        if self.free():
            self.app.push_screen(
                ConfirmScreen(
                    "Tell the solid-state disks now what is free on them?",
                    "No file is touched. Where a timer does it weekly it is not needed.",
                    yes="Tell them",
                    no="Leave it",
                ),
                answered,
            )

    def _trimmed(self, action: Action) -> None:
        job = self._open_job
        job.computer.settings.give_back_rights()
        job.keep(actions=(*job.job.actions, action))
        self.notify(action.in_words(), markup=False)

    def commands(self) -> tuple[Command, ...]:
        """For the palette."""
        return (
            Command("All that is due", self.action_all_due, "one after the other", "all-due"),
            Command("End a task", self.action_cancel_task, "and forget it", "cancel-task"),
            Command("Watch", self.action_watch, "a short look by itself", "watch"),
            Command("Trim", self.action_trim, "tell disks what is free", "trim"),
            *super().commands(),
        )
