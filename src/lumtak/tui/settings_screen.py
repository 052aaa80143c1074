"""Settings: what the shop sets once, each with what it is for; kept as soon as it is set."""

from functools import partial
from typing import ClassVar

from rich.text import Text
from textual.app import ComposeResult
from textual.binding import Binding, BindingType
from textual.screen import Screen
from textual.widgets import Static

from lumtak.core.settings import ABOUT, SETTABLE, Settings, value_of, with_value
from lumtak.core.text import plain
from lumtak.errors import LumtakError
from lumtak.storage import in_short
from lumtak.tui.command import Command
from lumtak.tui.help import HelpScreen
from lumtak.tui.keys import BY_NAME, KEYS, binding, key_of, mapped, with_keys
from lumtak.tui.telling import TellScreen, Told
from lumtak.tui.theme import Palette
from lumtak.tui.widgets.lines import Line, LineList, column
from lumtak.work.data_folder import DataFolder

_OTHER = {"dark": "light", "light": "dark", "binary": "decimal", "decimal": "binary"}
_NAMES = {
    "report_folder": "report folder",
    "sizes": "sizes",
    "shop.name": "shop's name",
    "shop.address": "shop's address",
    "shop.phone": "shop's telephone",
    "language": "language of sheets",
    "paper": "paper of sheets",
}
_NAME, _VALUE = 22, 34


class SettingsScreen(Screen[None]):
    """A list; Enter changes what the cursor is on.

    Args:
        data_folder: keeps them.
    """

    CSS_PATH = "aside.tcss"
    BINDINGS: ClassVar[list[BindingType]] = [
        Binding("escape", "dismiss", "Back", show=False),
        Binding("delete", "forget", "As it was", show=False),
        binding("help", "help"),
    ]

    def __init__(self, data_folder: DataFolder) -> None:
        super().__init__()
        self.add_class("aside")
        self._data_folder = data_folder

    def compose(self) -> ComposeResult:
        """Head, where they stand, list, hint."""
        yield Static(id="head", markup=False)
        yield Static(id="say", classes="big", markup=False)
        yield LineList(id="list")
        yield Static(id="hint", markup=False)

    def on_mount(self) -> None:
        """What is set."""
        self.update_all()
        self.set_focus(self.query_one(LineList))

    def update_all(self) -> None:
        """As it is now."""
        palette = Palette(self.app)
        head = Text()
        head.append(" Lumtak", style=f"bold {palette.accent}")
        head.append("  settings", style="bold")
        head.append(f" · {in_short(self._data_folder.settings_path)}", style=palette.soft)
        self.query_one("#head", Static).update(head)
        self.query_one("#say", Static).update(self._problems() or "Kept as soon as they are set.")
        lines = [Line(self._row(name, palette), name) for name in SETTABLE]
        keys = Text(" Keys", style=f"bold {palette.soft}")
        lines += [Line(Text()), Line(keys)]
        lines += [Line(self._key_row(key.name, palette), f"keys.{key.name}") for key in KEYS]
        self.query_one(LineList).show(lines)
        self.query_one("#hint", Static).update(
            with_keys(
                self.app,
                "Enter changes it, Delete sets it as it was; Escape goes back, {help} explains.",
            )
        )

    def _problems(self) -> str:
        """What is wrong with the file, or with the keys in it."""
        try:
            settings = self._data_folder.read_settings()
        except LumtakError as error:
            return str(error)
        return " ".join(mapped(settings.keys)[1])

    def _row(self, name: str, palette: Palette) -> Text:
        value = value_of(self._data_folder.settings, name)
        same = value == value_of(Settings(), name)
        text = Text("   ")
        text.append(column(_NAMES.get(name, name), _NAME), style=f"bold {palette.ink}")
        shown = plain(value, 200) or "none"
        text.append(column(shown, _VALUE), style=palette.soft if same else palette.accent)
        text.append(ABOUT[name], style=palette.soft)
        return text

    def _key_row(self, name: str, palette: Palette) -> Text:
        here = name in self._data_folder.settings.keys
        text = Text("   ")
        text.append(column(name, _NAME), style=f"bold {palette.ink}")
        text.append(
            column(key_of(self.app, name), _VALUE), style=palette.accent if here else palette.soft
        )
        key = BY_NAME[name]
        text.append(f"{key.words} ({key.where})", style=palette.soft)
        return text

    # -- changing one ------------------------------------------------------------------------------

    def on_line_list_opened(self, message: LineList.Opened) -> None:
        """Change it: the other of two, or what is typed."""
        name = message.key
        settings = self._data_folder.settings
        if name.startswith("keys."):
            command = name.removeprefix("keys.")
            self._ask(name, f"Which key for “{BY_NAME[command].words}”?", key_of(self.app, command))
        elif (value := value_of(settings, name)) in _OTHER:
            self._keep(name, _OTHER[value])
        else:
            self._ask(name, f"{_NAMES.get(name, name).capitalize()}: {ABOUT[name]}", value)

    def _ask(self, name: str, question: str, value: str) -> None:
        self.app.push_screen(
            TellScreen(
                question,
                "Empty sets it as it was.",
                lines=("",),
                choices=(("leave", "Leave it as it is"), ("keep", "Keep this")),
                values=(value,),
            ),
            partial(self._told, name),
        )

    def _told(self, name: str, told: Told | None) -> None:
        if told is not None:
            self._keep(name, told.lines[0] or self._as_it_was(name))

    @staticmethod
    def _as_it_was(name: str) -> str:
        return "" if name.startswith("keys.") else value_of(Settings(), name)

    def action_forget(self) -> None:
        """As it was before anybody set it."""
        name = self.query_one(LineList).selected
        if name:
            self._keep(name, self._as_it_was(name))

    def _keep(self, name: str, value: str) -> None:
        """Keep it, unless a key would mean two things."""
        try:
            made = with_value(self._data_folder.settings, name, value)
            wrong = mapped(made.keys)[1] if name.startswith("keys.") else ()
            if wrong:
                self.notify(" ".join(wrong), severity="warning", timeout=12, markup=False)
                return
            self._data_folder.keep_settings(made)
        except LumtakError as error:
            self.notify(str(error), severity="warning", timeout=12, markup=False)
            return
        take = getattr(self.app, "take_settings", None)
        if take is not None:
            take()
        self.update_all()

    def commands(self) -> tuple[Command, ...]:
        """For the palette."""
        return (
            Command("Change it", self.query_one(LineList).action_open, "under the cursor", "Enter"),
            Command("As it was", self.action_forget, "under the cursor", "Delete"),
            Command("Back", self.dismiss, "", "Escape"),
            Command("Explain this screen", self.action_help, "in the words of the work", "help"),
        )  # fmt: skip

    def action_help(self) -> None:
        """Explain the screen."""
        self.app.push_screen(HelpScreen("settings"))
