"""A job that is open: what is kept of it, and what every station asks."""

import threading
from collections.abc import Callable
from typing import Any, Literal

import msgspec

from lumtak.casebook import Station
from lumtak.casebook.job import Job
from lumtak.computers.protocol import Computer
from lumtak.core.actions import Action, Running, Way
from lumtak.core.audit import Audit
from lumtak.core.plan import Plan
from lumtak.core.reading import Reading
from lumtak.core.setting import SettingRef
from lumtak.core.strip import Glance, glance, strips
from lumtak.core.visits import LastVisit
from lumtak.errors import UsageError
from lumtak.journal import Entry, Owed, Review, owed_now
from lumtak.work.actions import end_process
from lumtak.work.beside import Beside
from lumtak.work.data_folder import DataFolder
from lumtak.work.sampling import Touched, Watched


class OpenJob:
    """A job with its computer. Whatever changes the job has it on disk when it returns.

    Args:
        data_folder: keeps it.
        computer: the job's.
        job: as it was kept.
    """

    def __init__(self, data_folder: DataFolder, computer: Computer, job: Job) -> None:
        self.data_folder = data_folder
        self.computer = computer
        ceilings = job.profile.ceilings
        computer.settings.note_ceilings(ceilings.cpu_pct, ceilings.ram_pct)
        self.job = job
        self.save: Callable[[Job], None] = data_folder.casebook.save
        """Keeps the job; the workbench puts a saver here that does it in the background, so that no
        key waits for the disk."""
        self.interrupted = Review()
        """What an interruption left on this computer, until it is ended."""
        self.planned: tuple[Job, Plan] | None = None
        """The plan that was made last, and of which state of the job."""
        self.touched: Touched | None = None
        """When Lumtak itself last got a key; the workbench says it."""
        self.beside = Beside(data_folder, computer, lambda: self.job.profile)
        """Upkeep of the computer, which goes on beside everything."""
        self.last: LastVisit | None = None
        """What became of the visit before."""
        self._lock = threading.Lock()

    def keep(self, **fields: Any) -> None:  # noqa: ANN401
        """Change fields of the job, and keep it."""
        # Keys change the choice while a worker keeps a reading: neither may lose the other.
        with self._lock:
            self.job = msgspec.structs.replace(self.job, **fields)
        self.save(self.job)

    def go(self, station: Station) -> None:
        """The job stands at this station now."""
        if station != self.job.station:
            self.keep(station=station)

    def select(self, ref: SettingRef) -> None:
        """Remember where the cursor stands."""
        if str(ref) != self.job.cursor:
            self.keep(cursor=str(ref))

    @property
    def baseline(self) -> Reading | None:
        """The baseline, once taken."""
        return self.data_folder.casebook.reading(self.job.baseline)

    @property
    def after(self) -> Reading | None:
        """The after reading, once taken."""
        return self.data_folder.casebook.reading(self.job.after)

    @property
    def watched(self) -> Watched:
        """What is tried and seen while a reading of this job is taken."""
        return Watched(program=self.job.program, touched=self.touched)

    def entries(self) -> list[Entry]:
        """Changes of this job in the journal, oldest first."""
        return self.data_folder.journal.entries(self.job.identity, job=self.job.id)

    def applied(self) -> set[SettingRef]:
        """What this job changed and did not put back."""
        return {e.ref for e in self.entries() if e.is_open}

    def owed(self) -> Owed:
        """Changes that do not show yet."""
        return owed_now(self.data_folder.journal, self.computer)

    def end_process(self, chosen: Running, way: Way, *, wait_s: float = 5.0) -> Action:
        """Ask a process to end, or force it; recorded in the job, whatever became of it.

        Raises:
            UsageError: it is never ended.
        """
        if chosen.why_not:
            raise UsageError(
                f"{chosen.title} is not ended: {chosen.why_not}.", "Choose another process."
            )
        action = end_process(self.computer, chosen.process, way, title=chosen.title, wait_s=wait_s)
        self.keep(actions=(*self.job.actions, action))
        return action

    def glance_at(
        self, reading: Reading, what: Literal["baseline", "after"], found: Audit | None
    ) -> Glance:
        """A reading as the bench shows it."""
        ceilings = self.job.profile.ceilings
        return glance(strips(reading, found, ceilings=ceilings), ceilings, what, reading.taken_at)

    def close(self) -> None:
        """Let the computer go; upkeep that runs is paused."""
        self.beside.close()
        self.computer.close()
