"""What root's hand writes of the system: its own files, links of units, values of the kernel, swap.

Each place and each content is one of the table's. None of this can be asked for: exact states write
themselves by it once `settling` has let them. Sent with the hand: the standard library only, in the
language of Python 3.8.
"""

from __future__ import annotations

import contextlib
import os
import posixpath
import re
import stat
from typing import Iterator, Optional, Sequence, Tuple

from lumtak.computers.hands.sent.files.atomic import (
    forget,
    gone_if_it_fails,
    put,
    put_link,
    shed,
    temporary_name,
)
from lumtak.computers.hands.sent.files.making import make_folder, tell_kernel
from lumtak.computers.hands.sent.files.opening import open_folder
from lumtak.computers.hands.sent.files.places import RefusalError
from lumtak.computers.hands.sent.hand import Hand
from lumtak.computers.hands.sent.running.programs import printed
from lumtak.computers.hands.sent.table import (
    OF_ROOT,
    POLICY_FILE,
    PROFILE_BUSES,
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
_TIMEOUT_S = 90.0
_UP = {"active", "activating", "reloading"}
_SERVICES = "/usr/share/dbus-1/system-services"


class Writing(Hand):
    """What exact states of root are brought about with; see `states.exact.OfRoot`."""

    # -- looking -----------------------------------------------------------------------------------

    def held(self, path: str) -> Optional[bytes]:
        """What a small file of the system holds; None where it is not there."""
        try:
            return self.read(path)
        except FileNotFoundError:
            return None

    def text_of(self, path: str) -> str:
        """The same as text; empty where it cannot be read."""
        try:
            return self.read(path, 1 << 16).decode("utf-8", "replace")
        except OSError:
            return ""

    def is_active(self, unit: str) -> bool:
        """Whether a unit runs, as the service manager says."""
        asked = ("systemctl", "show", "--no-pager", "--property=ActiveState", "--", unit)
        said = self.run(asked, partly=True).decode("utf-8", "replace")
        found = re.search(r"(?m)^ActiveState=(\S+)$", said)
        return found is not None and found[1] in _UP

    def profile(self) -> Tuple[str, str]:
        """(name on the system bus, plan in force) of the profile service; nothing where none
        answers.
        """
        for bus, path in PROFILE_BUSES.items():
            if not self.text_of("%s/%s.service" % (_SERVICES, bus)):
                continue
            told = ("--system", "get-property", "--", bus, path, bus, "Profiles", "ActiveProfile")
            try:
                said = self.run(("busctl", *told), 4.0).decode("utf-8", "replace")
            except OSError:
                continue
            plan = said.rstrip("\n").rpartition("\n")[2]
            return bus, plan[len('s "') : -1]
        return "", ""

    # -- writing -----------------------------------------------------------------------------------

    def run_as_root(self, arguments: Sequence[str]) -> None:
        """A program of the table of root is run."""
        name, told = arguments[0], "\0".join(arguments[1:])
        if not self.rules or name not in OF_ROOT or not re.fullmatch(OF_ROOT[name], told):
            raise RefusalError("%s is not run by root with these arguments" % name)
        printed(list(arguments), _TIMEOUT_S, check=True)

    def units(self, verb: str, *units: str) -> None:
        """Start, stop, or read unit files anew."""
        named = ("--", *units) if units else ()
        self.run_as_root(("systemctl", "--no-ask-password", verb, *named))

    def set_profile(self, bus: str, plan: str) -> None:
        """The plan of the profile service on the system bus."""
        path = PROFILE_BUSES.get(bus, "/")
        told = ("--system", "set-property", "--", bus, path, bus, "ActiveProfile", "s", plan)
        self.run_as_root(("busctl", *told))

    @contextlib.contextmanager
    def system_folder(self, folder: str, mode: int = 0o755) -> Iterator[int]:
        """A descriptor of a folder of the system that is written to, made when it is not there."""
        if not self.rules:
            raise RefusalError("this hand is not root's")
        above = posixpath.dirname(folder)
        if not os.path.isdir(self._place(above)):
            with gone_if_it_fails(self._place(above)), self.system_folder(above):
                pass
        place = self._place(folder) if self.root else self._settled(folder)
        with gone_if_it_fails(place):
            if not os.path.isdir(place):
                make_folder(place, mode)
            descriptor = open_folder(place, follow=False)
            try:
                about = os.fstat(descriptor)
                if not self.root and (about.st_uid != 0 or about.st_mode & 0o022):
                    raise RefusalError("others than root can write to %s" % folder)
                yield descriptor
            finally:
                os.close(descriptor)

    def keep(self, path: str, data: Optional[bytes]) -> None:
        """A file that only Lumtak writes has these bytes, or is gone."""
        if data is None:
            self.own_remove(path)
        else:
            self.own_put(path, data)

    def own_put(self, path: str, data: bytes) -> None:
        """A file that only Lumtak writes has these bytes, mode 0644."""
        if not is_own_content(path, data):
            raise RefusalError(
                "what was to be written to %s is nothing that Lumtak writes there" % path
            )
        folder, name = posixpath.split(path)
        with self.system_folder(folder) as descriptor:
            put(descriptor, name, data, 0o644)

    def own_link(self, path: str, target: str) -> None:
        """The link of a unit leads there."""
        why = why_no_link(path, target)
        if why:
            raise RefusalError("%s, so Lumtak does not make that link" % why)
        folder, name = posixpath.split(path)
        with self.system_folder(folder) as descriptor:
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
        with self.system_folder(folder) as descriptor:
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
            with self.system_folder(folder) as descriptor:
                forget(temporary_name(name), descriptor)
            if is_switch(path):
                shed(self._place(folder))

    def make_swap(self, mib: int) -> None:
        """A swap file of Lumtak's own, which nobody else may read, ready to be switched on.

        All of it allocated, or none.
        """
        name = posixpath.basename(swap_file(mib))
        with self.system_folder(SWAP_FOLDER) as folder:
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
            with self.system_folder(SWAP_FOLDER) as folder:
                forget(posixpath.basename(swap_file(mib)), folder)
            shed(self._place(SWAP_FOLDER))

    def check_kernel(self, path: str, value: str) -> None:
        """Whether this is a value of the kernel that Lumtak sets.

        Raises:
            RefusalError: it is not.
        """
        name = path[len("/proc/sys/vm/") :] if path.startswith("/proc/sys/vm/") else ""
        word = (
            POLICY_FILE.fullmatch(path) is not None
            and re.fullmatch(r"[a-z0-9_]{1,40}", value) is not None
        )
        if not self.rules or not (word or kernel_value_fits(name, value)):
            raise RefusalError("%s is not set by Lumtak" % path)

    def set_kernel(self, path: str, value: str) -> None:
        """A value of the kernel, until the next restart."""
        self.check_kernel(path, value)
        tell_kernel(self._place(path), value.encode(), cut=bool(self.root))
