"""Installed programs: what they hold, when they were used; removing one after a question."""

from rich.text import Text
from textual.widgets import Static

from lumtak.core.actions import Action
from lumtak.core.installed import Installed, Programs, Removal, used_in_words
from lumtak.core.record import NotMeasured
from lumtak.core.setting import SettingRef
from lumtak.core.text import capital, plain
from lumtak.core.units import counted, ram
from lumtak.errors import LumtakError
from lumtak.tui.confirm import ConfirmScreen
from lumtak.tui.keys import with_keys
from lumtak.tui.looking import LookingScreen
from lumtak.tui.pick import PickScreen
from lumtak.tui.theme import Palette
from lumtak.tui.widgets.lines import Line, LineList, column
from lumtak.work.open_job import OpenJob
from lumtak.work.programs import looked_at, programs_of, remove
from lumtak.work.rights import asking
from lumtak.work.storage import known_facts

_NAMED = 6


class ProgramsScreen(LookingScreen):
    """Programs that are installed now.

    Args:
        open_job: the job in which a removal is recorded.
    """

    topic, what = "programs", "what is installed now"

    def __init__(self, open_job: OpenJob) -> None:
        super().__init__(open_job)
        self._found: Programs | None = None

    def action_look_again(self) -> None:
        """What is installed now."""
        self.begin("looking at what is installed", self._look_at_them, self._looked)

    def _look_at_them(self) -> Programs:
        job = self._open_job
        facts = known_facts(job.data_folder, job.computer)
        return programs_of(job.data_folder, job.computer, facts, job.job.profile)

    def _looked(self, found: Programs) -> None:
        self._found = found

    def update_all(self) -> None:
        """As it is now."""
        palette = Palette(self.app)
        self.draw_head(self._open_job.job.computer_name, "programs")
        mine, staying = self._parted()
        whole = ram(sum(p.whole_bytes for p in mine))
        self.query_one("#say", Static).update(
            f"{counted(len(mine), 'program')} that could be removed hold {whole}. Removing one"
            " cannot be put back by Lumtak: the job keeps the list that installs it again."
        )
        lines = [Line(self._row(p, palette), f"program {p.name}") for p in mine]
        lines += self._staying(staying, palette)
        told = [*(self._found.gaps if self._found else ()), *self._gone()]
        lines += [Line(Text(f"   {plain(words, 400)}", style=palette.soft)) for words in told]
        self.query_one(LineList).show(lines)
        self.query_one("#hint", Static).update(
            with_keys(
                self.app,
                "Enter says what removing a program would do, and asks; {look-again} looks again;"
                " Escape goes back.",
            )
        )

    def _parted(self) -> tuple[list[Installed], list[Installed]]:
        """(what could be removed, what stays) of what did not come for others."""
        found = [p for p in self._found.found if not p.auto] if self._found else []
        return [p for p in found if not p.why_not], [p for p in found if p.why_not]

    def _gone(self) -> list[str]:
        """What was removed in this job, each with what installs it again."""
        said = []
        for action in self._open_job.job.actions:
            if action.kind == "remove":
                said += [action.in_words(), *(f"   {line}" for line in action.again)]
        return said

    def _staying(self, kept: list[Installed], palette: Palette) -> list[Line]:
        """What stays, and why."""
        size = ram(sum(p.whole_bytes for p in kept))
        words = f"{counted(len(kept), 'program stays', 'programs stay')} ({size})"
        rows = [Line(self._row(p, palette), f"program {p.name}") for p in kept]
        return self.folded(words, rows, palette)

    def _row(self, one: Installed, palette: Palette) -> Text:
        style = palette.soft if one.why_not else palette.ink
        size = "not known" if isinstance(one.bytes, NotMeasured) else ram(one.whole_bytes)
        text = Text(f"   {size:>10}  ", style=style)
        text.append(column(one.name, 26), style=style if one.why_not else f"bold {palette.ink}")
        text.append(column(used_in_words(one), 20), style=palette.soft)
        notes = [f"stays: {one.why_not}"] if one.why_not else [one.title]
        notes += [f"starts {', '.join(one.starts[:2])}"] if one.starts else []
        text.append("; ".join(notes), style=palette.soft)
        return text

    def opened(self, key: str) -> None:
        """Ask before removing it."""
        one = self._found.find(key.removeprefix("program ")) if self._found else None
        if one is not None and self.free():
            self._ask(one)

    def _ask(self, one: Installed) -> None:
        """Alone, or with what nothing needs then; after that the question itself."""
        wanted = self._wanted([one.name])
        if wanted is None:
            return
        if not wanted.lonely:
            self._ask_for(one, wanted)
            return
        more = f"{counted(len(wanted.lonely), 'package')}, {ram(wanted.lonely_bytes)} more"
        options = (
            ("alone", f"{one.name} alone", ram(wanted.bytes)),
            ("all", "with what nothing needs then", more),
        )

        def picked(which: str | None) -> None:
            names = [one.name, *(wanted.lonely if which == "all" else ())]
            if which and (chosen := self._wanted(names)):
                self._ask_for(one, chosen)

        about = f"Only it needs: {', '.join(wanted.lonely[:_NAMED])}"
        self.app.push_screen(PickScreen(f"Remove {one.name}?", about, options, ""), picked)

    def _wanted(self, names: list[str]) -> Removal | None:
        """What removing these would do; it is said where that is not done."""
        try:
            return looked_at(self._open_job.computer, self._found or Programs(found=()), names)
        except LumtakError as error:
            self.tell(str(error))
            return None

    def _ask_for(self, one: Installed, wanted: Removal) -> None:
        how = f": {one.used_by}" if one.used_by else ""
        what = [
            f"{one.title}. {capital(used_in_words(one))}{how}.",
            wanted.in_words(),
            f"The command: {wanted.command}",
            *(f"To have it again: {line}" for line in wanted.again),
        ]

        def answered(agreed: bool | None) -> None:  # noqa: FBT001 - Textual calls it so
            if agreed:
                computer = self._open_job.computer
                ref = SettingRef(area="services", key=one.name)
                self.begin(
                    f"removing {plain(one.name, 30)}",
                    lambda: self._removed(remove(computer, wanted, [one.title])),
                    self._told,
                    asks=asking(computer, [ref]),
                )

        self.app.push_screen(
            ConfirmScreen(
                f"Remove {', '.join(wanted.names[:_NAMED])}?",
                "\n".join(plain(line, 1500) for line in what),
                yes="Remove it",
                no="Leave it installed",
            ),
            answered,
        )

    def _removed(self, action: Action) -> tuple[Action, Programs]:
        """In the worker: kept with the job, and looked at anew."""
        self._open_job.computer.settings.give_back_rights()
        self._open_job.keep(actions=(*self._open_job.job.actions, action))
        return action, self._look_at_them()

    def _told(self, found: tuple[Action, Programs]) -> None:
        action, self._found = found
        if action.ended:
            self.notify(action.in_words(), markup=False)
        else:
            self.tell(action.in_words())
