"""The owner's own files: looked through, decided about by a person, set aside as they said."""

import hashlib
import threading
from collections.abc import Callable, Iterable, Mapping, Sequence
from datetime import datetime

import msgspec

from lumtak.casebook.job import Job
from lumtak.computers.clutter import ASIDE, KEPT, item_of, next_key
from lumtak.computers.protocol import Computer
from lumtak.core.clutter import CHOSEN, PATH, Pile
from lumtak.core.deciding import (
    Decided,
    Decision,
    Elsewhere,
    OnlyCopies,
    Thing,
    chosen,
    latest,
    things,
)
from lumtak.core.facts import Facts
from lumtak.core.owned import Chosen, Comparing, CopiesFound, CopyGroup, title_of_chosen
from lumtak.core.record import json_document
from lumtak.core.setting import Change
from lumtak.core.text import plain
from lumtak.errors import BadFileError, UsageError
from lumtak.formats.readings import decode_file
from lumtak.formats.surveys import kept
from lumtak.storage import make_folder, read_handed_in, write_whole
from lumtak.work.data_folder import DataFolder

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
    found = computer.about.copies(folder, least_bytes, on_progress, stop)
    data_folder.writable()
    here = data_folder.home / "copies" / computer.identity
    for one in (here.parent, here):
        make_folder(one)
    name = hashlib.sha256(found.top.encode("utf-8", "surrogatepass")).hexdigest()[:16]
    write_whole(here / f"{name}.json", json_document(found), private=True)
    for old in sorted(here.glob("*.json"), key=lambda p: -p.stat().st_mtime)[_MOST_SEARCHES:]:
        old.unlink(missing_ok=True)
    return found


def kept_copies(data_folder: DataFolder, identity: str) -> list[CopyGroup]:
    """What the searches on this computer found; a file that is none is passed over."""
    here = data_folder.home / "copies" / identity
    found: dict[tuple[tuple[str, ...], ...], CopyGroup] = {}
    for path in sorted(here.glob("*.json")) if here.is_dir() else ():
        try:
            data = read_handed_in(path, _LARGEST, "search for copies")
            one = decode_file(data, path, CopiesFound, "search for copies", 1, "Search again.")
        except BadFileError:
            continue
        found.update({group.copies: group for group in one.groups})
    return list(found.values())


def things_of(data_folder: DataFolder, computer: Computer) -> list[Thing]:
    """What the owner may want to decide about, grouped by folder and kind.

    Raises:
        UsageError: nobody looked through the disk.
    """
    # A model knows what it holds; a real disk as it was last looked through.
    survey = (
        computer.about.facts().survey
        if computer.address.startswith("sim:")
        else next(iter(kept(data_folder.surveys, computer.identity, 1)), None)
    )
    if survey is None:
        raise UsageError(
            "Nobody looked through this disk yet.",
            f"Do that first: lumtak storage {computer.address}, or d in the audit.",
        )
    groups = kept_copies(data_folder, computer.identity)
    about = computer.about
    return things(survey, groups, about.folders()["home"], about.last_opened())


def job_here(data_folder: DataFolder, computer: Computer) -> Job:
    """The newest job on a computer: what its owner says is kept with it.

    Raises:
        UsageError: there is none.
    """
    found = next((j for j in data_folder.jobs() if j.identity == computer.identity), None)
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
    elsewhere: Elsewhere = "",
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
            elsewhere=elsewhere,
        )
        for thing in found
    )


def with_said(job: Job, said: Iterable[Decided]) -> Job:
    """The job with what was said; of one thing the latest counts."""
    now = {**latest(job.decided), **latest(said)}
    return msgspec.structs.replace(job, decided=tuple(now.values()))


def needing_yes(
    computer: Computer, paths: Sequence[str]
) -> tuple[OnlyCopies, dict[str, list[tuple[str, str]]]]:
    """(what may be an only copy, by path what of it takes a yes of its own).

    Raises:
        ComputerError: they cannot be looked at.
    """
    alone = computer.about.only_copies(paths)
    return alone, {p: alone.of(p) for p in paths if alone.needs_yes(p)}


def to_choose(
    data_folder: DataFolder,
    computer: Computer,
    facts: Facts,
    paths: Sequence[str],
    groups: Iterable[Sequence[str]] = (),
) -> tuple[Facts, list[Change]]:
    """(the facts with what a person named, the changes that set it aside): one for each, or for
    each group of them.

    Raises:
        UsageError: nothing would stay of something of which there are copies.
    """
    whole = chosen(paths, kept_copies(data_folder, computer.identity))
    alone, together = _parted(paths, groups)
    held = {i.key for i in facts.items if i.pile and i.pile.held_at}
    items = [item_of(path, _pile(PATH), plain(path, _TITLE), KEPT) for path in alone]
    parts = [_part(whole, [path]) for path in alone]
    for group in together:
        key = next_key(CHOSEN, held)
        held.add(key)
        items.append(item_of(key, _pile(CHOSEN), title_of_chosen(len(group)), KEPT))
        parts.append(_part(whole, group))
    for item, part in zip(items, parts, strict=True):
        computer.settings.choose(item.ref, part)
    changes = [Change(ref=item.ref, value=ASIDE) for item in items]
    return msgspec.structs.replace(facts, items=(*facts.items, *items)), changes


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
    below = tuple(path.rstrip("/") + "/" for path in paths)
    mine = tuple(one for one in whole.copies if (one[0] + "/").startswith(below))
    return Chosen(paths=tuple(paths), copies=mine)


def to_set_aside_as_said(
    data_folder: DataFolder, computer: Computer, facts: Facts, decided: Mapping[str, Decided]
) -> tuple[Facts, list[Change]]:
    """The same, of everything that the owner said is to be set aside and that still stands.

    Raises:
        UsageError: nothing is; ComputerError: it cannot be told what is an only copy.
    """
    here = {t.path for t in things_of(data_folder, computer)}
    wanted = {p: d for p, d in decided.items() if d.decision == "aside" and p in here}
    _, yes = needing_yes(computer, list(wanted))
    going = [d for p, d in wanted.items() if p not in yes or d.alone_agreed]
    if not going:
        raise UsageError(
            "Nothing is left that the owner wants set aside.",
            f"`lumtak decide {computer.address}` lists what they said.",
        )
    by_rule: dict[str, list[str]] = {}
    for one in going:
        by_rule.setdefault(one.rule, []).append(one.path)
    by_rule.pop("", None)
    paths = [one.path for one in going]
    return to_choose(data_folder, computer, facts, paths, by_rule.values())
