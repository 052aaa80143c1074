"""What puts changes back without Lumtak, as every computer can have it."""

from collections.abc import Sequence
from typing import Protocol

from lumtak.core.record import Record
from lumtak.core.setting import SettingRef, State


class Script(Record):
    """A script that puts back without Lumtak, as it stands on a computer."""

    command: str
    """What to type to run it."""
    sha256: str
    """Of its bytes, in hexadecimal."""


class Way(Record):
    """One way back of a setting: to before one of its changes."""

    number: int
    """The short number of the change."""
    restore: State
    accepted: tuple[State, ...]
    """All others from which it is brought back."""


class UndoKit(Protocol):
    """Leaves on a computer what puts changes back without Lumtak."""

    def missing(self) -> int:
        """How many folders are not there that would be made for the script."""
        ...

    def part(self, ref: SettingRef, title: str, ways: Sequence[Way]) -> bytes:
        """The script's part for one setting: a way back for each change of it, the oldest first.

        Restores it where one of the accepted states stands, leaves all else alone.

        Raises:
            ComputerError: this setting cannot be put back by a script.
        """
        ...

    def script(
        self, tag: str, *, computer: str, contents: Sequence[str], parts: Sequence[bytes], made: int
    ) -> bytes:
        """The script of all parts.

        Args:
            tag: tells it from scripts of other journals.
            computer: its name, for the person who reads it.
            contents: a line for each part, for the same person.
            parts: from `part`.
            made: how many folders were made for it.
        """
        ...

    def leave(self, tag: str, script: bytes) -> str:
        """The script stands on the computer, for its user only; gives its path.

        Raises:
            ComputerError: it cannot be written.
        """
        ...

    def left(self, tag: str) -> list[Script]:
        """The scripts that stand there: the user's, and one of root's for what takes root."""
        ...

    def by_number(self, tag: str) -> str:
        """What to type, with a number after it, to put one change back; empty where it is not
        there.
        """
        ...

    def remove(self, tag: str, made: int) -> None:
        """The script is gone, and so are so many folders that were made for it.

        Raises:
            ComputerError: it cannot be removed.
        """
        ...
