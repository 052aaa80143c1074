"""The write-ahead journal of changes: intent → written → verified → put back."""

from lumtak.journal.apply import Outcome, apply_changes, put_back, recover
from lumtak.journal.owed import Owed, owed_now
from lumtak.journal.store import Entry, Journal

__all__ = ["Entry", "Journal", "Outcome", "Owed", "apply_changes", "owed_now", "put_back", "recover"]
