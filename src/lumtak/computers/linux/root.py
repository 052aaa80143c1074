"""What takes root, by the hand of root, which holds it against its own table whoever asks."""

import contextlib
import posixpath
from collections.abc import Iterator

from lumtak.computers.hands.reach import names_at
from lumtak.computers.hands.sent.files.atomic import temporary_name
from lumtak.computers.hands.sent.table import is_switch
from lumtak.computers.hands.whose import Hands
from lumtak.core.text import plain
from lumtak.errors import ComputerError

_TIMEOUT_S = 90.0


class Root:
    """Changes the system of one computer.

    Args:
        hands: of the computer.
    """

    def __init__(self, hands: Hands) -> None:
        self._hands = hands

    def why_not(self) -> str:
        """Why nothing that takes root can be done here, as a clause.

        Empty where it can be, perhaps after a password.
        """
        return self._hands.why_no_root

    @contextlib.contextmanager
    def _plainly(self) -> Iterator[None]:
        """OSError becomes a sentence."""
        try:
            yield
        except OSError as error:
            raise ComputerError(
                f"{plain(error.strerror or str(error), 400)}.",
                "Nothing was changed; the log has the rest.",
            ) from error

    def put(self, path: str, data: bytes) -> None:
        """A file that only Lumtak writes has these bytes, mode 0644: all at once, or not at all."""
        with self._plainly():
            self._hands.root().own_put(path, data)

    def link(self, path: str, target: str) -> None:
        """The link of a unit leads there: all at once, or not at all."""
        with self._plainly():
            self._hands.root().own_link(path, target)

    def remove(self, path: str, *, folder_too: bool = False) -> None:
        """The file or link is gone, with what an interrupted write left.

        Its folder too, where that is asked for and it is empty.
        """
        with self._plainly():
            self._hands.root().own_remove(path, folder_too)

    def clear(self, path: str) -> None:
        """What an interrupted write left beside a file or link is gone.

        Root is asked only where there is something.
        """
        folder, name = posixpath.split(path)
        names = names_at(self._hands.own, folder)
        begun = is_switch(path) and not names and self._hands.own.exists(folder)
        if temporary_name(name) in names or begun:
            with self._plainly():
                self._hands.root().own_clear(path)

    def make_swap_file(self, mib: int) -> None:
        """A swap file of Lumtak's own, ready to be switched on."""
        with self._plainly():
            self._hands.root().make_swap(mib)

    def remove_swap_file(self, mib: int) -> None:
        """It is gone, and the folder where nothing else is in it."""
        with self._plainly():
            self._hands.root().drop_swap(mib)

    def systemctl(self, verb: str, *units: str) -> None:
        """Start, stop, or read unit files anew."""
        arguments = ("systemctl", "--no-ask-password", verb, *(("--", *units) if units else ()))
        with self._plainly():
            self._hands.root().run(arguments, _TIMEOUT_S)

    def set_kernel(self, path: str, value: str) -> None:
        """A value of the kernel, until the next restart."""
        with self._plainly():
            self._hands.root().set_kernel(path, value)

    def set_profile(self, bus: str, path: str, value: str) -> None:
        """The plan of the profile service on the system bus."""
        arguments = (
            "busctl",
            "--system",
            "set-property",
            "--",
            bus,
            path,
            bus,
            "ActiveProfile",
            "s",
            value,
        )
        with self._plainly():
            self._hands.root().run(arguments, _TIMEOUT_S)
