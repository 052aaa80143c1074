"""Readings: what was sampled over a window, under which conditions, and what each consumer cost."""

from typing import Annotated, Literal

import msgspec

from lumtak.core.felt import Felt, Start, Tries
from lumtak.core.means import mean
from lumtak.core.record import (
    AtLeastOne,
    Figure,
    NotMeasured,
    Positive,
    Record,
    json_document,
    known,
)
from lumtak.core.sample import Sample, series_of

FORMAT = 1


class Conditions(Record):
    """Under what a reading was taken."""

    boot_id: str
    session_id: str | NotMeasured
    uptime_s: float
    since_login_s: Figure
    power_source: str
    power_plan: str | NotMeasured
    user: str
    users: tuple[str, ...] | NotMeasured
    """Everybody who is logged in."""
    temperature_c: Figure
    """The hottest sensor."""


class ConsumerLoad(Record):
    """What one consumer cost over the settled part of a reading."""

    key: str
    cpu_pct: float
    cpu_se_pct: float
    """Standard error of the mean: the larger of two ways; see `core.means`."""
    ram_bytes: Figure
    ram_how: str = ""
    """For a person."""
    ram_shared_split: bool = True
    """Whether memory that programs share was divided among them; else it was left out."""


Ended = Literal[
    "complete", "precise", "stopped", "lost", "slept", "power", "lid", "lock", "login", "returned"
]
"""Ran its full length; ended once the means were sure enough; stopped by hand; the computer went
away in the middle; it slept in the middle, or its clock was set forward; it went from mains to
battery or back; its lid was moved; its screen was locked or unlocked; somebody logged in or out;
somebody came back to it. The last six are cut where it was last seen undisturbed."""
WHOLE: tuple[Ended, ...] = ("complete", "precise")
ENDED_WORDS: dict[Ended, str] = {
    "stopped": "stopped",
    "lost": "lost",
    "slept": "cut by sleep",
    "power": "cut when it changed between mains and battery",
    "lid": "cut when the lid was moved",
    "lock": "cut when the screen was locked or unlocked",
    "login": "cut when somebody logged in or out",
    "returned": "cut when somebody came back to it",
}
"""Of what is not whole, for a person; “after 40 s” follows."""


class Reading(Record):
    """Samples in a window with their conditions; what `lumtak read` writes."""

    format: int = FORMAT
    computer: str
    identity: str
    taken_at: str
    """ISO 8601, UTC, when it began."""
    interval_s: Positive
    cores: AtLeastOne
    ram_total_bytes: AtLeastOne
    ended: Ended
    samples: Annotated[tuple[Sample, ...], msgspec.Meta(min_length=1)]
    settled_from: Annotated[int, msgspec.Meta(ge=0)]
    """Index of the first sample after the transient."""
    settled: bool
    """False: it was still settling when it ended, so its figures are doubtful."""
    consumers: tuple[ConsumerLoad, ...]
    conditions: Conditions
    late: int = 0
    """Samples that came more than half an interval late; their true length is in length_s."""
    missed: int = 0
    """Samples that were due while an earlier one was late: not taken, and not made up."""
    times: dict[str, Figure] = {}
    """Seconds by name: parts of the start that came before, and the login."""
    felt: dict[Felt, Tries] = {}
    """What the owner waits for, as often as it was tried."""
    not_felt: dict[Felt, NotMeasured] = {}
    """What of it could not be tried."""
    starts: tuple[Start, ...] | NotMeasured = ()
    """The starts that the computer's own records tell of, oldest first; or why none is known."""

    @property
    def kept(self) -> tuple[Sample, ...]:
        """The samples after the transient; the last one where there are no others."""
        # Somebody may have edited the file: an index beyond the end leaves the last sample.
        return self.samples[min(self.settled_from, len(self.samples) - 1) :]

    def mean(self, column: str) -> float:
        """The mean of a numeric column over the settled samples, each weighed by its length."""
        kept = self.kept
        return mean([float(getattr(s, column)) for s in kept], [s.length_s for s in kept])

    def figure(self, column: str) -> Figure:
        """The same, or why there is none, where a sample says so."""
        missing = next(
            (v for s in self.kept if isinstance(v := getattr(s, column), NotMeasured)), None
        )
        return self.mean(column) if missing is None else missing

    def series(self, column: str) -> list[float]:
        """A numeric column over the settled samples, for statistics.

        Its plain mean is the mean over time; see `means.weighed`.
        """
        return series_of(self.kept, column)

    def unattributed(self) -> tuple[float, float]:
        """(CPU percentage, RAM in bytes) that no consumer accounts for.

        Parts and this sum to the whole.
        """
        cpu = self.mean("cpu_pct") - sum(c.cpu_pct for c in self.consumers)
        return cpu, self.mean("ram_used_bytes") - sum(known(c.ram_bytes) for c in self.consumers)

    def consumer(self, key: str) -> ConsumerLoad | None:
        """What this consumer cost, if it was seen."""
        return next((c for c in self.consumers if c.key == key), None)


def to_json(reading: Reading) -> bytes:
    """The reading as the versioned JSON of docs/FORMATS.md."""
    return json_document(reading)
