"""A switchback: one change switched on and off in pairs of blocks."""

import threading
from typing import Any

import msgspec

from lumtak.computers.protocol import Computer
from lumtak.core.means import Spread
from lumtak.core.profile import Profile
from lumtak.core.setting import Change
from lumtak.core.trial import Design, could_show, shown
from lumtak.core.trial.record import Block, Measure, Measured, Trial
from lumtak.work.data_folder import DataFolder
from lumtak.work.sampling import WATCHED, Watched
from lumtak.work.trial.experiment import Run
from lumtak.work.trial.flips import Problem

_PAIR = 2


class Switchback(Run[Trial]):
    """One change.

    Args:
        data_folder: see `Run`, as all others.
        change: what is tried.
        keep: while set, the value that was tried stays once the trial has come to its end.
    """

    def __init__(
        self,
        data_folder: DataFolder,
        computer: Computer,
        profile: Profile,
        change: Change,
        measure: Measure,
        planned: Design,
        *,
        keep: threading.Event | None = None,
        watched: Watched = WATCHED,
    ) -> None:
        super().__init__(
            data_folder, computer, profile, [change], measure, planned, watched=watched
        )
        self._change, self._planned, self._keep = change, planned, keep

    def _keeps(self) -> bool:
        return self._keep is not None and self._keep.is_set()

    def _begun(self, common: dict[str, Any], spread: Spread | None) -> Trial:
        return Trial(
            **common,
            **msgspec.structs.asdict(self._tried(self._change)),
            design=self._planned,
            could_show=None if spread is None else could_show(spread, self._planned),
        )

    def _blocks(self, trial: Trial) -> Trial:
        """Pair by pair; a pair in which something came between is made again, in its order."""
        while len(trial.differences) < self._planned.pairs:
            blocks, problem = self._pair(trial, len(trial.differences))
            if problem is not None:
                return self._ended(trial, *problem)
            why = next((b.why for b in blocks if b.why), "")
            if why:
                trial = _with(trial, [msgspec.structs.replace(b, values={}) for b in blocks])
                trial, problem = self._paused(trial, why, "pair", self._planned.pairs)
            elif len(blocks) == _PAIR:
                trial = self._looked(_with(trial, blocks))
                if trial.shown is not None and trial.shown.ends:
                    break
            if not why:
                trial, problem = self._held(trial)
            if problem is not None:
                return self._ended(trial, *problem)
        return self._ended(trial, "done")

    def _pair(self, trial: Trial, pair: int) -> tuple[list[Block], Problem | None]:
        """(its blocks, as far as they were made and nobody holds it, why the trial ends here)."""
        blocks: list[Block] = []
        first = self._planned.on_first[pair]
        for on in (first, not first):
            if blocks and (self._hold.is_set() or blocks[0].why):
                break
            kept = self._measured({self._change.ref: on})
            if not isinstance(kept, Measured):
                return blocks, kept
            blocks.append(Block(pair=pair, on=on, **msgspec.structs.asdict(kept)))
            self._on_block(_with(trial, blocks))
        return blocks, None

    def _looked(self, trial: Trial) -> Trial:
        found = shown(trial.differences, self._planned, trial.threshold)
        trial = self._kept(trial, shown=found)
        self._on_block(trial)
        return trial


def _with(trial: Trial, blocks: list[Block]) -> Trial:
    return msgspec.structs.replace(trial, blocks=(*trial.blocks, *blocks))
