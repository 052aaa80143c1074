"""What adapters know of hands.

The operations they use, small helpers over them, and the hands of one computer.
"""

from collections.abc import Iterator, Sequence
from typing import Any, Protocol

from lumtak.computers.hands.places import NotOrdinaryError, RefusalError
from lumtak.core.text import plain

__all__ = [
    "NotOrdinaryError",
    "Reach",
    "RefusalError",
    "names_at",
    "real_path",
    "reason_of",
    "runs_systemd",
    "text",
    "text_at",
]

_MOST_LINKS = 8


class Reach(Protocol):
    """A hand, here or at the other end of a pipe; `hand.Hand` says what each operation does.

    Failures are OSError.
    """

    @property
    def live(self) -> bool:
        """Whether programs run there: a folder has files only."""

    def about(self) -> dict[str, int]: ...
    def read(self, path: str, most: int = ...) -> bytes: ...
    def read_many(self, paths: Sequence[str], most: int = ...) -> list[bytes | None]: ...
    def names(self, path: str) -> list[str]: ...
    def link(self, path: str) -> str | None: ...
    def exists(self, path: str) -> bool: ...
    def look(self, folder: str, name: str) -> dict[str, Any]: ...
    def missing(self, path: str) -> int: ...
    def space(self, path: str) -> list[int]: ...
    def inodes(self, path: str) -> int: ...
    def walk(self, path: str, most: int = ...) -> Iterator[list[list[Any]]]: ...
    def display(self, name: str, authority: str) -> dict[str, Any]: ...
    def touched(self, name: str, authority: str) -> float: ...
    def counters(self) -> dict[int, bytes]: ...
    def feel(self, folder: str, program: str) -> dict[str, float | str]: ...
    def not_started(self, path: str) -> str: ...
    def put(self, folder: str, name: str, data: bytes, mode: int) -> None: ...
    def put_link(self, folder: str, name: str, target: str) -> None: ...
    def remove(self, folder: str, name: str, folders: int = ...) -> None: ...
    def own_put(self, path: str, data: bytes) -> None: ...
    def own_link(self, path: str, target: str) -> None: ...
    def own_remove(self, path: str, folder_too: bool = ...) -> None: ...
    def own_clear(self, path: str) -> None: ...
    def make_swap(self, mib: int) -> None: ...
    def drop_swap(self, mib: int) -> None: ...
    def set_kernel(self, path: str, value: str) -> None: ...
    def leave_script(self, tag: str, parts: str) -> None: ...
    def survey(self, path: str, own: Sequence[str]) -> Iterator[dict[str, Any]]: ...
    def copies(self, path: str, least: int, passed: Sequence[str]) -> Iterator[dict[str, Any]]: ...
    def tool_holds(self, name: str) -> dict[str, Any]: ...
    def times_of(self, paths: Sequence[str]) -> list[list[float] | None]: ...
    def integrity(self) -> Iterator[dict[str, Any]]: ...
    def remove_packages(self, names: Sequence[str]) -> list[str]: ...
    def only_copies(self, paths: Sequence[str]) -> dict[str, Any]: ...
    def aside_look(
        self,
        name: str,
        key: str,
        homes: Sequence[str],
        folder: str,
        paths: Sequence[str],
        copies: Sequence[Sequence[Any]],
    ) -> dict[str, Any]: ...
    def aside_move(self, sha256: str) -> dict[str, Any]: ...
    def aside_back(self, folder: str, sha256: str) -> dict[str, Any]: ...
    def aside_empty(self, folder: str, sha256: str) -> Iterator[dict[str, Any]]: ...
    def end(self, pid: int, started: int, force: bool, wait_s: float) -> str: ...
    def run(
        self, arguments: Sequence[str], timeout_s: float = ..., partly: bool = ..., bus: str = ...
    ) -> bytes: ...


def text(data: bytes) -> str:
    """Bytes of a computer as text; what is not UTF-8 shows as U+FFFD."""
    return data.decode("utf-8", "replace")


def text_at(hand: Reach, path: str, most: int = 1 << 16) -> str:
    """What a small file says, blanks around it left out.

    Empty where it is not there or may not be read.
    """
    try:
        return text(hand.read(path, most)).strip()
    except OSError:
        return ""


def reason_of(error: BaseException) -> str:
    """What an operation failed for, for a person."""
    said = error.strerror if isinstance(error, OSError) and error.strerror else str(error)
    return plain(said, 200)


def names_at(hand: Reach, folder: str) -> list[str]:
    """What a folder holds; nothing where it is not there or may not be read."""
    try:
        return hand.names(folder)
    except OSError:
        return []


def runs_systemd(hand: Reach) -> bool:
    """Whether systemd manages this computer; sd_booted(3)."""
    try:
        hand.names("/run/systemd/system")
    except OSError:
        return False
    return True


def real_path(hand: Reach, path: str) -> str:
    """Where a path leads, links on all of it followed.

    A circle ends where it was when that was noticed.
    """
    done, left, links = "", [part for part in path.split("/") if part], 0
    while left:
        part = left.pop(0)
        if part in {".", ".."}:
            done = done.rpartition("/")[0] if part == ".." else done
            continue
        target = hand.link(f"{done}/{part}") if links < _MOST_LINKS else None
        if target is None:
            done = f"{done}/{part}"
            continue
        links += 1
        left = [p for p in target.split("/") if p] + left
        done = "" if target.startswith("/") else done
    return done or "/"
