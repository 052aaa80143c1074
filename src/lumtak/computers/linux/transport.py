"""How the files and commands of a Linux computer are reached."""

import contextlib
import errno
import os
import signal
import stat
import subprocess
from pathlib import PurePosixPath
from typing import Protocol

_LINKS_MOST = 40
_KERNEL_FILES = ("/proc/", "/sys/")
PATH = "/usr/sbin:/usr/bin:/sbin:/bin"


class Transport(Protocol):
    """Files by their path on that computer, and programs with fixed arguments. Failures are OSError."""

    live: bool
    """Whether programs run there: a folder has files only."""

    def read(self, path: str, most: int = 1 << 20) -> bytes:
        """The first `most` bytes of an ordinary file, or of one that the kernel makes."""
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
        """The first `most` bytes of an ordinary file, or of one that the kernel makes; nothing else is opened."""
        place = self.place(path)
        if not self.root and path.startswith(_KERNEL_FILES):
            descriptor = os.open(place, os.O_RDONLY | os.O_CLOEXEC | os.O_NONBLOCK)
        else:
            descriptor = open_ordinary(place)
        try:
            return read_most(descriptor, most)
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
        try:
            return _printed(arguments, timeout_s, stdin, check=check)
        except subprocess.SubprocessError as error:
            raise OSError(f"{arguments[0]} failed: {error}") from error


def _printed(arguments: tuple[str, ...], timeout_s: float, stdin: bytes, *, check: bool) -> bytes:
    """What a program prints that runs in a session of its own, without a terminal, with a clean environment and no descriptor but three.

    A session of its own keeps whatever it starts away from the terminal that Lumtak was called in. Only sudo stays in the caller's: it
    remembers by the terminal that a password was given.
    """
    program = subprocess.Popen(  # noqa: S603 - fixed arguments, no shell
        arguments,
        stdin=subprocess.PIPE,
        stdout=subprocess.PIPE,
        stderr=subprocess.PIPE,
        env={"PATH": PATH, "LC_ALL": "C"},
        cwd="/",
        close_fds=True,
        start_new_session=arguments[0] != "sudo",
    )
    try:
        out, said = program.communicate(stdin, timeout=timeout_s)
    except BaseException:
        _end(program)
        raise
    if check and program.returncode != 0:
        lines = text(said).strip().splitlines()
        raise OSError(f"{arguments[0]} failed: {lines[-1] if lines else f'code {program.returncode}'}")
    return out


def _end(program: "subprocess.Popen[bytes]") -> None:
    """End a program that took too long, with whatever it started in its session."""
    with contextlib.suppress(ProcessLookupError, PermissionError):
        if os.getsid(program.pid) == program.pid:
            os.killpg(program.pid, signal.SIGKILL)
    program.kill()
    for pipe in (program.stdin, program.stdout, program.stderr):
        if pipe is not None:
            with contextlib.suppress(OSError):
                pipe.close()
    program.wait()


class NotOrdinaryError(OSError):
    """A folder, a device, a pipe or a socket stands where a file was looked for."""


def open_ordinary(place: str) -> int:
    """A descriptor to read an ordinary file by; links are followed, but no device, pipe or socket is ever opened.

    Raises:
        NotOrdinaryError: it is none; OSError: it is not there, or may not be read.
    """
    looked = os.open(place, os.O_PATH | os.O_CLOEXEC)
    try:
        if not stat.S_ISREG(os.fstat(looked).st_mode):
            raise NotOrdinaryError(errno.EINVAL, "this is no ordinary file")
        return os.open(f"/proc/self/fd/{looked}", os.O_RDONLY | os.O_CLOEXEC | os.O_NONBLOCK)
    finally:
        os.close(looked)


def read_most(descriptor: int, most: int) -> bytes:
    """The first `most` bytes that a descriptor gives."""
    data = os.read(descriptor, most)
    while 0 < len(data) < most:
        more = os.read(descriptor, most - len(data))
        if not more:
            break
        data += more
    return data


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
