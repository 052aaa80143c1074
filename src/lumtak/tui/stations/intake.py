"""Intake: which computer, what its owner complains of, what it is used for."""

from functools import partial

from rich.text import Text
from textual.app import ComposeResult

from lumtak.computers.protocol import Program
from lumtak.core.facts import facts_for, in_rows
from lumtak.core.felt import COMPLAINTS, Complaint, measures_of
from lumtak.core.owner import FIELDS
from lumtak.core.text import capital, plain
from lumtak.tui.confirm import ConfirmScreen
from lumtak.tui.pick import PickScreen
from lumtak.tui.stations.base import StationView
from lumtak.tui.telling import TellScreen, Told
from lumtak.tui.theme import Palette
from lumtak.tui.widgets.lines import Line, LineList
from lumtak.work.audit import make_audit
from lumtak.work.intake import choose_profile, choose_program, note_complaint
from lumtak.work.owner import note_owner
from lumtak.work.visits import load_of

_NAME = 28
_NO_PROGRAM = "none"


class IntakeStation(StationView):
    """The complaint and profiles to choose from, and facts to read."""

    def compose(self) -> ComposeResult:
        """One list."""
        yield LineList()

    def show(self) -> None:
        """What matters for the complaint, complaint, profiles, the rest of the facts."""
        palette = Palette(self.app)
        job = self.desk.job
        matters = facts_for(job.complaint)
        rows = in_rows(job.facts) if job.facts else []
        first = [row for row in rows if row[0] in matters]
        rest = [row for row in rows if row[0] not in matters]
        lines = [*self._last_visit(palette), *self._complaints(palette)]
        if first:
            head = " What matters for it on this computer"
            lines += [Line(Text()), Line(Text(head, style=f"bold {palette.soft}"))]
            lines += [self._fact(name, value, palette) for name, value in first]
        lines += self._profiles(palette)
        if rest:
            lines += [Line(Text()), Line(Text(" The computer", style=f"bold {palette.soft}"))]
            lines += [self._fact(name, value, palette) for name, value in rest]
        here = f"profile {job.profile.name}" if job.complaint else "complaint everything"
        shown = self.query_one(LineList)
        shown.show(lines, shown.selected or here)

    def _last_visit(self, palette: Palette) -> list[Line]:
        """What became of the visit before, first of all."""
        last = self.desk.open_job.last
        if last is None:
            return []
        mine = self.desk.job.last
        head = Text(" Since the last visit", style=f"bold {palette.soft}")
        rows = [self._fact(n, w, palette) for n, w in last.in_rows(load_of(mine))]
        return [Line(head), *rows, Line(Text())]

    def _complaints(self, palette: Palette) -> list[Line]:
        """What owners come with, the words for it, and the program that is timed."""
        job = self.desk.job
        lines = [Line(Text(" The owner's complaint", style=f"bold {palette.soft}"))]
        for complaint, words in COMPLAINTS.items():
            text = _chosen(words, palette, here=complaint == job.complaint)
            text.append(measures_of(complaint), style=palette.soft)
            lines.append(Line(text, f"complaint {complaint}"))
        told = Text(f"   {'in their words':<{_NAME}}", style=palette.soft)
        told.append(f"“{job.told}”" if job.told else "Enter writes them down", style=palette.ink)
        timed = Text(f"   {'a large program to time':<{_NAME}}", style=palette.soft)
        timed.append(
            plain(job.program, 80) if job.program else "none; Enter names one", style=palette.ink
        )
        owner = Text(f"   {'the owner':<{_NAME}}", style=palette.soft)
        known = [value for n in FIELDS if (value := getattr(job.owner, n))]
        room = max(20, self.app.size.width - _NAME - 7)
        words = plain(" · ".join(known), room) if known else "Enter writes down name and telephone"
        owner.append(words, style=palette.ink)
        return [*lines, Line(told, "told"), Line(timed, "program"), Line(owner, "owner")]

    def _profiles(self, palette: Palette) -> list[Line]:
        job = self.desk.job
        lines = [Line(Text()), Line(Text(" Used for", style=f"bold {palette.soft}"))]
        profiles = self.desk.open_job.data_folder.profiles()
        profiles.setdefault(job.profile.name, job.profile)
        for profile in profiles.values():
            text = _chosen(plain(profile.title, 26), palette, here=profile.name == job.profile.name)
            ceilings = profile.ceilings
            limits = f"ceilings CPU {ceilings.cpu_pct:g} %, RAM {ceilings.ram_pct:g} %"
            text.append(f"{limits:<30}", style=palette.soft)
            text.append(plain(profile.about), style=palette.ink)
            lines.append(Line(text, f"profile {profile.name}"))
        return lines

    @staticmethod
    def _fact(name: str, value: str, palette: Palette) -> Line:
        text = Text()
        text.append(f"   {name:<33}", style=palette.soft)
        text.append(value, style=palette.ink)
        return Line(text)

    def arrive(self) -> None:
        """On the list."""
        self.point_at(self.query_one(LineList))

    def hint(self) -> str:
        """What can be done."""
        return self.with_keys(
            "Enter notes the complaint, or judges by another profile; 2 goes on to the"
            " baseline, {help} explains."
        )

    def on_line_list_opened(self, message: LineList.Opened) -> None:
        """A complaint, its words, a program, another profile."""
        message.stop()
        kind, _, name = message.key.partition(" ")
        match kind:
            case "complaint":
                self._note(next(c for c in COMPLAINTS if c == name))
            case "told":
                self._ask_words()
            case "owner":
                self._ask_owner()
            case "program":
                self._ask_program()
            case _:
                self._judge_by(name)

    def _note(self, complaint: Complaint) -> None:
        note_complaint(self.desk.open_job, complaint)
        self.say(self.Changed())

    # -- the words for it --------------------------------------------------------------------------

    def _ask_words(self) -> None:
        self.app.push_screen(
            TellScreen(
                "What does the owner say?",
                "It is shown with the proof and in the report, beside what was measured.",
                lines=("In their words",),
                choices=(("leave", "Leave it as it is"), ("keep", "Keep these words")),
                values=(self.desk.job.told,),
            ),
            self._said,
        )

    def _said(self, told: Told | None) -> None:
        if told is not None:
            note_complaint(self.desk.open_job, self.desk.job.complaint, told.lines[0])
            self.say(self.Changed())

    # -- the owner ---------------------------------------------------------------------------------

    def _ask_owner(self) -> None:
        owner = self.desk.job.owner
        self.app.push_screen(
            TellScreen(
                "Who brought this computer?",
                "It stands on the sheet and in the report, and nowhere else; lumtak forget erases"
                " it. Any line may stay empty.",
                lines=[capital(words) for words in FIELDS.values()],
                choices=(("leave", "Leave it as it is"), ("keep", "Keep this")),
                values=[getattr(owner, name) for name in FIELDS],
            ),
            self._said_of_owner,
        )

    def _said_of_owner(self, told: Told | None) -> None:
        if told is not None:
            note_owner(self.desk.open_job, **dict(zip(FIELDS, told.lines, strict=True)))
            self.say(self.Changed())

    # -- the large program -------------------------------------------------------------------------

    def _ask_program(self) -> None:
        desk = self.desk
        if desk.free():
            about = desk.open_job.computer.about
            desk.begin("looking for programs", about.programs, self._pick_program)

    def _pick_program(self, programs: tuple[Program, ...]) -> None:
        options = [(_NO_PROGRAM, "none", "no start is timed")]
        options += [(p.path, p.title, p.path) for p in programs]
        self.app.push_screen(
            PickScreen(
                "Which large program is to be timed?",
                "Only what a package brought and nobody but root can change."
                + ("" if programs else " No such program is known here."),
                options,
                self.desk.job.program or _NO_PROGRAM,
            ),
            self._picked,
        )

    def _picked(self, path: str | None) -> None:
        if path is None:
            return
        if path == _NO_PROGRAM:
            choose_program(self.desk.open_job, "")
            self.say(self.Changed())
            return
        self.app.push_screen(
            ConfirmScreen(
                f"Time the start of {plain(path, 60)}?",
                "While a reading is taken it is started twice a minute with --version, by the user"
                " whose settings are looked at, and ended with the reading. What it costs is left"
                " out of the reading.",
                yes="Time it",
                no="Start nothing",
            ),
            partial(self._agreed, path),
        )

    def _agreed(self, path: str, yes: bool | None) -> None:  # noqa: FBT001 - what a question gives
        if yes:
            open_job = self.desk.open_job
            self.desk.begin(
                "looking at the program", lambda: choose_program(open_job, path), lambda _: None
            )

    # -- what it is used for -----------------------------------------------------------------------

    def _judge_by(self, name: str) -> None:
        desk = self.desk
        if name == desk.job.profile.name:
            self.go("baseline")
            return
        profile = desk.open_job.data_folder.profiles()[name]

        def judge() -> None:
            choose_profile(desk.open_job, profile)
            if desk.baseline:
                make_audit(desk.open_job)

        desk.begin("judging by another profile", judge, lambda _: None)


def _chosen(words: str, palette: Palette, *, here: bool) -> Text:
    """A line to choose, and whether it is the one that counts."""
    text = Text()
    text.append(" ◆ " if here else "   ", style=palette.accent)
    text.append(f"{words:<{_NAME}}", style="bold" if here else palette.ink)
    return text
