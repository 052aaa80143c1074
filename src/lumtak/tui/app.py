"""The workbench."""

import logging
import os
import sys
import termios
import time
from collections.abc import Iterable
from typing import ClassVar

from textual import events
from textual.app import App, SystemCommand
from textual.binding import Binding, BindingType
from textual.screen import Screen
from textual.theme import Theme

from lumtak.tui.background import WorkingScreen
from lumtak.tui.bench import BenchScreen
from lumtak.tui.interview import InterviewScreen
from lumtak.tui.theme import DARK, LIGHT
from lumtak.work.data_folder import DataFolder

_TERMINAL_EVERY_S = 2.0


class LumtakApp(App[None]):
    """The full-screen application.

    Args:
        data_folder: keeps jobs, journal and profiles; builds computers.
        pace: how fast simulated computers live.
        demo: whether this is the demo, of which nothing stays.
    """

    TITLE = "Lumtak"
    CSS_PATH = "app.tcss"
    ENABLE_COMMAND_PALETTE = True
    BINDINGS: ClassVar[list[BindingType]] = [
        Binding("ctrl+q,q", "leave", "Quit", show=False),
        Binding("ctrl+t", "other_theme", "Dark or light", show=False),
    ]

    def __init__(self, data_folder: DataFolder, *, pace: float, demo: bool = False) -> None:
        super().__init__()
        self.data_folder = data_folder
        self.pace = pace
        self.demo = demo
        self.problem: BaseException | None = None
        """What made the application close, if it was not the user."""
        self._touched_s = time.monotonic()
        self.register_theme(DARK)
        self.register_theme(LIGHT)
        self.theme = DARK.name

    def _fatal_error(self) -> None:
        """End with a sentence; the log has the rest.

        The one private part of Textual in use: there is no public way to be told of an exception
        and to keep its traceback off the terminal. A test says when there is one.
        """
        error = sys.exception()
        logging.getLogger(__name__).error("the workbench had to close", exc_info=error)
        self.problem = error
        self.panic()

    async def on_event(self, event: events.Event) -> None:
        """Remember when somebody last touched this window: that is nobody who comes back."""
        if isinstance(event, events.InputEvent):
            self._touched_s = time.monotonic()
        await super().on_event(event)

    def touched_s(self) -> float:
        """When that was, on the monotonic clock."""
        return self._touched_s

    def on_mount(self) -> None:
        """Open the bench."""
        self.theme_changed_signal.subscribe(self, self._draw_anew)
        self.push_screen(BenchScreen(self.data_folder, pace=self.pace, demo=self.demo))
        if not self.is_headless:
            self.set_interval(_TERMINAL_EVERY_S, self._end_without_terminal)

    def _end_without_terminal(self) -> None:
        """Where the terminal is gone and nobody said so, reading from it would never end."""
        try:
            termios.tcgetattr(sys.__stdin__ or 0)
        except (OSError, termios.error):
            logging.getLogger(__name__).warning("the terminal is gone, so the workbench ends")
            os._exit(1)  # nothing can be drawn any more, and the journal stands a kill

    def _draw_anew(self, _theme: Theme) -> None:
        """What is drawn with the theme's colours keeps them until it is drawn again."""
        for screen in self.screen_stack:
            if isinstance(screen, WorkingScreen | BenchScreen | InterviewScreen):
                screen.update_all()

    def get_system_commands(self, screen: Screen[object]) -> Iterable[SystemCommand]:
        """What the palette offers everywhere; screens add their own."""
        yield from getattr(screen, "commands", list)()
        yield SystemCommand(
            "Dark or light", "Change between the dark and the light theme", self.action_other_theme
        )
        yield SystemCommand("Quit", "Close Lumtak; every job opens where it was", self.action_leave)

    def action_other_theme(self) -> None:
        """Dark becomes light, light dark."""
        self.theme = LIGHT.name if self.theme == DARK.name else DARK.name

    def action_leave(self) -> None:
        """Close, once what is being written is written."""
        working = [s for s in self.screen_stack if isinstance(s, WorkingScreen)]

        def close_next() -> None:
            if working:
                working.pop().leave(close_next)
            else:
                self.exit()

        close_next()
