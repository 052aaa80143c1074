"""What every trial does: look, switch, wait, measure, pause, restore."""

import dataclasses
import threading
from abc import ABC, abstractmethod
from collections.abc import Callable, Mapping, Sequence
from typing import Any, Generic, TypeVar

import msgspec

from lumtak.computers.protocol import Computer
from lumtak.core.means import Spread
from lumtak.core.profile import Profile
from lumtak.core.reading import ENDED_WORDS, WHOLE, Reading
from lumtak.core.record import known_word
from lumtak.core.setting import Change, SettingRef
from lumtak.core.text import plain
from lumtak.core.trial.design import Design
from lumtak.core.trial.inference import block_spread
from lumtak.core.trial.record import (
    Measure,
    Measured,
    Screening,
    State,
    Trial,
    Tried,
    series_of,
    threshold_of,
    title_of,
    values_of,
    why_missing,
)
from lumtak.core.trial.screening import Layout
from lumtak.errors import UsageError
from lumtak.work.data_folder import DataFolder
from lumtak.work.sampling import WATCHED, Watched, slept, take_reading
from lumtak.work.trial.flips import Flips, Problem
from lumtak.work.trial.refused import why_refused
from lumtak.work.trial.under_way import alone, note_begun, note_ended
from lumtak.work.trials_kept import keep_trial, next_id

AWAY_S = 60.0
"""So long the trial waits after something came between: who is away for longer is away."""
_LOOK_S = 120.0
"""Of the look before the first block."""
_HELD_S = 0.2
"""From one look whether it goes on to the next, while somebody holds it."""
_STOPPED: Problem = ("stopped", "somebody stopped it")

R = TypeVar("R", Trial, Screening)


class Run(ABC, Generic[R]):
    """One trial, from the first look at the computer to its starting state again.

    Args:
        data_folder: keeps it.
        computer: on which it is made.
        profile: says what does not matter in practice.
        changes: what is tried.
        measure: what is judged.
        planned: the layout.
        watched: what is tried and seen in each block.
    """

    def __init__(
        self,
        data_folder: DataFolder,
        computer: Computer,
        profile: Profile,
        changes: Sequence[Change],
        measure: Measure,
        planned: Design | Layout,
        *,
        watched: Watched = WATCHED,
    ) -> None:
        self._folder, self._computer, self._profile = data_folder, computer, profile
        self._changes, self._measure, self._times = tuple(changes), measure, planned
        self._watched = watched
        self._stop, self._hold = threading.Event(), threading.Event()
        self._on_block: Callable[[R], None] = lambda _: None
        self._again = 0
        """How often something was made again."""

    def run(
        self,
        on_block: Callable[[R], None] = lambda _: None,
        stop: threading.Event | None = None,
        hold: threading.Event | None = None,
    ) -> R:
        """Make it.

        Args:
            on_block: told how it stands, after each block and pause.
            stop: ends it, and restores the starting state.
            hold: while set it waits after the block under way, in the starting state.

        Raises:
            UsageError: it is refused, with the reason, another trial is under way, or it was
                stopped before it began. ComputerError: the computer cannot be read.
        """
        self._on_block = on_block
        self._stop, self._hold = stop or self._stop, hold or self._hold
        computer, folder = self._computer, self._folder
        with alone(folder, computer.identity):
            facts = computer.about.facts()
            why = why_refused(folder, computer, facts, self._changes, self._profile)
            if why:
                raise UsageError(why, "Try another one; `lumtak audit COMPUTER` lists them.")
            self._facts = facts
            reading = self._look()
            trial = self._begun(self._common(reading), self._spread(reading))
            self._flips = Flips(folder.journal, computer, facts, self._changes, trial.id)
            keep_trial(folder.home, trial)
            note_begun(folder, trial)
            try:
                on_block(trial)  # before the first: what it can show
                trial = self._blocks(trial)
            except BaseException:
                self._flips.restore()
                self._flips.let_go()
                raise
            trial = self._finished(trial)
            note_ended(folder, trial.identity)
            return trial

    # -- what kinds of trials do differently -------------------------------------------------------

    @abstractmethod
    def _begun(self, common: dict[str, Any], spread: Spread | None) -> R:
        """The record of it before the first block.

        Args:
            common: what every trial has.
            spread: of the mean of a block; None where the look was too short to say.
        """

    @abstractmethod
    def _blocks(self, trial: R) -> R:
        """Block by block, until it ends."""

    def _keeps(self) -> bool:
        """Whether the values that were tried stay, once it has come to its end."""
        return False

    # -- before the first block --------------------------------------------------------------------

    def _look(self) -> Reading:
        """As it is now: is the measure to be had, and how far do blocks lie apart."""
        seconds = max(self._times.block_s, _LOOK_S)
        reading = take_reading(
            self._computer, seconds=seconds, stop=self._stop, watched=self._watched
        )
        if self._stop.is_set():
            raise UsageError("The trial was stopped before it began.", "Nothing was switched.")
        if why := why_missing(reading, self._measure):
            raise UsageError(
                f"{title_of(self._measure)} cannot be judged here: {why}.",
                "Name another measure with --measure.",
            )
        return reading

    def _spread(self, look: Reading) -> Spread | None:
        """Of the mean of a block: by the look and by the newest baseline, the wider."""
        job = self._folder.newest_job(self._computer.identity)
        readings = [look]
        if job is not None and job.baseline is not None:
            baseline = self._folder.casebook.reading(job.baseline)
            readings += [] if baseline is None else [baseline]
        found = []
        for reading in readings:
            values = series_of(reading, self._measure)
            length = sum(s.length_s for s in reading.samples)
            a_block = len(values) * self._times.block_s / length if length > 0 else 0.0
            found.append(block_spread(values, a_block))
        return max((s for s in found if s is not None), default=None)

    def _common(self, reading: Reading) -> dict[str, Any]:
        system = self._facts.system
        identity = self._computer.identity
        used = [e.trial for e in self._folder.journal.entries(identity)]
        return {
            "id": next_id(self._folder.home, identity, used),
            "identity": identity,
            "address": self._computer.address,
            "user": self._computer.user_name,
            "measure": self._measure,
            "threshold": threshold_of(self._measure, self._profile.threshold, reading),
            "power_source": system.power_source,
            "power_plan": known_word(system.power_plan),
            "kernel": system.kernel,
            "begun_at": self._now(),
        }

    def _tried(self, change: Change) -> Tried:
        """What a change is from and to, and of what."""
        item = self._facts.find(change.ref)
        title, off = (item.title, item.value) if item else (str(change.ref), None)
        return Tried(ref=change.ref, title=title, off=off, on=change.value)

    def _now(self) -> str:
        return self._computer.clock.wall().isoformat(timespec="seconds")

    # -- a block -----------------------------------------------------------------------------------

    def _measured(self, wanted: Mapping[SettingRef, bool]) -> Measured | Problem:
        """What was kept of a block; or why the trial ends here."""
        if self._stop.is_set():
            return _STOPPED
        if problem := self._flips.switch(wanted):
            return problem
        clock, times, stop = self._computer.clock, self._times, self._stop
        watched = dataclasses.replace(self._watched, since_s=clock.now_s())
        begun = clock.wall(), clock.now_s()
        clock.wait(times.washout_s, stop)
        at = self._now()
        if slept(clock, begun):
            return Measured(at=at, ended="slept", values={}, why=ENDED_WORDS["slept"])
        try:
            reading = take_reading(
                self._computer, seconds=times.block_s, stop=stop, watched=watched
            )
        except UsageError:  # before the first sample counted
            if stop.is_set():
                return _STOPPED
            return Measured(at=at, ended="returned", values={}, why="cut before it had begun")
        if stop.is_set() or reading.ended == "stopped":
            return _STOPPED
        if reading.ended == "lost":
            return "failed", "the computer went away"
        why = self._why_not(reading)
        values = {} if why else values_of(reading)
        return Measured(at=at, ended=reading.ended, values=values, why=why)

    def _why_not(self, reading: Reading) -> str:
        """Why a block does not count, as a clause; empty where it does."""
        if reading.ended not in WHOLE:
            return ENDED_WORDS.get(reading.ended, "disturbed")
        was, now = self._facts.system, reading.conditions
        if now.power_source != was.power_source:
            return f"made on {now.power_source}, and the trial began on {was.power_source}"
        then, plan = known_word(was.power_plan), known_word(now.power_plan)
        if plan != then and not any(c.ref.area == "power" for c in self._changes):
            return f"made with the power plan {plan}, and the trial began with {then}"
        missing = why_missing(reading, self._measure)
        return f"without the measure: {missing}" if missing else ""

    # -- what comes between ------------------------------------------------------------------------

    def _paused(self, trial: R, why: str, what: str, most: int) -> tuple[R, Problem | None]:
        """After something came between it waits a minute in the starting state, and says so.

        Args:
            trial: as it is.
            why: a block does not count.
            what: is made again for it.
            most: so often that may be.
        """
        self._again += 1
        if self._again > most:
            many = f"as many {what}s were disturbed as the whole trial has"
            return trial, ("disturbed", f"{many}; the last was {why}")
        if problem := self._flips.restore():
            return trial, problem
        this = "it" if what == "block" else f"its {what}"
        note = f"it pauses for a minute: a block was {plain(why, 200)}; {this} is made again then"
        trial = self._told(trial, note)
        self._computer.clock.wait(AWAY_S, self._stop)
        return self._held(self._kept(trial, note=""))

    def _held(self, trial: R) -> tuple[R, Problem | None]:
        """While somebody holds it, all is as it was before the trial."""
        if not self._hold.is_set() or self._stop.is_set():
            return trial, None
        if problem := self._flips.restore():
            return trial, problem
        trial = self._told(trial, "somebody holds it: all is as it was before, until it goes on")
        while self._hold.is_set() and not self._stop.wait(_HELD_S):
            pass
        return self._kept(trial, note=""), (_STOPPED if self._stop.is_set() else None)

    # -- what is kept ------------------------------------------------------------------------------

    def _told(self, trial: R, note: str) -> R:
        trial = self._kept(trial, note=note)
        self._on_block(trial)
        return trial

    def _kept(self, trial: R, **fields: Any) -> R:  # noqa: ANN401 - fields of a trial
        trial = msgspec.structs.replace(trial, **fields)
        keep_trial(self._folder.home, trial)
        return trial

    def _ended(self, trial: R, state: State, note: str = "") -> R:
        return self._kept(trial, state=state, note=plain(note, 400), ended_at=self._now())

    def _finished(self, trial: R) -> R:
        """The starting state again, or the values that were tried where that was asked for."""
        keep = trial.state == "done" and self._keeps()
        problem = self._flips.restore() if not keep else self._switched_on()
        self._flips.let_go()
        if problem is not None:
            return self._kept(trial, state=problem[0], note=plain(problem[1], 400))
        return self._kept(trial, kept_on=True) if keep else trial

    def _switched_on(self) -> Problem | None:
        return self._flips.switch({c.ref: True for c in self._changes})
