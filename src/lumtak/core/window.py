"""The window of a reading: its samples while they come, where they settled, what they add up to."""

import threading

from lumtak.core.felt import Start, Try, gathered
from lumtak.core.means import standard_error, weighed
from lumtak.core.reading import Conditions, ConsumerLoad, Ended, Reading
from lumtak.core.record import Figure, NotMeasured
from lumtak.core.sample import Sample, Snapshot
from lumtak.core.settling import settle, skip_after_start

_ROUNDING_S = 1e-6


class Window:
    """Samples are added by one thread, and looked at by any.

    Whoever reads, draws and ends the reading asks where it settled of the same samples, so that is
    worked out once for each of them.

    Args:
        conditions: under which the reading is taken.
        first: what samples are held against; with memory.
    """

    def __init__(self, conditions: Conditions, first: Snapshot) -> None:
        self.conditions = conditions
        self.looks = [first]
        """The snapshots with memory: of both ends, and some between."""
        self.samples: list[Sample] = []
        self.tries: list[Try] = []
        """Of what the owner waits for."""
        self.late = self.missed = 0
        self.ended: Ended = "complete"
        self._lock = threading.Lock()
        self._cut = (-1, 0, False)

    def add(self, sample: Sample) -> None:
        """Another sample came."""
        self.samples.append(sample)

    def end_at(self, at_s: float, ended: Ended) -> None:
        """Something came between: what was read after this instant does not count."""
        until_s = at_s + _ROUNDING_S
        begun_s = self.looks[0].at_s
        self.samples[:] = [s for s in self.samples if begun_s + s.t_s <= until_s]
        self.tries[:] = [t for t in self.tries if t.at_s <= until_s]
        self.looks[1:] = [look for look in self.looks[1:] if look.at_s <= until_s]
        self.ended = ended

    def cut(self) -> tuple[int, bool]:
        """(index of the first sample that counts, whether the series settled); see `settle`."""
        with self._lock:
            count, first, settled = self._cut
            # The lists are only ever appended to, so their length tells whether anything is new.
            if count != len(self.samples):
                seen = list(self.samples)
                skip = skip_after_start(seen, self.conditions)
                first, settled = settle([s.cpu_pct for s in seen], skip)
                self._cut = (len(seen), first, settled)
            return first, settled

    def reading(
        self,
        *,
        computer: str,
        identity: str,
        taken_at: str,
        interval_s: float,
        times: dict[str, Figure],
        starts: tuple[Start, ...] | NotMeasured = (),
    ) -> Reading:
        """What was read.

        Memory that was looked at before the load settled says how far programs had started, so it
        does not count.
        """
        first, settled = self.cut()
        kept = self.samples[first:]
        settled_at_s = self.looks[0].at_s + (self.samples[first - 1].t_s if first else 0.0)
        # Clocks are read to the microsecond, and sums of steps are not exact.
        looks = [s for s in self.looks if s.memory and s.at_s >= settled_at_s - _ROUNDING_S]
        looks = looks or self.looks[-1:]
        keys = {key for s in kept for key in s.consumers}
        keys.update(*(look.memory for look in looks))
        costs = [_cost(key, kept, looks) for key in keys]
        felt, not_felt = gathered(self.tries, self.looks[0].at_s)
        return Reading(
            computer=computer,
            identity=identity,
            taken_at=taken_at,
            interval_s=interval_s,
            cores=self.looks[-1].cores,
            ram_total_bytes=self.looks[-1].ram_total_bytes,
            ended=self.ended,
            samples=tuple(self.samples),
            settled_from=first,
            settled=settled,
            consumers=tuple(sorted(costs, key=lambda c: (-c.cpu_pct, c.key))),
            conditions=self.conditions,
            late=self.late,
            missed=self.missed,
            times=times,
            felt=felt,
            not_felt=not_felt,
            starts=starts,
        )


def _cost(key: str, kept: list[Sample], ends: list[Snapshot]) -> ConsumerLoad:
    shares = weighed([s.consumers.get(key, 0.0) for s in kept], [s.length_s for s in kept])
    seen = [m for snapshot in ends if (m := snapshot.memory.get(key)) is not None]
    memory: Figure = NotMeasured(not_measured="it was not running when memory was looked at")
    if seen:
        memory = sum(m.ram_bytes for m in seen) / len(seen)
    return ConsumerLoad(
        key=key,
        cpu_pct=sum(shares) / len(shares) if shares else 0.0,
        cpu_se_pct=standard_error(shares),
        ram_bytes=memory,
        ram_how=seen[-1].how if seen else "",
        ram_shared_split=seen[-1].shared_split if seen else True,
    )
