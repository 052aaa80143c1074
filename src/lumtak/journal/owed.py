"""What is owed: changes that show only after a restart or a new login, which has not happened."""

from lumtak.computers.protocol import Computer
from lumtak.core.record import NotMeasured, Record
from lumtak.journal.entry import Entry
from lumtak.journal.store import Journal


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
            return f"restart owed for {len(self.restart) + len(self.login)}"
        return f"new login owed for {len(self.login)}" if self.login else ""


def owed_now(journal: Journal, computer: Computer) -> Owed:
    """What is owed on this computer now: same boot, same session as when it was written.

    Where sessions cannot be told apart, a new login is owed until the next restart.
    """
    boot, session = computer.boot_id(), computer.session_id()
    restart: dict[str, str] = {}
    login: dict[str, str] = {}
    for entry in journal.entries(computer.identity):
        if entry.stage not in {"verified", "written", "undone", "conflict"} or entry.boot_id != boot:
            continue
        if entry.taken_over_by:
            continue
        if entry.shows == "restart":
            restart[str(entry.ref)] = entry.title
        elif entry.shows == "login" and _same_session(entry, session):
            login[str(entry.ref)] = entry.title
    return Owed(restart=tuple(restart.values()), login=tuple(login.values()))


def _same_session(entry: Entry, session: str | NotMeasured) -> bool:
    return isinstance(session, NotMeasured) or entry.session_id is None or entry.session_id == session
