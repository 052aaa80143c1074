"""Reminders as a calendar: iCalendar, RFC 5545."""

from collections.abc import Iterable
from datetime import date, datetime

from lumtak.core.text import plain


def calendar(reminders: Iterable[tuple[str, str, str]], written_at: str) -> bytes:
    """A calendar of whole days.

    Args:
        reminders: (day as YYYY-MM-DD, what tells it from others, what is to be done).
        written_at: when it was made.
    """
    from icalendar import Calendar, Event

    made = Calendar()
    made.add("prodid", "-//Lumtak//reminders//EN")
    made.add("version", "2.0")
    for day, name, words in reminders:
        event = Event()
        event.add("uid", f"{plain(name, 200)}@lumtak")
        event.add("dtstamp", datetime.fromisoformat(written_at))
        event.add("dtstart", date.fromisoformat(day))
        event.add("summary", plain(words, 300))
        made.add_component(event)
    found: bytes = made.to_ical()
    return found
