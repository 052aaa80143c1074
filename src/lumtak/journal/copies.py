"""The second copy of every change that is not put back: a checksummed file each, outside the database."""

import contextlib
from pathlib import Path

from lumtak.journal.entry import Entry, sealed, unsealed
from lumtak.storage import write_whole


class Copies:
    """Files FOLDER/COMPUTER/NUMBER.json: a line with the SHA-256, then the record.

    Args:
        folder: of all computers; made when something is written.
    """

    def __init__(self, folder: Path) -> None:
        self._folder = folder

    def computers(self) -> list[str]:
        """Identities of computers that have copies."""
        return sorted(p.name for p in self._folder.iterdir() if p.is_dir()) if self._folder.is_dir() else []

    def numbers(self, computer: str) -> set[int]:
        """Numbers of the changes that have a copy, readable or not."""
        folder = self._folder / computer
        return {int(p.stem) for p in folder.glob("*.json") if p.stem.isdigit()} if folder.is_dir() else set()

    def highest(self) -> int:
        """The highest number of any copy; 0 when there is none."""
        return max((n for c in self.computers() for n in self.numbers(c)), default=0)

    def keep(self, entry: Entry) -> None:
        """Put the copy on disk.

        Raises:
            StorageError: it cannot be written; the old one stands.
        """
        document, checksum = sealed(entry)
        write_whole(self._place(entry.computer, entry.id), checksum.encode() + b"\n" + document + b"\n", 0o600)

    def entry(self, computer: str, number: int) -> Entry | None:
        """The copy; None when there is none, or it is damaged."""
        try:
            checksum, _, document = self._place(computer, number).read_bytes().partition(b"\n")
        except OSError:
            return None
        entry = unsealed(document.removesuffix(b"\n"), checksum.decode("ascii", "replace"), Entry)
        return entry if entry is not None and (entry.id, entry.computer) == (number, computer) else None

    def forget(self, computer: str, number: int) -> None:
        """The copy is not needed any more."""
        with contextlib.suppress(OSError):
            self._place(computer, number).unlink()

    def _place(self, computer: str, number: int) -> Path:
        return self._folder / computer / f"{number}.json"
