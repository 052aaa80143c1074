"""A quick look at a computer without a job: what weighs just now, and what that cannot say."""

from typing import ClassVar

from rich.text import Text
from textual.app import ComposeResult
from textual.binding import Binding, BindingType
from textual.widgets import Static

from lumtak.computers.protocol import Computer
from lumtak.core.facts import Facts
from lumtak.core.reading import ConsumerLoad, Reading
from lumtak.core.record import NotMeasured, known
from lumtak.core.sample import consumer_name
from lumtak.core.strip import PieceKind, strips
from lumtak.core.text import plain
from lumtak.core.units import percent, ram
from lumtak.tui.background import WorkingScreen
from lumtak.tui.command import Command
from lumtak.tui.keys import binding, with_keys
from lumtak.tui.theme import FILLS, Palette
from lumtak.tui.widgets.ledger import Ledger
from lumtak.tui.widgets.lines import Line, LineList, wrapped
from lumtak.tui.widgets.live import Live
from lumtak.work.quick import Look, quick_look
from lumtak.work.sampling import take_reading

_SECONDS = 20.0
_BAR, _SCALE = 16, 64
"""Cells of a bar; a quarter of the whole computer fills it."""
_LEGEND: dict[PieceKind, str] = {
    "guarded": "system",
    "ask": "programs and services",
    "cache": "cache (no load)",
    "free": "free",
}


class QuickLookScreen(WorkingScreen):
    """Reads for a short while, then says what was seen; nothing is kept, nothing is touched.

    Args:
        computer: what is looked at.
        keep: whether somebody else closes it; else it is closed when the screen is left.
    """

    CSS_PATH = "aside.tcss"
    BINDINGS: ClassVar[list[BindingType]] = [
        Binding("escape", "back", "Back", show=False),
        binding("look-again", "again"),
        binding("help", "help"),
    ]

    def __init__(self, computer: Computer, *, keep: bool = False) -> None:
        super().__init__()
        self.add_class("aside")
        self._computer, self._keep = computer, keep
        self._reading: Reading | None = None
        self._found: Look | None = None

    def compose(self) -> ComposeResult:
        """Head, the reading as it comes, strips and what was seen, hint."""
        yield Static(id="head", markup=False)
        yield Live("Looking", id="live")
        yield Ledger(id="ledger", legend=_LEGEND)
        yield LineList(id="list")
        yield Static(id="hint", markup=False)

    def on_mount(self) -> None:
        """Look."""
        self.action_again()

    def action_again(self) -> None:
        """Look once more."""
        live = self.query_one(Live)

        def read() -> tuple[Facts, Reading]:
            reading = take_reading(
                self._computer,
                seconds=_SECONDS,
                on_begin=live.follow,
                on_sample=live.note,
                stop=self.stop,
            )
            return self._computer.about.facts(), reading

        if self.begin("looking", read, self._saw):
            live.begin(0.0)
            self.update_all()

    def _saw(self, found: tuple[Facts, Reading]) -> None:
        self._found, self._reading = quick_look(*found), found[1]

    def update_all(self) -> None:
        """Draw everything as it is now."""
        self.draw_head(self._computer.name, "a quick look; nothing is kept or touched")
        live, lines, ledger = self.query_one(Live), self.query_one(LineList), self.query_one(Ledger)
        live.display = bool(self.busy)
        lines.display = ledger.display = not self.busy
        if self._found is not None and self._reading is not None and not self.busy:
            ram_strip, cpu = strips(self._reading, None)
            total = self._reading.ram_total_bytes
            ledger.show(ram_strip, cpu, total_bytes=total, titles=self._found.titles)
            lines.show(seen(self._found, self.size.width, Palette(self.app)))
            self.set_focus(lines)
        self.query_one("#hint", Static).update(
            "Escape ends it."
            if self.busy
            else with_keys(
                self.app,
                "{look-again} looks again; Escape goes back. A job on this computer says what of it"
                " is needed.",
            )
        )

    def on_line_list_selected(self, message: LineList.Selected) -> None:
        """The piece is lit in both strips."""
        self.query_one(Ledger).light(message.key)

    def let_go(self) -> None:
        """The computer, where it is this screen's own."""
        if not self._keep:
            self._computer.close()

    def commands(self) -> tuple[Command, ...]:
        """For the palette."""
        return (
            Command("Look again", self.action_again, "twenty seconds", "look-again"),
            Command("Back", self.action_back, "nothing is kept", "Escape"),
            Command("Explain this screen", self.action_help, "in the words of the work", "help"),
        )

    def action_help(self) -> None:
        """Explain the screen."""
        from lumtak.tui.help import HelpScreen

        self.app.push_screen(HelpScreen("look"))


def seen(found: Look, width: int, palette: Palette) -> list[Line]:
    """Lines: what was measured, the heaviest with their bars, what this cannot say."""
    words = (
        f" CPU {percent(found.cpu_pct)} ± {found.cpu_doubt_pct:.1f}, {percent(found.iowait_pct)}"
        f" waiting for the disk · swap {ram(found.swap_used_bytes)} · {found.seconds:.0f} s, of"
        f" which Lumtak itself took {percent(found.own_pct)} (left out)"
    )
    lines = [Line(Text(words, style=palette.soft))]
    for name, loads in (("Services", found.services), ("Background apps", found.apps)):
        lines += [Line(Text()), Line(Text(f" {name}, the heaviest", style=f"bold {palette.soft}"))]
        lines += [_load(cost, found, palette) for cost in loads]
        if not loads:
            lines.append(Line(Text("   none seen", style=palette.soft)))
    rest = (
        f" Unattributed: {percent(found.unattributed_cpu_pct)} of the CPU and"
        f" {ram(found.unattributed_ram_bytes)}"
    )
    head = Text(" What this cannot say", style=f"bold {palette.soft}")
    lines += [Line(Text()), Line(Text(rest, style=palette.ink)), Line(Text()), Line(head)]
    for limit in found.limits:
        lines += [Line(Text(f"   {part}", style=palette.ink)) for part in wrapped(limit, width - 6)]
    return lines


def _load(cost: ConsumerLoad, found: Look, palette: Palette) -> Line:
    """A service or an app: its bars of RAM and of CPU, each of the whole computer."""
    text = Text("   ")
    share = known(cost.ram_bytes) / found.ram_total_bytes
    memory = "not known" if isinstance(cost.ram_bytes, NotMeasured) else ram(cost.ram_bytes)
    for part, words in ((share, memory), (cost.cpu_pct / 100, percent(cost.cpu_pct))):
        cells = min(_BAR, max(round(part * _SCALE), 1 if part > 0 else 0))
        text.append((FILLS["ease"] * cells).ljust(_BAR), style=palette.kinds["ask"])
        text.append(f"{words:>10}  ", style=palette.ink)
    title = plain(found.titles.get(cost.key, consumer_name(cost.key)), 60)
    text.append(title, style=f"bold {palette.ink}")
    return Line(text, cost.key)
