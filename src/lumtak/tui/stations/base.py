"""What every station's view has."""

from typing import ClassVar

from textual.binding import Binding, BindingType
from textual.containers import Vertical, VerticalScroll
from textual.message import Message
from textual.widget import Widget

from lumtak.casebook import Station
from lumtak.core.setting import SettingRef
from lumtak.tui.desk import Desk
from lumtak.tui.keys import with_keys
from lumtak.tui.widgets.buttons import BESIDE, to_button
from lumtak.tui.widgets.lines import LineList


class StationView(Vertical):
    """The view of one station.

    `show` draws the job as it is, `arrive` puts the focus where the work is.
    """

    BINDINGS: ClassVar[list[BindingType]] = [
        Binding("up,down", "list", "Into the list", show=False),
        Binding("pageup", "page(-1)", "Page up", show=False),
        Binding("pagedown", "page(1)", "Page down", show=False),
        *BESIDE,
    ]

    class Go(Message):
        """On to another station."""

        def __init__(self, station: Station) -> None:
            super().__init__()
            self.station: Station = station

    class Explained(Message):
        """All that the audit knows of an item is wanted."""

        def __init__(self, address: str) -> None:
            super().__init__()
            self.address = address

    class PutBack(Message):
        """What this visit changed is to be put back."""

    class Left(Message):
        """Back to the bench."""

    class Hinted(Message):
        """Something else can be done now."""

    class Advanced(Message):
        """Work in the background went on: the frame says how far."""

    class Changed(Message):
        """The job is another one now: all of it is drawn anew."""

    @property
    def desk(self) -> Desk:
        """The screen that holds the job: to be read, and to begin work on."""
        screen = self.screen
        if not isinstance(screen, Desk):
            raise TypeError("a station stands on a job's screen")
        return screen

    def say(self, message: Message) -> None:
        """Tell the screen, straight: a quick typist's next key must not come before it."""
        self.screen.post_message(message)

    def go(self, station: Station) -> None:
        """On to another station."""
        self.say(self.Go(station))

    def pick(self, ref: SettingRef) -> None:
        """The cursor stands on this item."""
        # At once, so that the list and the strips are drawn together.
        self.desk.open_job.select(ref)
        self.desk.light(str(ref))

    def action_list(self) -> None:
        """Into the list, from anywhere on the station."""
        for found in self.query(LineList):
            self.point_at(found)

    def action_mark(self) -> None:
        """Choose what the cursor of the list is on."""
        for found in self.query(LineList):
            found.action_mark()

    def action_open(self) -> None:
        """Explain what the cursor of the list is on."""
        for found in self.query(LineList):
            found.action_open()

    def action_beside(self, steps: int) -> None:
        """Between the buttons, or along what the station has."""
        if not to_button(self.screen, steps):
            self.along(steps)

    def along(self, steps: int) -> None:
        """Left and right where no button is lit."""

    def with_keys(self, words: str) -> str:
        """Prose in which `{command}` stands for its key."""
        return with_keys(self.app, words)

    def action_page(self, pages: int) -> None:
        """Scroll what is too long for the screen."""
        for found in self.query(VerticalScroll):
            found.scroll_relative(y=pages * max(1, found.size.height - 2), animate=False)

    def point_at(self, widget: Widget) -> None:
        """This widget has the keys from now on.

        At once, so that a quick typist's next key goes there.
        """
        self.screen.set_focus(widget)

    def show(self) -> None:
        """Draw the job as it is now."""

    def arrive(self) -> None:
        """The station was opened."""

    def escape(self) -> bool:
        """End what was begun on the station, such as a search; whether there was anything."""
        return False

    def hint(self) -> str:
        """One line of prose about what can be done here."""
        return self.with_keys("1 to 6 go along the route; {help} explains.")
