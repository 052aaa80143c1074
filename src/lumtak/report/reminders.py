"""Reminders as a calendar: iCalendar, RFC 5545, with alarms."""

from collections.abc import Iterable
from datetime import date, datetime, timedelta

from lumtak.core.profile import Rhythm
from lumtak.core.record import Record
from lumtak.core.text import plain
from lumtak.core.upkeep.due import Due

_RULES: dict[Rhythm, dict[str, str | int]] = {
    "weekly": {"FREQ": "WEEKLY"},
    "monthly": {"FREQ": "MONTHLY"},
    "quarterly": {"FREQ": "MONTHLY", "INTERVAL": 3},
    "half-yearly": {"FREQ": "MONTHLY", "INTERVAL": 6},
}
_MORNING = timedelta(hours=9)


class Reminder(Record):
    """Something to be done on a day."""

    day: str
    """YYYY-MM-DD."""
    name: str
    """What tells it from others."""
    words: str
    every: Rhythm | None = None
    """How often it comes again; None: once."""


def of_due(due: Iterable[Due]) -> list[Reminder]:
    """Upkeep that comes again: a newer calendar's take the place of an older one's."""
    return [
        Reminder(day=d.day, name=f"{d.identity}-{d.task}", words=d.in_words(), every=d.every)
        for d in due
    ]


def calendar(reminders: Iterable[Reminder], written_at: str) -> bytes:
    """A calendar of whole days, each with an alarm at nine in the morning.

    Args:
        reminders: in any order.
        written_at: when it was made.
    """
    from icalendar import Alarm, Calendar, Event

    made = Calendar()
    made.add("prodid", "-//Lumtak//reminders//EN")
    made.add("version", "2.0")
    for one in reminders:
        event, alarm = Event(), Alarm()
        words = plain(one.words, 300)
        event.add("uid", f"{plain(one.name, 200)}@lumtak")
        event.add("dtstamp", datetime.fromisoformat(written_at))
        event.add("dtstart", date.fromisoformat(one.day))
        event.add("summary", words)
        if one.every is not None:
            event.add("rrule", _RULES[one.every])
        alarm.add("action", "DISPLAY")
        alarm.add("description", words)
        alarm.add("trigger", _MORNING)
        event.add_component(alarm)
        made.add_component(event)
    found: bytes = made.to_ical()
    return found
