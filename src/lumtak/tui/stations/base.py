"""What every station's view has."""

from typing import TYPE_CHECKING

from textual.containers import Vertical

if TYPE_CHECKING:
    from lumtak.tui.job_screen import JobScreen


class Station(Vertical):
    """The view of one station; `show` draws the job as it is, `arrive` puts the focus where the work is."""

    @property
    def desk(self) -> "JobScreen":
        """The screen that holds the job."""
        from lumtak.tui.job_screen import JobScreen

        screen = self.screen
        if not isinstance(screen, JobScreen):
            raise TypeError("a station stands on a job's screen")
        return screen

    def show(self) -> None:
        """Draw the job as it is now."""

    def arrive(self) -> None:
        """The station was opened."""

    def hint(self) -> str:
        """One line of prose about what can be done here."""
        return "Left and right go along the route; ? explains."
