"""What can go wrong, as sentences for a person.

LumtakError                     1  something failed
├── UsageError                  2  what was asked for does not make sense
│   ├── UnknownNameError        2  a name that is not there; says the nearest
│   └── BadFileError            2  a file that was handed in cannot be used
├── StorageError                1  Lumtak's own data cannot be read or written
│   ├── DamagedError            1  a file of Lumtak's own is damaged
│   └── NewerError              1  a file of Lumtak's own was written by a newer Lumtak
├── ComputerError               1  a computer could not do what was asked
├── StoppedError                1  somebody stopped it
└── ConflictError               3  neither the value before nor the one written; or done in part
"""

import difflib
from collections.abc import Iterable

NOT_KNOWN_NOW = "Whether that changed anything is not known; an audit reads it anew."
"""The next step after a call that failed: it may have gone through all the same."""
_NEAR = 0.6


class LumtakError(Exception):
    """One plain sentence, and what to do next.

    Args:
        message: what went wrong, naming the computer, setting or file.
        next_step: what the person can do about it; a sentence of its own.
    """

    exit_code = 1

    def __init__(self, message: str, next_step: str = "") -> None:
        super().__init__(message)
        self.message = message
        self.next_step = next_step

    def __str__(self) -> str:
        return f"{self.message} {self.next_step}".rstrip()


class UsageError(LumtakError):
    """What was asked for does not make sense."""

    exit_code = 2


def _is_near(name: str, known: str) -> bool:
    """Whether somebody can have meant it.

    What stands before the last colon, which many share, makes no names alike.
    """
    one, other = (text.rpartition(":")[2] for text in (name, known))
    return difflib.SequenceMatcher(None, one, other).ratio() >= _NEAR


class UnknownNameError(UsageError):
    """A name that is not there, with the nearest one that is.

    Args:
        kind: what the name was meant to be: "computer", "profile", ...
        name: as given.
        known: the names that exist.
        listing: how to see them all.
    """

    def __init__(self, kind: str, name: str, known: Iterable[str], listing: str = "") -> None:
        names = sorted(set(known))
        near = [
            n for n in difflib.get_close_matches(name, names, n=3, cutoff=0.5) if _is_near(name, n)
        ]
        hint = f"Did you mean {near[0]}?" if near else listing
        super().__init__(f"There is no {kind} called {name}.", hint)
        self.name = name


class BadFileError(UsageError):
    """A file that was handed in cannot be used.

    Args:
        path: the file.
        problem: what is wrong, without the file's name.
        line: 1-based, when known.
        next_step: what the person can do about it.
    """

    def __init__(
        self, path: str, problem: str, *, line: int | None = None, next_step: str = ""
    ) -> None:
        where = path if line is None else f"{path}, line {line}"
        super().__init__(f"{where}: {problem}", next_step)
        self.path = path
        self.line = line


class StorageError(LumtakError):
    """Lumtak's own data cannot be read or written."""


class DamagedError(StorageError):
    """A file of Lumtak's own is not what was written."""


class NewerError(StorageError):
    """A file of Lumtak's own was written by a newer Lumtak; it is left as it is.

    Args:
        what: the file or record.
        written: its version.
        known: the newest version that this Lumtak knows.
    """

    def __init__(self, what: str, written: int, known: int) -> None:
        super().__init__(
            f"{what} was written by a newer Lumtak (version {written}; this one knows {known}).",
            "Update Lumtak, or use another --home; nothing was changed.",
        )


class ComputerError(LumtakError):
    """A computer could not do what was asked."""


class StoppedError(LumtakError):
    """Work that a person stopped.

    Args:
        what: the work, to begin a sentence.
    """

    def __init__(self, what: str, next_step: str = "Nothing was changed.") -> None:
        super().__init__(f"{what} was stopped.", next_step)


class ConflictError(LumtakError):
    """A value is neither the one before nor the one written, or only part of the work was done."""

    exit_code = 3
