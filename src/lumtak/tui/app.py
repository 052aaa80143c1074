"""The workbench."""

import logging
import os
import sys
import termios
import time
from collections.abc import Iterable
from typing import ClassVar

import msgspec
from textual import events
from textual.app import App
from textual.binding import Binding, BindingType
from textual.screen import ModalScreen
from textual.theme import Theme

from lumtak.core.settings import ThemeName
from lumtak.core.units import write_sizes
from lumtak.errors import LumtakError
from lumtak.tui.bench import BenchScreen
from lumtak.tui.command import Command
from lumtak.tui.keys import BY_NAME, binding, mapped
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
    ENABLE_COMMAND_PALETTE = False
    BINDINGS: ClassVar[list[BindingType]] = [
        Binding("ctrl+q", "leave", "Quit", show=False),
        binding("quit", "leave"),
        binding("theme", "other_theme"),
        binding("palette", "command_palette"),
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
        self.keys_in_force: dict[str, str] = {}
        """The key of each command, as the settings have them."""
        self._wrong_keys = self.take_settings()

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
        """Open the bench; say what is wrong with the settings."""
        self.theme_changed_signal.subscribe(self, self._draw_anew)
        self.push_screen(BenchScreen(self.data_folder, pace=self.pace, demo=self.demo))
        for sentence in self._wrong_keys:
            self.notify(sentence, severity="warning", timeout=12, markup=False)
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
            draw = getattr(screen, "update_all", None)
            if draw is not None:
                draw()

    def take_settings(self) -> tuple[str, ...]:
        """Theme, keys and units as they are set; what is wrong with them, a sentence each."""
        settings = self.data_folder.settings
        write_sizes(settings.sizes)
        self.theme = (LIGHT if settings.theme == "light" else DARK).name
        self.keys_in_force, wrong = mapped(settings.keys)
        # Only those that differ: each key press looks through all that stand there.
        others = {n: k for n, k in self.keys_in_force.items() if k != BY_NAME[n].key}
        self.set_keymap(others)
        return wrong

    def commands(self) -> tuple[Command, ...]:
        """What can be done on the screen that is seen, in the order of the work."""
        own: Iterable[Command] = getattr(self.screen, "commands", tuple)()
        return (
            *own,
            Command("Settings", self.action_settings, "report folder, shop, theme, units, keys"),
            Command("Dark or light", self.action_other_theme, "kept for the next time", "theme"),
            Command("Close Lumtak", self.action_leave, "every job opens where it was", "quit"),
        )

    def action_command_palette(self) -> None:
        """Every command of the screen; not above a question."""
        from lumtak.tui.palette import PaletteScreen

        if not isinstance(self.screen, ModalScreen):
            self.push_screen(PaletteScreen(self.commands()))

    def action_settings(self) -> None:
        """What the shop sets once."""
        from lumtak.tui.settings_screen import SettingsScreen

        self.push_screen(SettingsScreen(self.data_folder))

    def action_other_theme(self) -> None:
        """Dark becomes light, light dark."""
        self.theme = LIGHT.name if self.theme == DARK.name else DARK.name
        name: ThemeName = "light" if self.theme == LIGHT.name else "dark"
        settings = msgspec.structs.replace(self.data_folder.settings, theme=name)
        try:
            self.data_folder.keep_settings(settings)
        except LumtakError as error:
            self.notify(str(error), severity="warning", markup=False)

    def action_leave(self) -> None:
        """Close, once what is being written is written; work that would be cut is asked about."""
        from lumtak.tui.background import WorkingScreen
        from lumtak.tui.confirm import ConfirmScreen, unless_at_work

        if isinstance(self.screen, ConfirmScreen):
            return
        working = [s for s in self.screen_stack if isinstance(s, WorkingScreen)]
        at_work = next((s for s in working if s.busy), None)

        def close_next() -> None:
            if working:
                working.pop().leave(close_next)
            else:
                self.exit()

        if at_work is None:
            close_next()
        else:
            unless_at_work(at_work, close_next, "close")
