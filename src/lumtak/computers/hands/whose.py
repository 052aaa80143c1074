"""Whose hands there are: Lumtak's own, the chosen user's, root's."""

import ctypes
import os
import pwd
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any, cast

from lumtak.computers.hands.asking import Near
from lumtak.computers.hands.channel import bootstrap
from lumtak.computers.hands.piped import Piped
from lumtak.computers.hands.reach import Reach
from lumtak.computers.hands.sent.files.owned import why_not_roots
from lumtak.computers.hands.sent.operations import LOOKING, ROOT, SEARCHING, TRYING, UPKEEP, USER
from lumtak.computers.hands.sent.root.settling import RootHand
from lumtak.core.text import plain
from lumtak.errors import ComputerError, UnknownNameError

PYTHON = "/usr/bin/python3"
_SUDO = ("/usr/bin/sudo", "/bin/sudo", "/usr/local/bin/sudo")
_PROMPT = "Lumtak changes settings of the system. Password of %p: "


@dataclass(frozen=True, slots=True, kw_only=True)
class User:
    """One user of a computer."""

    name: str
    uid: int
    gid: int
    home: str
    """Absolute."""
    config_home: str
    """Absolute; XDG Base Directory Specification."""
    data_home: str
    """Absolute; the same specification."""
    cache_home: str
    """Absolute; the same specification."""
    config_dirs: tuple[str, ...]
    """Most important first."""
    desktops: tuple[str, ...] = ()
    """What the desktop that the caller sits at calls itself; empty where that is not known."""

    @property
    def homes(self) -> tuple[str, str, str]:
        """Folders of this user: home, caches, data."""
        return self.home, self.cache_home, self.data_home

    @property
    def bus(self) -> str:
        """How a hand of this user is told to run a program on the user's session bus."""
        return f"{self.home}\n{self.config_home}"


def chosen_user(name: str | None, environment: Mapping[str, str]) -> User:
    """The user named, else who called, also through sudo.

    For the caller the XDG variables and HOME count; for anybody else their home from the user
    database.

    Raises:
        UnknownNameError: there is no such user.
    """
    caller = environment.get("SUDO_USER") if os.geteuid() == 0 else None
    entry = _entry_of(name or caller)
    # Under sudo the environment is the caller's, though the process is root's: it counts for
    # neither.
    own = entry.pw_uid == os.geteuid() and not (caller and not name)
    if own and entry.pw_uid == 0:
        _check_roots_home(environment)
    theirs = environment if own else {}
    home = theirs.get("HOME") or entry.pw_dir
    dirs = theirs.get("XDG_CONFIG_DIRS", "").split(":")
    return User(
        desktops=tuple(filter(None, theirs.get("XDG_CURRENT_DESKTOP", "").split(":"))),
        name=entry.pw_name,
        uid=entry.pw_uid,
        gid=entry.pw_gid,
        home=os.path.normpath(home),
        config_home=_whole(theirs.get("XDG_CONFIG_HOME", ""), os.path.join(home, ".config")),
        data_home=_whole(theirs.get("XDG_DATA_HOME", ""), os.path.join(home, ".local/share")),
        cache_home=_whole(theirs.get("XDG_CACHE_HOME", ""), os.path.join(home, ".cache")),
        config_dirs=tuple(d for d in dirs if d.startswith("/")) or ("/etc/xdg",),
    )


def _entry_of(wanted: str | None) -> pwd.struct_passwd:
    """The user of this name, else whoever runs this, from the user database."""
    try:
        return pwd.getpwnam(wanted) if wanted else pwd.getpwuid(os.geteuid())
    except KeyError as error:
        if not wanted:
            raise ComputerError(
                f"Nobody has the user number {os.geteuid()} here.", "Name a user with --user."
            ) from error
        names = (e.pw_name for e in pwd.getpwall())
        raise UnknownNameError("user on this computer", wanted, names) from error


def _whole(path: str, otherwise: str) -> str:
    """A path that is whole; the XDG specification ignores any other."""
    return os.path.normpath(path if path.startswith("/") else otherwise)


def _check_roots_home(environment: Mapping[str, str]) -> None:
    """Root looks for files of its own only where nobody else decides what stands there.

    Raises:
        ComputerError: HOME or an XDG folder is somebody else's.
    """
    for name in ("HOME", "XDG_CONFIG_HOME", "XDG_DATA_HOME"):
        place = environment.get(name, "")
        if place.startswith("/") and (why := why_not_roots(place)):
            raise ComputerError(
                f"Lumtak does not work as root with {name} at {plain(place, 200)}, since"
                f" {plain(why, 200)}.",
                "Start it as that user, or with HOME=/root.",
            )


class Hands:
    """The hands of one computer.

    Args:
        own: looks at the system as Lumtak itself.
        user: as the user whose settings are changed.
        root: changes the system; None where it has to be asked for by sudo.
        why_no_root: why there can be none, as a clause; empty where there is or can be one.
        trying: another of the user, which tries what they wait for; None where nothing runs.
        beside: of Lumtak's own and of the user, for upkeep beside all other work: they give way to
            everything; None where nothing runs.
        searching: another of Lumtak's own, which looks the disk through while Lumtak goes on; None
            where nothing runs.
    """

    def __init__(
        self,
        own: Reach,
        user: Reach,
        root: Reach | None,
        why_no_root: str = "",
        trying: Piped | None = None,
        searching: Reach | None = None,
        beside: tuple[Reach, Reach] | None = None,
    ) -> None:
        self.own, self.user = own, user
        self.searching = searching
        self._beside = beside
        self.trying = trying
        self._root = root
        self.why_no_root = why_no_root
        self._pipe: Piped | None = None
        self.way = "back"
        """Which way root is asked to go; see `Settling.change`."""

    @property
    def asks(self) -> bool:
        """Whether a password may be asked for before anything that takes root."""
        return self._root is None and not self.why_no_root

    def root(self) -> Reach:
        """The hand of root; where none was taken yet, one that sudo gives without a question.

        Raises:
            ComputerError: there is none.
        """
        if self._root is not None:
            return self._root
        if self._pipe is None or not self._pipe.is_open:
            self.take(ask=False)
        if self._pipe is None:
            raise ComputerError("This takes root, and there is none.", "Start Lumtak as root.")
        return as_reach(self._pipe)

    def take(self, *, ask: bool) -> None:
        """Have a hand of root; sudo asks for the password on the terminal where it has to and may.

        Raises:
            ComputerError: it is refused, or cannot be had.
        """
        if self._root is not None or (self._pipe is not None and self._pipe.is_open):
            return
        if self.why_no_root:
            raise ComputerError(
                f"This cannot be done: {self.why_no_root}.", "Start Lumtak as root."
            )
        check_interpreter()
        how = ("-p", _PROMPT) if ask else ("-n",)
        command = (sudo(), *how, "--", *bootstrap(PYTHON))
        options = {"rules": True, "roles": (ROOT,)}
        start_s = None if ask else 30.0
        hand = Piped(command, options, "the hand of root", session=False, start_s=start_s)
        _untraced(on=True)
        try:
            hand.open()
        except OSError as error:
            _untraced(on=False)
            raise ComputerError(
                "This takes root, and sudo did not allow it.",
                "See whether you may use sudo here (sudo -l), then try again; or start Lumtak as"
                " root.",
            ) from error
        self._pipe = hand

    def give_back(self) -> None:
        """The hand of root that was asked for ends; the next change asks again."""
        if self._pipe is not None:
            self._pipe.close()
            self._pipe = None
            _untraced(on=False)

    def end_searching(self) -> None:
        """What looks the disk through ends, also in the middle of it."""
        _ended(self.searching, at_once=True)

    def beside(self, *, as_user: bool) -> Reach:
        """The hand that does upkeep beside all other work, as Lumtak itself or as the user."""
        if self._beside is None:
            return self.user if as_user else self.own
        return self._beside[as_user]

    def end_beside(self) -> None:
        """Upkeep ends, also in the middle of it."""
        for hand in self._beside or ():
            _ended(hand, at_once=True)

    def close(self) -> None:
        """End whatever was started."""
        self.end_searching()
        self.end_beside()
        self.give_back()
        for hand in (self.user, self.trying):
            _ended(hand)


def _ended(hand: Reach | Piped | None, *, at_once: bool = False) -> None:
    """A hand that is a process of its own is ended."""
    if isinstance(hand, Piped):
        if at_once:
            hand.kill()
        else:
            hand.close()


def as_reach(hand: Near | Piped) -> Reach:
    """A hand as adapters know it: every operation of the table is an attribute of it."""
    return cast("Reach", hand)


def _untraced(*, on: bool) -> None:
    """While a hand of root can be told what to do, no other program of this user may look into
    Lumtak or tell it; prctl(2), PR_SET_DUMPABLE.
    """
    ctypes.CDLL(None).prctl(4, 0 if on else 1, 0, 0, 0)


def sudo() -> str:
    """Where sudo is: in a folder of the system, whatever stands on the caller's path.

    Empty where it is not.
    """
    return next((path for path in _SUDO if os.access(path, os.X_OK)), "")


def local_hands(user: User) -> Hands:
    """The hands for the computer that Lumtak runs on, and one of its users."""
    of_user = {"homes": (user.config_home, user.data_home), "own": user.homes}
    if os.geteuid() != 0:
        own = _near(**of_user, roles=(LOOKING, USER))
        why = "" if sudo() else "it takes root: start Lumtak as root, or install sudo"
        beside = _beside(user)
        return Hands(own, own, None, why, _trying(user), _searching(rules=False), beside)
    root, searching = _near(rules=True, roles=(LOOKING, ROOT)), _searching(rules=True)
    if user.uid == 0:
        of_root = _near(**of_user, roles=(LOOKING, USER))
        beside = _beside(user, rules=True)
        return Hands(root, of_root, root, trying=_trying(user), searching=searching, beside=beside)
    check_interpreter()
    ids = (
        f"--reuid={user.uid}",
        f"--regid={user.gid}",
        "--init-groups",
        "--no-new-privs",
        "--inh-caps=-all",
    )
    command = ("/usr/bin/setpriv", *ids, "--reset-env", "--", *bootstrap(PYTHON))
    options = {**of_user, "roles": (LOOKING, USER)}
    return Hands(
        root,
        as_reach(Piped(command, options, f"the hand of {user.name}")),
        root,
        trying=_trying(user, command),
        searching=searching,
        beside=_beside(user, command, rules=True),
    )


def _near(**options: Any) -> Reach:
    return as_reach(Near(RootHand(**options)))


def _trying(user: User, command: tuple[str, ...] = bootstrap(PYTHON)) -> Piped:
    """The hand that tries what a user waits for: a process of its own, so that nothing that Lumtak
    does meanwhile counts.
    """
    return Piped(command, {"roles": (TRYING,)}, f"the trying hand of {user.name}")


def _searching(*, rules: bool) -> Reach:
    """The hand that looks the disk through: a process of its own that gives way to all others."""
    options = {"rules": rules, "roles": (SEARCHING,), "nice": 10}
    return as_reach(Piped(bootstrap(PYTHON), options, "the searching hand"))


def _beside(
    user: User, command: tuple[str, ...] = bootstrap(PYTHON), *, rules: bool = False
) -> tuple[Reach, Reach]:
    """The hands that do upkeep beside all other work, with the lowest priority there is."""
    idle = {"roles": (UPKEEP,), "nice": 19, "idle": True}
    own = Piped(bootstrap(PYTHON), {**idle, "rules": rules}, "the hand of upkeep")
    return as_reach(own), as_reach(Piped(command, idle, f"the upkeep hand of {user.name}"))


def folder_hands(root: str, user: User) -> Hands:
    """The hands for a folder that looks like a computer: it has files, and nobody's rights."""
    hand = _near(root=root, homes=(user.config_home, user.data_home), own=user.homes)
    return Hands(hand, hand, hand, "it is a folder, not a computer that is switched on")


def check_interpreter() -> None:
    """The interpreter of a hand, and every folder on the way to it, belong to root alone.

    Raises:
        ComputerError: they do not, or there is none.
    """
    place = os.path.realpath(PYTHON)
    why = f"{PYTHON} is not there" if not os.access(place, os.X_OK) else why_not_roots(place)
    if why:
        raise ComputerError(
            f"What acts as somebody else is run by the system's own Python, and {why}.",
            "Install python3 from the system's packages, where only root can write.",
        )
