"""Audit: one weighed list, areas as headings, the explanation under the line."""

from typing import ClassVar

from rich.text import Text
from textual.app import ComposeResult
from textual.binding import Binding, BindingType
from textual.widgets import Static

from lumtak.core.audit import Audit, Finding
from lumtak.core.facts import Setting
from lumtak.core.record import NotMeasured, known
from lumtak.core.setting import AREA_TITLES, AREAS, SHOWS_WORDS, Area, SettingRef, parse_ref
from lumtak.core.text import plain
from lumtak.core.units import percent, ram, signed
from lumtak.errors import LumtakError
from lumtak.tui.stations.base import Station
from lumtak.tui.theme import FILLS, HATCH, STANCE_WORDS, Palette
from lumtak.tui.widgets.lines import Line, LineList, fit

_BAR, _NARROW_BAR = 12, 6
_WIDE = 110
_LIGHT = 0.35
"""Percent of the CPU and of the RAM together: lighter is next to nothing."""
_FOLDED_FROM = 8
_FOLD = "fold:"
_INDENT = 27


class AuditStation(Station):
    """What weighs, whether it is needed, and why."""

    BINDINGS: ClassVar[list[BindingType]] = [Binding("a", "all", "Choose all that is not needed", show=False)]

    def compose(self) -> ComposeResult:
        """Headline and list."""
        yield Static(id="headline", classes="big", markup=False)
        yield LineList(id="list")

    def on_mount(self) -> None:
        """Nothing is opened."""
        self._opened: set[str] = set()
        self._unfolded: set[str] = set()

    def show(self) -> None:
        """The list as it is now."""
        desk, palette = self.desk, Palette(self.app)
        found = desk.job.audit
        headline = self.query_one("#headline", Static)
        if found is None:
            headline.update(
                Text(
                    "There is no audit yet. Enter makes one without weights; a baseline first is better.",
                    style=palette.ink,
                )
            )
            self.query_one(LineList).show([Line(Text("   Make the audit now", style=f"bold {palette.accent}"), "make")])
            return
        headline.update(Text(plain(found.headline, 300)))
        self.query_one(LineList).show(self._lines(found, palette), desk.job.cursor or None)

    def _lines(self, found: Audit, palette: Palette) -> list[Line]:
        lines: list[Line] = []
        chosen = {c.ref for c in self.desk.job.chosen}
        applied = {e.ref for e in self.desk.entries if e.is_open}
        most = max((f.weight.heft for f in found.findings), default=0.0) or 1.0
        for area in AREAS:
            mine = [f for f in found.findings if f.area == area]
            if lines:
                lines.append(Line(Text()))
            lines.append(self._heading(area, mine, palette))
            shown, folded = self._fold(area, mine)
            for finding in shown:
                key = str(finding.ref)
                lines.append(
                    Line(self._row(finding, most, palette, finding.ref in chosen, finding.ref in applied), key)
                )
                if key in self._opened:
                    lines += [Line(text) for text in self._explanation(finding, palette)]
            if folded:
                text = Text(
                    f"     {len(folded)} more that weigh next to nothing and stay as they are: Enter shows them"
                )
                text.stylize(palette.soft)
                lines.append(Line(text, f"{_FOLD}{area}"))
            for gap in found.gaps:
                if gap.area == area:
                    needed = f"; needed: {gap.needed}" if gap.needed else ""
                    lines.append(Line(Text(f"     not read: {gap.reason}{needed}", style=f"italic {palette.soft}")))
        return lines

    def _fold(self, area: Area, mine: list[Finding]) -> tuple[list[Finding], list[Finding]]:
        """(shown, folded): what weighs next to nothing and stays as it is folds into one line, once there is much of it."""
        light = [
            f for f in mine if f.stance in {"guarded", "keep"} and f.weight.heft < _LIGHT and not self._selected(f)
        ]
        if len(light) < _FOLDED_FROM or area in self._unfolded:
            return mine, []
        put_away = {f.key for f in light}
        return [f for f in mine if f.key not in put_away], light

    def _selected(self, finding: Finding) -> bool:
        return str(finding.ref) == self.desk.job.cursor or str(finding.ref) in self._opened

    def _heading(self, area: Area, mine: list[Finding], palette: Palette) -> Line:
        text = Text()
        text.append(f" {AREA_TITLES[area]}", style=f"bold {palette.ink}")
        memory, cpu = sum(known(f.weight.ram_bytes) for f in mine), sum(known(f.weight.cpu_pct) for f in mine)
        if memory or cpu:
            text.append(f"   {ram(memory)}   {percent(cpu)}", style=palette.soft)
        text.append(" " + "─" * max(0, self.app.size.width - text.cell_len - 3), style=palette.rule)
        return Line(text)

    def _row(self, f: Finding, most: float, palette: Palette, chosen: bool, applied: bool) -> Text:  # noqa: FBT001
        wide = self.app.size.width >= _WIDE
        width = _BAR if wide else _NARROW_BAR
        colour = palette.kinds[f.stance]
        mark = "◇" if chosen else HATCH if applied else " "
        text = Text()
        text.append(f" {mark} ", style=f"bold {palette.lit}" if chosen else palette.kinds["ease"])
        cells = round(f.weight.heft / most * width)
        fill = FILLS[f.stance]
        text.append((fill * max(cells, 1 if f.weight.heft > 0 else 0)).ljust(width), style=colour)
        memory = "" if isinstance(f.weight.ram_bytes, NotMeasured) else ram(f.weight.ram_bytes)
        cpu = "" if isinstance(f.weight.cpu_pct, NotMeasured) else percent(f.weight.cpu_pct)
        text.append(f"{memory:>9}{cpu:>8}  ", style=palette.ink)
        room = 24 if wide else 19
        text.append(
            f"{fit(f.title, room)}  ", style=f"bold {palette.ink}" if f.stance in {"ease", "ask"} else palette.soft
        )
        text.append(f"{STANCE_WORDS[f.stance]:<11}", style=colour)
        if f.can_choose and f.proposal:
            text.append(f"{fit(f'{f.value} → {f.proposal}', 17)}", style=palette.ink)
        else:
            text.append(fit(f.value, 17), style=palette.soft)
        if wide:
            text.append(f" {plain(f.reason, 160)}", style=palette.soft)
        return text

    def _explanation(self, f: Finding, palette: Palette) -> list[Text]:
        rows = self._rows(f)
        texts = []
        width = max(30, self.app.size.width - _INDENT - 14)
        for name, value in rows:
            for number, part in enumerate(_wrap(plain(value, 400), width)):
                text = Text()
                text.append(" " * (_INDENT - 14) + "│ ", style=palette.kinds[f.stance])
                text.append(f"{name if number == 0 else '':<13}", style=palette.soft)
                text.append(part, style=palette.ink)
                texts.append(text)
        return texts

    def _rows(self, f: Finding) -> list[tuple[str, str]]:
        """(name, words) of everything known of a finding."""
        rows = [("", f"{f.reason[:1].upper()}{f.reason[1:]}")]
        goes_with = ", ".join(name.partition(":")[2].removeprefix("process/") for name in f.brings)
        rows += [
            ("does", f.does),
            ("starts", f.started_by),
            ("without it", ", ".join(self._stops(f))),
            ("may come back", f.again),
            ("goes with it", goes_with),
            ("ask the owner", f.question),
            (f"if {f.proposal}", self._projection(f) if f.can_choose else ""),
            ("to change it", f.fixed),
            ("figures", f.weight.source),
        ]
        return [(name, words) for name, words in rows if words]

    def _projection(self, f: Finding) -> str:
        """What easing it should save, how good the evidence is, when it shows."""
        weight = f.weight
        saved = (
            "not projected"
            if isinstance(weight.cpu_pct, NotMeasured)
            else f"{signed(-weight.cpu_pct)} ± {weight.cpu_se_pct:.1f} %"
        )
        if not isinstance(weight.ram_bytes, NotMeasured):
            saved += f", {ram(-weight.ram_bytes)}"
        return f"{saved} · {f.grade} · {self._shows(f.ref)} · can be put back any time"

    def _stops(self, f: Finding) -> list[str]:
        """Titles of what stops with it, and the function lost."""
        found = self.desk.job.audit
        others = [found.find(SettingRef(area=f.area, key=key)) for key in f.stops_with] if found else []
        return [o.title for o in others if o] + ([f.stops] if f.stops else [])

    def _shows(self, ref: SettingRef) -> str:
        facts = self.desk.job.facts
        item = facts.find(ref) if facts else None
        return SHOWS_WORDS[item.setting.shows] if item and isinstance(item.setting, Setting) else ""

    def arrive(self) -> None:
        """On the list."""
        self.point_at(self.query_one(LineList))

    def hint(self) -> str:
        """What can be done."""
        job = self.desk.job
        if job.audit is None:
            return "Enter makes the audit; 2 goes to the baseline; ? explains."
        count = sum(f.stance == "ease" and f.can_choose for f in job.audit.findings)
        return f"{len(job.chosen)} chosen; {count} of {len(job.audit.findings)} are not needed. Space chooses, Enter explains, a takes all not needed."

    def on_line_list_selected(self, message: LineList.Selected) -> None:
        """The piece is lit in both strips."""
        message.stop()
        if ":" in message.key and not message.key.startswith(_FOLD):
            self.desk.select(parse_ref(message.key))

    def on_line_list_opened(self, message: LineList.Opened) -> None:
        """Open or close the explanation."""
        message.stop()
        if message.key == "make":
            self.desk.begin("making the audit", self.desk.visit.make_audit, lambda _: None)
            return
        if message.key.startswith(_FOLD):
            self._unfolded.add(message.key.removeprefix(_FOLD))
        else:
            self._opened ^= {message.key}
        self.show()

    def on_line_list_marked(self, message: LineList.Marked) -> None:
        """Choose, or take back."""
        message.stop()
        if message.key == "make" or message.key.startswith(_FOLD) or self._working():
            return
        try:
            self.desk.visit.toggle(parse_ref(message.key))
        except LumtakError as error:
            self.desk.tell(str(error))
            return
        self.desk.update_all()

    def action_all(self) -> None:
        """Choose everything that the profile does not need."""
        if not self._working():
            self.desk.visit.choose_all_eased()
            self.desk.update_all()

    def _working(self) -> bool:
        if self.desk.busy.startswith("applying"):
            self.desk.tell("The plan is being applied; choose again when that has ended.")
            return True
        return False


def _wrap(text: str, width: int) -> list[str]:
    import textwrap

    return textwrap.wrap(text, width) or [""]
