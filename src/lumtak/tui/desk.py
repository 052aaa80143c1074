"""What every view of a job reads: the job, its readings, what is owed, what was changed."""

from typing import Any

from lumtak.casebook.job import Job
from lumtak.computers.kit import Script
from lumtak.core.audit import Audit
from lumtak.core.bridge import Bridge
from lumtak.core.floor import SpaceTold
from lumtak.core.provisional import Provisional
from lumtak.core.reading import Reading
from lumtak.core.setting import SettingRef
from lumtak.core.settings import Settings
from lumtak.core.strip import Strip, disk_strip, with_aside
from lumtak.errors import LumtakError
from lumtak.journal import Entry, Owed
from lumtak.tui.background import WorkingScreen
from lumtak.work.open_job import OpenJob
from lumtak.work.plan import undo_scripts_of
from lumtak.work.proof import after_is_due, bridges_of, pace_of, same_point_s, why_provisional
from lumtak.work.reading import baselines_of
from lumtak.work.storage import space_told


class Desk(WorkingScreen):
    """A screen on which a job is open; looked up anew after each piece of work.

    Args:
        open_job: the job with its computer.
    """

    def __init__(self, open_job: OpenJob) -> None:
        super().__init__()
        self.open_job = open_job
        self._disk: tuple[Audit, frozenset[SettingRef], Strip | None] | None = None
        self.baseline: Reading | None
        self.after: Reading | None
        self.baselines: list[tuple[int, Reading]]
        self.owed: Owed
        self.entries: list[Entry]
        self.due: bool
        """Whether the after reading is due."""
        self.same_point_s: float
        """How long an after reading would wait to begin like the baseline."""
        self.bridges: tuple[Bridge, ...]
        self.provisional: Provisional
        """Why the after reading does not count."""
        self.pace: str
        """Why percentages of the CPU are no measure between both readings."""
        self.scripts: tuple[Script, ...] | str
        """What puts back without Lumtak; why there is none, where it cannot be left here."""
        self.space: SpaceTold | None
        """The disk before and now; None where storage does not matter here."""
        self.take(self.look())
        self.capabilities = open_job.computer.about.capabilities()

    @property
    def settings(self) -> Settings:
        """What the shop set."""
        return self.open_job.data_folder.settings

    @property
    def job(self) -> Job:
        """The job as it is now."""
        return self.open_job.job

    def light(self, consumer: str) -> None:
        """This item is looked at."""

    @property
    def nothing_to_gain(self) -> bool:
        """Whether nothing weighs that may go, and nothing was changed."""
        found = self.job.audit
        return found is not None and found.nothing_to_gain and not self.entries

    def titles(self, reading: Reading) -> dict[str, str]:
        """Of what a reading counts, and of clutter, by consumer."""
        known = self.job.audit.by_consumer if self.job.audit else {}
        counted = (known[c.key] for c in reading.consumers if c.key in known)
        piles = (f for f in known.values() if f.pile)
        return {f.consumer: f.title for f in (*counted, *piles)}

    def disk_strip(self) -> Strip | None:
        """The disk's strip where storage matters; cut anew only for another audit or change."""
        facts, found = self.job.facts, self.job.audit
        if facts is None or found is None or not self._storage_matters(found):
            return None
        held = frozenset(e.ref for e in self.entries if e.is_open and e.ref.area == "storage")
        if self._disk is None or self._disk[0] is not found or self._disk[1] != held:
            strip = disk_strip(facts, found)
            self._disk = found, held, strip and with_aside(strip, held)
        return self._disk[2]

    def _storage_matters(self, found: Audit) -> bool:
        """Whether space is short, or something is set aside or chosen to be."""
        mine = [*(c.ref for c in self.job.chosen), *(e.ref for e in self.entries if e.is_open)]
        room = found.room
        short = room is not None and (room.is_short or room.held_bytes > 0)
        return short or any(ref.area == "storage" for ref in mine)

    def look(self) -> object:
        """Readings, what is owed, changes."""
        open_job = self.open_job
        return {
            "baseline": open_job.baseline,
            "after": open_job.after,
            "baselines": baselines_of(open_job),
            "owed": open_job.owed(),
            "entries": open_job.entries(),
            "due": after_is_due(open_job),
            "same_point_s": same_point_s(open_job),
            "bridges": bridges_of(open_job),
            "provisional": why_provisional(open_job),
            "pace": pace_of(open_job),
            "scripts": self._scripts(),
            "space": space_told(open_job),
        }

    def _scripts(self) -> tuple[Script, ...] | str:
        try:
            found = tuple(undo_scripts_of(self.open_job)) if self.open_job.entries() else ()
        except LumtakError as error:
            return str(error)
        if found or not self.open_job.entries():
            return found
        if self.open_job.job.address.startswith("sim:"):
            return "This computer is simulated, so no script is left on it."
        return "No undo script was left on this computer."

    def take(self, found: Any) -> None:  # noqa: ANN401 - what `look` gave
        """Show them from now on."""
        for name, value in found.items():
            setattr(self, name, value)
