"""Deciding together: the owner's files one at a time, for two in front of the screen."""

from collections.abc import Collection
from functools import partial
from typing import ClassVar

from textual import work
from textual.app import ComposeResult
from textual.binding import Binding, BindingType
from textual.containers import Horizontal
from textual.widgets import Button, Input, Static

from lumtak.core.deciding import (
    Decided,
    Decision,
    Elsewhere,
    Thing,
    latest,
    leaving_one,
    may_be_alone,
    put_off,
    stays_of_each,
    sums,
    to_go,
    undecided,
)
from lumtak.core.deciding_rules import by_rule
from lumtak.core.text import plain
from lumtak.core.units import counted, ram
from lumtak.errors import LumtakError
from lumtak.journal import Outcome
from lumtak.tui.background import WorkingScreen
from lumtak.tui.command import Command
from lumtak.tui.confirm import ConfirmScreen
from lumtak.tui.deciding_rows import (
    ELSEWHERE,
    about,
    disk_lines,
    ended_words,
    figures,
    lines_of,
)
from lumtak.tui.help import HelpScreen
from lumtak.tui.keys import binding, with_keys
from lumtak.tui.pick import PickScreen
from lumtak.tui.theme import WIDE, Palette
from lumtak.tui.widgets.buttons import BESIDE, Beside
from lumtak.tui.widgets.lines import LineList
from lumtak.work.open_job import OpenJob
from lumtak.work.owned import marked, said_of
from lumtak.work.places import results_folder
from lumtak.work.rights import asking
from lumtak.work.sitting import (
    Sitting,
    say,
    say_marks,
    set_aside_as_said,
    sit_down,
    unsay,
    write_lists,
)

_BUTTONS: dict[str, Decision] = {"stays": "keep", "goes": "aside", "put-off": "later"}


class DecidingScreen(Beside, WorkingScreen):
    """One thing after another.

    Args:
        open_job: with it everything that is said is kept.
    """

    CSS_PATH = "deciding.tcss"
    BINDINGS: ClassVar[list[BindingType]] = [
        Binding("escape", "close", "Back", show=False),
        Binding("backspace", "take_back", "Take the last answer back", show=False),
        *BESIDE,
        binding("stays", "say('keep')"),
        binding("goes", "say('aside')"),
        binding("put-off", "say('later')"),
        binding("rule", "rule"),
        binding("export", "export"),
        binding("help", "help"),
    ]

    def __init__(self, open_job: OpenJob) -> None:
        super().__init__()
        self.add_class("deciding")
        self._open_job = open_job
        self._sitting: Sitting | None = None
        self._rule = ""
        self._said: list[tuple[str, Decided | None]] = []
        """What was answered in this sitting, oldest first: the thing, and what was said before."""

    def compose(self) -> ComposeResult:
        """Head, the disk, the thing in large, answers, what stands with it."""
        yield Static(id="head", markup=False)
        yield Static(id="disk", markup=False)
        with Horizontal(id="big"):
            yield Static(id="size", markup=False)
            yield Static(id="about", markup=False)
        with Horizontal(classes="acts"):
            yield Button("It stays", id="stays", compact=True)
            yield Button("Set it aside", id="goes", compact=True)
            yield Button("Later", id="put-off", compact=True)
            yield Button("Set aside now", id="now", compact=True)
        yield Input(id="words", compact=True, placeholder="a rule: film >1g older>365")
        yield LineList(id="list")
        yield Static(id="hint", markup=False)

    def on_mount(self) -> None:
        """Look at what there is."""
        for button in self.query(Button):
            button.active_effect_duration = 0
        open_job = self._open_job
        self.begin(
            "looking at what there is",
            lambda: sit_down(open_job, self._progress, self.stop),
            self._sat_down,
        )
        self.update_all()

    def _progress(self, words: str) -> None:
        """From the worker, about four times a second."""
        self.busy = words
        self.app.call_from_thread(self.begun)

    def _sat_down(self, sitting: Sitting) -> None:
        self._sitting = sitting
        self.set_focus(self.query_one("#stays"))

    def begun(self) -> None:
        """See `WorkingScreen.begun`: the head says it."""
        self.draw_head(self._open_job.job.computer_name, "the owner's files")

    # -- what lies before them ---------------------------------------------------------------------

    @property
    def _decided(self) -> dict[str, Decided]:
        return latest(self._open_job.job.decided)

    @property
    def _going(self) -> list[str]:
        return list(to_go(self._decided, self._sitting.things)[0]) if self._sitting else []

    def _meant(self) -> list[Thing]:
        """What the next answer is about: one thing, or all that a rule means."""
        if self._sitting is None:
            return []
        if self._rule:
            return by_rule(self._sitting.things, self._rule, self._sitting.now)
        found, decided = self._sitting.things, self._decided
        return (undecided(found, decided) or put_off(found, decided))[:1]

    def update_all(self) -> None:
        """As it is now."""
        self.begun()
        sitting, palette = self._sitting, Palette(self.app)
        if sitting is None:
            return
        made, meant = sums(sitting.things, self._decided), self._meant()
        going = sum(made.get("aside", ()))
        width = max(30, self.size.width - 2)
        self.query_one("#disk", Static).update(disk_lines(sitting, going, width, palette))
        whole = sum(thing.bytes for thing in meant)
        self.query_one("#size", Static).update(figures(whole) if meant else "")
        words = about(meant, self._rule, sitting, palette)
        left = len(undecided(sitting.things, self._decided))
        if not meant:
            words = ended_words(made, palette)
        self.query_one("#about", Static).update(words)
        for button in self.query(Button):
            button.disabled = not (going if button.id == "now" else meant)
        self._show_list(sitting, meant, palette)
        self.query_one("#hint", Static).update(
            with_keys(
                self.app,
                f"{left} of {len(sitting.things)} to decide. {{stays}} it stays, {{goes}} it goes,"
                " {put-off} later; {rule} types a rule; Backspace takes back; Escape ends.",
            )
        )
        if isinstance(self.focused, Button) and self.focused.disabled:
            self.set_focus(self.query_one("#now" if going else "#list"))

    def _show_list(self, sitting: Sitting, meant: list[Thing], palette: Palette) -> None:
        """Everything by folder and kind, or all that a rule means."""
        here = meant[0].path if meant and not self._rule else ""
        found = meant if self._rule else sitting.things
        lines = lines_of(found, self._decided, sitting, self.size.width >= WIDE, here, palette)
        self.query_one(LineList).show(lines, here or None)

    # -- answers -----------------------------------------------------------------------------------

    def on_button_pressed(self, event: Button.Pressed) -> None:
        """That answer."""
        if event.button.id == "now":
            self._ask_elsewhere()
        else:
            self.action_say(_BUTTONS[event.button.id or ""])

    def action_say(self, decision: Decision) -> None:
        """The answer about what lies before them."""
        meant = self._meant()
        if not meant or self._sitting is None or self.busy:
            return
        if decision != "aside":
            self._keep(meant, decision, ())
        elif self._rule:
            self._rule_goes(self._sitting, meant)
        else:
            self._one_goes(self._sitting, meant[0])

    def _one_goes(self, sitting: Sitting, thing: Thing) -> None:
        groups = sitting.by_name.get(thing.path, [])
        if not stays_of_each(thing.path, self._going, groups):
            self.tell("Nothing would stay of its content, and one of its copies always stays.")
            return
        if thing.path not in sitting.alone:
            self._keep([thing], "aside", ())
            return
        told = may_be_alone(sitting.alone[thing.path], thing.path)
        self.app.push_screen(
            ConfirmScreen(
                "Set it aside all the same?",
                f"{plain(thing.path, 200)} {told}\nIt is moved and not deleted.",
                yes="It goes all the same",
                no="It stays",
            ),
            lambda yes: self._keep([thing], "aside", [thing.path]) if yes else None,
        )

    def _rule_goes(self, sitting: Sitting, meant: list[Thing]) -> None:
        """All that a rule means, without what needs a yes of its own and the last of each copy."""
        left = leaving_one(meant, sitting.groups, self._going)
        left = [t for t in left if t.path not in sitting.alone]
        if not left:
            self.tell("Nothing of this goes by a rule: an only copy, or the last of its content.")
            return
        size = ram(sum(t.bytes for t in left))
        more = len({t.path for t in meant}.difference(self._going)) - len(left)
        stays = (
            f"\n{more} stay: the last of a content, or what may be an only copy." if more else ""
        )
        self.app.push_screen(
            ConfirmScreen(
                f"Is all that this rule means to go? {self._rule}",
                f"{counted(len(left), 'thing')}, {size}.{stays}",
                yes=f"All {len(left)} go",
                no="Not by a rule",
            ),
            lambda yes: self._keep(left, "aside", ()) if yes else None,
        )

    def _keep(self, meant: list[Thing], decision: Decision, agreed: Collection[str]) -> None:
        before, open_job = self._decided, self._open_job
        self._said += [(thing.path, before.get(thing.path)) for thing in meant]
        now = open_job.computer.clock.wall()
        say(open_job, said_of(meant, decision, now, rule=self._rule, agreed=agreed))
        if decision == "aside":
            self._mark(meant, agreed)
        self._rule = ""
        self.update_all()

    @work(thread=True, exit_on_error=False, group="marks")
    def _mark(self, meant: list[Thing], agreed: Collection[str]) -> None:
        """What is to go is read for its mark beside the answers, which wait for nothing."""
        try:
            found = marked(self._open_job.computer, meant, agreed)
        except LumtakError as error:
            self.app.call_from_thread(self.tell, str(error))
            return
        self.app.call_from_thread(say_marks, self._open_job, found)

    def action_take_back(self) -> None:
        """The last answer does not count."""
        if self._rule:
            self._rule = ""
        elif self._said:
            unsay(self._open_job, *self._said.pop())
        self.update_all()

    # -- a rule ------------------------------------------------------------------------------------

    def action_rule(self) -> None:
        """Into the line for it."""
        if self._sitting is not None:
            words = self.query_one(Input)
            words.add_class("-typing")
            words.value = ""
            self.set_focus(words)

    def on_input_submitted(self, event: Input.Submitted) -> None:
        """What it means is shown before anything is said."""
        self._end_typing()
        sitting = self._sitting
        try:
            found = by_rule(sitting.things, event.value, sitting.now) if sitting else []
        except LumtakError as error:
            self.tell(str(error))
            return
        if not found:
            self.tell(f"Nothing is as this rule says: {event.value}")
            return
        self._rule = event.value
        self.update_all()
        self.set_focus(self.query_one("#stays"))

    def _end_typing(self) -> None:
        self.query_one(Input).remove_class("-typing")
        self.set_focus(self.query_one("#stays"))

    def action_close(self) -> None:
        """The innermost thing first."""
        if self.query_one(Input).has_class("-typing"):
            self._end_typing()
        elif self._rule:
            self._rule = ""
            self.update_all()
        else:
            self.action_back()

    # -- setting aside -----------------------------------------------------------------------------

    def _ask_elsewhere(self) -> None:
        self.app.push_screen(
            PickScreen(
                "Does what goes exist anywhere else?",
                "The owner's answer is kept with it. It is moved and not deleted, and can be put"
                " back until it is emptied.",
                ELSEWHERE,
                "",
            ),
            self._ask_now,
        )

    def _ask_now(self, elsewhere: str | None) -> None:
        sitting = self._sitting
        said = next((key for key, _, _ in ELSEWHERE if key == elsewhere), None)
        if said is None or sitting is None:
            return
        going = sums(sitting.things, self._decided).get("aside", [])
        self.app.push_screen(
            ConfirmScreen(
                f"Set {counted(len(going), 'thing')} aside now?",
                f"{ram(sum(going))}. Nothing is deleted, and nothing is free until it is emptied."
                " It can be put back one by one, or all at once.",
                yes="Set aside",
                no="Not now",
            ),
            partial(self._set_aside, said),
        )

    def _set_aside(self, elsewhere: Elsewhere, yes: bool | None) -> None:  # noqa: FBT001
        open_job = self._open_job

        def work() -> tuple[list[Outcome], Sitting]:
            done = set_aside_as_said(open_job, elsewhere)
            return done, sit_down(open_job, self._progress, self.stop)

        if yes:
            asks = asking(open_job.computer, [])
            self.begin("setting aside", work, self._were_set_aside, asks=asks)

    def _were_set_aside(self, found: tuple[list[Outcome], Sitting]) -> None:
        outcomes, self._sitting = found
        bad = [o for o in outcomes if o.result not in {"done", "as it was"}]
        for outcome in bad:
            self.tell(f"{outcome.title}: {outcome.note}")
        if len(bad) < len(outcomes):
            self.notify(f"{counted(len(outcomes) - len(bad), 'change')} made.", markup=False)

    # -- the rest ----------------------------------------------------------------------------------

    def action_export(self) -> None:
        """The list to take home, as PDF and CSV."""
        sitting, open_job = self._sitting, self._open_job
        if sitting is None:
            return
        folder = results_folder(open_job.data_folder.settings.report_folder)
        self.begin(
            "writing the list",
            lambda: write_lists(open_job, sitting, folder),
            lambda paths: self.notify(f"Written: {', '.join(map(str, paths))}", markup=False),
        )

    def commands(self) -> tuple[Command, ...]:
        """For the palette."""
        return (
            Command("It stays", partial(self.action_say, "keep"), "what lies before you", "stays"),
            Command("It goes", partial(self.action_say, "aside"), "set aside later", "goes"),
            Command("Later", partial(self.action_say, "later"), "not now", "put-off"),
            Command("Type a rule", self.action_rule, "the answer counts for all of it", "rule"),
            Command("Write the list", self.action_export, "PDF and CSV to take home", "export"),
            Command("Back", self.action_back, "to the job; all is kept", "Escape"),
            Command("Explain this screen", self.action_help, "in the words of the work", "help"),
        )

    def action_help(self) -> None:
        """Explain the screen."""
        self.app.push_screen(HelpScreen("deciding"))
