"""Audit: one weighed list, areas as headings, the explanation under the line.

Search, jumps, the owner's questions.
"""

from collections.abc import Iterable, Sequence
from functools import partial
from typing import ClassVar

from rich.text import Text
from textual.app import ComposeResult
from textual.binding import Binding, BindingType
from textual.containers import Horizontal
from textual.widgets import Input, Static

from lumtak.core.asking import questions
from lumtak.core.audit import Audit, Finding
from lumtak.core.facts import Gap, Setting
from lumtak.core.record import known
from lumtak.core.setting import AREAS, Area, parse_ref
from lumtak.core.sift import sift
from lumtak.core.stance import PROPOSED
from lumtak.core.text import plain
from lumtak.core.units import ram
from lumtak.errors import LumtakError
from lumtak.tui.keys import binding, pressed_for
from lumtak.tui.stations.audit_rows import (
    GO,
    Pen,
    explanation,
    fold,
    heading,
    memory_sum,
    row,
    rows_of,
)
from lumtak.tui.stations.audit_says import SayingStation
from lumtak.tui.theme import WIDE, Palette
from lumtak.tui.widgets.lines import Line, LineList
from lumtak.tui.widgets.stances import Stances
from lumtak.work.audit import choose_all_eased, make_audit, toggle

_FOLD = "fold:"
_LOW = 30
_PLAN = "plan"
"""Where a jump from the plan goes back to."""
_MAKE = "make"


class AuditStation(SayingStation):
    """What weighs, whether it is needed, and why."""

    BINDINGS: ClassVar[list[BindingType]] = [
        binding("search", "search"),
        binding("choose-all", "all"),
        Binding("backspace", "back", "Back to where the jump began", show=False),
    ]

    def compose(self) -> ComposeResult:
        """Headline, search, list."""
        yield Static(id="headline", classes="big", markup=False)
        with Horizontal(id="sieve"):
            yield Static(" /", classes="soft", markup=False)
            yield Input(id="words", compact=True, select_on_focus=False)
            yield Stances(id="stances")
        yield LineList(id="list")

    def on_mount(self) -> None:
        """Nothing is opened."""
        lines = self.query_one(LineList)
        lines.follow, lines.at_once = self._follow, self._search_at_once
        self._opened: set[str] = set()
        self._unfolded: set[str] = set()
        self._drawn: tuple[object, ...] = ()
        self._audit: Audit | None = None
        self._most = 1.0
        self._line_of: dict[int, Line] = {}
        self._first: frozenset[str] = frozenset()
        """What is asked about now: it is never folded away."""
        self._pen: Pen | None = None
        self._under: dict[str, int] = {}
        """Lines of each explanation that is open."""

    # -- drawing -----------------------------------------------------------------------------------

    def show(self) -> None:
        """The list as it is now.

        Only what is seen is drawn, and lines are gathered anew only where they changed.
        """
        desk, palette = self.desk, Palette(self.app)
        found = desk.job.audit
        self.query_one("#sieve").display = found is not None
        lines = self.query_one(LineList)
        if found is None:
            self._drawn, self._audit, self.shown = (), None, None
            self.query_one("#headline", Static).update(
                "There is no audit yet. Enter makes one without measured loads; take the baseline"
                " first if you can."
            )
            lines.show([Line(Text("   Make the audit now", style=f"bold {palette.accent}"), _MAKE)])
            return
        if self._audit is not found:
            self._take(found)
        old = self._pen
        self._pen = Pen(
            palette=palette,
            width=self.app.size.width,
            most=self._most,
            chosen=frozenset(c.ref for c in desk.job.chosen),
            applied=frozenset(e.ref for e in desk.entries if e.is_open),
        )
        self.show_headline(found)
        self._show_list(found, self.query_one(Input).value, old)

    def _show_list(self, found: Audit, words: str, old: Pen | None) -> None:
        """Gather the lines anew where what they depend on changed, and draw those that look
        otherwise.
        """
        pen, lines = self._pen, self.query_one(LineList)
        if pen is None:
            return
        asked_for = "chosen" in words or "changed" in words
        marks = (pen.chosen, pen.applied) if asked_for else ()
        shape = (frozenset(self._opened), frozenset(self._unfolded), pen.width)
        of_list = (id(found), *shape, self.app.theme, marks, bool(words.strip()))
        drawn = (*of_list, words)
        if drawn == self._drawn:
            lines.renew(map(str, pen.differs(old)))
            return
        before, listed = self.matching, self._drawn[:-1]
        self._drawn = drawn
        self._sift(found, words)
        if old is None or not pen.draws_like(old):
            lines.renew()
        elif of_list == listed and self.matching == before:
            return  # another letter that lets the same through
        here = self.desk.job.cursor or self.headline_of(found).first
        lines.show(self._lines(found, bool(words.strip())), here or None)

    def _take(self, found: Audit) -> None:
        """Another audit: count anew."""
        self._audit = found
        self._line_of = {id(f): Line(self._row, f.consumer) for f in found.findings}
        self._most = max((f.weight.heft for f in found.findings), default=0.0) or 1.0
        asked, later = questions(found)
        self.asked, self.later = sum(not q.answer for q in asked), len(later)
        self._first = frozenset(f.consumer for q in asked for f in q.about)
        self.eased = sum(f.stance in PROPOSED and f.can_choose for f in found.findings)
        self.query_one(Stances).count(found.findings)
        wide = self.app.size.width >= WIDE
        self.query_one(Input).placeholder = (
            "search: any word, services, ask, from:vendor, cpu>1, ram>100" if wide else "search"
        )

    def _sift(self, found: Audit, words: str) -> None:
        self.problem, self.matching = "", found.findings
        self.query_one(Stances).light(words.lower().split())
        if not words.strip() or self._pen is None:
            return
        try:
            self.matching = sift(found, words, chosen=self._pen.chosen, changed=self._pen.applied)
        except LumtakError as error:
            self.problem = str(error)

    def _lines(self, found: Audit, sifted: bool) -> list[Line]:  # noqa: FBT001
        self.sums = [0.0, 0.0]
        by_area: dict[Area, list[Finding]] = {area: [] for area in AREAS}
        for finding in self.matching:
            by_area[finding.area].append(finding)
        lines: list[Line] = []
        for area, mine in by_area.items():
            gaps = [] if sifted else [g for g in found.gaps if g.area == area]
            if mine or gaps:
                lines += [Line(Text())] if lines else []
                lines += self._area_lines(area, mine, gaps, sifted=sifted)
        if not lines:
            nothing = "   Nothing here matches. Escape shows all again."
            lines.append(Line(Text(nothing, style=Palette(self.app).soft)))
        return lines

    def _area_lines(
        self, area: Area, mine: list[Finding], gaps: list[Gap], *, sifted: bool
    ) -> list[Line]:
        """An area: heading, rows, what is folded, what could not be read."""
        soft = Palette(self.app).soft
        lines = [Line(self._heading(area, mine))]
        if area == "memory" and not sifted:
            lines += self._memory()
        whole = sifted or area in self._unfolded
        chosen = (str(c.ref) for c in self.desk.job.chosen)
        first = self._audit.first if self._audit else ""
        stay = {self.desk.job.cursor, first, *self._opened, *self._first, *chosen}
        shown, folded = (mine, []) if whole else fold(mine, stay)
        lines += self._rows(shown)
        if folded:
            words = f"     {len(folded)} more, small or not known, left alone: Enter shows them"
            lines.append(Line(Text(words, style=soft), f"{_FOLD}{area}"))
        for gap in gaps:
            needed = f"; needed: {gap.needed}" if gap.needed else ""
            words = plain(f"     not read: {gap.reason}{needed}", 300)
            lines.append(Line(Text(words, style=f"italic {soft}")))
        return lines

    def _heading(self, area: Area, mine: list[Finding]) -> Text:
        note = ""
        if area == "effects":
            note = self._of_effects()
        if area == "power":
            note = "◆ in force  ▸ wanted by the profile"
        if area == "storage":
            note = self._of_disk(mine)
        if self._pen is None or self._audit is None:
            return Text()
        memory, cpu = self._audit.sums(mine)
        self.sums = [self.sums[0] + memory, self.sums[1] + cpu]
        return heading(area, (memory, cpu), self._pen, note)

    def _of_effects(self) -> str:
        """What all of them cost at most, and which of them the profile keeps."""
        found, kept = self.desk.job.audit, self.desk.job.profile.effects.keep
        most = f"drawn: at most {found.drawing.words}" if found and found.drawing else ""
        keeps = f"the profile keeps {', '.join(kept)}" if kept else ""
        return "; ".join(filter(None, (most, keeps)))

    def _of_disk(self, mine: list[Finding]) -> str:
        """How much may go, and how much of it is known."""
        held = sum(known(f.weight.disk_bytes) for f in mine)
        if not held:
            return self.with_keys("{disk} looks through the disk")
        return f"{ram(held)} in all"

    def _memory(self) -> list[Line]:
        reading = self.desk.after or self.desk.baseline
        if reading is None or self._pen is None:
            return []
        return [Line(text) for text in memory_sum(self.desk.job, reading, self._pen)]

    def _rows(self, findings: Iterable[Finding]) -> list[Line]:
        line_of = self._line_of
        if not self._opened:
            return [line_of[id(f)] for f in findings]
        lines = []
        for finding in findings:
            lines.append(line_of[id(finding)])
            if finding.consumer in self._opened:
                lines += self._explained(finding)
        return lines

    def _explained(self, finding: Finding) -> list[Line]:
        """The lines under a finding that is open."""
        if self._pen is None:
            return []
        folder = self.desk.open_job.data_folder
        rows = rows_of(finding, self.desk.job, self.desk.baseline, folder.advice, folder.wrongs)
        under = [Line(text, to) for text, to in explanation(finding, rows, self._pen)]
        self._under[finding.consumer] = len(under)
        return under

    def _row(self, address: str) -> Text:
        if self._audit is None or self._pen is None:
            return Text()
        finding = self._audit.by_consumer[address]
        plans: Sequence[str] = ()
        if finding.area == "power" and self.desk.job.facts:
            item = self.desk.job.facts.find(finding.ref)
            plans = item.setting.values if item and isinstance(item.setting, Setting) else ()
        return row(finding, self._pen, plans)

    # -- what is said ------------------------------------------------------------------------------

    def arrive(self) -> None:
        """On the list."""
        self.point_at(self.query_one(LineList))

    # -- search ------------------------------------------------------------------------------------

    def action_search(self) -> None:
        """Into the search."""
        if self.desk.job.audit is not None:
            self.point_at(self.query_one(Input))

    def _search_at_once(self, key: str) -> bool:
        """Before the next key is looked at: it is the first letter."""
        if key != pressed_for(self.app, "search"):
            return False
        self.action_search()
        return True

    def on_input_changed(self, event: Input.Changed) -> None:
        """The list follows as it is typed."""
        event.stop()
        self.show()
        self.say(self.Hinted())

    def on_input_submitted(self, event: Input.Submitted) -> None:
        """Into what was found."""
        event.stop()
        self.arrive()

    def escape(self) -> bool:
        """Show all again, or close the explanations; whether there was anything to end."""
        words = self.query_one(Input)
        if words.value or words.has_focus:
            words.value = ""
            self.arrive()
            self.call_after_refresh(self.query_one(LineList).go_to, self.desk.job.cursor)
            return True
        if self._opened:
            self._opened.clear()
            self.show()
            return True
        return False

    def on_stances_clicked(self, message: Stances.Clicked) -> None:
        """Only these, or all again."""
        message.stop()
        words = self.query_one(Input)
        given = words.value.split()
        words.value = (
            " ".join(w for w in given if w != message.stance)
            if message.stance in given
            else " ".join([*given, message.stance])
        )
        words.cursor_position = len(words.value)

    # -- the list ----------------------------------------------------------------------------------

    def _follow(self, key: str) -> None:
        """The piece is lit in both strips."""
        if not key.startswith((_FOLD, GO)) and key != _MAKE:
            self.pick(parse_ref(key))

    def on_line_list_opened(self, message: LineList.Opened) -> None:
        """Open or close the explanation, or follow where the line leads."""
        message.stop()
        key = message.key
        if key == _MAKE:
            self.desk.begin(
                "making the audit", partial(make_audit, self.desk.open_job), lambda _: None
            )
        elif key.startswith(GO):
            self.trail.append(key)
            self._jump(key.removeprefix(GO).rpartition("@")[0])
        else:
            if key.startswith(_FOLD):
                self._unfolded.add(key.removeprefix(_FOLD))
            else:
                self._opened ^= {key}
            self.show()
            if key in self._opened:
                self.query_one(LineList).reveal_under(self._under.get(key, 0))

    def _jump(self, address: str) -> None:
        """To that item, with its explanation."""
        words = self.query_one(Input)
        found = self.desk.job.audit
        if words.value and found and found.by_consumer.get(address) not in self.matching:
            with words.prevent(Input.Changed):
                words.value = ""
        self._opened.add(address)
        self.pick(parse_ref(address))
        self.show()
        self.query_one(LineList).go_to(address)
        self.say(self.Hinted())

    def explain(self, address: str) -> None:
        """To that item from another station; Backspace goes back there."""
        self.trail.append(_PLAN)
        self._jump(address)

    def action_back(self) -> None:
        """To the link by which the last jump began."""
        if not self.trail:
            return
        link = self.trail.pop()
        if link == _PLAN:
            self.go("plan")
            return
        self._jump(link.rpartition("@")[2])
        self.query_one(LineList).go_to(link)

    def on_line_list_marked(self, message: LineList.Marked) -> None:
        """Choose, or take back."""
        message.stop()
        if message.key == _MAKE or message.key.startswith((_FOLD, GO)) or self._working():
            return
        try:
            toggle(self.desk.open_job, parse_ref(message.key))
        except LumtakError as error:
            self.desk.tell(str(error))
            return
        self.say(self.Changed())

    def action_all(self) -> None:
        """Choose everything shown that the profile does not need; once more takes it back."""
        if not self._working():
            choose_all_eased(self.desk.open_job, self.matching)
            self.say(self.Changed())
