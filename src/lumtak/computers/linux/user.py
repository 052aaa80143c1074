"""Whose settings are changed, and acting as that user."""

import contextlib
import ctypes
import os
import pwd
import stat
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path

from lumtak.errors import ComputerError, UnknownNameError


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
    config_dirs: tuple[str, ...]
    """Most important first."""
    desktops: tuple[str, ...] = ()
    """What the desktop that the caller sits at calls itself; empty where that is not known."""


def chosen_user(name: str | None, environment: Mapping[str, str]) -> User:
    """The user named, else who called, also through sudo.

    For the caller the XDG variables and HOME count; for anybody else their home from the user database.

    Raises:
        UnknownNameError: there is no such user.
    """
    caller = environment.get("SUDO_USER") if os.geteuid() == 0 else None
    wanted = name or caller
    try:
        entry = pwd.getpwnam(wanted) if wanted else pwd.getpwuid(os.geteuid())
    except KeyError as error:
        if not wanted:
            raise ComputerError(
                f"Nobody has the user number {os.geteuid()} here.", "Name a user with --user."
            ) from error
        names = (e.pw_name for e in pwd.getpwall())
        raise UnknownNameError("user on this computer", wanted, names) from error
    own = entry.pw_uid == os.geteuid() and not (caller and not name)
    home = (environment.get("HOME") if own else None) or entry.pw_dir
    config_home = environment.get("XDG_CONFIG_HOME", "") if own else ""
    data_home = environment.get("XDG_DATA_HOME", "") if own else ""
    dirs = environment.get("XDG_CONFIG_DIRS", "") if own else ""
    desktops = environment.get("XDG_CURRENT_DESKTOP", "") if own else ""
    return User(
        desktops=tuple(d for d in desktops.split(":") if d),
        name=entry.pw_name,
        uid=entry.pw_uid,
        gid=entry.pw_gid,
        home=home,
        config_home=config_home if config_home.startswith("/") else os.path.join(home, ".config"),
        data_home=data_home if data_home.startswith("/") else os.path.join(home, ".local/share"),
        config_dirs=tuple(d for d in dirs.split(":") if d.startswith("/")) or ("/etc/xdg",),
    )


def refuse_another_ones_code(program: Path, environment: Mapping[str, str]) -> None:
    """Root does not run, on somebody's behalf, what somebody else than root can write.

    Args:
        program: a file of Lumtak's.
        environment: says through whom root was called: sudo, pkexec or doas.

    Raises:
        ComputerError: a folder on the way to it can be written by others.
    """
    if os.geteuid() != 0 or not any(environment.get(name) for name in ("SUDO_USER", "PKEXEC_UID", "DOAS_USER")):
        return
    for place in (program, *program.parents):
        about = os.stat(place)
        shared = about.st_mode & 0o002 or (about.st_mode & 0o020 and about.st_gid != 0)
        if about.st_uid != 0 or (shared and not about.st_mode & stat.S_ISVTX):
            raise ComputerError(
                f"Lumtak does not work as root from {place.parent if place == program else place}, which others than root can write.",
                "Start it as yourself: it asks sudo for each change that takes root. Or install it where only root can write.",
            )


@contextlib.contextmanager
def acting_as(user: User) -> Iterator[None]:
    """Files are opened, made and owned as this user's while it lasts, in this thread only.

    When root works for somebody else, the file-system ids of the thread are set (setfsuid(2)), and its supplementary groups are the
    user's: the kernel then checks access as that user, so that no link a user planted leads root anywhere. For one's own files nothing
    changes.

    Raises:
        ComputerError: the kernel did not take the ids.
    """
    if os.geteuid() != 0 or user.uid == 0:
        yield
        return
    libc = ctypes.CDLL(None, use_errno=True)
    groups = os.getgroups()
    uid, gid = libc.setfsuid(-1), libc.setfsgid(-1)
    try:
        _set_groups(libc, os.getgrouplist(user.name, user.gid))
        libc.setfsgid(user.gid)
        libc.setfsuid(user.uid)
        if libc.setfsuid(-1) != user.uid or libc.setfsgid(-1) != user.gid:
            raise ComputerError(f"Files of {user.name} cannot be opened as that user here.", "Run Lumtak as that user.")
        yield
    finally:
        libc.setfsuid(uid)
        libc.setfsgid(gid)
        _set_groups(libc, groups)


_SETGROUPS = {
    "x86_64": 116,
    "aarch64": 159,
    "riscv64": 159,
    "loongarch64": 159,
    "i686": 206,
    "armv7l": 206,
    "ppc64le": 81,
    "s390x": 206,
}
"""Number of the system call by machine; the function of the C library would change every thread of the process."""


def _set_groups(libc: ctypes.CDLL, groups: Sequence[int]) -> None:
    """The supplementary groups of this thread, and of no other; setgroups(2), C library/kernel differences."""
    number = _SETGROUPS.get(os.uname().machine)
    held = (ctypes.c_uint * len(groups))(*groups)
    if number is None or libc.syscall(ctypes.c_long(number), ctypes.c_size_t(len(groups)), held) != 0:
        raise ComputerError(
            "The groups of this thread cannot be set on this machine.",
            "Run Lumtak as the user whose settings they are.",
        )
