"""Settings that make the system delete by itself: what that would be, said before they are set."""

from collections.abc import Iterable

from lumtak.core.facts import Facts
from lumtak.core.record import NotMeasured, known
from lumtak.core.setting import Change
from lumtak.core.text import number
from lumtak.core.units import MIB, ram

_SAYS = {
    "temporary_days": "files in /tmp that are older than {value} days",
    "empty-trash": "what has been in the trash for longer than its days",
    "clear-temporary": "temporary files that are older than their days",
    "old-files-days": "what is in trash and temporary files for longer than {value} days",
}
_JOURNALS = "journals"


def deletions(facts: Facts, changes: Iterable[Change]) -> tuple[str, ...]:
    """What changes would have the system delete, a sentence each; putting the setting back does not
    bring it back.
    """
    found = []
    for change in changes:
        if change.ref.area != "storage" or change.value in {None, "off"}:
            continue
        words = _of_journal(facts, change) if change.ref.key == "journal_mib" else ""
        if change.ref.key in _SAYS:
            words = _SAYS[change.ref.key].format(value=change.value)
        if words:
            found.append(f"{change}: the system then deletes {words}, and nothing brings it back.")
    return tuple(found)


def _of_journal(facts: Facts, change: Change) -> str:
    most = number(change.value) or 0
    held = next((i.pile for i in facts.items if i.pile and i.pile.clutter == _JOURNALS), None)
    if held is None or isinstance(held.bytes, NotMeasured):
        return f"the oldest messages of its journal beyond {most} MiB"
    over = known(held.bytes) - most * MIB
    if over <= 0:
        return ""
    return f"the oldest {ram(over)} of the {ram(held.bytes)} of its journal"
