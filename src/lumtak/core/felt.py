"""Felt time: what the owner waits for, tried again and again in a reading, and once a start."""

from typing import Literal, get_args

from lumtak.core.record import Figure, NotMeasured, Record
from lumtak.core.units import span, took

Felt = Literal[
    "program_start",
    "large_program",
    "wake",
    "memory",
    "file_write",
    "file_read",
    "temperature",
    "login_screen",
    "usable",
]
TRIED: tuple[Felt, ...] = get_args(Felt)[:7]
"""What is tried in a reading; the others are known once a start."""


class Measure(Record):
    """What one of them is, and the words for it."""

    title: str
    happens: str
    """Begins a sentence; “quicker than before” follows."""
    less: str = "quicker"
    more: str = "slower"
    degrees: bool = False
    """Whether it is a temperature; else seconds."""

    def value(self, amount: float) -> str:
        """A value with its unit."""
        if self.degrees:
            return f"{amount:.0f} °C"
        return span(amount) if amount >= _WHOLE_S else took(amount)


_WHOLE_S = 100.0
MEASURES: dict[Felt, Measure] = {
    "program_start": Measure(title="start of a small program", happens="Programs start"),
    "large_program": Measure(title="start of a large program", happens="A large program starts"),
    "wake": Measure(
        title="waking a program that waits",
        happens="Programs that wait wake up",
        less="sooner",
        more="later",
    ),
    "memory": Measure(title="having 2 MiB of new memory", happens="Programs get new memory"),
    "file_write": Measure(title="writing a small file", happens="Files are saved"),
    "file_read": Measure(title="reading from the disk", happens="Files are read"),
    "temperature": Measure(
        title="temperature, once settled",
        happens="The computer stays",
        less="cooler",
        more="warmer",
        degrees=True,
    ),
    "login_screen": Measure(
        title="from the start to the login screen",
        happens="The login screen comes",
        less="sooner",
        more="later",
    ),
    "usable": Measure(
        title="from the login until it can be used",
        happens="After the login it can be used",
        less="sooner",
        more="later",
    ),
}

Complaint = Literal["", "start", "programs", "many-open", "heat", "everything"]
COMPLAINTS: dict[Complaint, str] = {
    "start": "slow to start",
    "programs": "slow to open programs",
    "many-open": "hangs when much is open",
    "heat": "fan and heat",
    "everything": "slow at everything",
}
"""What owners come with; empty: nobody asked."""
_LEADS: dict[Complaint, tuple[Felt, ...]] = {
    "start": ("usable", "login_screen", "file_read"),
    "programs": ("large_program", "program_start", "file_read"),
    "many-open": ("wake", "memory", "program_start"),
    "heat": ("temperature",),
    "everything": ("program_start", "wake", "file_read", "file_write", "usable"),
}


def leads(complaint: Complaint) -> tuple[Felt, ...]:
    """The measures of a complaint, the one that it is about first; those of everything where nobody
    asked.
    """
    return _LEADS[complaint or "everything"]


_NAMED = 3


def measures_of(complaint: Complaint) -> str:
    """The first measures of a complaint by their titles."""
    return ", ".join(MEASURES[felt].title for felt in leads(complaint)[:_NAMED])


class Try(Record):
    """One of them, tried once."""

    felt: Felt
    at_s: float
    """On the computer's monotonic clock, when it ended; in a reading since that began."""
    took: Figure
    """Seconds; °C for a temperature. Or why it could not be tried."""


class Tries(Record):
    """One of them, as often as it was tried in a reading."""

    at_s: tuple[float, ...]
    """Seconds since the reading began."""
    took: tuple[float, ...]
    """Seconds; °C for a temperature. As many as `at_s`."""

    def since(self, from_s: float) -> list[float]:
        """Those that were taken after so many seconds."""
        # Somebody may have edited the file: one list may be the shorter.
        return [v for at, v in zip(self.at_s, self.took, strict=False) if at >= from_s]


class Waited(Record):
    """What a start waited for."""

    name: str
    took_s: float


class Start(Record):
    """One start of a computer, as its own records tell of it."""

    boot_id: str
    at: str
    """ISO 8601, UTC, when it was switched on, as far back as that is known."""
    login_screen_s: Figure
    """From there to the login screen."""
    usable_s: Figure
    """From the login until nothing that it began was still starting; docs/MEASURING.md has the
    rule."""
    waited_for: tuple[Waited, ...] = ()
    """What took longest to start, longest first."""

    def seconds(self, felt: Felt) -> Figure:
        """One of the two."""
        return self.login_screen_s if felt == "login_screen" else self.usable_s

    def in_words(self) -> str:
        """One line for a person."""
        parts = []
        if not isinstance(self.login_screen_s, NotMeasured):
            parts.append(f"login screen after {span(self.login_screen_s)}")
        if not isinstance(self.usable_s, NotMeasured):
            parts.append(f"usable {span(self.usable_s)} after the login")
        if self.waited_for:
            slow = ", ".join(f"{w.name} {took(w.took_s)}" for w in self.waited_for)
            parts.append(f"waited for {slow}")
        return "; ".join(parts) or "nothing is known of it"


def gathered(tries: list[Try], start_s: float) -> tuple[dict[Felt, Tries], dict[Felt, NotMeasured]]:
    """(the tries of a reading by what was tried, why there are none of some).

    Args:
        tries: in order.
        start_s: when the reading began, on the same clock.
    """
    found: dict[Felt, Tries] = {}
    missing: dict[Felt, NotMeasured] = {}
    for felt in TRIED:
        mine = [t for t in tries if t.felt == felt]
        told = [(t.at_s - start_s, t.took) for t in mine if not isinstance(t.took, NotMeasured)]
        if told:
            at, values = zip(*told, strict=True)
            found[felt] = Tries(at_s=at, took=values)
        elif mine and isinstance(why := mine[-1].took, NotMeasured):
            missing[felt] = why
    return found, missing
