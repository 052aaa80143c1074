"""One job at work: what can be done at each station, and what is kept of it."""

import threading
from collections.abc import Callable, Iterable, Mapping
from typing import Any, Literal

import msgspec

from lumtak.casebook import Job, Station
from lumtak.computers.protocol import Computer, Script
from lumtak.core.actions import Action, Running, Way
from lumtak.core.audit import Answer, Audit, Finding, audit
from lumtak.core.bridge import Bridge, bridge
from lumtak.core.compare import CAUTION_ENDED, Comparison, compare_many
from lumtak.core.conditions import pace_changed
from lumtak.core.load import RECENT_S, Reading
from lumtak.core.plan import Plan, make_plan
from lumtak.core.profile import Profile, Threshold
from lumtak.core.provisional import Provisional
from lumtak.core.record import NotMeasured
from lumtak.core.setting import SettingRef
from lumtak.core.strip import Glance, glance, strips
from lumtak.errors import ComputerError, UsageError
from lumtak.journal import (
    Entry,
    OnStep,
    Outcome,
    Owed,
    Review,
    apply_changes,
    owed_now,
    provisional,
    put_back,
    recover,
    review,
    scripts_left,
    standing_now,
)
from lumtak.work.actions import end_process, programs_closely
from lumtak.work.reading import OnSample, take_reading
from lumtak.work.workshop import Workshop

LATE_S, SETTLED_IN_S = 900.0, RECENT_S
"""A start so long ago is not waited for again; a computer that has been up so long is no longer
starting."""


class Visit:
    """A job with its computer. Every method that changes the job has it on disk when it returns.

    Args:
        workshop: keeps it.
        computer: the job's.
        job: as it was kept.
    """

    def __init__(self, workshop: Workshop, computer: Computer, job: Job) -> None:
        self.workshop = workshop
        self.computer = computer
        self.job = job
        self.save: Callable[[Job], None] = workshop.casebook.save
        """Keeps the job; the workbench puts a saver here that does it in the background, so that no
        key waits for the disk."""
        self.interrupted = Review()
        """What an interruption left on this computer, until `settle`."""
        self._lock = threading.Lock()

    # -- intake ------------------------------------------------------------------------------------

    @classmethod
    def start(cls, workshop: Workshop, computer: Computer, profile: Profile) -> "Visit":
        """A new job: the computer is identified, and what its owner does with it is known."""
        facts = computer.about.facts()
        number, visit = workshop.casebook.new_id(computer.name, computer.identity)
        job = Job(
            id=number,
            address=computer.address,
            identity=computer.identity,
            computer_name=computer.name,
            user=facts.system.user,
            visit=visit,
            profile=profile,
            station="baseline",
            begun_at=computer.clock.wall().isoformat(timespec="seconds"),
            facts=msgspec.structs.replace(facts, processes=()),
        )
        workshop.casebook.save(job)
        return cls(workshop, computer, job)

    @classmethod
    def reopen(cls, workshop: Workshop, job: Job, *, pace: float = 0.0) -> "Visit":
        """A job that was kept goes on.

        What an interruption left is only looked at: `interrupted` says it, `settle` ends it.
        """
        user = job.user if job.address == "local" else None
        computer = workshop.computer(job.address, user=user, pace=pace)
        if computer.identity != job.identity:
            raise UsageError(
                f"The job {job.id} belongs to another computer than this one.",
                "Open it on that computer.",
            )
        visit = cls(workshop, computer, job)
        visit.interrupted = review(workshop.journal, computer)
        return visit

    def settle(self) -> Review:
        """End what was interrupted.

        Each change is marked as what it was found to be, and half-made writes are cleared.
        """
        with self.workshop.journal.writing(self.computer.identity):
            found = recover(self.workshop.journal, self.computer)
        self.interrupted = Review()
        return found

    def _keep(self, **fields: Any) -> None:  # noqa: ANN401 - fields of a job
        with self._lock:
            self.job = msgspec.structs.replace(self.job, **fields)
        self.save(self.job)

    def go(self, station: Station) -> None:
        """The job stands at this station now."""
        if station != self.job.station:
            self._keep(station=station)

    def choose_profile(self, profile: Profile) -> None:
        """Another profile: the audit is made anew."""
        self._keep(profile=profile, audit=None, chosen=())

    # -- baseline and proof ------------------------------------------------------------------------

    def read_baseline(
        self,
        *,
        seconds: float | None = None,
        interval_s: float = 1.0,
        on_sample: OnSample | None = None,
        stop: threading.Event | None = None,
    ) -> Reading:
        """The load before anything is changed."""
        reading = take_reading(
            self.computer, seconds=seconds, interval_s=interval_s, on_sample=on_sample, stop=stop
        )
        self._keep(
            baseline=self.workshop.casebook.add_reading(self.job, "baseline", reading),
            audit=None,
            last=self._glance(reading, "baseline", self.job.audit),
        )
        return reading

    def baselines(self) -> list[tuple[int, Reading]]:
        """(number, reading) of all baselines that were taken, the newest first."""
        return self.workshop.casebook.readings(self.job.id, "baseline")

    def choose_baseline(self, number: int) -> Audit:
        """Judge and compare by this baseline from now on.

        Raises:
            UsageError: this job has no baseline of this number.
        """
        kept = dict(self.baselines())
        if number not in kept:
            numbers = ", ".join(map(str, sorted(kept))) or "none"
            raise UsageError(f"This job has no baseline {number}.", f"It has {numbers}.")
        self._keep(
            baseline=number,
            last=(
                self._glance(kept[number], "baseline", self.job.audit)
                if self.job.after is None
                else self.job.last
            ),
        )
        return self.make_audit()

    def same_point_s(self) -> float:
        """Seconds until this computer has been up as long as it had at the beginning of the
        baseline; 0 where that is past.

        A baseline that began more than a quarter of an hour after a start was of a computer that
        had settled in: then five minutes do.
        """
        baseline = self.baseline
        if baseline is None:
            return 0.0
        system = self.computer.about.system()
        if system.boot_id == baseline.conditions.boot_id:
            return 0.0
        point_s = baseline.conditions.uptime_s
        return max(0.0, (point_s if point_s <= LATE_S else SETTLED_IN_S) - system.uptime_s)

    def read_after(
        self,
        *,
        seconds: float | None = None,
        on_sample: OnSample | None = None,
        stop: threading.Event | None = None,
        at_once: bool = False,
    ) -> Reading:
        """The load now, by the same rule as the baseline, as long after a restart as it.

        Provisional while anything is owed.

        Args:
            seconds: length of the window; None: until the means are sure.
            on_sample: told about each sample.
            stop: ends the wait and the reading.
            at_once: does not wait until the computer has been up as long as for the baseline.
        """
        baseline = self.baseline
        interval_s = baseline.interval_s if baseline else 1.0
        if not at_once:
            self.computer.clock.wait(self.same_point_s(), stop)
        reading = take_reading(
            self.computer, seconds=seconds, interval_s=interval_s, on_sample=on_sample, stop=stop
        )
        number = self.workshop.casebook.add_reading(self.job, "after", reading)
        stood = standing_now(self.workshop.journal, self.computer)
        self._keep(
            after=number, after_stood=stood, last=self._glance(reading, "after", self.job.audit)
        )
        return reading

    def _glance(
        self, reading: Reading, what: Literal["baseline", "after"], found: Audit | None
    ) -> Glance:
        ceilings = self.job.profile.ceilings
        return glance(strips(reading, found, ceilings=ceilings), ceilings, what, reading.taken_at)

    def after_is_due(self) -> bool:
        """Whether changes of this job stand, nothing is owed any more, and no reading that counts
        was taken since.
        """
        job = self.job
        wanted = job.after is None or self.provisional() in {"restart", "login", "changed"}
        return (
            wanted
            and job.baseline is not None
            and bool(self.applied())
            and not self.owed().anything
        )

    def provisional(self) -> Provisional:
        """Why the after reading does not count (yet), from the journal.

        Empty where it does, and where there is none.
        """
        after = self.after
        if after is None:
            return ""
        return provisional(self.workshop.journal, self.computer, after, self.job.after_stood)

    def bridges(self) -> tuple[Bridge, ...]:
        """From the baseline to the after reading, for CPU and RAM.

        None where the job has not come that far.
        """
        job, before, after = self.job, self.baseline, self.after
        if before is None or after is None or job.plan is None:
            return ()
        return bridge(job.plan, before, after, "cpu_pct"), bridge(
            job.plan, before, after, "ram_used_bytes"
        )

    @property
    def baseline(self) -> Reading | None:
        """The baseline, once taken."""
        return self.workshop.casebook.reading(self.job.baseline)

    @property
    def after(self) -> Reading | None:
        """The after reading, once taken."""
        return self.workshop.casebook.reading(self.job.after)

    def pace(self) -> str:
        """Why percentages of the CPU are no measure between both readings.

        Empty where they are, or one is missing.
        """
        before, after = self.baseline, self.after
        return pace_changed(before, after) if before and after else ""

    def comparisons(self) -> tuple[Comparison, ...]:
        """Baseline against after: CPU, RAM, and work where both know it.

        Raises:
            UsageError: a reading is missing or too short.
        """
        before, after = self.baseline, self.after
        if before is None or after is None:
            raise UsageError(
                "A comparison needs a baseline and an after reading.",
                "Take the one that is missing.",
            )
        return compare_readings(before, after, self.job.profile.threshold)

    # -- audit and plan ----------------------------------------------------------------------------

    def make_audit(self) -> Audit:
        """Every item weighed and judged, on the computer as it is now."""
        facts = msgspec.structs.replace(self.computer.about.facts(), processes=())
        answers = self.workshop.answers(self.job.identity)
        found = audit(facts, self.job.profile, self.workshop.catalogue, self.baseline, answers)
        valid = {f.ref for f in found.findings if f.can_choose}
        reading = self.after or self.baseline
        last = (
            self._glance(reading, "after" if self.job.after else "baseline", found)
            if reading
            else self.job.last
        )
        chosen = tuple(c for c in self.job.chosen if c.ref in valid)
        self._keep(facts=facts, audit=found, chosen=chosen, last=last)
        return found

    def toggle(self, ref: SettingRef) -> bool:
        """Choose an item, or take it back; whether it is chosen now.

        Raises:
            UsageError: it cannot be chosen, with the reason.
        """
        finding = self.job.audit.find(ref) if self.job.audit else None
        if finding is None:
            raise UsageError("There is no audit of this yet.", "Make the audit first.")
        if any(c.ref == ref for c in self.job.chosen):
            self._keep(chosen=tuple(c for c in self.job.chosen if c.ref != ref))
            return False
        if not finding.can_choose:
            raise UsageError(finding.why_not())
        self._keep(chosen=(*self.job.chosen, finding.change))
        return True

    def choose_all_eased(self, among: Iterable[Finding] | None = None) -> int:
        """Choose everything the profile does not need, of all or among these.

        Gives how many are chosen then.

        Where all of them are chosen already, they are taken back. What only the owner can know is
        left.
        """
        found = self.job.audit
        if found is None:
            return 0
        chosen = {c.ref: c for c in self.job.chosen}
        eased = {
            f.ref: f.change for f in among or found.findings if f.stance == "ease" and f.can_choose
        }
        if eased.keys() <= chosen.keys():
            chosen = {ref: change for ref, change in chosen.items() if ref not in eased}
        else:
            chosen |= eased
        self._keep(chosen=tuple(chosen.values()))
        return len(chosen)

    def answer(self, answers: Mapping[str, Answer | None]) -> Audit:
        """Keep what the owner said, by address (None: not known yet), and judge anew."""
        at = self.computer.clock.wall().isoformat(timespec="seconds")
        for address, answer in answers.items():
            self.workshop.casebook.answer(self.job.identity, address, answer, at)
        return self.make_audit()

    def select(self, address: str) -> None:
        """Remember where the cursor stands."""
        if address != self.job.cursor:
            self._keep(cursor=address)

    def make_plan(self) -> Plan:
        """The plan of what is chosen."""
        if self.job.audit is None or self.job.facts is None:
            raise UsageError("A plan needs an audit.", "Make the audit first.")
        return make_plan(self.job.facts, self.job.audit, self.job.chosen)

    # -- apply, restart, put back ------------------------------------------------------------------

    def apply(
        self,
        *,
        on_step: OnStep = lambda _: None,
        stop: threading.Event | None = None,
        pause: threading.Event | None = None,
    ) -> list[Outcome]:
        """Carry out the plan.

        What was done leaves the choice, and an older after reading counts no more.
        """
        plan = self.make_plan()
        facts = self.job.facts
        if facts is None or not plan.steps:
            raise UsageError("Nothing is chosen.", "Choose at least one item in the audit.")
        outcomes = apply_changes(
            self.workshop.journal,
            self.computer,
            facts,
            [s.change for s in plan.steps],
            job=self.job.id,
            on_step=on_step,
            stop=stop,
            pause=pause,
        )
        done = {o.change.ref for o in outcomes if o.result in {"done", "as it was"}}
        earlier = tuple(
            s for s in (self.job.plan.steps if self.job.plan else ()) if s.change.ref not in done
        )
        applied = tuple(s for s in plan.steps if s.change.ref in done)
        self._keep(
            plan=Plan(steps=(*earlier, *applied), owed=plan.owed),
            chosen=tuple(c for c in self.job.chosen if c.ref not in done),
            after=None,
            after_stood=None,
        )
        return outcomes

    def entries(self) -> list[Entry]:
        """Changes of this job in the journal, oldest first."""
        return self.workshop.journal.entries(self.job.identity, job=self.job.id)

    def applied(self) -> set[SettingRef]:
        """What this job changed and did not put back."""
        return {e.ref for e in self.entries() if e.is_open}

    def undo_scripts(self) -> list[Script]:
        """What puts everything back without Lumtak."""
        return scripts_left(self.workshop.journal, self.computer)

    def owed(self) -> Owed:
        """Changes that do not show yet."""
        return owed_now(self.workshop.journal, self.computer)

    def restart(self, *, login_only: bool = False) -> None:
        """Restart the computer, or log its user in anew."""
        self.computer.clock.restart(login_only=login_only)

    def put_back(
        self,
        numbers: list[int] | None = None,
        *,
        overwrite: bool = False,
        anywhere: bool = False,
        on_step: OnStep = lambda _: None,
    ) -> list[Outcome]:
        """Put changes of this job back: those numbered, or all.

        With `anywhere`, numbered ones of other jobs too.
        """
        mine = [e.id for e in self.entries() if e.is_open]
        wanted = mine if numbers is None else [n for n in numbers if anywhere or n in mine]
        return put_back(
            self.workshop.journal, self.computer, wanted, overwrite=overwrite, on_step=on_step
        )

    def closely(self, refs: Iterable[SettingRef]) -> dict[str, tuple[str, ...]]:
        """Lines about what runs of these items, by address: its commands, users, folders."""
        wanted = [str(ref) for ref in refs]
        try:
            facts = self.computer.about.facts()
        except ComputerError as error:  # what the owner knows can be asked all the same
            return dict.fromkeys(wanted, (f"what runs cannot be looked at: {error.message}",))
        return {name: programs_closely(self.computer, facts, name) for name in wanted}

    # -- actions -----------------------------------------------------------------------------------

    def end_process(self, chosen: Running, way: Way, *, wait_s: float = 5.0) -> Action:
        """Ask a process to end, or force it; recorded in the job, whatever became of it.

        Raises:
            UsageError: it is never ended.
        """
        if chosen.why_not:
            raise UsageError(
                f"{chosen.title} is not ended: {chosen.why_not}.", "Choose another process."
            )
        action = end_process(self.computer, chosen.process, way, title=chosen.title, wait_s=wait_s)
        self._keep(actions=(*self.job.actions, action))
        return action

    def close(self) -> None:
        """Let the computer go."""
        self.computer.close()


def compare_readings(
    before: Reading, after: Reading, threshold: Threshold | None = None
) -> tuple[Comparison, ...]:
    """CPU, RAM, and work where both readings know it; thresholds from the profile."""
    limits = threshold or Threshold()
    results = [
        _compare(before, after, "cpu_pct", limits.cpu_pct),
        _compare(before, after, "ram_used_bytes", limits.ram_pct / 100 * after.ram_total_bytes),
    ]
    works = [s.work for reading in (before, after) for s in reading.kept]
    if not any(isinstance(w, NotMeasured) for w in works):
        results.append(_compare(before, after, "work", limits.cpu_pct / 100 * after.cores))
    return tuple(results)


def caution_for(*readings: Reading) -> float:
    """By how much the interval is widened for these readings."""
    return CAUTION_ENDED if any(r.ended == "precise" for r in readings) else 1.0


def _compare(before: Reading, after: Reading, column: str, threshold: float) -> Comparison:
    sides = [reading.series(column) for reading in (before, after)]
    return compare_many(
        [sides[0]], [sides[1]], column, threshold=threshold, caution=caution_for(before, after)
    )
