"""What is owed: changes that show only after a restart or a new login, which has not happened."""

from typing import Literal

from lumtak.computers.protocol import Computer
from lumtak.core.record import NotMeasured, Record
from lumtak.journal.entry import Entry, Stage
from lumtak.journal.store import Journal

_WRITTEN: tuple[Stage, ...] = ("verified", "written", "undone", "conflict")


class Owed(Record):
    """Changes, forth or back, that do not show yet."""

    restart: tuple[str, ...] = ()
    """Titles of what waits for a restart."""
    login: tuple[str, ...] = ()
    """Titles of what waits for a new login; a restart serves too."""

    @property
    def anything(self) -> bool:
        """Whether readings are provisional."""
        return bool(self.restart or self.login)

    def in_words(self) -> str:
        """For the head of a screen; empty when nothing is owed."""
        if self.restart:
            also = f", new login for {len(self.login)}" if self.login else ""
            return f"restart needed for {len(self.restart)}{also}"
        return f"new login needed for {len(self.login)}" if self.login else ""


def owed_now(journal: Journal, computer: Computer) -> Owed:
    """What is owed on this computer now: same boot, same session as when it was written.

    Where sessions cannot be told apart, a new login is owed until the next restart.
    """
    boot, session = computer.clock.boot_id(), computer.clock.session_id()
    restart: dict[str, str] = {}
    login: dict[str, str] = {}
    for entry in journal.entries(computer.identity):
        waits = shows_not_yet(entry, boot, session)
        if waits == "restart":
            restart[str(entry.ref)] = entry.title
        elif waits == "login":
            login[str(entry.ref)] = entry.title
    return Owed(restart=tuple(restart.values()), login=tuple(login.values()))


def shows_not_yet(
    entry: Entry, boot_id: str, session_id: str | NotMeasured
) -> Literal["", "restart", "login"]:
    """What a change, forth or back, still waits for in this start and this login.

    Empty where it shows.
    """
    if entry.stage not in _WRITTEN or entry.boot_id != boot_id or entry.taken_over_by:
        return ""
    if entry.shows == "restart":
        return "restart"
    return "login" if entry.shows == "login" and _same_session(entry, session_id) else ""


def _same_session(entry: Entry, session: str | NotMeasured) -> bool:
    return (
        isinstance(session, NotMeasured) or entry.session_id is None or entry.session_id == session
    )
