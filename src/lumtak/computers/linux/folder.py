"""One folder of a user, its files replaced whole and as that user, by directory descriptor."""

import base64
import contextlib
import hashlib
import os
import stat
from collections.abc import Iterator

from lumtak.computers.linux.escapes import escaped, unescaped
from lumtak.computers.linux.transport import NotOrdinaryError, Transport, open_ordinary, read_most
from lumtak.computers.linux.user import User, acting_as
from lumtak.core.text import plain
from lumtak.errors import ComputerError
from lumtak.storage import write_all

_MOST_BYTES = 1 << 20


class UserFolder:
    """A folder that may not be there yet.

    Args:
        transport: of the computer.
        user: whose it is.
        path: absolute, on the computer.
    """

    def __init__(self, transport: Transport, user: User, path: str) -> None:
        self._transport = transport
        self._user = user
        self.path = path

    def names(self) -> list[str]:
        """What it holds; nothing when it is not there."""
        with acting_as(self._user):
            try:
                return self._transport.names(self.path)
            except FileNotFoundError:
                return []

    def content(self, name: str) -> bytes | None:
        """The bytes of a file, links followed; None when there is none.

        Raises:
            ComputerError: it is no ordinary file, too large, or may not be read.
        """
        with acting_as(self._user), self._plainly(name):
            try:
                place = self._transport.place(f"{self.path}/{name}")
                descriptor = open_ordinary(place)
            except FileNotFoundError:
                return None
            except NotOrdinaryError as error:
                raise ComputerError(f"{self._shown(name)} is no ordinary file.", "Look at it by hand.") from error
            try:
                data = read_most(descriptor, _MOST_BYTES + 1)
            finally:
                os.close(descriptor)
        if len(data) > _MOST_BYTES:
            raise ComputerError(f"{self._shown(name)} is larger than 1 MiB.", "Look at it by hand.")
        return data

    def link(self, name: str) -> str | None:
        """Where a link leads; None where there is none."""
        with acting_as(self._user):
            return self._transport.link(f"{self.path}/{name}")

    def exact(self, name: str) -> dict[str, str]:
        """What stands there, exactly: nothing, a file with its mode and bytes, or a link with its target."""
        with acting_as(self._user), self._plainly(name):
            place = f"{self._transport.place(self.path)}/{name}"
            try:
                about = os.lstat(place)
            except FileNotFoundError:
                return {"kind": "absent"}
            if stat.S_ISLNK(about.st_mode):
                return {"kind": "link", "target": escaped(os.readlink(place))}
        return file_with(self.content(name) or b"", stat.S_IMODE(about.st_mode))

    def around(self, name: str) -> dict[str, str]:
        """Where a file stands, as it is noted beside a state of it."""
        return {"folder": escaped(self.path), "file": escaped(name)}

    def missing(self) -> int:
        """How many folders, counted from this one upwards, are not there."""
        count, path = 0, self.path
        with acting_as(self._user):
            while path != "/" and not os.path.isdir(self._transport.place(path)):
                count, path = count + 1, os.path.dirname(path)
        return count

    def put(self, name: str, data: bytes, mode: int) -> None:
        """The file has these bytes and this mode: all at once, or not at all."""
        with acting_as(self._user), self._plainly(name), self._opened() as folder:
            temporary = temporary_name(name)
            _forget(temporary, folder)
            flags = os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW | os.O_CLOEXEC
            descriptor = os.open(temporary, flags, 0o600, dir_fd=folder)
            try:
                try:
                    write_all(descriptor, data)
                    os.fchmod(descriptor, mode)
                    os.fsync(descriptor)
                finally:
                    os.close(descriptor)
                os.rename(temporary, name, src_dir_fd=folder, dst_dir_fd=folder)
            except BaseException:
                with contextlib.suppress(OSError):
                    _forget(temporary, folder)
                raise
            os.fsync(folder)

    def restore(self, name: str, exact: dict[str, str], missing: int) -> None:
        """Bring back what `exact` described, and take away the folders that were missing if they are empty now.

        Raises:
            ComputerError: what was described is not known, or cannot be brought back.
        """
        match exact:
            case {"kind": "file", "mode": mode, "bytes": data}:
                self.put(name, base64.b64decode(data), int(mode, 8))
            case {"kind": "link", "target": target}:
                self._relink(name, unescaped(target))
            case {"kind": "absent"}:
                self.remove(name, missing)
            case _:
                raise ComputerError(
                    f"{self._shown(name)} stays as it is: what stood there was recorded in a way that is not known.",
                    "Look at the record with `lumtak journal`.",
                )

    def _relink(self, name: str, target: str) -> None:
        with acting_as(self._user), self._plainly(name), self._opened() as folder:
            temporary = temporary_name(name)
            _forget(temporary, folder)
            os.symlink(target, temporary, dir_fd=folder)
            os.rename(temporary, name, src_dir_fd=folder, dst_dir_fd=folder)
            os.fsync(folder)

    def remove(self, name: str, missing: int = 0) -> None:
        """The file is gone, with what an interrupted write left, and so are so many folders as far as they are empty."""
        with acting_as(self._user), self._plainly(name):
            place = self._transport.place(self.path)
            if os.path.isdir(place):
                with self._opened() as folder:
                    _forget(temporary_name(name), folder)
                    _forget(name, folder)
                    os.fsync(folder)
            path = self.path
            for _ in range(missing):
                with contextlib.suppress(FileNotFoundError):
                    try:
                        os.rmdir(self._transport.place(path))
                    except OSError as error:
                        if isinstance(error, FileNotFoundError):
                            raise
                        break  # not empty: somebody else uses it now
                path = os.path.dirname(path)

    @contextlib.contextmanager
    def _opened(self) -> Iterator[int]:
        """A descriptor of the folder, made with its parents (mode 0700) when it is not there.

        Raises:
            ComputerError: somebody else could plant things in it.
        """
        place = self._transport.place(self.path)
        os.makedirs(place, mode=0o700, exist_ok=True)
        descriptor = os.open(place, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC)
        try:
            about = os.fstat(descriptor)
            if about.st_uid not in {self._user.uid, 0} or about.st_mode & stat.S_IWOTH:
                raise ComputerError(
                    f"{plain(self.path)} can be written by others than {self._user.name}, so nothing is written there.",
                    f"Give it to {self._user.name} alone (chown, chmod o-w), then try again.",
                )
            yield descriptor
        finally:
            os.close(descriptor)

    @contextlib.contextmanager
    def _plainly(self, name: str) -> Iterator[None]:
        """OSError becomes a sentence."""
        try:
            yield
        except OSError as error:
            reason = plain((error.strerror or str(error)).lower())
            raise ComputerError(
                f"{self._shown(name)}: {reason}.", "Mend that, then try again; nothing was changed."
            ) from error

    def _shown(self, name: str) -> str:
        return plain(f"{self.path}/{name}")


def file_with(data: bytes, mode: int) -> dict[str, str]:
    """A file with these bytes and this mode, as `UserFolder.exact` describes it."""
    return {"kind": "file", "mode": f"{mode:o}", "bytes": base64.b64encode(data).decode()}


def temporary_name(name: str) -> str:
    """The same for the same name, so that what a killed write left is found and removed by the next."""
    return f".lumtak-{hashlib.sha256(os.fsencode(name)).hexdigest()[:12]}.new"


def _forget(name: str, folder: int) -> None:
    with contextlib.suppress(FileNotFoundError):
        os.unlink(name, dir_fd=folder)
