"""A hand: the one program that acts on a real computer, as whoever it runs as.

It is sent as text to a bare interpreter (`python3 -I -S -B`) together with `table` and `wire`, and
these three import nothing else of Lumtak's: the standard library only, in the language of Python
3.8. docs/HANDS.md has the operations and the form of messages. Lumtak uses the same class in its
own process where it already is the right user, and on a folder that looks like a computer.
"""

from __future__ import annotations

import contextlib
import errno
import json
import os
import posixpath
import re
import select
import signal
import stat
from typing import Iterator, Sequence

from lumtak.computers.hands.sent.checking import Checking
from lumtak.computers.hands.sent.files.atomic import (
    forget,
    gone_if_it_fails,
    put,
    put_link,
    shed,
    temporary_name,
    times_kept,
)
from lumtak.computers.hands.sent.files.places import RefusalError
from lumtak.computers.hands.sent.root.back import root_script, script_path
from lumtak.computers.hands.sent.running.feeling import Feeling, why_not_started
from lumtak.computers.hands.sent.running.programs import on_the_bus, printed
from lumtak.computers.hands.sent.table import (
    OF_A_USER,
    OF_ROOT,
    POLICY_FILE,
    PROGRAMS,
    SWAP_FOLDER,
    has_own_folder,
    is_link_place,
    is_own_content,
    is_own_place,
    is_switch,
    kernel_value_fits,
    swap_file,
    why_no_link,
)

_MOST_OF_THE_DISK = 0.95


class Hand(Checking):
    """The operations, as methods.

    Every failure is an OSError; what is never done is a RefusalError.

    Args:
        root: a folder that looks like a computer; empty for the computer itself.
        rules: whether it is a hand of root, which writes nothing but the table.
        homes: folders below which files of the user are written; none at all where it is empty.
        only: the operations that it answers to; all of them where it is empty.
    """

    def __init__(
        self,
        root: str = "",
        rules: bool = False,
        homes: Sequence[str] = (),
        only: Sequence[str] = (),
    ) -> None:
        super().__init__(root, rules, homes)
        self.only = frozenset(only)
        self._feeling: Feeling | None = None

    # -- files of the user -------------------------------------------------------------------------

    def _own_folder(self, folder: str) -> str:
        """The folder here, if this hand may write below it."""
        if posixpath.normpath(folder) != folder or not any(
            folder == h or folder.startswith(h + "/") for h in self.homes
        ):
            raise RefusalError("files of the user are not written to %s" % folder)
        return self._place(folder)

    @contextlib.contextmanager
    def _opened(self, folder: str) -> Iterator[int]:
        """A descriptor of a folder of the user's, made with its parents (mode 0700) when it is not
        there.
        """
        place = self._own_folder(folder)
        with gone_if_it_fails(place):
            if not os.path.isdir(place):
                with times_kept(place):
                    os.makedirs(place, mode=0o700, exist_ok=True)
            descriptor = os.open(place, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC)
            try:
                about = os.fstat(descriptor)
                if about.st_uid not in {os.geteuid(), 0} or about.st_mode & stat.S_IWOTH:
                    raise RefusalError(
                        "others can write to %s, so nothing is written there" % folder
                    )
                yield descriptor
            finally:
                os.close(descriptor)

    def put(self, folder: str, name: str, data: bytes, mode: int) -> None:
        """The file has these bytes and this mode: all at once, or not at all."""
        _one_name(name)
        with self._opened(folder) as descriptor:
            put(descriptor, name, data, mode & 0o7777)

    def put_link(self, folder: str, name: str, target: str) -> None:
        """The link leads there: all at once, or not at all."""
        _one_name(name)
        with self._opened(folder) as descriptor:
            put_link(descriptor, name, target)

    def remove(self, folder: str, name: str, folders: int = 0) -> None:
        """The file is gone, with what an interrupted write left, and so are so many folders as far
        as they are empty.
        """
        _one_name(name)
        if os.path.isdir(self._own_folder(folder)):
            with self._opened(folder) as descriptor:
                forget(temporary_name(name), descriptor)
                forget(name, descriptor)
                os.fsync(descriptor)
        for _ in range(min(folders, 64)):
            if not shed(self._place(folder)):
                break
            folder = posixpath.dirname(folder)

    # -- what takes root ---------------------------------------------------------------------------

    @contextlib.contextmanager
    def _system_folder(self, folder: str, mode: int = 0o755) -> Iterator[int]:
        """A descriptor of a folder of the system that is written to, made when it is not there."""
        if not self.rules:
            raise RefusalError("this hand is not root's")
        place = self._place(folder) if self.root else self._settled(folder)
        with gone_if_it_fails(place):
            if not os.path.isdir(place):
                os.makedirs(place, mode=mode, exist_ok=True)
                os.chmod(
                    place, mode
                )  # whatever the caller's mask is, the system has to be able to read there
            descriptor = os.open(place, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC | os.O_NOFOLLOW)
            try:
                about = os.fstat(descriptor)
                if not self.root and (about.st_uid != 0 or about.st_mode & 0o022):
                    raise RefusalError("others than root can write to %s" % folder)
                yield descriptor
            finally:
                os.close(descriptor)

    def own_put(self, path: str, data: bytes) -> None:
        """A file that only Lumtak writes has these bytes, mode 0644."""
        if not is_own_content(path, data):
            raise RefusalError(
                "what was to be written to %s is nothing that Lumtak writes there" % path
            )
        folder, name = posixpath.split(path)
        with self._system_folder(folder) as descriptor:
            put(descriptor, name, data, 0o644)

    def own_link(self, path: str, target: str) -> None:
        """The link of a unit leads there."""
        why = why_no_link(path, target)
        if why:
            raise RefusalError("%s, so Lumtak does not make that link" % why)
        folder, name = posixpath.split(path)
        with self._system_folder(folder) as descriptor:
            put_link(descriptor, name, target)

    def own_remove(self, path: str, folder_too: bool = False) -> None:
        """A link of a unit, or a file that only Lumtak writes, is gone.

        Its folder too, where that is asked for and it is empty.
        """
        folder, name = posixpath.split(path)
        if not (is_own_place(path) or is_link_place(path)):
            raise RefusalError("Lumtak does not remove %s" % path)
        if not os.path.isdir(self._place(folder)):
            return
        with self._system_folder(folder) as descriptor:
            with contextlib.suppress(FileNotFoundError):
                about = os.stat(name, dir_fd=descriptor, follow_symlinks=False)
                if not is_own_place(path) and not stat.S_ISLNK(about.st_mode):
                    raise RefusalError("Lumtak does not remove %s, which is no link" % path)
            forget(temporary_name(name), descriptor)
            forget(name, descriptor)
            os.fsync(descriptor)
        if (folder_too and is_switch(path)) or has_own_folder(path):
            shed(self._place(folder))

    def own_clear(self, path: str) -> None:
        """What an interrupted write of a link or file left is gone.

        Its folder too, where it is one of switches and empty.
        """
        folder, name = posixpath.split(path)
        if not (is_own_place(path) or is_link_place(path)):
            raise RefusalError("Lumtak writes nothing to %s" % path)
        if os.path.isdir(self._place(folder)):
            with self._system_folder(folder) as descriptor:
                forget(temporary_name(name), descriptor)
            if is_switch(path):
                shed(self._place(folder))

    def make_swap(self, mib: int) -> None:
        """A swap file of Lumtak's own, which nobody else may read, ready to be switched on.

        All of it allocated, or none.
        """
        name = posixpath.basename(swap_file(mib))
        with self._system_folder(SWAP_FOLDER) as folder:
            found = os.statvfs(folder)
            if not 0 < mib << 20 <= _MOST_OF_THE_DISK * found.f_bavail * found.f_frsize:
                raise RefusalError("a swap file of %d MiB would fill the disk" % mib)
            forget(name, folder)
            descriptor = os.open(
                name,
                os.O_RDWR | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW | os.O_CLOEXEC,
                0o600,
                dir_fd=folder,
            )
            try:
                os.posix_fallocate(descriptor, 0, int(mib) << 20)
                os.fsync(descriptor)
                printed(["mkswap", "--", self._place(swap_file(mib))], 90.0, check=True)
            except BaseException:
                forget(name, folder)
                raise
            finally:
                os.close(descriptor)

    def drop_swap(self, mib: int) -> None:
        """It is gone, and the folder where nothing else is in it."""
        if os.path.isdir(self._place(SWAP_FOLDER)):
            with self._system_folder(SWAP_FOLDER) as folder:
                forget(posixpath.basename(swap_file(mib)), folder)
            shed(self._place(SWAP_FOLDER))

    def _check_kernel(self, path: str, value: str) -> None:
        name = path[len("/proc/sys/vm/") :] if path.startswith("/proc/sys/vm/") else ""
        word = (
            POLICY_FILE.fullmatch(path) is not None
            and re.fullmatch(r"[a-z0-9_]{1,40}", value) is not None
        )
        if not self.rules or not (word or kernel_value_fits(name, value)):
            raise RefusalError("%s is not set by Lumtak" % path)

    def set_kernel(self, path: str, value: str) -> None:
        """A value of the kernel, until the next restart."""
        self._check_kernel(path, value)
        descriptor = os.open(
            self._place(path), os.O_WRONLY | os.O_CLOEXEC | (os.O_TRUNC if self.root else 0)
        )
        try:
            os.write(descriptor, value.encode())
        finally:
            os.close(descriptor)

    def leave_script(self, tag: str, parts: str) -> None:
        """The script that puts back what takes root stands, made here from these states (JSON).

        With none of them it goes.
        """
        path = script_path(tag)
        folder, name = posixpath.split(path)
        found = json.loads(parts)
        if not isinstance(found, list) or not all(isinstance(p, dict) for p in found):
            raise RefusalError("these are no states")
        try:
            script = root_script(tag, found) if found else b""
        except (ValueError, KeyError, TypeError) as error:
            raise RefusalError("no script is made of this: %s" % error) from error
        if script:
            with self._system_folder(folder) as descriptor:
                put(descriptor, name, script, 0o755)
        elif os.path.isdir(self._place(folder)):
            with self._system_folder(folder) as descriptor:
                forget(temporary_name(name), descriptor)
                forget(name, descriptor)
            shed(self._place(folder))

    def end(self, pid: int, started: int, force: bool, wait_s: float) -> str:
        """Ask a process to end (SIGTERM), or force it (SIGKILL).

        "gone", "runs", or "another" where its number is another one's by now.
        """
        try:
            descriptor = os.pidfd_open(pid)
        except ProcessLookupError:
            return "gone"
        try:
            # After the descriptor is held: from here on the number cannot become another process.
            now = _started(self.read("/proc/%d/stat" % pid, 4096))
            if now != started:
                return "another" if now else "gone"
            with contextlib.suppress(ProcessLookupError):
                signal.pidfd_send_signal(descriptor, signal.SIGKILL if force else signal.SIGTERM)
            ended, _, _ = select.select([descriptor], [], [], max(0.0, min(wait_s, 600.0)))
            return "gone" if ended else "runs"
        finally:
            os.close(descriptor)

    # -- programs ----------------------------------------------------------------------------------

    def run(
        self, arguments: Sequence[str], timeout_s: float = 20.0, partly: bool = False, bus: str = ""
    ) -> bytes:
        """What a program of the table prints.

        Args:
            arguments: its name and arguments.
            timeout_s: after that it is ended, with whatever it started.
            partly: take what it prints although it fails.
            bus: run it on the session bus of this hand's user, who is at home there: HOME, then the
                configuration folder, then the bus where it is known, a line each.
        """
        arguments = list(arguments)
        name, told = arguments[0], "\0".join(arguments[1:])
        tables = [PROGRAMS] + ([OF_A_USER] if bus else []) + ([OF_ROOT] if self.rules else [])
        # Arguments are joined by NUL, which none can hold: no pattern can match across two of them.
        if not any(name in t and re.fullmatch(t[name], told) for t in tables):
            raise RefusalError("%s is not run by Lumtak with these arguments" % name)
        if not self.live:
            raise OSError(errno.ENOSYS, "no programs run in a folder")
        if not bus:
            return printed(arguments, timeout_s, check=not partly)
        home, config, *known = bus.split("\n")
        own = {"HOME": home, "XDG_CONFIG_HOME": config}
        if known:
            own["DBUS_SESSION_BUS_ADDRESS"] = known[0]
        return on_the_bus(arguments, timeout_s, own)

    def feel(self, folder: str, program: str) -> dict[str, float | str]:
        """What the user waits for, tried once: seconds by name, or why not; see `feeling.Feeling`.

        Args:
            folder: on the disk that is tried; a file without a name is held there from the first
                time on.
            program: the path of a large one that is started too; empty for none.
        """
        if self.rules:
            raise RefusalError("root tries nothing of what a user waits for")
        if not self.live:
            raise OSError(errno.ENOSYS, "nothing can be tried in a folder")
        if self._feeling is None:
            self._feeling = Feeling(self._place(folder))
        return self._feeling.round(program)

    def not_started(self, path: str) -> str:
        """Why this program is not started to see how long that takes; empty where it is."""
        return "programs do not run in a folder" if self.root else why_not_started(path)


def _one_name(name: str) -> None:
    if name in {"", ".", ".."} or "/" in name or "\0" in name:
        raise RefusalError("%s is no name of a file" % name)


def _started(data: bytes) -> int:
    """When a process started, in ticks since boot, from /proc/PID/stat.

    0 where that is not understood.
    """
    fields = data[data.rfind(b")") + 1 :].split()
    return int(fields[19]) if len(fields) > 19 and re.fullmatch(rb"[0-9]{1,20}", fields[19]) else 0
