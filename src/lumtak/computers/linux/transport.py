"""How the files and commands of a Linux computer are reached."""

import os
import subprocess
from pathlib import PurePosixPath
from typing import Protocol

_LINKS_MOST = 40


class Transport(Protocol):
    """Files by their path on that computer, and programs with fixed arguments. Failures are OSError."""

    live: bool
    """Whether programs run there: a folder has files only."""

    def read(self, path: str, most: int = 1 << 20) -> bytes:
        """The first `most` bytes of a file."""
        ...

    def names(self, path: str) -> list[str]:
        """What a folder holds, sorted."""
        ...

    def link(self, path: str) -> str | None:
        """Where a link points to; None where there is no link."""
        ...

    def run(self, arguments: tuple[str, ...], timeout_s: float = 20.0, stdin: bytes = b"") -> bytes:
        """What a program prints, with LC_ALL=C; OSError when it is missing, fails (with what it said), or takes too long."""
        ...

    def run_partly(self, arguments: tuple[str, ...], timeout_s: float = 20.0) -> bytes:
        """The same for a program that fails when it knows only part of what was asked: what it did print."""
        ...

    def place(self, path: str) -> str:
        """The path here of a path there, links on the way resolved as they would be there."""
        ...


class LocalTransport:
    """This machine, or with a root other than "/" a folder that looks like one.

    Links in such a folder are followed as they would be on the computer itself and never lead out of the folder.
    """

    def __init__(self, root: str = "/") -> None:
        self.root = root.rstrip("/")
        self.live = not self.root

    def place(self, path: str) -> str:
        """The path here: links resolved within the root, the last part included."""
        if not self.root:
            return path
        todo = list(reversed(PurePosixPath(path).parts[1:]))
        done: list[str] = []
        links = 0
        while todo:
            part = todo.pop()
            if part == "..":
                del done[-1:]
                continue
            here = "/".join((self.root, *done, part))
            if os.path.islink(here):
                links += 1
                if links > _LINKS_MOST:
                    raise OSError(f"too many links on the way to {path}")
                target = PurePosixPath(os.readlink(here))
                if target.is_absolute():
                    done.clear()
                todo += reversed([p for p in target.parts if p != "/"])
            else:
                done.append(part)
        return "/".join((self.root, *done))

    def read(self, path: str, most: int = 1 << 20) -> bytes:
        """The first `most` bytes of a file; never waits for a pipe's other end."""
        descriptor = os.open(self.place(path), os.O_RDONLY | os.O_CLOEXEC | os.O_NONBLOCK)
        try:
            data = os.read(descriptor, most)
            while 0 < len(data) < most:
                more = os.read(descriptor, most - len(data))
                if not more:
                    break
                data += more
            return data
        finally:
            os.close(descriptor)

    def names(self, path: str) -> list[str]:
        """What a folder holds, sorted."""
        return sorted(os.listdir(self.place(path)))

    def link(self, path: str) -> str | None:
        """Where a link points to."""
        folder, name = path.rsplit("/", 1)
        try:
            return os.readlink(f"{self.place(folder or '/')}/{name}")
        except OSError:
            return None

    def run(self, arguments: tuple[str, ...], timeout_s: float = 20.0, stdin: bytes = b"") -> bytes:
        """What a program prints."""
        return self._run(arguments, timeout_s, stdin, check=True)

    def run_partly(self, arguments: tuple[str, ...], timeout_s: float = 20.0) -> bytes:
        """What a program prints, though it may fail."""
        return self._run(arguments, timeout_s, b"", check=False)

    def _run(self, arguments: tuple[str, ...], timeout_s: float, stdin: bytes, *, check: bool) -> bytes:
        if not self.live:
            raise OSError("no programs run in a folder")
        environment = {"PATH": "/usr/sbin:/usr/bin:/sbin:/bin", "LC_ALL": "C"}
        try:
            result = subprocess.run(  # noqa: S603 - fixed arguments, no shell
                arguments,
                capture_output=True,
                check=check,
                timeout=timeout_s,
                env=environment,
                input=stdin,
            )
        except subprocess.CalledProcessError as error:
            said = text(error.stderr).strip().splitlines()
            raise OSError(f"{arguments[0]} failed: {said[-1] if said else f'code {error.returncode}'}") from error
        except subprocess.SubprocessError as error:
            raise OSError(f"{arguments[0]} failed: {error}") from error
        return result.stdout


def text_at(transport: Transport, path: str, most: int = 1 << 16) -> str:
    """What a small file says, blanks around it left out; empty where it is not there or may not be read."""
    try:
        return text(transport.read(path, most)).strip()
    except OSError:
        return ""


def names_at(transport: Transport, folder: str) -> list[str]:
    """What a folder holds; nothing where it is not there or may not be read."""
    try:
        return transport.names(folder)
    except OSError:
        return []


def runs_systemd(transport: Transport) -> bool:
    """Whether systemd manages this computer; sd_booted(3)."""
    try:
        transport.names("/run/systemd/system")
    except OSError:
        return False
    return True


def text(data: bytes) -> str:
    """Bytes of a computer as text; what is not UTF-8 shows as U+FFFD."""
    return data.decode("utf-8", "replace")
