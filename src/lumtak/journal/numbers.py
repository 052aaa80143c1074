"""The short numbers of changes, which are said over the phone and stand on paper."""

from collections.abc import Collection, Iterable, Sequence
from itertools import count
from pathlib import Path

import msgspec

from lumtak.core.record import UNREADABLE, Record
from lumtak.errors import StorageError, UnknownNameError
from lumtak.journal.entry import Entry
from lumtak.storage import write_whole

FORMAT = 1


class _Given(Record):
    """Numbers that stand on paper, by the computer's identity."""

    format: int = FORMAT
    on_sheets: dict[str, tuple[int, ...]] = {}


class Numbers:
    """Which numbers stand on sheets, kept beside the journal.

    Not in its database: a journal that is built anew must not give them once more.

    Args:
        path: of the file.
    """

    def __init__(self, path: Path) -> None:
        self._path = path

    def on_sheets(self, computer: str) -> set[int]:
        """Those that were handed out for a computer.

        Raises:
            StorageError: they cannot be read, so that no number is known to be free.
        """
        return set(self._read().on_sheets.get(computer, ()))

    def hand_out(self, computer: str, numbers: Iterable[int]) -> None:
        """These numbers are about to stand on a sheet; on disk when this returns."""
        known = self._read()
        given = known.on_sheets.get(computer, ())
        new = tuple(sorted({*given, *numbers}))
        if new != given:
            sheets = {**known.on_sheets, computer: new}
            document = msgspec.structs.replace(known, on_sheets=sheets)
            write_whole(self._path, msgspec.json.encode(document), private=True)

    def _read(self) -> _Given:
        try:
            return msgspec.json.decode(self._path.read_bytes(), type=_Given)
        except FileNotFoundError:
            return _Given()
        except (OSError, *UNREADABLE) as error:
            raise StorageError(
                f"{self._path} cannot be read, which says what numbers stand on sheets.",
                "Mend it from a copy; without it, a number could be given twice.",
            ) from error


def lowest_free(entries: Iterable[Entry], on_sheets: Collection[int], lost: Iterable[int]) -> int:
    """The lowest number that no change which stands on the computer has, and no sheet.

    Args:
        entries: all of the computer.
        on_sheets: numbers that were handed out.
        lost: places in the journal of changes whose records are lost. Their numbers are not known,
            and are no higher than the place.
    """
    taken = {e.number for e in entries if e.is_open} | set(on_sheets)
    return next(n for n in count(1 + max(lost, default=0)) if n not in taken)


def called(entries: Sequence[Entry], number: int) -> Entry:
    """The change that people call so: one that stands, else the newest.

    Raises:
        UnknownNameError: there is none of this number.
    """
    found = [e for e in entries if e.number == number]
    if not found:
        raise UnknownNameError(
            "change on this computer",
            str(number),
            (str(e.number) for e in entries),
            "`lumtak journal COMPUTER` lists them.",
        )
    return next((e for e in found if e.is_open), found[-1])
