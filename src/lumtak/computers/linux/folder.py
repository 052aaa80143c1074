"""One folder of a user, its files replaced whole and as that user."""

import base64
import contextlib
from collections.abc import Iterator

from lumtak.computers.hands.hand import MOST_BYTES
from lumtak.computers.hands.reach import NotOrdinaryError, Reach
from lumtak.computers.linux.escapes import escaped, unescaped
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

    def content(self, name: str) -> bytes | None:
        """The bytes of a file, links followed; None when there is none.

        Raises:
            ComputerError: it is no ordinary file, too large, or may not be read.
        """
        with self._plainly(name):
            try:
                data = self._hand.read(f"{self.path}/{name}", MOST_BYTES + 1)
            except FileNotFoundError:
                return None
            except NotOrdinaryError as error:
                raise ComputerError(f"{self._shown(name)} is no ordinary file.", "Look at it by hand.") from error
        return self._not_too_large(name, data)

    def link(self, name: str) -> str | None:
        """Where a link leads; None where there is none."""
        return self._hand.link(f"{self.path}/{name}")

    def exact(self, name: str) -> dict[str, str]:
        """What stands there, exactly: nothing, a file with its mode and bytes, or a link with its target."""
        with self._plainly(name):
            found = self._hand.look(self.path, name)
        match found:
            case {"kind": "file", "mode": mode, "bytes": data}:
                return file_with(self._not_too_large(name, base64.b64decode(data)), mode)
            case {"kind": "link", "target": target}:
                return {"kind": "link", "target": escaped(target)}
            case {"kind": "absent"}:
                return {"kind": "absent"}
        raise ComputerError(f"{self._shown(name)} is no ordinary file.", "Look at it by hand.")

    def around(self, name: str) -> dict[str, str]:
        """Where a file stands, as it is noted beside a state of it."""
        return {"folder": escaped(self.path), "file": escaped(name)}

    def missing(self) -> int:
        """How many folders, counted from this one upwards, are not there."""
        with self._plainly(""):
            return self._hand.missing(self.path)

    def put(self, name: str, data: bytes, mode: int) -> None:
        """The file has these bytes and this mode: all at once, or not at all."""
        with self._plainly(name):
            self._hand.put(self.path, name, data, mode)

    def restore(self, name: str, exact: dict[str, str], missing: int) -> None:
        """Bring back what `exact` described, and take away the folders that were missing if they are empty now.

        Raises:
            ComputerError: what was described is not known, or cannot be brought back.
        """
        match exact:
            case {"kind": "file", "mode": mode, "bytes": data}:
                self.put(name, base64.b64decode(data), int(mode, 8))
            case {"kind": "link", "target": target}:
                with self._plainly(name):
                    self._hand.put_link(self.path, name, unescaped(target))
            case {"kind": "absent"}:
                self.remove(name, missing)
            case _:
                raise ComputerError(
                    f"{self._shown(name)} stays as it is: what stood there was recorded in a way that is not known.",
                    "Look at the record with `lumtak journal`.",
                )

    def remove(self, name: str, missing: int = 0) -> None:
        """The file is gone, with what an interrupted write left, and so are so many folders as far as they are empty."""
        with self._plainly(name):
            self._hand.remove(self.path, name, missing)

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

    def _not_too_large(self, name: str, data: bytes) -> bytes:
        if len(data) > MOST_BYTES:
            raise ComputerError(f"{self._shown(name)} is larger than 1 MiB.", "Look at it by hand.")
        return data


def file_with(data: bytes, mode: int) -> dict[str, str]:
    """A file with these bytes and this mode, as `UserFolder.exact` describes it."""
    return {"kind": "file", "mode": f"{mode:o}", "bytes": base64.b64encode(data).decode()}
