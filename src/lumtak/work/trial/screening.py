"""A screening: several changes switched in the same blocks."""

from collections.abc import Sequence
from typing import Any

import msgspec

from lumtak.computers.protocol import Computer
from lumtak.core.means import Spread
from lumtak.core.profile import Profile
from lumtak.core.setting import Change
from lumtak.core.trial.effects import could_see, seen
from lumtak.core.trial.record import Measure, Measured, ScreenedBlock, Screening
from lumtak.core.trial.screening import Layout
from lumtak.errors import UsageError
from lumtak.work.data_folder import DataFolder
from lumtak.work.sampling import WATCHED, Watched
from lumtak.work.trial.experiment import Run


class ScreeningRun(Run[Screening]):
    """Several changes.

    Args:
        data_folder: see `Run`, as all others.
        changes: what is tried, each setting once.
        layout: for so many of them.

    Raises:
        UsageError: a setting is named twice.
    """

    def __init__(
        self,
        data_folder: DataFolder,
        computer: Computer,
        profile: Profile,
        changes: Sequence[Change],
        measure: Measure,
        layout: Layout,
        *,
        watched: Watched = WATCHED,
    ) -> None:
        super().__init__(data_folder, computer, profile, changes, measure, layout, watched=watched)
        self._layout = layout
        if len({c.ref for c in self._changes}) < len(self._changes):
            raise UsageError(
                "A setting is named twice.", "Name each setting once, with the value to try."
            )

    def _begun(self, common: dict[str, Any], spread: Spread | None) -> Screening:
        return Screening(
            **common,
            tried=tuple(map(self._tried, self._changes)),
            layout=self._layout,
            could_show=None if spread is None else could_see(spread, self._layout),
        )

    def _blocks(self, trial: Screening) -> Screening:
        """Block by block; one in which something came between is made again."""
        while (place := len(trial.values)) < len(self._layout.rows):
            row = self._layout.rows[place]
            wanted = {c.ref: on for c, on in zip(self._changes, row, strict=True)}
            kept = self._measured(wanted)
            if not isinstance(kept, Measured):
                return self._ended(trial, *kept)
            trial = self._looked(_with(trial, place, kept))
            if trial.seen is not None and trial.seen.ends:
                break
            if kept.why:
                most = len(self._layout.rows)
                trial, problem = self._paused(trial, kept.why, "block", most)
            else:
                trial, problem = self._held(trial)
            if problem is not None:
                return self._ended(trial, *problem)
        return self._ended(trial, "done")

    def _looked(self, trial: Screening) -> Screening:
        """After each round what it shows."""
        found = trial.seen
        rounds, over = divmod(len(trial.values), self._layout.round_blocks)
        if not over and rounds > (found.rounds if found else 0):
            found = seen(trial.values, self._layout, trial.threshold)
        trial = self._kept(trial, seen=found)
        self._on_block(trial)
        return trial


def _with(trial: Screening, place: int, kept: Measured) -> Screening:
    block = ScreenedBlock(place=place, **msgspec.structs.asdict(kept))
    return msgspec.structs.replace(trial, blocks=(*trial.blocks, block))
