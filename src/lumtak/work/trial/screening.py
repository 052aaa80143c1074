"""A screening: several changes switched in the same blocks."""

from collections.abc import Sequence
from typing import Any

import msgspec

from lumtak.computers.protocol import Computer
from lumtak.core.means import Spread
from lumtak.core.profile import Profile
from lumtak.core.setting import Change
from lumtak.core.trial.effects import could_see, seen
from lumtak.core.trial.record import Measure, Measured, ScreenedBlock, Screening, Tried
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
        tried = []
        for change in self._changes:
            item = self._facts.find(change.ref)
            title, off = (item.title, item.value) if item else (str(change.ref), None)
            tried.append(Tried(ref=change.ref, title=title, off=off, on=change.value))
        return Screening(
            **common,
            tried=tuple(tried),
            layout=self._layout,
            could_show=None if spread is None else could_see(spread, self._layout),
        )

    def _blocks(self, trial: Screening) -> Screening:
        """Block by block; one in which something came between is made again."""
        place = again = 0
        while place < len(self._layout.rows):
            row = self._layout.rows[place]
            wanted = {c.ref: on for c, on in zip(self._changes, row, strict=True)}
            kept, problem = self._measured(wanted)
            if problem is not None:
                return self._ended(trial, *problem)
            whole = kept is not None and self._counts(kept)
            if kept is not None:
                trial = self._kept(_with(trial, place, kept, counts=whole))
            if whole:
                place += 1
                if place % self._layout.round_blocks == 0:
                    found = seen(trial.values, self._layout, trial.threshold)
                    trial = self._kept(trial, seen=found)
                    if found is not None and found.ends:
                        self._on_block(trial)
                        return self._ended(trial, "done")
                self._on_block(trial)
            else:
                again += 1
                if again > len(self._layout.rows):
                    why = "as many blocks were disturbed as the whole screening has"
                    return self._ended(trial, "disturbed", why)
                trial = self._paused(trial, [kept] if kept else [], "it is made again")
            trial, problem = self._held(trial)
            if problem is not None:
                return self._ended(trial, *problem)
        return self._ended(trial, "done")


def _with(trial: Screening, place: int, kept: Measured, *, counts: bool) -> Screening:
    """What was disturbed stays to be seen, and does not count."""
    block = ScreenedBlock(
        place=place, at=kept.at, ended=kept.ended, values=kept.values if counts else {}
    )
    return msgspec.structs.replace(trial, blocks=(*trial.blocks, block))
