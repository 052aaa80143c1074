"""Packages removed by a hand of root, which looks at all of it again itself.

Sent with the hand: the standard library only, in the language of Python 3.8.
"""

from __future__ import annotations

import contextlib
import fcntl
import os
from typing import Dict, List, Sequence, Set

from lumtak.computers.hands.sent.files.making import opened_to_lock
from lumtak.computers.hands.sent.files.places import RefusalError
from lumtak.computers.hands.sent.running.programs import printed
from lumtak.computers.hands.sent.storing import Storing
from lumtak.computers.hands.sent.system.packages import (
    GREETER,
    MOST_STATUS,
    NAME,
    STATUS,
    Packages,
    carries,
    list_names,
)

_LONGEST_S = 600.0
_LOCKS = ("/var/lib/dpkg/lock-frontend", "/var/lib/dpkg/lock")


class Removing(Storing):
    """The operation; see `hand.Hand`."""

    def remove_packages(self, names: Sequence[str]) -> List[str]:
        """Packages are removed, their configuration stays; gives those that are gone.

        dpkg takes nothing along. What every system, the desktop or Lumtak itself needs is refused,
        and so is what would leave something behind that cannot be without it.
        """
        if not self.rules or not self.live:
            raise RefusalError("this hand removes no packages")
        wanted = set(names)
        if not wanted or not all(NAME.fullmatch(name) for name in wanted):
            raise RefusalError("these are no names of packages")
        found = self._packages()
        why = found.why_not(wanted, os.uname().release) or self._carried(found, wanted)
        if why:
            raise RefusalError("%s" % why)
        if self._is_locked():
            raise RefusalError("another program is at work on the packages just now")
        quiet = {"DEBIAN_FRONTEND": "noninteractive"}
        told = ["dpkg", "--remove", "--", *sorted(wanted)]
        printed(told, _LONGEST_S, check=True, more=quiet)
        return sorted(wanted - self._packages().all.keys())

    def reinstall_packages(self, names: Sequence[str]) -> List[str]:
        """Packages are unpacked once more from the archives that are here already; configuration
        stays as it is. Nothing is fetched.

        Gives those that were: apt says nothing of what it passed over.
        """
        if not self.rules or not self.live:
            raise RefusalError("this hand installs no packages")
        wanted = sorted(set(names))
        if not wanted or not all(NAME.fullmatch(name) for name in wanted):
            raise RefusalError("these are no names of packages")
        missing = [name for name in wanted if name not in self._packages().all]
        if missing:
            raise RefusalError("%s is not installed" % missing[0])
        if self._is_locked():
            raise RefusalError("another program is at work on the packages just now")
        quiet = {"DEBIAN_FRONTEND": "noninteractive"}
        kept = [
            "--option=Dpkg::Options::=--force-confdef",
            "--option=Dpkg::Options::=--force-confold",
        ]
        before = self._unpacked(wanted)
        told = ["apt-get", "--yes", "--no-download", *kept, "--reinstall", "install", "--", *wanted]
        printed(told, _LONGEST_S, check=True, more=quiet)
        after = self._unpacked(wanted)
        return [name for name in wanted if after[name] != before[name]]

    def _unpacked(self, names: Sequence[str]) -> Dict[str, int]:
        """When the list of each one's files was last written, which each unpacking does."""
        known = self._packages()
        found = dict.fromkeys(names, 0)
        for name in names:
            for path in list_names(known.all[name]):
                with contextlib.suppress(OSError):
                    found[name] = os.stat(path).st_ctime_ns
        return found

    def _is_locked(self) -> bool:
        """Whether somebody else has the package database; it would wait, or fail with no reason."""
        for name in _LOCKS:
            with contextlib.suppress(FileNotFoundError):
                descriptor = opened_to_lock(name)
                try:
                    fcntl.lockf(descriptor, fcntl.LOCK_EX | fcntl.LOCK_NB)
                except BlockingIOError:
                    return True
                finally:
                    os.close(descriptor)
        return False

    def _packages(self) -> Packages:
        return Packages(self.read(STATUS, MOST_STATUS).decode("utf-8", "replace"))

    def _carried(self, found: Packages, names: Set[str]) -> str:
        """What of the system's own these bring, as a clause; empty for nothing."""
        greeter = b""
        with contextlib.suppress(OSError):
            greeter = self.read(GREETER, 4096).strip()
        for name in sorted(names):
            for path in list_names(found.all[name]):
                with contextlib.suppress(FileNotFoundError):
                    what = carries(self.read(path, MOST_STATUS), greeter)
                    if what:
                        return "%s brings %s" % (name, what)
        return ""
