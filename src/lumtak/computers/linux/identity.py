"""Whether a program is the system's: by its file and by who can write there, never by its name."""

import posixpath
import stat

from lumtak.computers.hands.reach import Reach
from lumtak.computers.hands.sent.units.running import programs_in
from lumtak.core.catalogue import NO_ROLE, Catalogue

_FOLDERS = ("/usr/local/bin", "/usr/bin", "/bin", "/usr/local/sbin", "/usr/sbin", "/sbin")
FIRST_PERSON = 1000
"""Numbers of users below this are the system's; login.defs(5), UID_MIN."""
_LINKS_MOST = 40


class Programs:
    """Programs of one computer.

    Args:
        hand: looks.
        home: of the user.
        catalogue: knows what is guarded.
    """

    def __init__(self, hand: Reach, home: str, catalogue: Catalogue) -> None:
        self._hand, self._home, self._catalogue = hand, home, catalogue
        self._known: dict[str, bool] = {}

    def is_systems(self, path: str) -> bool:
        """Whether a file and every folder and link on the way to it are root's, and nobody else can
        write there.

        Where the hand acts on a folder, whose files are nobody's, it is whoever acts there.
        """
        if path not in self._known:
            self._known[path] = self._is_roots(path)
        return self._known[path]

    def _is_roots(self, path: str) -> bool:
        roots = {0} if self._hand.live else {0, self._hand.about()["uid"]}
        for _ in range(_LINKS_MOST):
            steps = [path]
            while steps[-1] not in {"/", ""}:
                steps.append(posixpath.dirname(steps[-1]))
            told = self._hand.owners(steps)
            if told[0] is None:
                return False
            for about in told:
                if about is not None and not _is_closed(about[0], about[1], roots):
                    return False
            if not stat.S_ISLNK(told[0][1]):
                return True
            target = self._hand.link(path) or ""
            path = posixpath.normpath(posixpath.join(posixpath.dirname(path), target))
        return False

    def role_of_command(self, role: str, command: str) -> str:
        """The role of what a command starts: one that is guarded only where all that it runs is the
        system's, so that a name that was taken guards nothing.
        """
        known = self._catalogue.find(role)
        if known is None or not known.guarded:
            return role
        first = command.split()[:1]
        if first and not first[0].startswith("/"):
            places = [f"{folder}/{first[0].strip(chr(34))}" for folder in _FOLDERS]
            first = [p for p in places if self._hand.exists(p)][:1]
        runs = [*first, *programs_in(command, self._home)]
        return role if runs and all(map(self.is_systems, runs)) else NO_ROLE

    def of_processes(self, pids: list[int]) -> set[int]:
        """Those of these processes whose program is not the system's: of a person, and no file of
        root's alone.
        """
        told = self._hand.owners([f"/proc/{pid}" for pid in pids])
        persons = [
            pid
            for pid, about in zip(pids, told, strict=True)
            if about is not None and about[0] >= FIRST_PERSON
        ]
        strange = set()
        for pid in persons:
            path = self._hand.link(f"/proc/{pid}/exe")
            if path and not self.is_systems(path):
                strange.add(pid)
        return strange


def _is_closed(uid: int, mode: int, roots: set[int]) -> bool:
    """Whether nobody but root can exchange what stands there."""
    if uid not in roots:
        return False
    shared = mode & stat.S_IWOTH and not stat.S_ISLNK(mode)
    return not shared or bool(stat.S_ISDIR(mode) and mode & stat.S_ISVTX)
