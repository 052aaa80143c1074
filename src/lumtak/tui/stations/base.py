"""What every station's view has."""

from typing import TYPE_CHECKING, ClassVar

from textual.binding import Binding, BindingType
from textual.containers import Vertical, VerticalScroll
from textual.widget import Widget

from lumtak.tui.widgets.lines import LineList

if TYPE_CHECKING:
    from lumtak.tui.job_screen import JobScreen


class StationView(Vertical):
    """The view of one station.

    `show` draws the job as it is, `arrive` puts the focus where the work is.
    """

    BINDINGS: ClassVar[list[BindingType]] = [
        Binding("up,down", "list", "Into the list", show=False),
        Binding("pageup", "page(-1)", "Page up", show=False),
        Binding("pagedown", "page(1)", "Page down", show=False),
    ]

    @property
    def desk(self) -> "JobScreen":
        """The screen that holds the job."""
        from lumtak.tui.job_screen import JobScreen

        screen = self.screen
        if not isinstance(screen, JobScreen):
            raise TypeError("a station stands on a job's screen")
        return screen

    def action_list(self) -> None:
        """Into the list, from anywhere on the station."""
        for found in self.query(LineList):
            self.point_at(found)

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
        return "Left and right go along the route; ? explains."
