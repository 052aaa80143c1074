"""Extensions of the user's browsers: what a browser loads besides itself."""

from collections.abc import Iterable

from lumtak.core.record import Record
from lumtak.core.text import plain
from lumtak.core.units import counted

_NAMED = 8


class Extension(Record):
    """One of them."""

    name: str
    on: bool
    since: str = ""
    """The day on which it came; empty where that is not known."""
    everywhere: bool = False
    """Whether it may run on every page."""
    page: str
    """Of the browser: where it is switched off."""


def in_words(found: Iterable[Extension]) -> str:
    """What a browser loads, for a person; empty for nothing. Those on every page come first."""
    mine = sorted(found, key=lambda e: (not e.on, not e.everywhere, e.name.lower()))
    if not mine:
        return ""
    on, named = sum(e.on for e in mine), [_one(e) for e in mine[:_NAMED]]
    more = f", and {len(mine) - _NAMED} more" if len(mine) > _NAMED else ""
    said = f"{counted(on, 'extension')} on, {len(mine) - on} off: {', '.join(named)}{more}"
    pages = ", ".join(dict.fromkeys(e.page for e in mine))
    return f"{said}. They are switched off in the browser: open {pages}"


def _one(one: Extension) -> str:
    notes = ["on every page"] if one.on and one.everywhere else []
    notes += [] if one.on else ["off"]
    notes += [f"since {one.since}"] if one.since else []
    return plain(one.name, 60) + (f" ({', '.join(notes)})" if notes else "")
