"""Folders of a user, whose files are replaced whole and as that user.

And what settings that stand in such files have in common.
"""

import base64
import contextlib
from abc import abstractmethod
from collections.abc import Iterator

from lumtak.computers.hands.reach import NotOrdinaryError, Reach
from lumtak.computers.hands.sent.files.words import escaped, unescaped
from lumtak.computers.hands.sent.operations import MOST_BYTES
from lumtak.computers.hands.sent.states.states import Absent, File, InFolder, Link
from lumtak.computers.linux.adapter import Adapter
from lumtak.core.setting import SettingRef
from lumtak.core.text import plain
from lumtak.errors import ComputerError


class UserFolder:
    """A folder that may not be there yet.

    Args:
        hand: of the user whose it is.
        path: absolute, on the computer.
    """

    def __init__(self, hand: Reach, path: str) -> None:
        self._hand = hand
        self.path = path

    def names(self) -> list[str]:
        """What it holds; nothing when it is not there."""
        try:
            return self._hand.names(self.path)
        except FileNotFoundError:
            return []

    def content(self, name: str, most: int = MOST_BYTES) -> bytes | None:
        """The bytes of a file, links followed; None when there is none.

        Raises:
            ComputerError: it is no ordinary file, too large, or may not be read.
        """
        with self._plainly(name):
            try:
                data = self._hand.read(f"{self.path}/{name}", most + 1)
            except FileNotFoundError:
                return None
            except NotOrdinaryError as error:
                raise ComputerError(
                    f"{self._shown(name)} is no ordinary file.", "Look at it by hand."
                ) from error
        return self._not_too_large(name, data, most)

    def link(self, name: str) -> str | None:
        """Where a link leads; None where there is none."""
        return self._hand.link(f"{self.path}/{name}")

    def exact(self, name: str) -> InFolder:
        """What stands there, exactly.

        Nothing, a file with its mode and bytes, or a link with its target.
        """
        with self._plainly(name):
            found = self._hand.look(self.path, name)
        match found:
            case {"kind": "file", "mode": mode, "bytes": data}:
                return self.file(
                    name, self._not_too_large(name, base64.b64decode(data), MOST_BYTES), mode
                )
            case {"kind": "link", "target": target}:
                return self.leading(name, target)
            case {"kind": "absent"}:
                return self.absent(name)
        raise ComputerError(f"{self._shown(name)} is no ordinary file.", "Look at it by hand.")

    def file(self, name: str, data: bytes, mode: int) -> File:
        """The state that a file with these bytes and this mode stands there."""
        return File(escaped(self.path), escaped(name), self.missing(), mode, data)

    def leading(self, name: str, target: str) -> Link:
        """The state that a link stands there which leads there."""
        return Link(escaped(self.path), escaped(name), self.missing(), escaped(target))

    def absent(self, name: str) -> Absent:
        """The state that nothing stands there."""
        return Absent(escaped(self.path), escaped(name), self.missing())

    def is_place_of(self, exact: InFolder, name: str) -> bool:
        """Whether this state was recorded of this file."""
        return (exact.folder, exact.name) == (escaped(self.path), escaped(name))

    def missing(self) -> int:
        """How many folders, counted from this one upwards, are not there."""
        with self._plainly(""):
            return self._hand.missing(self.path)

    def put(self, name: str, data: bytes, mode: int, *, keep: bool = False) -> None:
        """The file has these bytes and this mode: all at once, or not at all; what it replaces is
        kept where that is asked for.
        """
        with self._plainly(name):
            self._hand.put(self.path, name, data, mode, keep)

    def bring(self, name: str, exact: InFolder, *, keep: bool) -> None:
        """Bring that state about; of nothing there the folders go too that were missing, if they
        are empty now.

        Args:
            name: of the file.
            exact: the state.
            keep: whether what is replaced is kept, to go back itself; see `keeping`.

        Raises:
            ComputerError: it cannot be brought about.
        """
        match exact:
            case File(mode=mode, data=data):
                self.put(name, data, mode, keep=keep)
            case Link(target=target):
                with self._plainly(name):
                    self._hand.put_link(self.path, name, unescaped(target), keep)
            case _:
                self.remove(name, exact.missing, keep=keep)

    def remove(self, name: str, missing: int, *, keep: bool = False) -> None:
        """The file is gone, with what an interrupted write left, and so are so many folders as far
        as they are empty.
        """
        with self._plainly(name):
            self._hand.remove(self.path, name, missing, keep)

    @contextlib.contextmanager
    def _plainly(self, name: str) -> Iterator[None]:
        """OSError becomes a sentence."""
        try:
            yield
        except OSError as error:
            reason = plain((error.strerror or str(error)).lower(), 300)
            raise ComputerError(
                f"{self._shown(name)}: {reason}.", "Mend that, then try again; nothing was changed."
            ) from error

    def _shown(self, name: str) -> str:
        return plain(f"{self.path}/{name}")

    def _not_too_large(self, name: str, data: bytes, most: int) -> bytes:
        if len(data) > most:
            raise ComputerError(
                f"{self._shown(name)} is larger than {most >> 10} KiB.", "Look at it by hand."
            )
        return data


class InFiles(Adapter):
    """Settings that stand in a file of the user's each."""

    kinds = (Absent, File, Link)

    @abstractmethod
    def place(self, ref: SettingRef) -> tuple[UserFolder, str]:
        """The folder and the name of the file in which this computer keeps the setting now.

        Raises:
            ComputerError: it is not there any more.
        """

    def accept(self, ref: SettingRef, exact: InFolder) -> None:
        """See `Adapter.accept`: the recorded file is the one in which the setting is kept."""
        folder, name = self.place(ref)
        if not folder.is_place_of(exact, name):
            raise ComputerError(
                f"{plain(str(ref))} was changed in {plain(f'{exact.folder}/{exact.name}')}, and its"
                f" place is {plain(f'{folder.path}/{name}')} now.",
                "Run Lumtak as the same user, on the same desktop, with the same HOME and"
                " XDG_CONFIG_HOME.",
            )

    def write(self, ref: SettingRef, exact: InFolder) -> None:
        """Replace the file as a whole, as the user."""
        folder, name = self.place(ref)
        folder.bring(name, exact, keep=self._hands.way == "forth")
