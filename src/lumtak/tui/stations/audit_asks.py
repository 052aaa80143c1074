"""What the audit asks: the owner's questions, what the shop knows better, what is judged wrong."""

from typing import ClassVar

from textual.binding import BindingType

from lumtak.core.asking import questions
from lumtak.core.audit import Answer, Finding
from lumtak.core.catalogue import Better
from lumtak.tui.interview import InterviewScreen
from lumtak.tui.keys import binding
from lumtak.tui.stations.base import StationView
from lumtak.tui.telling import TellScreen, Told
from lumtak.work.audit import keep_answers, say_wrong, teach, what_runs

_SHOWN = 4
"""Items of a question of which is told what runs."""
_TAUGHT: dict[str, Better] = {"keep": "keep", "demand": "demand", "off": "off"}


class AskingStation(StationView):
    """Keys that ask somebody, or take somebody's word, about the finding under the cursor."""

    BINDINGS: ClassVar[list[BindingType]] = [
        binding("interview", "interview"),
        binding("teach", "teach"),
        binding("wrong", "wrong"),
    ]

    def action_interview(self) -> None:
        """Ask what only the owner can know."""
        found = self.desk.job.audit
        asked, _ = questions(found) if found else ((), ())
        if not asked:
            self.desk.tell("There is nothing to ask the owner.")
        elif not self._working() and self.desk.free():
            open_job = self.desk.open_job
            self.desk.begin(
                "looking at what runs",
                lambda: what_runs(open_job, [f.ref for q in asked for f in q.about[:_SHOWN]]),
                lambda seen: self.app.push_screen(InterviewScreen(asked, seen), self._answered),
            )

    def _answered(self, answers: dict[str, Answer | None] | None) -> None:
        if answers:
            self.desk.begin(
                "judging by the answers",
                lambda: keep_answers(self.desk.open_job, answers),
                lambda _: None,
            )

    def _working(self) -> bool:
        if self.desk.doing == "applying":
            self.desk.tell("The plan is being applied; choose again when that has ended.")
            return True
        return False

    # -- what the shop knows better ----------------------------------------------------------------

    def _finding(self) -> Finding | None:
        """Under the cursor."""
        found = self.desk.job.audit
        return found.by_consumer.get(self.desk.job.cursor) if found else None

    def action_teach(self) -> None:
        """Let the shop know what an item is for that nobody knows."""
        finding = self._finding()
        if finding is None or finding.stance != "ask":
            self.desk.tell("Only an item with the stance ask can be taught: choose one first.")
        elif not self._working():
            self.app.push_screen(
                TellScreen(
                    f"What is {finding.title} for?",
                    f"It is {finding.ref}. {finding.why} What is said here counts on every"
                    " computer of this shop; `lumtak knowledge check` shows what it changes.",
                    lines=("It is for", "Without it"),
                    choices=(
                        ("leave", "Not known"),
                        ("keep", "Keep it"),
                        ("demand", "Start on demand"),
                        ("off", "It may go"),
                    ),
                ),
                lambda told: self._taught(finding, told),
            )

    def _taught(self, finding: Finding, told: Told | None) -> None:
        if told is None:
            return
        title, stops = told.lines
        self.desk.begin(
            "judging by what was taught",
            lambda: teach(self.desk.open_job, finding, title, stops, _TAUGHT[told.choice]),
            lambda _: None,
        )

    def action_wrong(self) -> None:
        """Keep that this finding is wrong."""
        finding = self._finding()
        if finding is None:
            self.desk.tell("Choose the line that is wrong first.")
            return
        self.app.push_screen(
            TellScreen(
                f"Was it wrong to say “{finding.stance}” of {finding.title}?",
                f"It was said: {finding.why} What you say is kept with the job, and shown"
                " wherever this item comes up again.",
                lines=("What is right, in a few words",),
                choices=(("leave", "It was right"), ("wrong", "It was wrong")),
            ),
            lambda told: self._said_wrong(finding, told),
        )

    def _said_wrong(self, finding: Finding, told: Told | None) -> None:
        if told is not None:
            self.desk.begin(
                "keeping that it was wrong",
                lambda: say_wrong(self.desk.open_job, finding, told.lines[0]),
                lambda _: None,
            )
