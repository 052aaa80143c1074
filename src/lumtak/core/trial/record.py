"""What is kept of a trial: its design, its blocks, what came of it."""

import math
from typing import Literal, get_args

from lumtak.core.felt import MEASURES, TRIED, Complaint, Felt
from lumtak.core.profile import Threshold
from lumtak.core.reading import Ended, Reading
from lumtak.core.record import FileName, NotMeasured, Record
from lumtak.core.setting import SettingRef
from lumtak.core.trial.design import Design
from lumtak.core.trial.effects import Seen
from lumtak.core.trial.inference import Shown
from lumtak.core.trial.screening import Layout

FORMAT = 1
Load = Literal["cpu", "work", "ram", "pressure"]
LOADS: tuple[Load, ...] = get_args(Load)
Measure = Load | Felt
MEASURED: tuple[Measure, ...] = (*LOADS, *(f for f in TRIED if f != "temperature"))
"""What a trial can be about. A temperature follows too slowly for blocks."""
_COLUMNS: dict[Load, str] = {
    "cpu": "cpu_pct",
    "work": "work",
    "ram": "ram_used_bytes",
    "pressure": "pressure_cpu_pct",
}
TITLES: dict[Load, str] = {
    "cpu": "CPU load, percentage points",
    "work": "work, core-seconds per second",
    "ram": "memory in use, bytes",
    "pressure": "waiting for the processor, percentage points",
}
_BY_COMPLAINT: dict[Complaint, Measure] = {
    "start": "program_start",
    "programs": "program_start",
    "many-open": "wake",
    "heat": "work",
    "everything": "cpu",
}
_FEWEST_TRIES = 3
_FELT = math.log1p(0.10)

State = Literal["under way", "done", "stopped", "disturbed", "conflict", "failed", "interrupted"]
"""done: it came to its end. stopped: somebody ended it. disturbed: too much came between. conflict:
somebody else changed the value. failed: a change did not read back. interrupted: Lumtak ended in
the middle."""


class Measured(Record):
    """One block that was kept, or that something came between."""

    at: str
    """The computer's clock when it began."""
    ended: Ended
    values: dict[Measure, float]
    """The mean of each measure; of a wait the mean of its logarithm in seconds. None where it does
    not count."""
    why: str = ""
    """Why it does not, as a clause."""


class Block(Measured):
    """One of a switchback."""

    pair: int
    """From 0 on."""
    on: bool


class ScreenedBlock(Measured):
    """One of a screening."""

    place: int
    """In the layout, from 0 on."""


class Made(Record):
    """What is known of every trial on a computer, as it is kept with it."""

    format: int = FORMAT
    id: int
    identity: FileName
    address: str
    user: str
    measure: Measure
    """The one that is judged; the others are described."""
    threshold: float
    """In its unit; of a wait in logarithms."""
    could_show: float | None = None
    """The smallest effect that was to be expected to show; None where nobody knew."""
    power_source: str = ""
    power_plan: str = ""
    kernel: str = ""
    begun_at: str
    ended_at: str = ""
    state: State = "under way"
    note: str = ""
    """Why it ended so, for a person."""

    def ended_under(self, power_source: str, power_plan: str, kernel: str) -> bool:
        """Whether it came to its end, under these conditions."""
        then = (self.power_source, self.power_plan, self.kernel)
        return self.state == "done" and then == (power_source, power_plan, kernel)


class Trial(Made, tag_field="kind", tag="switchback"):
    """One switchback on one computer."""

    ref: SettingRef
    title: str
    off: str | None
    """The value before it, and after it unless it was to be kept."""
    on: str | None
    """The value that was tried."""
    design: Design
    blocks: tuple[Block, ...] = ()
    shown: Shown | None = None
    kept_on: bool = False
    """Whether the value that was tried was left in place."""

    def __post_init__(self) -> None:
        """Refuse a document that contradicts itself."""
        if any(not 0 <= block.pair < self.design.pairs for block in self.blocks):
            raise ValueError("a block of a pair that was not planned")

    @property
    def differences(self) -> list[float]:
        """On minus off of each pair that is complete, in order."""
        return differences_of(self.blocks, self.measure)

    def holds(self, power_source: str, power_plan: str, kernel: str, value: str | None) -> bool:
        """Whether its conditions are still those of now, so that its result counts."""
        return self.ended_under(power_source, power_plan, kernel) and value == self.off


class Tried(Record):
    """One of the changes of a screening."""

    ref: SettingRef
    title: str
    off: str | None
    on: str | None


class Screening(Made, tag_field="kind", tag="screening"):
    """Several changes in the same blocks, on one computer."""

    tried: tuple[Tried, ...]
    layout: Layout
    blocks: tuple[ScreenedBlock, ...] = ()
    seen: Seen | None = None

    def __post_init__(self) -> None:
        """Refuse a document that contradicts itself."""
        rows, count = self.layout.rows, len(self.tried)
        effects = count if self.seen is None else len(self.seen.effects)
        whole = rows and len(rows) % self.layout.round_blocks == 0 and effects == count
        if not whole or any(len(row) != count for row in rows):
            raise ValueError("a layout that is not of these changes")
        if any(not 0 <= block.place < len(rows) for block in self.blocks):
            raise ValueError("a block that was not planned")

    @property
    def values(self) -> list[float]:
        """The measure of each block that counts, in the order of the layout."""
        known = {b.place: b.values[self.measure] for b in self.blocks if self.measure in b.values}
        return [known[place] for place in sorted(known)]


Experiment = Trial | Screening


def measure_for(complaint: Complaint) -> Measure:
    """What a complaint is judged by."""
    return _BY_COMPLAINT.get(complaint, "cpu")


def threshold_of(measure: Measure, threshold: Threshold, reading: Reading) -> float:
    """What does not matter in practice, in the unit of a measure."""
    match measure:
        case "cpu" | "pressure":
            return threshold.cpu_pct
        case "work":
            return threshold.cpu_pct / 100 * reading.cores
        case "ram":
            return threshold.ram_pct / 100 * reading.ram_total_bytes
    return _FELT


def values_of(reading: Reading) -> dict[Measure, float]:
    """Of one block: every sample counts, for the washout has passed."""
    series = {measure: series_of(reading, measure) for measure in MEASURED}
    return {measure: sum(values) / len(values) for measure, values in series.items() if values}


def series_of(reading: Reading, measure: Measure) -> list[float]:
    """All values of a measure, in order, of a wait as logarithms of seconds; none where they are
    not whole or too few.
    """
    if column := column_of(measure):
        values = [getattr(s, column, None) for s in reading.samples]
        known = [float(v) for v in values if isinstance(v, int | float)]
        return known if len(known) == len(values) else []
    tries = next((t for felt, t in reading.felt.items() if felt == measure), None)
    if tries is None or len(tries.took) < _FEWEST_TRIES:
        return []
    return [math.log(max(t, 1e-6)) for t in tries.took]


def differences_of(blocks: tuple[Block, ...], measure: Measure) -> list[float]:
    """On minus off of each pair of which both blocks have the measure."""
    sides: dict[int, dict[bool, float]] = {}
    for block in blocks:
        if measure in block.values:
            sides.setdefault(block.pair, {})[block.on] = block.values[measure]
    return [s[True] - s[False] for _, s in sorted(sides.items()) if len(s) == len((True, False))]


def title_of(measure: Measure) -> str:
    """For a person."""
    loads = (title for load, title in TITLES.items() if load == measure)
    waits = (f"{kind.title}, %" for felt, kind in MEASURES.items() if felt == measure)
    return [*loads, *waits][0]


def column_of(measure: Measure) -> str:
    """The column of a reading's samples; empty for a wait."""
    return next((column for load, column in _COLUMNS.items() if load == measure), "")


def told(value: float, measure: Measure) -> float:
    """A difference as people are told it: of a wait in per cent."""
    return value if measure in LOADS else 100 * math.expm1(value)


def why_missing(reading: Reading, measure: Measure) -> str:
    """Why a measure cannot be had here; empty where it can."""
    if measure in values_of(reading):
        return ""
    if column := column_of(measure):
        figure = reading.figure(column)
        return figure.not_measured if isinstance(figure, NotMeasured) else "it was not measured"
    missing = [why.not_measured for felt, why in reading.not_felt.items() if felt == measure]
    return missing[0] if missing else "it was tried too seldom in a block"
