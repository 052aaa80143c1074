"""What is not tried, and why."""

from collections.abc import Sequence

from lumtak.computers.protocol import Computer
from lumtak.core.audit import Finding
from lumtak.core.facts import Facts, Fixed, Item
from lumtak.core.profile import Profile
from lumtak.core.setting import UNSET_WORD, Change
from lumtak.core.text import plain
from lumtak.errors import UnknownNameError
from lumtak.work.data_folder import DataFolder
from lumtak.work.storage import judged

_NOT_TRIED = {"storage": "it is about the owner's data", "upkeep": "it has no load to measure"}
_SHOWS = {"login": "a new login", "restart": "a restart"}


def why_refused(
    data_folder: DataFolder,
    computer: Computer,
    facts: Facts,
    changes: Sequence[Change],
    profile: Profile,
) -> str:
    """Why these changes are not tried, as a sentence; empty where they may be.

    Raises:
        UnknownNameError: the computer has no such setting.
    """
    found = judged(data_folder, facts, profile)
    held = {e.ref for e in data_folder.journal.entries(computer.identity) if e.is_open}
    for change in changes:
        item = facts.find(change.ref)
        if item is None:
            known = (str(i.consumer) for i in facts.items)
            raise UnknownNameError(
                "setting", str(change.ref), known, "`lumtak audit COMPUTER` lists."
            )
        title = plain(item.title, 80)
        if why := why_not(item, change, screened=len(changes) > 1):
            return f"{title} is not tried: {why}"
        if change.ref in held:
            return f"{title} is held by a change that is in place; put that back first."
        if why := _why_judged(found.find(change.ref), changes):
            return f"{title} {why}"
    return ""


def _why_judged(finding: Finding | None, changes: Sequence[Change]) -> str:
    """What the audit has against it: a guard, or another of the changes that stops with it."""
    if finding is None:
        return ""
    if finding.stance == "guarded":
        return f"is guarded: {finding.reason}"
    refs = [c.ref for c in changes if c.ref.area == finding.area]
    with_it = next((r for r in refs if r.key in finding.stops_with), None)
    return f"is not screened with {with_it}, which stops with it." if with_it else ""


def why_not(item: Item, change: Change, *, screened: bool) -> str:
    """Why a change is not tried, by what is known of its item alone; empty where it may be.

    Args:
        item: what is changed.
        change: its value.
        screened: whether others are tried in the same blocks.
    """
    if change.ref.area in _NOT_TRIED:
        return f"{_NOT_TRIED[change.ref.area]}."
    if screened and change.ref.area == "power":
        return "a power plan multiplies what all others do, so it takes a trial of its own."
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
