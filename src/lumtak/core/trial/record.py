"""What is kept of a trial: its design, its blocks, what came of it."""

import math
from typing import Literal, get_args

from lumtak.core.felt import MEASURES, TRIED, Complaint, Felt
from lumtak.core.profile import Threshold
from lumtak.core.reading import Ended, Reading
from lumtak.core.record import FileName, NotMeasured, Record
from lumtak.core.setting import SettingRef
from lumtak.core.trial.design import Design
from lumtak.core.trial.inference import Shown

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


class Block(Record):
    """One block that was kept, or that something came between."""

    pair: int
    """From 0 on."""
    on: bool
    at: str
    """The computer's clock when it began."""
    ended: Ended
    values: dict[Measure, float]
    """The mean of each measure; of a wait the mean of its logarithm in seconds."""


class Trial(Record):
    """One trial on one computer, as it is kept with it."""

    format: int = FORMAT
    id: int
    identity: FileName
    address: str
    user: str
    ref: SettingRef
    title: str
    off: str | None
    """The value before it, and after it unless it was to be kept."""
    on: str | None
    """The value that was tried."""
    measure: Measure
    """The one that is judged; the others are described."""
    threshold: float
    """In its unit; of a wait in logarithms."""
    design: Design
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
    blocks: tuple[Block, ...] = ()
    shown: Shown | None = None
    kept_on: bool = False
    """Whether the value that was tried was left in place."""

    @property
    def differences(self) -> list[float]:
        """On minus off of each pair that is complete, in order."""
        return differences_of(self.blocks, self.measure)

    def holds(self, power_source: str, power_plan: str, kernel: str, value: str | None) -> bool:
        """Whether its conditions are still those of now, so that its result counts."""
        then = (self.power_source, self.power_plan, self.kernel)
        return (
            self.state == "done"
            and then == (power_source, power_plan, kernel)
            and (value == self.off)
        )


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
    found: dict[Measure, float] = {}
    for load, column in _COLUMNS.items():
        values = [getattr(s, column, None) for s in reading.samples]
        known = [float(v) for v in values if isinstance(v, int | float)]
        if known and len(known) == len(values):
            found[load] = sum(known) / len(known)
    for felt in TRIED:
        tries = reading.felt.get(felt)
        if felt in MEASURED and tries is not None and len(tries.took) >= _FEWEST_TRIES:
            logs = [math.log(max(t, 1e-6)) for t in tries.took]
            found[felt] = sum(logs) / len(logs)
    return found


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
