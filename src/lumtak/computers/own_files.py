"""What a computer tells about its owner's own files."""

import threading
from collections.abc import Callable, Mapping, Sequence
from typing import Protocol

from lumtak.core.deciding import Content, OnlyCopies, Seen
from lumtak.core.owned import Comparing, CopiesFound


class OwnFiles(Protocol):
    """Part of `About`."""

    def folders(self) -> dict[str, str]:
        """Folders of the user whose settings are changed: home, downloads."""
        ...

    def copies(
        self,
        top: str,
        least_bytes: int,
        on_progress: Callable[[Comparing], None],
        stop: threading.Event,
    ) -> CopiesFound:
        """Files of which there are several; `top` is the folder, empty for the user's home.

        Raises:
            StoppedError: it was told to stop; ComputerError: it cannot be looked through.
        """
        ...

    def beside(self, paths: Sequence[str]) -> CopiesFound:
        """Where else on their volume the same content stands as that of these, looked for in a
        time that is bounded; `left` says how many were not looked for, or not everywhere.

        Raises:
            ComputerError: they cannot be looked at.
        """
        ...

    def standing(
        self, paths: Sequence[str], content: Mapping[str, Content] | None = None
    ) -> dict[str, Seen]:
        """Those of these that are there, as they are now.

        Args:
            paths: of files and folders of the owner's.
            content: of which of them the mark is to have something of the content, and how much.
        """
        ...

    def only_copies(self, paths: Sequence[str]) -> OnlyCopies:
        """What may be the only copy of something, among these and below them; or ComputerError."""
        ...

    def last_opened(self) -> dict[str, str]:
        """The day on which the user last opened a file, by its path, as the desktop noted."""
        ...
