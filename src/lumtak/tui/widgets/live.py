"""A reading while it is taken.

Its load as it comes, how long it lasts still, and how sure the means are already.
"""

import math
import threading
import time

from rich.text import Text
from textual.app import ComposeResult
from textual.containers import Vertical
from textual.message import Message
from textual.widgets import Static

from lumtak.core.means import half_width
from lumtak.core.sample import Sample, series_of
from lumtak.core.units import percent, ram, span
from lumtak.core.window import Window
from lumtak.tui.theme import Palette
from lumtak.tui.widgets.trace import Trace
from lumtak.work.sampling import Precision

_REDRAW_EVERY_S = 0.1
_SLOW_S, _FIRST = 0.5, 10
"""Drawing disturbs what is measured: after the first samples of a real computer, every other one is
drawn."""
_HALF = 20
_WANTED_CELLS = 3


class Live(Vertical):
    """Follows the window that a thread fills, told of each sample (`note`).

    Drawn as seldom as will do, and only where it changed.
    """

    DEFAULT_CSS = (
        "Live { height: auto; } Live Static { height: 1; padding: 0 2; } Live #live-sure { height:"
        " 4; } Live Trace { height: 34vh; }"
    )

    class Sampled(Message):
        """Samples came that are not drawn yet."""

    def __init__(self, what: str, *, id: str | None = None) -> None:  # noqa: A002 - Textual's name
        super().__init__(id=id)
        self._what = what
        self._lock = threading.Lock()
        self._begin()
        self._ceiling = 0.0
        self._said = Text()

    def _begin(self) -> None:
        self._window: Window | None = None
        self._count = 0
        self._left_s = 0.0
        self._posted_s = self._noted_s = 0.0

    def compose(self) -> ComposeResult:
        """The words, the trace, the intervals."""
        yield Static("", id="live-words", markup=False)
        yield Trace(id="live-trace")
        yield Static("", id="live-sure", markup=False)

    def begin(self, ceiling: float) -> None:
        """Another reading begins."""
        with self._lock:
            self._begin()
        self._ceiling = ceiling
        self.query_one("#live-words", Static).update(Text(f"{self._what}…", style="bold"))
        self._said = Text()
        self.query_one("#live-sure", Static).update(self._said)
        self.query_one(Trace).show((), ceiling=ceiling)

    def follow(self, window: Window) -> None:
        """Draw what comes into this window; called from any thread."""
        with self._lock:
            self._window = window

    def note(self, sample: Sample, done: int, count: int) -> None:
        """A sample came; called from any thread."""
        with self._lock:
            self._count, self._left_s = count, (count - done) * sample.length_s
            now = time.monotonic()
            slow, self._noted_s = now - self._noted_s > _SLOW_S, now
            # The last sample is always drawn; of the others as many as do not disturb the reading.
            if now - self._posted_s < _REDRAW_EVERY_S or (
                slow and done > _FIRST and done % 2 and done < count
            ):
                return
            self._posted_s = now
        self.post_message(self.Sampled())

    def on_live_sampled(self, message: Sampled) -> None:
        """Draw what came."""
        message.stop()
        self.draw()

    def draw(self) -> None:
        """Everything as it is now."""
        with self._lock:
            window, count, left_s = self._window, self._count, self._left_s
        if window is None or not window.samples or not self.is_mounted or not self.display:
            return
        start, settled = window.cut()
        samples = list(window.samples)
        cpu = [s.cpu_pct for s in samples]
        self.query_one(Trace).show(cpu, ceiling=self._ceiling, settled_from=start, most=count)
        palette = Palette(self.app)
        text = Text(no_wrap=True)
        text.append(
            f"{self._what}: {len(cpu)} of at most {count} samples, {span(left_s)} left at most",
            style="bold",
        )
        if start:
            text.append(f"   {start} left out while it settled, drawn faint", style=palette.soft)
        elif not settled:
            text.append("   it still settles", style=palette.soft)
        self.query_one("#live-words", Static).update(text, layout=False)
        sure = self._sure(samples[start:], palette)
        if sure != self._said:
            self._said = sure
            self.query_one("#live-sure", Static).update(sure, layout=False)

    @staticmethod
    def _sure(samples: list[Sample], palette: Palette) -> Text:
        """Both means with their intervals, which narrow as samples come."""
        rule, text = Precision(), Text("\n")
        cpu, used = series_of(samples, "cpu_pct"), series_of(samples, "ram_used_bytes")
        rows = (
            ("CPU", cpu, rule.cpu_pct, percent(sum(cpu) / len(cpu))),
            ("RAM", series_of(samples, "ram_pct"), rule.ram_pct, ram(sum(used) / len(used))),
        )
        for name, values, wanted, mean in rows:
            half = half_width(values)
            known = math.isfinite(half)
            cells = min(_HALF, max(1, round(half / wanted * _WANTED_CELLS))) if known else _HALF
            sure = known and half <= wanted
            style = palette.accent if sure else palette.kinds["ask"]
            text.append(f"{name} mean {mean:>9} ", style=palette.ink)
            text.append(" " * (_HALF - cells))
            text.append("├" + "─" * (cells - 1) + "◆" + "─" * (cells - 1) + "┤", style=style)
            text.append(" " * (_HALF - cells))
            words = f" ± {half:.1f} %" if known else " not known yet"
            if not sure:
                words += f", wanted ± {wanted:g} %"
            elif len(values) < rule.fewest:
                words += f", narrow enough; {rule.fewest} samples at least"
            else:
                words += ", sure enough"
            text.append(words, style=palette.soft)
            text.append("\n")
        return text
