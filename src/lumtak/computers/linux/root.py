"""What takes root, one fixed list of arguments at a time: directly where Lumtak is root, else through sudo.

Nothing here goes through a shell, and every path is checked against the few folders that this adapter writes to. Lumtak installs no rule
for sudo or polkit; where a password is asked for, the person types it into sudo itself before the first change.
"""

import os
import re
import shutil
from collections.abc import Callable

from lumtak.computers.linux.folder import temporary_name
from lumtak.computers.linux.owned import (
    POLICIES,
    SWAP_FOLDER,
    is_link_place,
    is_own_content,
    is_own_place,
    kernel_value_fits,
    swap_file,
    why_no_link,
)
from lumtak.computers.linux.transport import PATH, Transport, names_at, text
from lumtak.core.text import plain
from lumtak.errors import ComputerError

_SYSCTL = "/proc/sys/vm/"
_UNIT = re.compile(r"[A-Za-z0-9:_.\\@%-][^/\0\n]*\.(?:service|timer|socket|path|swap)")
_GOVERNOR = re.compile(rf"{POLICIES}/policy[0-9]+/(?:scaling_governor|energy_performance_preference)")
_TIMEOUT_S = 90.0
_VERBS = {"start", "stop", "daemon-reload"}


class Root:
    """Runs what takes root on one computer.

    Args:
        transport: of the computer.
        effective_uid: whose rights Lumtak has there.
    """

    def __init__(self, transport: Transport, effective_uid: Callable[[], int] = os.geteuid) -> None:
        self._transport = transport
        self._uid = effective_uid

    def why_not(self) -> str:
        """Why nothing that takes root can be done here, as a clause; empty where it can be, perhaps after a password."""
        if not self._transport.live:
            return "it is a folder, not a computer that is switched on"
        if self._uid() == 0 or _sudo():
            return ""
        return "it takes root: start Lumtak as root, or install sudo"

    def asks(self) -> tuple[str, ...]:
        """What to run in the terminal before the first change, so that sudo can ask for a password; nothing where it is not needed."""
        if self._uid() == 0 or self.why_not():
            return ()
        return (_sudo(), "-v", "-p", "Lumtak changes settings of the system. Password of %p: ")

    def _run(self, *arguments: str, stdin: bytes = b"") -> bytes:
        prefix = () if self._uid() == 0 else ("sudo", "-n", "--")
        try:
            return self._transport.run((*prefix, *arguments), timeout_s=_TIMEOUT_S, stdin=stdin)
        except OSError as error:
            if prefix and not self._allowed(arguments):
                raise ComputerError(
                    "This takes root, and sudo did not allow it.",
                    "Run `sudo -v` in this terminal, then try again; or start Lumtak as root.",
                ) from error
            raise ComputerError(f"{plain(str(error), 300)}.", "Nothing was changed; the log has the rest.") from error

    def _allowed(self, arguments: tuple[str, ...]) -> bool:
        """Whether sudo lets these arguments through without a question; sudo(8), --list with a command."""
        try:
            self._transport.run(("sudo", "-n", "-l", "--", *arguments))
        except OSError:
            return False
        return True

    # -- files --------------------------------------------------------------------------------------------------------

    def put(self, path: str, data: bytes) -> None:
        """The file has these bytes, mode 0644: all at once, or not at all."""
        if not is_own_content(path, data):
            raise self._not_ours(path)
        folder, new = self._beside(path)
        self._run("mkdir", "-p", "--", folder)
        self._run("tee", "--", new, stdin=data)
        self._run("chmod", "0644", "--", new)
        self._run("sync", "--", new)
        self._run("mv", "-f", "-T", "--", new, path)

    def link(self, path: str, target: str) -> None:
        """The link points there: all at once, or not at all."""
        if why := why_no_link(path, target):
            raise ComputerError(
                f"{plain(why, 300)}, so Lumtak does not make that link.", "Make it by hand if you must."
            )
        folder, new = self._beside(path)
        self._run("mkdir", "-p", "--", folder)
        self._run("ln", "-s", "-f", "-T", "--", target, new)
        self._run("mv", "-f", "-T", "--", new, path)

    def remove(self, path: str, *, folder_too: bool = False) -> None:
        """The file or link is gone, with what an interrupted write left; its folder too, where that is asked for and it is empty.

        Only links of units go, and files that Lumtak alone writes.
        """
        folder, name = os.path.split(path)
        is_file = self._transport.link(path) is None and name in names_at(self._transport, folder)
        if not (is_own_place(path) or (is_link_place(path) and not is_file)):
            raise self._not_ours(path)
        folder, new = self._beside(path)
        self._run("rm", "-f", "--", path, new)
        if folder_too:
            self._run("rmdir", "--ignore-fail-on-non-empty", "--", folder)

    def make_swap_file(self, mib: int) -> None:
        """A swap file of Lumtak's own, which nobody else may read, ready to be switched on; all of it allocated, or none."""
        path = swap_file(mib)
        self._run("mkdir", "-p", "-m", "0755", "--", SWAP_FOLDER)
        self._run("rm", "-f", "--", path)
        try:
            self._run("install", "-m", "0600", "--", "/dev/null", path)
            self._run("fallocate", "-l", f"{mib}MiB", "--", path)
            self._run("mkswap", "--", path)
        except ComputerError:
            self._run("rm", "-f", "--", path)
            raise

    def remove_swap_file(self, mib: int) -> None:
        """It is gone, and the folder where nothing else is in it."""
        self._run("rm", "-f", "--", swap_file(mib))
        self._run("rmdir", "--ignore-fail-on-non-empty", "--", SWAP_FOLDER)

    @staticmethod
    def _beside(path: str) -> tuple[str, str]:
        folder, name = os.path.split(path)
        return folder, f"{folder}/{temporary_name(name)}"

    @staticmethod
    def _not_ours(path: str) -> ComputerError:
        return ComputerError(
            f"What was to be written to {plain(path)} is nothing that Lumtak writes there.",
            "Change it by hand if you must.",
        )

    # -- units, the kernel, the bus -----------------------------------------------------------------------------------

    def systemctl(self, verb: str, *units: str) -> None:
        """Start, stop, or read unit files anew."""
        if verb not in _VERBS or not all(_UNIT.fullmatch(u) for u in units):
            raise ComputerError(f"systemctl {plain(verb)} is not run by Lumtak.", "Do it by hand if you must.")
        self._run("systemctl", "--no-ask-password", verb, *(("--", *units) if units else ()))

    def set_kernel(self, path: str, value: str) -> None:
        """A value of the kernel, until the next restart."""
        ours = (
            kernel_value_fits(path.removeprefix(_SYSCTL), value)
            if path.startswith(_SYSCTL)
            else (_GOVERNOR.fullmatch(path) is not None and re.fullmatch(r"[a-z0-9_]+", value) is not None)
        )
        if not ours:
            raise ComputerError(f"{plain(path)} is not set by Lumtak.", "Set it by hand if you must.")
        self._run("tee", "--", path, stdin=value.encode())

    def set_property(self, bus: str, path: str, interface: str, name: str, value: str) -> None:
        """A text property on the system bus."""
        self._run("busctl", "--system", "set-property", "--", bus, path, interface, name, "s", value)


def _sudo() -> str:
    """Where sudo is, by the folders of the system: whoever called Lumtak may have put another one on their path."""
    return shutil.which("sudo", path=PATH) or ""


def shown(data: bytes) -> str:
    """What a program printed, without the newline at its end."""
    return text(data).rstrip("\n")
