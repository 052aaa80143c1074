"""The second copy of every change that is not put back.

A checksummed file each, outside the database.
"""

import contextlib
from pathlib import Path

from lumtak.errors import StorageError
from lumtak.journal.entry import Entry, sealed, unsealed
from lumtak.storage import cannot_write, make_folder, sync_folder, write_whole


class Copies:
    """Files FOLDER/COMPUTER/NUMBER.json: a line with the SHA-256, then the record.

    Args:
        folder: of all computers; made when something is written.
    """

    def __init__(self, folder: Path) -> None:
        self._folder = folder
        self._lost = folder.with_name("lost")

    def computers(self) -> list[str]:
        """Identities of computers that have copies."""
        return _folders(self._folder)

    def numbers(self, computer: str) -> set[int]:
        """Numbers of the changes that have a copy, readable or not."""
        return _numbers(self._folder / computer)

    def highest(self) -> int:
        """The highest number of any copy, lost ones included; 0 when there is none."""
        copied = [n for c in self.computers() for n in self.numbers(c)]
        return max([*copied, *(n for c in _folders(self._lost) for n in self.lost(c))], default=0)

    def keep(self, entry: Entry) -> None:
        """Put the copy on disk.

        Raises:
            StorageError: it cannot be written; the old one stands.
        """
        document, checksum = sealed(entry)
        write_whole(
            self._place(entry.computer, entry.id),
            checksum.encode() + b"\n" + document + b"\n",
            private=True,
        )

    def entry(self, computer: str, number: int) -> Entry | None:
        """The copy; None when there is none, or it is damaged.

        Raises:
            StorageError: it is there and may not be read; NewerError: a newer Lumtak wrote it.
        """
        place = self._place(computer, number)
        try:
            checksum, _, document = place.read_bytes().partition(b"\n")
        except FileNotFoundError:
            return None
        except OSError as error:
            reason = (error.strerror or str(error)).lower()
            raise StorageError(
                f"{place} cannot be read: {reason}.", "Make it readable, then try again."
            ) from error
        entry = unsealed(document.removesuffix(b"\n"), checksum.decode("ascii", "replace"), Entry)
        return (
            entry
            if entry is not None and (entry.id, entry.computer) == (number, computer)
            else None
        )

    def forget(self, computer: str, number: int) -> None:
        """The copy is not needed any more."""
        with contextlib.suppress(OSError):
            self._place(computer, number).unlink()

    # -- records of which neither copy can be read -------------------------------------------------

    def lose(self, computer: str, number: int) -> None:
        """The copy cannot be read, and the database knows nothing of the change.

        What is left of it is kept apart.

        Raises:
            StorageError: it cannot be moved.
        """
        place, kept = self._place(computer, number), self._lost / computer / f"{number}.json"
        try:
            make_folder(kept.parent)
            place.rename(kept)
            sync_folder(kept.parent)
            sync_folder(place.parent)
        except OSError as error:
            raise cannot_write(kept, error) from error

    def lost(self, computer: str) -> list[int]:
        """Numbers of changes whose records are lost, in order."""
        return sorted(_numbers(self._lost / computer))

    def give_up(self, computer: str) -> None:
        """The lost records of this computer are done with; what is left of them goes."""
        for number in self.lost(computer):
            with contextlib.suppress(FileNotFoundError):
                (self._lost / computer / f"{number}.json").unlink()

    def _place(self, computer: str, number: int) -> Path:
        return self._folder / computer / f"{number}.json"


def _folders(folder: Path) -> list[str]:
    return sorted(p.name for p in folder.iterdir() if p.is_dir()) if folder.is_dir() else []


def _numbers(folder: Path) -> set[int]:
    return (
        {int(p.stem) for p in folder.glob("*.json") if p.stem.isdecimal()}
        if folder.is_dir()
        else set()
    )
