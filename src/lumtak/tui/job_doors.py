"""What opens beside a job: everything changed, processes, files, programs, a quick look."""

from lumtak.tui.desk import Desk


class Doors(Desk):
    """Each opens a screen of its own, which is imported then."""

    def come_back(self, _: None) -> None:
        """From one of them."""
        raise NotImplementedError

    def action_put_back(self) -> None:
        """Everything that was ever changed on this computer."""
        from lumtak.tui.put_back import PutBackScreen

        if self.free():
            self.app.push_screen(
                PutBackScreen(self.open_job.data_folder, self.open_job.computer, keep=True),
                self.come_back,
            )

    def action_end_process(self) -> None:
        """The heaviest processes, to end one."""
        from lumtak.tui.ending import EndingScreen

        if self.free():
            self.app.push_screen(EndingScreen(self.open_job), self.come_back)

    def action_files(self) -> None:
        """The owner's files, decided about together."""
        from lumtak.tui.deciding import DecidingScreen

        if self.free():
            self.app.push_screen(DecidingScreen(self.open_job), self.come_back)

    def action_programs(self) -> None:
        """Installed programs, to remove one."""
        from lumtak.tui.programs import ProgramsScreen

        if self.free():
            self.app.push_screen(ProgramsScreen(self.open_job), self.come_back)

    def action_upkeep(self) -> None:
        """The tasks of upkeep, which run beside the job."""
        from lumtak.tui.upkeep import UpkeepScreen

        if self.free():
            self.app.push_screen(UpkeepScreen(self.open_job), self.come_back)

    def action_look(self) -> None:
        """What weighs just now, beside the job."""
        from lumtak.tui.quick_look import QuickLookScreen

        if self.free():
            self.app.push_screen(QuickLookScreen(self.open_job.computer, keep=True))
