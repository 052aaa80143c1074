"""The audit of a job: items weighed and judged, chosen, asked about."""

from collections.abc import Collection, Iterable, Mapping

import msgspec

from lumtak.casebook.job import Job
from lumtak.computers.protocol import Computer
from lumtak.core.audit import Answer, Audit, Finding, Headline, audit, headline
from lumtak.core.bottleneck import find_bottleneck
from lumtak.core.catalogue import Better
from lumtak.core.facts import Item
from lumtak.core.reading import Reading
from lumtak.core.setting import SettingRef
from lumtak.core.shop import Wrong, taught
from lumtak.core.stance import PROPOSED
from lumtak.core.strip import disk_strip
from lumtak.core.units import counted
from lumtak.errors import ComputerError, UsageError
from lumtak.work.actions import programs_closely
from lumtak.work.open_job import OpenJob
from lumtak.work.storage import known_facts
from lumtak.work.trials_kept import kept_trials


def make_audit(open_job: OpenJob) -> Audit:
    """Every item weighed and judged, on the computer as it is now."""
    facts = known_facts(open_job.data_folder, open_job.computer)
    facts = msgspec.structs.replace(facts, processes=())
    answers = open_job.data_folder.answers(open_job.job.identity)
    found = audit(
        facts,
        open_job.job.profile,
        open_job.data_folder.catalogue,
        open_job.baseline,
        answers,
        kept_trials(open_job.data_folder.home, open_job.job.identity),
    )
    valid = {f.ref for f in found.findings if f.can_choose}
    reading = open_job.after or open_job.baseline
    last = (
        open_job.glance_at(reading, "after" if open_job.job.after else "baseline", found)
        if reading
        else open_job.job.last
    )
    chosen = tuple(c for c in open_job.job.chosen if c.ref in valid)
    free = open_job.job.free_bytes
    if free is None and found.room is not None:
        free = found.room.free_bytes
    disk = open_job.job.disk or disk_strip(facts, found)
    open_job.keep(facts=facts, audit=found, chosen=chosen, last=last, free_bytes=free, disk=disk)
    return found


def headline_now(
    job: Job,
    found: Audit,
    after: Reading | None,
    standing: Collection[SettingRef],
    owed: str,
) -> Headline:
    """The three lines once changes are in place: of now, not of before them.

    Args:
        job: the job.
        found: its audit.
        after: the reading of these changes; None where there is none that counts.
        standing: what is changed.
        owed: what is still needed before they all take effect, as a clause.
    """
    many = counted(len(standing), "change is", "changes are")
    if after is None or job.facts is None:
        then = f"{owed}, then the after reading (5)" if owed else "the after reading is due (5)"
        return Headline(
            (
                f"{many} in place and not measured yet.",
                f"Before: {found.lines[1]}",
                f"Next: {then}.",
            )
            if len(found.lines) > 1
            else (f"{many} in place and not measured yet.", f"Next: {then}.")
        )
    brake = find_bottleneck(job.facts, job.profile, after, None)
    signs = job.facts.signs
    told = headline(found.findings, job.profile, after, brake, standing, signs=signs)
    return Headline(
        (f"With {many.removesuffix(' are').removesuffix(' is')}: {told.lines[0]}", *told.lines[1:]),
        told.first,
    )


def toggle(open_job: OpenJob, ref: SettingRef) -> bool:
    """Choose an item, or take it back; whether it is chosen now.

    Raises:
        UsageError: it cannot be chosen, with the reason.
    """
    finding = open_job.job.audit.find(ref) if open_job.job.audit else None
    if finding is None:
        raise UsageError("There is no audit of this yet.", "Make the audit first.")
    if any(c.ref == ref for c in open_job.job.chosen):
        open_job.keep(chosen=tuple(c for c in open_job.job.chosen if c.ref != ref))
        return False
    if not finding.can_choose:
        raise UsageError(finding.why_not())
    open_job.keep(chosen=(*open_job.job.chosen, finding.change))
    return True


def choose_all_eased(open_job: OpenJob, among: Iterable[Finding] | None = None) -> int:
    """Choose everything the profile does not need, of all or among these.

    Gives how many are chosen then.

    Where all of them are chosen already, they are taken back. What only the owner can know is
    left.
    """
    found = open_job.job.audit
    if found is None:
        return 0
    chosen = {c.ref: c for c in open_job.job.chosen}
    eased = {
        f.ref: f.change for f in among or found.findings if f.stance in PROPOSED and f.can_choose
    }
    if eased.keys() <= chosen.keys():
        chosen = {ref: change for ref, change in chosen.items() if ref not in eased}
    else:
        chosen |= eased
    open_job.keep(chosen=tuple(chosen.values()))
    return len(chosen)


def keep_answers(open_job: OpenJob, answers: Mapping[str, Answer | None]) -> Audit:
    """Keep what the owner said, by address (None: not known yet), and judge anew."""
    at = open_job.computer.clock.wall().isoformat(timespec="seconds")
    for address, answer in answers.items():
        open_job.data_folder.casebook.answer(open_job.job.identity, address, answer, at)
    return make_audit(open_job)


def what_runs(open_job: OpenJob, refs: Iterable[SettingRef]) -> dict[str, tuple[str, ...]]:
    """Lines about these items, by address: what they say of themselves, and what runs of them with
    its commands, users and folders.
    """
    wanted = [str(ref) for ref in refs]
    try:
        facts = open_job.computer.about.facts()
    except ComputerError as error:  # what the owner knows can be asked all the same
        return dict.fromkeys(wanted, (f"what runs cannot be looked at: {error.message}",))
    items = {i.consumer: i for i in facts.items}
    return {
        name: (
            *(_history(open_job.computer, items[name]) if name in items else ()),
            *programs_closely(open_job.computer, facts, name),
        )
        for name in wanted
    }


def _history(computer: Computer, item: Item) -> tuple[str, ...]:
    said = (f"it says of itself: {item.note}",) if item.note else ()
    return (*said, *computer.about.history(item))


def teach(open_job: OpenJob, finding: Finding, title: str, stops: str, better: Better) -> Audit:
    """Let the shop know what an item is for, and judge anew."""
    job, at = open_job.job, open_job.computer.clock.wall().isoformat(timespec="seconds")
    where = f"{job.user}, {at[:10]}, {job.computer_name}"
    open_job.data_folder.teach(taught(finding, title, stops, better, where))
    return make_audit(open_job)


def say_wrong(open_job: OpenJob, finding: Finding, why: str) -> None:
    """Keep that a finding is wrong: with the job, and for the next computer that has the item."""
    job = open_job.job
    wrong = Wrong(
        item=finding.consumer,
        role=finding.role,
        stance=finding.stance,
        why=why,
        at=open_job.computer.clock.wall().isoformat(timespec="seconds"),
        by=job.user,
        computer=job.computer_name,
    )
    open_job.keep(wrong=(*job.wrong, wrong))
    open_job.data_folder.say_wrong(wrong)
