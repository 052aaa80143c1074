"""Whose computer it is, and what was agreed with them: for the sheet, and for nobody else."""

from lumtak.core.record import Record
from lumtak.core.text import plain

MOST_LINE, MOST_NOTES = 200, 1000


class Owner(Record):
    """What is known of whoever brought the computer; any of it may be empty."""

    name: str = ""
    contact: str = ""
    """Telephone number or mail address."""
    agreed: str = ""
    """Price or time that was agreed."""
    notes: str = ""


FIELDS: dict[str, str] = {
    "name": "the owner's name",
    "contact": "telephone or mail",
    "agreed": "price or time agreed",
    "notes": "notes",
}
"""What each field is, for a person."""


def owner_of(*, name: str, contact: str, agreed: str, notes: str) -> Owner:
    """The same in one line each, without signs that cannot be printed, and no longer than a sheet
    bears.
    """
    lines = (plain(" ".join(text.split()), MOST_LINE) for text in (name, contact, agreed))
    name, contact, agreed = lines
    notes = plain(" ".join(notes.split()), MOST_NOTES)
    return Owner(name=name, contact=contact, agreed=agreed, notes=notes)
