"""The owner's own files: looked through, decided about by a person, set aside as they said."""

import hashlib
import threading
from collections.abc import Callable, Iterable, Mapping, Sequence
from datetime import datetime
from pathlib import Path

import msgspec

from lumtak.casebook.job import Job
from lumtak.computers.clutter import ASIDE, KEPT, item_of, next_key
from lumtak.computers.protocol import Computer
from lumtak.core.clutter import CHOSEN, PATH, Pile
from lumtak.core.deciding import (
    CHANGED_SINCE,
    Content,
    Decided,
    Decision,
    Elsewhere,
    Seen,
    Thing,
    chosen,
    goes,
    in_groups,
    is_loose,
    latest,
    lost_if_emptied,
    lost_in_words,
    same_thing,
    standing,
    things,
    to_go,
)
from lumtak.core.facts import Facts
from lumtak.core.owned import Chosen, Comparing, CopiesFound, CopyGroup, title_of_chosen
from lumtak.core.record import Record
from lumtak.core.setting import Change
from lumtak.core.text import plain
from lumtak.core.units import counted
from lumtak.errors import BadFileError, UsageError
from lumtak.formats.readings import decode_file
from lumtak.storage import read_handed_in, write_whole
from lumtak.work.data_folder import DataFolder
from lumtak.work.storage import Held
from lumtak.work.surveys import surveys_of

_MOST_ALONE = 40
"""So many things get a change each; more become one."""
_MOST_SEARCHES, _LARGEST, _TITLE = 12, 1 << 26, 60


def look_for_copies(
    data_folder: DataFolder,
    computer: Computer,
    folder: str,
    least_bytes: int,
    on_progress: Callable[[Comparing], None],
    stop: threading.Event,
) -> CopiesFound:
    """Files of which there are several; kept, so that one of each always stays.

    Raises:
        StoppedError: it was told to stop; ComputerError: the folder cannot be looked through.
    """
    before = kept_copies(data_folder, computer)
    found = computer.about.copies(folder, least_bytes, on_progress, stop)
    here = data_folder.home / "copies" / computer.identity
    name = hashlib.sha256(found.top.encode("utf-8", "surrogatepass")).hexdigest()[:16]
    # While a copy is set aside, the one that stays for it is not forgotten by a new search.
    seen = {group.copies for group in found.groups}
    lonely = [g for g in before if g.count == 1] if _holds_own(computer) else []
    kept = msgspec.structs.replace(
        found, groups=(*found.groups, *(g for g in lonely if g.copies not in seen))
    )
    data_folder.keep_document(here / f"{name}.json", kept)
    for old in sorted(here.glob("*.json"), key=lambda p: -p.stat().st_mtime)[_MOST_SEARCHES:]:
        old.unlink(missing_ok=True)
    return found


def _holds_own(computer: Computer) -> bool:
    """Whether something of the owner's own is set aside."""
    piles = [i.pile for i in computer.about.facts().items if i.pile and i.pile.held_at]
    return any(pile.clutter in {PATH, CHOSEN} for pile in piles)


def kept_copies(data_folder: DataFolder, computer: Computer) -> list[CopyGroup]:
    """What the searches on this computer found, as far as it still stands; a file that is none is
    passed over.
    """
    here = data_folder.home / "copies" / computer.identity
    found: dict[tuple[tuple[str, ...], ...], CopyGroup] = {}
    for path in sorted(here.glob("*.json")) if here.is_dir() else ():
        try:
            data = read_handed_in(path, _LARGEST, "search for copies")
            one = decode_file(data, path, CopiesFound, "search for copies", 1, "Search again.")
        except BadFileError:
            continue
        found.update({group.copies: group for group in one.groups})
    names = [n for copies in found for copy in copies for n in copy]
    return standing(found.values(), computer.about.standing(names))


def things_of(
    data_folder: DataFolder, computer: Computer, groups: Iterable[CopyGroup] | None = None
) -> list[Thing]:
    """What the owner may want to decide about, grouped by folder and kind.

    Args:
        data_folder: keeps what was looked through.
        computer: whose.
        groups: of copies, where they are at hand.

    Raises:
        UsageError: nobody looked through the disk.
    """
    # A model knows what it holds; a real disk as it was last looked through.
    survey = (
        computer.about.facts().survey
        if computer.address.startswith("sim:")
        else surveys_of(data_folder, computer)
    )
    if survey is None:
        raise UsageError(
            "Nobody looked through this disk yet.",
            f"Do that first: lumtak storage {computer.address}, or d in the audit.",
        )
    groups = kept_copies(data_folder, computer) if groups is None else groups
    about = computer.about
    found = things(survey, groups, about.folders()["home"], about.last_opened())
    there = about.standing([thing.path for thing in found])
    return in_groups(_as_now(thing, there[thing.path]) for thing in found if thing.path in there)


def _as_now(thing: Thing, seen: Seen) -> Thing:
    """With what it takes on the disk now; the look through the disk may be old."""
    changed = seen.changed_at if thing.kind != "folder" else thing.changed_at
    return msgspec.structs.replace(thing, bytes=seen.bytes, changed_at=changed, mark=seen.mark)


def marked(computer: Computer, found: Sequence[Thing], agreed: Iterable[str]) -> list[Thing]:
    """What is to go, with marks that have something of the content: all of what may be an only
    copy.

    Raises:
        ComputerError: it cannot be looked at.
    """
    alone = frozenset(agreed)
    content: dict[str, Content] = {t.path: 2 if t.path in alone else 1 for t in found}
    there = computer.about.standing([t.path for t in found], content)
    return [
        msgspec.structs.replace(thing, mark=there[thing.path].mark)
        for thing in found
        if thing.path in there and same_thing(there[thing.path].mark, thing.mark)
    ]


def job_here(data_folder: DataFolder, computer: Computer) -> Job:
    """The newest job on a computer: what its owner says is kept with it.

    Raises:
        UsageError: there is none.
    """
    found = data_folder.newest_job(computer.identity)
    if found is None:
        raise UsageError(
            "What the owner says is kept with a job, and there is none on this computer.",
            f"Begin one: lumtak job start {computer.address}",
        )
    return data_folder.casebook.job(found.id)


def said_of(
    found: Iterable[Thing],
    decision: Decision,
    at: datetime,
    *,
    rule: str = "",
    agreed: Iterable[str] = (),
) -> tuple[Decided, ...]:
    """What a person said of these things."""
    yes = frozenset(agreed)
    return tuple(
        Decided(
            path=thing.path,
            decision=decision,
            at=at.isoformat(timespec="seconds"),
            rule=rule,
            bytes=thing.bytes,
            alone_agreed=thing.path in yes,
            mark=thing.mark,
        )
        for thing in found
    )


def with_said(job: Job, said: Iterable[Decided]) -> Job:
    """The job with what was said; of one thing the latest counts."""
    now = latest(job.decided)
    for one in said:
        before = now.get(one.path)
        # Saying the same once more takes back no yes that was given for it.
        agreed = before is not None and before.alone_agreed and one.decision == before.decision
        now[one.path] = msgspec.structs.replace(one, alone_agreed=one.alone_agreed or agreed)
    return msgspec.structs.replace(job, decided=tuple(now.values()))


def needing_yes(computer: Computer, paths: Sequence[str]) -> dict[str, tuple[tuple[str, str], ...]]:
    """Those of which setting aside takes a yes of its own, each with what of it may be an only
    copy.

    Raises:
        ComputerError: they cannot be looked at.
    """
    return computer.about.only_copies(paths).needing_yes(paths)


class Choice(Record):
    """What a person named, as changes."""

    facts: Facts
    """With it."""
    changes: tuple[Change, ...]
    keys: dict[str, str]
    """Under which key each path is set aside."""
    not_searched: int = 0
    """Files for which it was not looked everywhere whether the same stands elsewhere."""
    changed: tuple[str, ...] = ()
    """Paths of what is not as it was when it was decided about: it stays."""


def to_choose(
    data_folder: DataFolder,
    computer: Computer,
    facts: Facts,
    paths: Sequence[str],
    groups: Iterable[Sequence[str]] = (),
    marks: Mapping[str, str] | None = None,
) -> Choice:
    """What a person named, as changes: one for each, or for each group of them.

    Args:
        data_folder: keeps what was looked through.
        computer: whose.
        facts: of it.
        paths: that were named.
        groups: what of them gets one change together.
        marks: by what some were told from others of their names when they were decided about.

    Raises:
        UsageError: nothing would stay of something of which there are copies.
    """
    groups_known, left = _with_beside(computer, paths, kept_copies(data_folder, computer))
    whole = msgspec.structs.replace(chosen(paths, groups_known), marks=tuple((marks or {}).items()))
    alone, together = _parted(paths, groups)
    held = {i.key for i in facts.items if i.pile and i.pile.held_at}
    items = [item_of(path, _pile(PATH), plain(path, _TITLE), KEPT) for path in alone]
    parts = [_part(whole, [path]) for path in alone]
    keys = {path: path for path in alone}
    for group in together:
        key = next_key(CHOSEN, held)
        held.add(key)
        keys.update(dict.fromkeys(group, key))
        items.append(item_of(key, _pile(CHOSEN), title_of_chosen(len(group)), KEPT))
        parts.append(_part(whole, group))
    for item, part in zip(items, parts, strict=True):
        computer.settings.choose(item.ref, part)
    return Choice(
        facts=msgspec.structs.replace(facts, items=(*facts.items, *items)),
        changes=tuple(Change(ref=item.ref, value=ASIDE) for item in items),
        keys=keys,
        not_searched=left,
    )


def _with_beside(
    computer: Computer, paths: Sequence[str], groups: list[CopyGroup]
) -> tuple[list[CopyGroup], int]:
    """(groups of copies, with what stands elsewhere of what is in none that is known; of how many
    that was not looked for everywhere).
    """
    known = {name for group in groups for names in group.copies for name in names}
    wanted = [path for path in paths if path not in known]
    if not wanted:
        return groups, 0
    found, chosen_too = computer.about.beside(wanted), frozenset(paths)
    # What stands elsewhere for a while only makes no copies of it.
    lasting = (
        g
        for g in found.groups
        if any(not is_loose(n) or goes(n, chosen_too) for copy in g.copies[1:] for n in copy)
    )
    return [*groups, *lasting], found.left


def _parted(
    paths: Sequence[str], groups: Iterable[Sequence[str]]
) -> tuple[list[str], list[Sequence[str]]]:
    """(what gets a change each, what gets one together)."""
    together = [group for group in groups if group]
    inside = {path for group in together for path in group}
    alone = [path for path in paths if path not in inside]
    return ([], [*together, alone]) if len(alone) > _MOST_ALONE else (alone, together)


def _pile(name: str) -> Pile:
    return Pile(clutter=name, disposal="asked", sorts="own")


def _part(whole: Chosen, paths: Sequence[str]) -> Chosen:
    """What of the copies is about these paths, or below them."""
    wanted = frozenset(paths)
    mine = tuple(one for one in whole.copies if goes(one[0], wanted))
    marks = tuple(one for one in whole.marks if one[0] in wanted)
    return Chosen(paths=tuple(paths), copies=mine, marks=marks)


def to_set_aside_as_said(
    data_folder: DataFolder, computer: Computer, facts: Facts, decided: Mapping[str, Decided]
) -> Choice:
    """The same, of everything that the owner said is to be set aside and that still stands.

    Raises:
        UsageError: nothing is; ComputerError: it cannot be told what is an only copy.
    """
    wanted, changed = to_go(decided, things_of(data_folder, computer))
    yes = needing_yes(computer, list(wanted))
    going = [d for p, d in wanted.items() if p not in yes or d.alone_agreed]
    if not going:
        other = f" {counted(len(changed), 'thing')} {CHANGED_SINCE}." if changed else ""
        raise UsageError(
            f"Nothing is left that the owner wants set aside.{other}",
            f"`lumtak decide {computer.address}` lists what they said.",
        )
    by_rule: dict[str, list[str]] = {}
    for one in going:
        by_rule.setdefault(one.rule, []).append(one.path)
    by_rule.pop("", None)
    paths = [one.path for one in going]
    marks = {one.path: one.mark for one in going}
    choice = to_choose(data_folder, computer, facts, paths, by_rule.values(), marks)
    return msgspec.structs.replace(choice, changed=changed)


def with_held(job: Job, keys: Mapping[str, str], elsewhere: Elsewhere) -> Job:
    """The job with the keys under which these paths are set aside, and what the owner said of
    whether they exist elsewhere.
    """
    decided = latest(job.decided)
    said = [
        msgspec.structs.replace(decided[path], held_as=key, elsewhere=elsewhere)
        for path, key in keys.items()
        if path in decided
    ]
    return with_said(job, said)


def write_list(
    computer: Computer, found: Sequence[Thing], decided: Mapping[str, Decided], path: Path
) -> None:
    """The list to take home, as PDF or CSV by the ending of the file.

    Raises:
        UsageError: it is another ending; StorageError: it cannot be written.
    """
    from lumtak.report.owned_list import to_csv, to_pdf

    match path.suffix.lower():
        case ".csv":
            data = to_csv(found, decided).encode("utf-8", "backslashreplace")
        case ".pdf":
            at = computer.clock.wall().isoformat(timespec="seconds")
            data = to_pdf(computer.name, at, found, decided)
        case _:
            raise UsageError("The list is written as .pdf or .csv.", "Name such a file.")
    write_whole(path, data)


def lost_on(data_folder: DataFolder, computer: Computer, held: Iterable[Held]) -> str:
    """What would be gone for good of what the owner did not say that it exists elsewhere; a
    sentence, empty for nothing.
    """
    keys = {one.ref.key for one in held}
    mine = [j.id for j in data_folder.jobs() if j.identity == computer.identity]
    decided = [d for job in mine for d in data_folder.casebook.job(job).decided]
    return lost_in_words(lost_if_emptied(decided, keys))
