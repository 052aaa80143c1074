"""Whether an after reading counts.

Worked out from the journal whenever it is asked, and never kept.
"""

from collections.abc import Collection

from lumtak.computers.protocol import Computer
from lumtak.core.provisional import Provisional
from lumtak.core.reading import Reading
from lumtak.journal.entry import Entry
from lumtak.journal.owed import shows_not_yet
from lumtak.journal.store import Journal


def standing_now(journal: Journal, computer: Computer) -> tuple[int, ...]:
    """Numbers of the changes of this computer's user that stand now."""
    return tuple(e.id for e in journal.entries_of(computer) if e.is_open)


def provisional(
    journal: Journal, computer: Computer, reading: Reading, stood: Collection[int] | None
) -> Provisional:
    """Why an after reading does not count (yet); empty where it does.

    Args:
        journal: knows every change, forth and back.
        computer: that was read.
        reading: the after reading.
        stood: numbers of the changes that stood when it was taken; None where that was not noted
            (version 0.1), and times have to tell.
    """
    mine = journal.entries_of(computer)
    if _put_back_since(mine, reading, stood):
        return "put back"
    if stood is not None and any(e.is_open and e.id not in stood for e in mine):
        return "changed"
    conditions = reading.conditions
    waits = {shows_not_yet(e, conditions.boot_id, conditions.session_id) for e in mine}
    return "restart" if "restart" in waits else "login" if "login" in waits else ""


def _put_back_since(mine: list[Entry], reading: Reading, stood: Collection[int] | None) -> bool:
    gone = [e for e in mine if e.stage == "undone" and not e.taken_over_by]
    if stood is not None:
        return any(e.id in stood for e in gone)
    return any(e.stage_at > reading.taken_at for e in gone)
