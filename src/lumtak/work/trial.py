"""A switchback trial on a computer: a change switched on and off in random order, and measured.

Each time it is switched on is a change in the journal, each time it is switched off that change is
put back; so a kill at any moment leaves what every kill of a change leaves.
"""

import threading
from collections.abc import Callable, Collection
from typing import Any

import msgspec

from lumtak.computers.protocol import Computer
from lumtak.core.facts import Facts, Fixed, Item
from lumtak.core.profile import Profile
from lumtak.core.reading import ENDED_WORDS, WHOLE, Reading
from lumtak.core.record import NotMeasured
from lumtak.core.setting import UNSET_WORD, Change
from lumtak.core.text import plain
from lumtak.core.trial import Design, could_show, shown
from lumtak.core.trial.record import (
    Block,
    Measure,
    State,
    Trial,
    column_of,
    threshold_of,
    title_of,
    values_of,
    why_missing,
)
from lumtak.errors import ComputerError, LumtakError, UnknownNameError, UsageError
from lumtak.journal import apply_changes, put_back
from lumtak.work.data_folder import DataFolder
from lumtak.work.sampling import WATCHED, Watched, take_reading
from lumtak.work.storage import judged
from lumtak.work.trials import alone, keep_trial, next_id, note_begun, note_ended

AWAY_S = 60.0
"""So long the trial waits after something came between."""
_NOT_TRIED = {"storage": "it is about the owner's data", "upkeep": "it has no load to measure"}
_LOOK_S = 60.0
"""Of the look before the first block."""
_SHOWS = {"login": "a new login", "restart": "a restart"}
OnBlock = Callable[[Trial], None]


def why_refused(
    data_folder: DataFolder, computer: Computer, facts: Facts, change: Change, profile: Profile
) -> str:
    """Why this change is not tried, as a sentence; empty where it may be.

    Raises:
        UnknownNameError: the computer has no such setting.
    """
    item = facts.find(change.ref)
    if item is None:
        known = (str(i.consumer) for i in facts.items)
        raise UnknownNameError("setting", str(change.ref), known, "`lumtak audit COMPUTER` lists.")
    why = _why_not(item, change)
    if why:
        return f"{plain(item.title, 80)} is not tried: {why}"
    found = judged(data_folder, facts, profile).find(change.ref)
    if found is not None and found.stance == "guarded":
        return f"{plain(item.title, 80)} is guarded: {found.reason}"
    held = [e for e in data_folder.journal.entries(computer.identity) if e.is_open]
    if any(e.ref == change.ref for e in held):
        return f"{plain(item.title, 80)} is held by a change that is in place; put that back first."
    return ""


def _why_not(item: Item, change: Change) -> str:
    if change.ref.area in _NOT_TRIED:
        return f"{_NOT_TRIED[change.ref.area]}."
    if isinstance(item.setting, Fixed):
        return f"it cannot be changed here: {item.setting.needed}."
    if item.setting.shows != "now":
        return f"it shows only after {_SHOWS[item.setting.shows]}."
    if problem := item.setting.problem_with(change.value):
        return problem
    now = UNSET_WORD if item.value is None else item.value
    if item.value == change.value:
        return f"it is {now} already."
    return ""


class Switchback:
    """One trial.

    Args:
        data_folder: keeps it.
        computer: on which it is made.
        profile: says what does not matter in practice.
        change: what is tried.
        measure: what is judged.
        planned: the layout.
        keep_on: whether the value that was tried stays, once the trial has come to its end.
        watched: what is tried and seen in each block.
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
        keep_on: bool = False,
        watched: Watched = WATCHED,
    ) -> None:
        self._folder, self._computer, self._change = data_folder, computer, change
        self._profile, self._planned, self._measure = profile, planned, measure
        self._keep_on, self._watched = keep_on, watched
        self._number, self._off_value = 0, change.value
        self._open: int | None = None
        """Place in the journal of the change that switches it on, while it is on."""

    def run(self, on_block: OnBlock = lambda _: None, stop: threading.Event | None = None) -> Trial:
        """From the first look at the computer to its starting state again.

        Raises:
            UsageError: it is refused, with the reason, or another trial is under way.
            ComputerError: the computer cannot be read.
        """
        with alone(self._folder, self._computer.identity):
            facts = self._computer.about.facts()
            why = why_refused(self._folder, self._computer, facts, self._change, self._profile)
            if why:
                raise UsageError(why, "Try another one; `lumtak audit COMPUTER` lists them.")
            self._facts = facts
            trial = self._begun(self._look())
            note_begun(self._folder, trial)
            try:
                trial = self._blocks(trial, on_block, stop or threading.Event())
            except BaseException:
                self._restore(trial, keep=False)
                raise
            keep = self._keep_on and trial.state == "done"
            trial = self._restore(trial, keep=keep)
            note_ended(self._folder, trial.identity)
            return trial

    # -- before the first block --------------------------------------------------------------------

    def _look(self) -> Reading:
        """A first block as it is: is the measure to be had, and what could be shown."""
        seconds = max(self._planned.block_s, _LOOK_S)
        reading = take_reading(self._computer, seconds=seconds, watched=self._watched)
        if why := why_missing(reading, self._measure):
            raise UsageError(
                f"{title_of(self._measure)} cannot be judged here: {why}.",
                "Name another measure with --measure.",
            )
        return reading

    def _begun(self, reading: Reading) -> Trial:
        system, ref = self._facts.system, self._change.ref
        item = self._facts.find(ref)
        plan = system.power_plan
        column = column_of(self._measure)
        series = reading.series(column) if column else []
        trial = Trial(
            id=next_id(self._folder, self._computer.identity),
            identity=self._computer.identity,
            address=self._computer.address,
            user=self._computer.user_name,
            ref=ref,
            title=item.title if item else str(ref),
            off=item.value if item else None,
            on=self._change.value,
            measure=self._measure,
            threshold=threshold_of(self._measure, self._profile.threshold, reading),
            design=self._planned,
            could_show=could_show(series, reading.interval_s, self._planned),
            power_source=system.power_source,
            power_plan="" if isinstance(plan, NotMeasured) else plan,
            kernel=system.kernel,
            begun_at=self._now(),
        )
        keep_trial(self._folder, trial)
        self._number, self._off_value = trial.id, trial.off
        return trial

    def _now(self) -> str:
        return self._computer.clock.wall().isoformat(timespec="seconds")

    # -- the blocks --------------------------------------------------------------------------------

    def _blocks(self, trial: Trial, on_block: OnBlock, stop: threading.Event) -> Trial:
        """Pair by pair; a pair in which something came between is made again, in its order."""
        pair = again = 0
        while pair < self._planned.pairs:
            blocks: list[Block] = []
            first = self._planned.on_first[pair]
            for on in (first, not first):
                block, problem = self._block(pair, on=on, stop=stop)
                if problem is not None:
                    return self._ended(trial, problem[0], problem[1])
                if block is None:
                    break
                blocks.append(block)
            trial = self._kept(trial, blocks)
            on_block(trial)
            if len(blocks) == len((first, not first)) and all(map(self._counts, blocks)):
                pair += 1
                found = shown(trial.differences, self._planned, trial.threshold)
                trial = self._kept(trial, (), shown=found)
                on_block(trial)
                if found.ends:
                    return self._ended(trial, "done")
                continue
            again += 1
            if again > self._planned.pairs:
                why = "as many pairs were disturbed as the whole trial has"
                return self._ended(trial, "disturbed", why)
            trial = self._paused(self._without(trial, pair), blocks)
            on_block(trial)
            self._computer.clock.wait(AWAY_S, stop)
            trial = self._kept(trial, (), note="")
        return self._ended(trial, "done")

    def _counts(self, block: Block) -> bool:
        return block.ended in WHOLE and self._measure in block.values

    def _block(
        self, pair: int, *, on: bool, stop: threading.Event
    ) -> tuple[Block | None, tuple[State, str] | None]:
        """(what was kept, why the trial ends here); neither where it has to be made again."""
        if problem := self._switch(on=on):
            return None, problem
        self._computer.clock.wait(self._planned.washout_s, stop)
        if stop.is_set():
            return None, ("stopped", "somebody stopped it")
        at = self._now()
        try:
            reading = take_reading(
                self._computer, seconds=self._planned.block_s, stop=stop, watched=self._watched
            )
        except UsageError:  # cut before the first sample, by what came between or by a stop
            return None, (("stopped", "somebody stopped it") if stop.is_set() else None)
        if stop.is_set() or reading.ended == "stopped":
            return None, ("stopped", "somebody stopped it")
        if reading.ended == "lost":
            return None, ("failed", "the computer went away")
        return Block(pair=pair, on=on, at=at, ended=reading.ended, values=values_of(reading)), None

    def _switch(self, *, on: bool) -> tuple[State, str] | None:
        """Into a state; why the trial has to end, where that did not work or somebody else was at
        it.
        """
        if on == (self._open is not None):
            return self._stands(on=on)
        if not on:
            return self._off()
        (outcome,) = apply_changes(
            self._folder.journal,
            self._computer,
            self._facts,
            [self._change],
            trial=self._number,
            keep_rights=True,
        )
        if outcome.id is not None and outcome.result != "failed":
            self._open = outcome.id
        if outcome.result == "done":
            return None
        if outcome.result == "as it was":
            return "conflict", "somebody else set the value that was to be tried"
        state: State = "conflict" if outcome.result == "conflict" else "failed"
        return state, outcome.note

    def _off(self) -> tuple[State, str] | None:
        if self._open is None:
            return None
        (outcome,) = put_back(self._folder.journal, self._computer, [self._open], keep_rights=True)
        if outcome.result in {"done", "as it was"}:
            self._open = None
            return None
        state: State = "conflict" if outcome.result == "conflict" else "failed"
        return state, outcome.note

    def _stands(self, *, on: bool) -> tuple[State, str] | None:
        """Whether it is still in the state in which it was left."""
        try:
            now = self._computer.settings.read(self._change.ref)
        except ComputerError as error:
            return "failed", error.message
        if now.value == (self._change.value if on else self._off_value):
            return None
        return "conflict", f"somebody changed it to {now.word} meanwhile"

    # -- what is kept ------------------------------------------------------------------------------

    def _kept(self, trial: Trial, blocks: Collection[Block], **fields: Any) -> Trial:  # noqa: ANN401 - fields of a trial
        trial = msgspec.structs.replace(trial, blocks=(*trial.blocks, *blocks), **fields)
        keep_trial(self._folder, trial)
        return trial

    def _paused(self, trial: Trial, blocks: Collection[Block]) -> Trial:
        """What came between, and what becomes of it, to be said while it waits."""
        cut = next((b.ended for b in blocks if b.ended not in WHOLE), None)
        why = ENDED_WORDS.get(cut, "disturbed") if cut else "without the measure"
        note = f"it pauses for a minute: a block was {why}; its pair is made again then"
        return self._kept(trial, (), note=note)

    def _without(self, trial: Trial, pair: int) -> Trial:
        """The blocks of a pair that is made again do not count; they stay to be seen."""
        blocks = tuple(
            msgspec.structs.replace(b, values={}) if b.pair == pair else b for b in trial.blocks
        )
        return msgspec.structs.replace(trial, blocks=blocks)

    def _ended(self, trial: Trial, state: State, note: str = "") -> Trial:
        return self._kept(trial, (), state=state, note=plain(note, 400), ended_at=self._now())

    def _restore(self, trial: Trial, *, keep: bool) -> Trial:
        """The starting state, or the value that was tried where that was asked for."""
        try:
            problem = self._switch(on=True) if keep else self._off()
        except LumtakError as error:
            problem = ("failed", str(error))
        finally:
            self._computer.settings.give_back_rights()
        if problem is not None:
            return self._kept(trial, (), state=problem[0], note=plain(problem[1], 400))
        return self._kept(trial, (), kept_on=keep)
