"""What the user of a simulated computer waits for: docs/SIMULATION.md has the equations."""

import numpy as np

from lumtak.computers.protocol import Life
from lumtak.computers.simulated.machine import Machine
from lumtak.core.felt import Felt, Try

_SPREAD = 0.12
"""Of the logarithm of a time, from one try to the next."""
_SEEK_S = {"spinning": 0.012, "solid": 0.0004}
_LEAST_IDLE = 0.05
_NEW_MIB = 2.0
_PROGRAM_EVERY_S = 30.0


class SimulatedWatch:
    """See `Watch`. Its dice are its own, so that a life is the same whether it is watched or not.

    Args:
        machine: of the computer.
        every_s: from round to round.
        program: the path of its large program, or empty.
    """

    def __init__(self, machine: Machine, *, every_s: float, program: str) -> None:
        self._machine, self._every_s = machine, every_s
        self._program = bool(program)
        self._due_s = machine.model.clock_s + every_s
        self._program_s = machine.model.clock_s

    def tries(self) -> list[Try]:
        """A round, where one is due."""
        now_s = self._machine.model.clock_s
        if now_s < self._due_s:
            return []
        self._due_s += self._every_s
        felt = self._felt_s()
        if not self._program or now_s < self._program_s:
            felt.pop("large_program", None)
        else:
            self._program_s = now_s + _PROGRAM_EVERY_S
        dice = np.random.default_rng([self._machine.state.seed, round(now_s * 1000)])
        spread = np.exp(_SPREAD * dice.standard_normal(len(felt)))
        found = [
            Try(felt=name, at_s=now_s, took=float(took * by))
            for (name, took), by in zip(felt.items(), spread, strict=True)
        ]
        if self._machine.spec.hardware.heat_c:
            heat = self._machine.model.temperature_c
            found.append(Try(felt="temperature", at_s=now_s, took=heat))
        return found

    def _felt_s(self) -> dict[Felt, float]:
        """Seconds that each would take just now, but for chance."""
        model, hardware = self._machine.model, self._machine.spec.hardware
        seek_s, idle = _SEEK_S[hardware.disk], max(_LEAST_IDLE, 1 - model.disk_share)
        pace = model.pace_of_one_more()
        swapped = model.swapped_mib / max(1.0, model.total_mib)

        def start_s(work: float, read_mib: float, seeks: int) -> float:
            read_s = (read_mib / hardware.disk_mib_s + seeks * seek_s) * model.read_ahead
            return work / pace + read_s / idle + 2.0 * swapped

        short = max(0.0, 1 - (1 - model.used_mib() / model.total_mib) / 0.03)
        return {
            "program_start": start_s(0.08, 12.0, 20),
            "large_program": start_s(0.9, 160.0, 240),
            "wake": 0.00006 / min(pace, model.clock_ratio),
            "memory": 0.0005 / pace + short * _NEW_MIB / hardware.disk_mib_s / idle,
            "file_write": (2 * seek_s + 0.004 / hardware.disk_mib_s) / idle,
            "file_read": (seek_s + 0.016 / hardware.disk_mib_s) / idle,
        }

    def life(self) -> tuple[float, Life] | None:
        """Nobody comes near it."""
        hardware = self._machine.spec.hardware
        source = "battery" if hardware.on_battery else "mains"
        return self._machine.model.clock_s, Life(power_source=source)

    def close(self) -> None:
        """Nothing is left."""
