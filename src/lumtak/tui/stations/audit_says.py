"""What the audit says above and below its list: the three lines, and what can be done."""

from collections.abc import Sequence

from rich.text import Text
from textual.widgets import Input, Static

from lumtak.core.audit import Audit, Finding, Headline
from lumtak.core.text import plain
from lumtak.tui.stations.audit_disk import DiskStation
from lumtak.tui.stations.audit_rows import found_in_words
from lumtak.tui.theme import Palette
from lumtak.work.audit import headline_now

_LOW = 30


class SayingStation(DiskStation):
    """Headline and hint."""

    def on_mount(self) -> None:
        """Nothing is said yet."""
        self.trail: list[str] = []
        """Links by which jumps began, the last one last."""
        self.matching: Sequence[Finding] = ()
        self.asked = self.later = self.eased = 0
        self.sums = [0.0, 0.0]
        """Bytes and percent of all that is listed."""
        self.problem = ""
        """What is wrong with what is searched for."""
        self.shown: object = None
        self.told: tuple[tuple[object, ...], Headline] | None = None
        """The headline, and what it depends on."""

    def show_headline(self, found: Audit) -> None:
        """What holds it back, what is over its ceiling, what to do first; of now, once changed."""
        told = self.headline_of(found)
        now = "" if told.lines == found.lines else " -now"
        key = (told, self.app.theme, self.app.size.height >= _LOW)
        if key == self.shown:
            return
        self.shown = key
        palette = Palette(self.app)
        lines = [*filter(None, (found.unseen,)), *told.lines]
        text = Text("\n").join(Text(plain(line, 300)) for line in lines)
        beyond = found.bottleneck.not_by_settings if found.bottleneck and not now else ""
        if beyond and self.app.size.height >= _LOW:
            text.append(f"\n{plain(beyond, 400)}", style=f"not bold {palette.soft}")
        self.query_one("#headline", Static).update(text)

    def headline_of(self, found: Audit) -> Headline:
        """Of the audit, or of now where changes are in place; worked out once."""
        desk = self.desk
        applied = frozenset(e.ref for e in desk.entries if e.is_open)
        after = None if desk.provisional else desk.after
        of = (id(found), applied, id(after), desk.owed, desk.job.profile)
        if self.told is None or self.told[0] != of:
            told = Headline(found.lines or (found.headline,), found.first)
            if applied:
                told = headline_now(desk.job, found, after, applied, desk.owed.in_words())
            self.told = of, told
        return self.told[1]

    def hint(self) -> str:
        """What can be done."""
        found = self.desk.job.audit
        if found is None:
            return self.with_keys("Enter makes the audit, 2 goes to the baseline, {help} explains.")
        if self.problem:
            return self.problem
        if self.query_one(Input).value.strip():
            return found_in_words(
                len(self.matching),
                len(found.findings),
                self.sums,
                len(self.desk.job.chosen),
                typing=self.query_one(Input).has_focus,
            )
        if self.desk.nothing_to_gain:
            return self.with_keys("Nothing to gain: 6 goes to the handover. {help} explains.")
        stand = sum(e.is_open for e in self.desk.entries)
        done = f", {stand} done" if stand else ""
        chosen = f"{len(self.desk.job.chosen)} chosen{done} of {self.eased} to ease or set."
        return self.with_keys(
            f"{chosen} Space chooses, Enter explains, {{search}} searches. {{choose-all}} chooses"
            f" all of them.{self._hint_of_more()}"
        )

    def _hint_of_more(self) -> str:
        """The way back after a jump, else the owner's questions."""
        if self.trail:
            return " Backspace goes back."
        if not self.asked:
            return " 4 goes to the plan." if self.desk.job.chosen else ""
        count = "one question" if self.asked == 1 else f"{self.asked} questions"
        later = f" ({self.later} small ones wait)" if self.later else ""
        return f" {{interview}} asks the owner's {count}{later}."
