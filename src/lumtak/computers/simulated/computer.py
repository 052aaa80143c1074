"""A computer that ships with Lumtak: settings change its load through the model only."""

from pathlib import Path

from lumtak.computers.simulated.about import SimulatedAbout
from lumtak.computers.simulated.clock import SimulatedClock
from lumtak.computers.simulated.faults import Fault
from lumtak.computers.simulated.load import SimulatedLoad
from lumtak.computers.simulated.machine import Machine
from lumtak.computers.simulated.settings import SimulatedSettings


class SimulatedComputer:
    """One computer of the fleet.

    Args:
        name: of the fleet.
        folder: where its state is kept.
        seed: of a computer that is switched on for the first time; one that exists keeps its own.
        pace: how many of its seconds pass in one of ours; 0 is as many as it can.
        faults: what goes wrong with it.
        address: as it was named.
    """

    def __init__(
        self,
        name: str,
        folder: Path,
        *,
        seed: int | None = None,
        pace: float = 0.0,
        faults: tuple[Fault, ...] = (),
        address: str = "",
    ) -> None:
        self.machine = Machine(name, folder, seed=seed, pace=pace)
        self.address = address or f"sim:{name}"
        self.identity = f"sim-{name}"
        self.name = self.machine.name
        self.user_name = self.machine.spec.user
        self.clock = SimulatedClock(self.machine)
        self.load = SimulatedLoad(self.machine)
        self.settings = SimulatedSettings(self.machine, self.address, faults)
        self.about = SimulatedAbout(self.machine, self, self.clock)

    def close(self) -> None:
        """Save it."""
        self.machine.save()
