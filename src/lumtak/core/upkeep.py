"""Upkeep: checks that take long and run beside other work; what they found."""

from lumtak.core.record import Record
from lumtak.core.text import plain
from lumtak.core.units import counted, ram

_NAMED = 5


class Damage(Record):
    """A file that is not as it was recorded."""

    path: str
    package: str
    why: str
    """What is wrong with it, as a verb: "changed", "missing"."""


class Checked(Record):
    """How far a check is."""

    files: int
    bytes: float
    whole_bytes: float
    at: str


class Integrity(Record):
    """The system's files held against what the package database recorded."""

    format: int = 1
    at: str
    """The computer's clock."""
    files: int
    bytes: float
    damaged: tuple[Damage, ...] = ()
    damaged_count: int = 0
    """All of them; of very many not each is named."""
    configured: tuple[Damage, ...] = ()
    """Files of configuration that are not as they came, which is what they are for."""
    configured_count: int = 0
    strangers: tuple[str, ...] = ()
    """Programs and libraries in program folders that no package brought."""
    strangers_count: int = 0
    unread: int = 0
    """Files that may not be read without root."""
    left_out: int = 0
    """That the package manager was told not to unpack."""
    without: tuple[str, ...] = ()
    """Packages that recorded nothing of their files."""
    broken: str = ""
    """Why the package database cannot be trusted, as a clause."""

    @property
    def packages(self) -> tuple[str, ...]:
        """Packages with damaged files."""
        return tuple(sorted({d.package for d in self.damaged}))

    @property
    def repair(self) -> str:
        """The command that puts damaged files in place again; empty where none is."""
        names = " ".join(self.packages)
        return f"apt-get install --reinstall {names}" if names else ""

    def in_words(self) -> str:
        """What was found, a few sentences."""
        said = f"{counted(self.files, 'file')} ({ram(self.bytes)}) held against what was recorded: "
        if self.damaged_count:
            count = counted(self.damaged_count, "file is", "files are")
            said += f"{count} not as the packages brought them"
            said += f" ({', '.join(map(plain, self.packages[:_NAMED]))})."
        else:
            said += "all are as the packages brought them."
        notes = (
            (self.configured_count, "{} of configuration changed, which is what they are for."),
            (self.strangers_count, "{} in program folders that no package brought."),
            (self.unread, "{} could not be read without root."),
            (self.left_out, "{} left out by the package manager's own settings."),
        )
        for number, words in notes:
            if number:
                said += " " + words.format(counted(number, "file"))
        if self.broken:
            said += f" Not all can be told: {plain(self.broken, 200)}."
        return said
