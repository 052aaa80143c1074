"""The disk of a computer: looked through, told, set aside, emptied."""

from collections.abc import Callable, Collection, Iterable, Mapping
from datetime import datetime, timedelta

import msgspec

from lumtak.casebook.job import Job
from lumtak.computers.clutter import ASIDE
from lumtak.computers.protocol import Computer
from lumtak.computers.simulated.heads import head_of
from lumtak.core.actions import Action
from lumtak.core.audit import Audit, Finding, audit
from lumtak.core.clutter import Grown, Pile, Sums, Survey, grown
from lumtak.core.emptying import Doubts, Emptied
from lumtak.core.facts import Facts
from lumtak.core.floor import SpaceTold, floor_bytes
from lumtak.core.plan import Plan
from lumtak.core.profile import Ceilings, Profile
from lumtak.core.record import NotMeasured, Record
from lumtak.core.setting import Change, SettingRef
from lumtak.core.strip import Strip, disk_strip
from lumtak.core.text import plain
from lumtak.errors import ComputerError, UnknownNameError, UsageError
from lumtak.formats.surveys import kept, without_names
from lumtak.journal import Entry
from lumtak.journal.undo_script import refresh_script
from lumtak.work.data_folder import DataFolder
from lumtak.work.open_job import OpenJob
from lumtak.work.trials_kept import kept_trials

_NO_PROFILE = Profile(
    format=1, name="none", title="none", ceilings=Ceilings(cpu_pct=100, ram_pct=100)
)
"""Where no profile is named and no job says one: 5 % of the volume is to stay free."""


def with_survey(facts: Facts, survey: Survey | None) -> Facts:
    """The facts with what each class of clutter was found to hold; names of files stay out."""
    if survey is None:
        return facts
    sums: dict[str, Sums] = {}
    for one in survey.piles:
        sums[one.clutter] = _added(sums.get(one.clutter), one)
    late = _set_aside_since(facts, _seconds(survey.at))
    items = [
        msgspec.structs.replace(i, pile=_counted(i.pile, sums, survey.at))
        if i.pile and not i.pile.held_at and i.pile.clutter not in late
        else i
        for i in facts.items
    ]
    return msgspec.structs.replace(facts, items=tuple(items), survey=without_names(survey))


def _set_aside_since(facts: Facts, at_s: float) -> set[str]:
    """Classes of which the look is no longer true."""
    return {i.pile.clutter for i in facts.items if i.pile and i.pile.held_at > at_s}


def _added(before: Sums | None, one: Sums) -> Sums:
    if before is None:
        return one
    return msgspec.structs.replace(
        before,
        bytes=before.bytes + one.bytes,
        files=before.files + one.files,
        all_bytes=before.all_bytes + one.all_bytes,
        left={w: before.left.get(w, 0) + one.left.get(w, 0) for w in {**before.left, **one.left}},
    )


def _counted(pile: Pile, sums: dict[str, Sums], at: str) -> Pile:
    found = sums.get(pile.clutter)
    if found is None:
        return msgspec.structs.replace(pile, bytes=0.0, files=0, all_bytes=0.0, looked_at=at)
    return msgspec.structs.replace(
        pile,
        bytes=found.bytes,
        files=found.files,
        all_bytes=found.all_bytes,
        left=found.left,
        oldest_at=found.oldest_at,
        looked_at=at,
    )


def _seconds(at: str) -> float:
    try:
        return datetime.fromisoformat(at).timestamp()
    except ValueError:
        return 0.0


def known_facts(data_folder: DataFolder, computer: Computer) -> Facts:
    """What is known of a computer, with what its disk held when it was last looked through."""
    facts = computer.about.facts()
    if facts.survey is not None:
        return msgspec.structs.replace(facts, survey=without_names(facts.survey))
    found = kept(data_folder.surveys, computer.identity, 1)
    return with_survey(facts, found[0] if found else None)


def profile_for(data_folder: DataFolder, identity: str, name: str | None) -> Profile:
    """The profile named, else that of the newest job on this computer, else none of them."""
    if name:
        return data_folder.profile(name)
    found = data_folder.newest_job(identity)
    if found is not None:
        return found.profile
    if identity.startswith("sim-"):
        return data_folder.profile(head_of(identity.removeprefix("sim-")).profile)
    return _NO_PROFILE


def judged(data_folder: DataFolder, facts: Facts, profile: Profile) -> Audit:
    """Everything judged, without weights of load."""
    answers = data_folder.answers(facts.identity)
    trials = kept_trials(data_folder.home, facts.identity)
    return audit(facts, profile, data_folder.catalogue, None, answers, trials)


def storage_of(found: Audit) -> list[Finding]:
    """What is about the disk, the largest first."""
    return [f for f in found.findings if f.pile is not None]


def growth(before: Survey | None, now: Survey) -> list[Grown]:
    """What grew since the last look; nothing where there was none."""
    return [] if before is None else grown(before, now)


def classes_to_set_aside(facts: Facts, names: Iterable[str]) -> tuple[list[Change], list[str]]:
    """(the changes that set these classes aside, what of the names are paths).

    Raises:
        UnknownNameError: there is no such class here.
    """
    by_class = {i.pile.clutter: i for i in facts.items if i.pile and not i.pile.held_at}
    changes, paths = [], []
    for name in names:
        item = by_class.get(name)
        if item is None and "/" not in name:
            raise UnknownNameError(
                "class of clutter here",
                plain(name),
                by_class,
                "`lumtak storage COMPUTER` lists them; a file is named with a slash, as ./film.mkv",
            )
        if item is None:
            paths.append(name)
        else:
            changes.append(Change(ref=item.ref, value=ASIDE))
    return changes, paths


def check_not_held(facts: Facts, profile: Profile, now: datetime, names: Iterable[str]) -> None:
    """What is named is not set aside already, unless more of it came since.

    Raises:
        UsageError: it is, and nothing else of it is there.
    """
    wanted = set(names)
    free = {i.pile.clutter for i in facts.items if i.pile and not i.pile.held_at}
    for held in held_on(facts, profile, now):
        name = held.ref.key
        name = name if name.startswith("/") else name.partition(".")[0]
        if name in wanted and name not in free:
            raise UsageError(
                f"{plain(held.title, 80)} is set aside already, since {held.since:%Y-%m-%d}, and is"
                f" to be emptied from {held.due:%Y-%m-%d} on.",
                f"`lumtak undo` puts it back: {plain(str(held.ref), 200)}",
            )


class Held(Record):
    """Something that is set aside."""

    ref: SettingRef
    title: str
    bytes: float
    files: int
    since: datetime
    due: datetime
    """When it may be emptied, after the profile's number of days."""


def held_on(facts: Facts, profile: Profile, now: datetime) -> list[Held]:
    """What is set aside on a computer, the oldest first."""
    found = []
    for item in facts.items:
        if item.pile and item.pile.held_at:
            since = datetime.fromtimestamp(item.pile.held_at, tz=now.tzinfo)
            size = item.pile.bytes if isinstance(item.pile.bytes, float) else 0.0
            due = since + timedelta(days=profile.storage.aside_days)
            found.append(
                Held(
                    ref=item.ref,
                    title=item.title,
                    bytes=size,
                    files=item.pile.files,
                    since=since,
                    due=due,
                )
            )
    return sorted(found, key=lambda h: (h.since, str(h.ref)))


def empty(
    data_folder: DataFolder,
    computer: Computer,
    held: Held,
    on_progress: Callable[[Emptied], None] = lambda _: None,
    agreed: Collection[int] = (),
) -> Action:
    """Delete what is held, for good, as far as nothing speaks against it; what is deleted cannot be
    put back any more.

    Args:
        data_folder: knows the change that set it aside.
        computer: on which it is held.
        held: what.
        on_progress: told how far it is.
        agreed: numbers of pieces that go though no other copy of them is left.

    Raises:
        ComputerError: it cannot be deleted.
    """
    journal = data_folder.journal
    with journal.writing(computer.identity):
        at = computer.clock.wall().isoformat(timespec="seconds")
        for entry in _of(journal.entries_of(computer), held.ref):
            journal.note(entry, f"emptying was begun on {at[:10]}, and how it ended is not known")
        ended = computer.settings.empty(held.ref, on_progress, agreed)
        at = computer.clock.wall().isoformat(timespec="seconds")
        for entry in _of(journal.entries_of(computer), held.ref):
            if ended.held or ended.left:
                journal.note(entry, f"emptied in part on {at[:10]}; stays: {ended.stays}")
            else:
                journal.stage(entry, "emptied", at, note=f"emptied on {at[:10]}")
        # What is gone is not promised by the undo script any more.
        refresh_script(journal, computer)
    return Action(
        at=at,
        kind="empty",
        target=held.title,
        consumer=str(held.ref),
        ended=not (ended.held or ended.left),
        files=ended.files,
        bytes=ended.bytes,
        note=ended.stays,
    )


def _of(entries: Iterable[Entry], ref: SettingRef) -> list[Entry]:
    return [e for e in entries if e.ref == ref and e.is_open]


def held_by(open_job: OpenJob) -> tuple[list[Held], list[Held]]:
    """(what may be emptied by now, what has to wait) of a job's computer."""
    computer = open_job.computer
    now = computer.clock.wall()
    held = held_on(computer.about.facts(), open_job.job.profile, now)
    return [h for h in held if h.due <= now], [h for h in held if h.due > now]


def doubts_of(open_job: OpenJob, held: Iterable[Held]) -> list[tuple[Held, Doubts]]:
    """What emptying these would delete now, and what speaks against it."""
    try:
        return [(one, open_job.computer.settings.doubts(one.ref)) for one in held]
    except ComputerError:
        open_job.computer.settings.give_back_rights()
        raise


def empty_for(
    open_job: OpenJob,
    held: Iterable[Held],
    agreed: Mapping[SettingRef, Collection[int]] | None = None,
) -> list[Action]:
    """Delete these for good, kept with the job.

    Args:
        open_job: whose computer.
        held: what.
        agreed: pieces of each that go though no other copy of them is left.
    """
    done = []
    try:
        for one in held:
            yes = (agreed or {}).get(one.ref, ())
            done.append(empty(open_job.data_folder, open_job.computer, one, agreed=yes))
            open_job.keep(actions=(*open_job.job.actions, done[-1]))
    finally:
        open_job.computer.settings.give_back_rights()
    return done


def space_told(open_job: OpenJob) -> SpaceTold | None:
    """The system's volume before and now; None where neither space is short nor anything was set
    aside or emptied in this job.
    """
    job, space = open_job.job, open_job.computer.about.space()
    entries = [e for e in open_job.entries() if e.ref.area == "storage"]
    total, free = space.total_bytes, space.free_bytes
    if isinstance(total, NotMeasured) or isinstance(free, NotMeasured):
        return None
    if job.free_bytes is None or not (entries or _storage_matters(job)):
        return None
    held = [e for e in entries if e.is_open]
    return SpaceTold(
        before_bytes=job.free_bytes,
        now_bytes=free,
        floor_bytes=floor_bytes(job.profile, total),
        held_bytes=sum(_aside_bytes(job.plan, e.ref) for e in held),
        due=max((due_on(e.stage_at, job.profile) for e in held), default=""),
    )


def _storage_matters(job: Job) -> bool:
    room = job.audit.room if job.audit else None
    return any(a.kind == "empty" for a in job.actions) or (room is not None and room.is_short)


def _aside_bytes(plan: Plan | None, ref: SettingRef) -> float:
    steps = plan.steps if plan else ()
    return next((s.aside_bytes for s in steps if s.change.ref == ref), 0.0)


def due_on(at: str, profile: Profile) -> str:
    """The day on which what was set aside then is to be emptied; empty where that is no time."""
    try:
        day = datetime.fromisoformat(at) + timedelta(days=profile.storage.aside_days)
    except (ValueError, OverflowError):
        return ""
    return f"{day:%Y-%m-%d}"


def disk_told(open_job: OpenJob) -> tuple[dict[str, Strip], float, list[Grown]]:
    """(the disk's strip when the job was first audited, and now; bytes of the volume; what grew).

    Raises:
        UsageError: nobody looked through the disk.
    """
    job, folder = open_job.job, open_job.data_folder
    facts = known_facts(folder, open_job.computer)
    found = judged(folder, facts, job.profile)
    now = disk_strip(facts, found)
    if now is None or found.room is None:
        raise UsageError(
            "Nobody looked through this disk yet.",
            f"Do that first: lumtak storage {job.address}, or d in the audit.",
        )
    surveys = kept(folder.surveys, job.identity)
    grew = grown(surveys[1], surveys[0]) if len(surveys) > 1 else []
    first = {"at the audit": job.disk} if job.disk is not None else {}
    return {**first, "now": now}, found.room.total_bytes, grew
