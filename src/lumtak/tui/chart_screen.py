"""Saving a chart of a job as SVG or PDF, from any station."""

from collections.abc import Callable
from pathlib import Path
from typing import ClassVar, get_args

from textual import work
from textual.app import ComposeResult
from textual.binding import Binding, BindingType
from textual.containers import Horizontal, Vertical
from textual.screen import ModalScreen
from textual.widgets import Button, Input, Static

from lumtak.core.text import plain
from lumtak.errors import LumtakError
from lumtak.report.charts import ChartFormat, ChartKind
from lumtak.storage import in_short, write_whole

CHART_KIND_WORDS: dict[ChartKind, str] = {
    "load": "Load over time",
    "spread": "Spread of the samples",
    "bridge": "Bridge to the after reading",
    "strips": "RAM and CPU as strips",
    "disk": "Disk, and what grew",
}


class ChartScreen(ModalScreen[None]):
    """Which chart, and to which file.

    Args:
        draw: gives the bytes of a chart; called in the background.
        kind: the chart that fits the station.
        stem: begins the file's name.
        folder: where it goes unless the person says otherwise.
    """

    CSS_PATH = "confirm.tcss"
    BINDINGS: ClassVar[list[BindingType]] = [
        Binding("escape", "dismiss", "Close", show=False),
        Binding("left", "app.focus_previous", "Before", show=False),
        Binding("right", "app.focus_next", "Next", show=False),
    ]

    def __init__(
        self,
        draw: Callable[[ChartKind, ChartFormat], bytes],
        kind: ChartKind,
        stem: str,
        folder: Path,
    ) -> None:
        super().__init__(classes="ask")
        self._draw, self._kind, self._stem, self._folder = draw, kind, stem, folder
        self._form: ChartFormat = "svg"

    def compose(self) -> ComposeResult:
        """Kinds, the file, the acts."""
        with Vertical(id="paper"):
            yield Static("Save a chart of this job", id="question", markup=False)
            with Vertical(id="kinds"):
                for kind, words in CHART_KIND_WORDS.items():
                    yield Button(words, id=kind, compact=True)
            with Horizontal(id="file"):
                yield Static("to ", markup=False)
                yield Input(id="path", compact=True)
            yield Static(id="said", classes="soft", markup=False)
            with Horizontal(classes="acts"):
                yield Button("Save as SVG", id="svg", compact=True)
                yield Button("Save as PDF", id="pdf", compact=True)
                yield Button("Close", id="close", compact=True)

    def on_mount(self) -> None:
        """The chart of the station is chosen."""
        self._choose(self._kind)
        self.set_focus(self.query_one("#svg"))

    def _choose(self, kind: ChartKind) -> None:
        self._kind = kind
        for name, words in CHART_KIND_WORDS.items():
            self.query_one(f"#{name}", Button).label = ("◆ " if name == kind else "  ") + words
        self.query_one(Input).value = in_short(self._folder / f"{self._stem}-{kind}")
        self.query_one("#said", Static).update("")

    def on_button_pressed(self, event: Button.Pressed) -> None:
        """Choose, save, close."""
        event.stop()
        name = event.button.id or ""
        if name in CHART_KIND_WORDS:
            self._choose(name)
        elif name in get_args(ChartFormat):
            self._save(name)  # type: ignore[arg-type]
        else:
            self.dismiss()

    def on_input_submitted(self, event: Input.Submitted) -> None:
        """Enter in the file's name saves; its ending says as what."""
        event.stop()
        self._save("pdf" if event.value.lower().endswith(".pdf") else "svg")

    def _save(self, form: ChartFormat) -> None:
        path = Path(self.query_one(Input).value).expanduser()
        if path.suffix.lower() in {".svg", ".pdf"}:
            path = path.with_suffix("")
        path = path.with_name(f"{path.name}.{form}")
        self.query_one("#said", Static).update("Drawing…")
        self._write(self._kind, form, path)

    @work(thread=True, exit_on_error=False)
    def _write(self, kind: ChartKind, form: ChartFormat, path: Path) -> None:
        try:
            data = self._draw(kind, form)
            write_whole(path, data)
            said = f"Written: {path} ({len(data)} bytes)"
        except LumtakError as error:
            said = str(error)
        self.app.call_from_thread(self.query_one("#said", Static).update, plain(said, 400))
