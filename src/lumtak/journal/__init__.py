"""The write-ahead journal of changes: intent → written → verified → put back."""

from lumtak.journal.apply import apply_changes
from lumtak.journal.drift import Drift, drift
from lumtak.journal.entry import Entry
from lumtak.journal.outcome import OnStep, Outcome
from lumtak.journal.owed import Owed, owed_now
from lumtak.journal.provisional import provisional, standing_now
from lumtak.journal.putback import UNSEEN, put_back, recorded, warnings
from lumtak.journal.recover import Review, ReviewLine, recover, review
from lumtak.journal.store import Journal
from lumtak.journal.undo_script import by_number, give_up_lost, older_scripts, scripts_left

__all__ = [
    "UNSEEN",
    "Drift",
    "Entry",
    "Journal",
    "OnStep",
    "Outcome",
    "Owed",
    "Review",
    "ReviewLine",
    "apply_changes",
    "by_number",
    "drift",
    "give_up_lost",
    "older_scripts",
    "owed_now",
    "provisional",
    "put_back",
    "recorded",
    "recover",
    "review",
    "scripts_left",
    "standing_now",
    "warnings",
]
