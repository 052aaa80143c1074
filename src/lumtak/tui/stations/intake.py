"""Intake: which computer, whose settings, what it is used for."""

from rich.text import Text
from textual.app import ComposeResult

from lumtak.core.facts import in_rows
from lumtak.core.text import plain
from lumtak.tui.stations.base import StationView
from lumtak.tui.theme import Palette
from lumtak.tui.widgets.lines import Line, LineList
from lumtak.work.audit import make_audit
from lumtak.work.intake import choose_profile


class IntakeStation(StationView):
    """Facts to read, and profiles to choose from."""

    def compose(self) -> ComposeResult:
        """One list."""
        yield LineList()

    def show(self) -> None:
        """Facts and profiles."""
        palette = Palette(self.app)
        job = self.desk.job
        lines = [Line(Text())]
        if job.facts:
            lines += [self._fact(name, value, palette) for name, value in in_rows(job.facts)]
        lines += [Line(Text()), Line(Text(" Used for", style=f"bold {palette.soft}"))]
        profiles = self.desk.open_job.data_folder.profiles()
        profiles.setdefault(job.profile.name, job.profile)
        for profile in profiles.values():
            here = profile.name == job.profile.name
            text = Text()
            text.append(" ◆ " if here else "   ", style=palette.accent)
            text.append(f"{plain(profile.title, 26):<28}", style="bold" if here else palette.ink)
            ceilings = profile.ceilings
            limits = f"ceilings CPU {ceilings.cpu_pct:g} %, RAM {ceilings.ram_pct:g} %"
            text.append(f"{limits:<30}", style=palette.soft)
            text.append(plain(profile.about), style=palette.ink)
            lines.append(Line(text, profile.name))
        self.query_one(LineList).show(lines, job.profile.name)

    @staticmethod
    def _fact(name: str, value: str, palette: Palette) -> Line:
        text = Text()
        text.append(f"   {name:<33}", style=palette.soft)
        text.append(value, style=palette.ink)
        return Line(text)

    def arrive(self) -> None:
        """On the profile."""
        self.point_at(self.query_one(LineList))

    def hint(self) -> str:
        """What can be done."""
        return (
            "Enter judges by another profile; the right arrow goes on to the baseline; ? explains."
        )

    def on_line_list_opened(self, message: LineList.Opened) -> None:
        """Another profile."""
        message.stop()
        desk = self.desk
        if message.key == desk.job.profile.name:
            self.go("baseline")
            return
        profile = desk.open_job.data_folder.profiles()[message.key]

        def judge() -> None:
            choose_profile(desk.open_job, profile)
            if desk.baseline:
                make_audit(desk.open_job)

        desk.begin("judging by another profile", judge, lambda _: None)
