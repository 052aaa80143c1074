"""The load of a simulated computer: the counters of its model."""

from lumtak.computers.simulated.machine import Machine
from lumtak.computers.simulated.watching import SimulatedWatch
from lumtak.core.facts import Process
from lumtak.core.sample import Memory, Snapshot
from lumtak.core.units import MIB
from lumtak.errors import ComputerError

_ENDING_S = 2.0


class SimulatedLoad:
    """See `Load`.

    Args:
        machine: of the computer.
    """

    def __init__(self, machine: Machine) -> None:
        self._machine = machine

    def sample(self, *, memory: bool = False) -> Snapshot:
        """The model's counters."""
        model = self._machine.model
        used = model.used_mib() * MIB
        held = model.held_mib()
        return Snapshot(
            at_s=model.clock_s,
            cores=model.cores,
            busy_s=model.busy_s,
            iowait_s=model.iowait_s,
            steal_s=0.0,
            total_s=model.cores * model.clock_s,
            clock_ratio=model.clock_ratio,
            disk_busy_s=model.disk_busy_s,
            stalled_s={
                "cpu": model.stalled_cpu_s,
                "memory": model.stalled_memory_s,
                "io": model.stalled_io_s,
            },
            ram_total_bytes=int(model.total_mib * MIB),
            ram_used_bytes=used,
            cache_bytes=model.cache_mib * MIB,
            swap_used_bytes=model.swapped_mib * MIB,
            swap_in_bytes=model.swap_in_mib * MIB,
            swap_out_bytes=model.swap_out_mib * MIB,
            cpu_s={key: float(model.cpu_s[i]) for i, key in enumerate(model.keys)},
            memory={
                key: Memory(ram_bytes=float(held[i]) * MIB, how="simulated")
                for i, key in enumerate(model.keys)
                if memory and model.running[i]
            },
        )

    def watch(self, *, every_s: float, program: str = "") -> SimulatedWatch:
        """See `SimulatedWatch`."""
        return SimulatedWatch(self._machine, every_s=every_s, program=program)

    def end_process(self, process: Process, *, force: bool = False, wait_s: float = 5.0) -> bool:
        """Its program ends by the model; one that is stubborn only when forced."""
        place = self._machine.model.place.get(process.consumer)
        if process.untouchable or place is None:
            why = process.untouchable or "it is not there any more"
            raise ComputerError(f"{process.name} is not ended: {why}.", "Choose another process.")
        if not self._machine.model.running[place]:
            return True
        self._machine.wait(min(wait_s, _ENDING_S))
        if self._machine.model.specs[place].stubborn and not force:
            return False
        self._machine.model.stop(process.consumer)
        self._machine.save()
        return True
