"""Whether a place is root's alone.

Asked before anything else of Lumtak is imported, so this knows the standard library only.
"""

import os
import stat
import sys
from collections.abc import Iterable, Mapping

_LINKS_MOST = 40


def why_not_roots(path: str) -> str:
    """Why others than root decide what stands at a path, as a clause; empty where nobody else does.

    Every folder and link on the way is looked at. A sticky folder of root's such as /tmp is fine:
    nobody can exchange what root has in it. What is not there yet is fine too.
    """
    for place in _on_the_way(path):
        try:
            about = os.lstat(place)
        except FileNotFoundError:
            return ""
        except OSError as error:
            return f"{place} cannot be looked at: {(error.strerror or str(error)).lower()}"
        if about.st_uid != 0:
            return f"{place} belongs to somebody else than root"
        if stat.S_ISLNK(about.st_mode):
            continue
        shared = about.st_mode & stat.S_IWOTH or (
            about.st_mode & stat.S_IWGRP and about.st_gid != 0
        )
        if shared and not (stat.S_ISDIR(about.st_mode) and about.st_mode & stat.S_ISVTX):
            return f"others than root can write to {place}"
    return ""


def _on_the_way(path: str) -> list[str]:
    """Every folder and link on the way to a path, and the path itself, from the top.

    Links are followed one by one.
    """
    found = ["/"]
    todo = [p for p in reversed(os.path.abspath(path).split("/")) if p]
    here, links = "/", 0
    while todo and links <= _LINKS_MOST:
        part = todo.pop()
        if part == "..":
            here = os.path.dirname(here)
            continue
        place = os.path.join(here, part)
        found.append(place)
        try:
            target = os.readlink(place)
        except OSError:
            here = place
            continue
        links += 1
        here = "/" if target.startswith("/") else here
        todo += [p for p in reversed(target.split("/")) if p and p != "."]
    return found


def why_not_as_root(environment: Mapping[str, str]) -> str:
    """Why root should not run this Lumtak on somebody's behalf, as a clause.

    Empty where it may, or where nobody asks it to.

    The interpreter, every folder that modules come from, and those that are loaded already have to
    be root's. This is a hint to whoever set Lumtak up so, and no guard: code of somebody else's has
    run by now, if there is any.
    """
    if os.geteuid() != 0 or not any(
        environment.get(name) for name in ("SUDO_USER", "PKEXEC_UID", "DOAS_USER")
    ):
        return ""
    places = [sys.executable, *_folders(sys.path), *sorted(_loaded_from())]
    return next((why for place in dict.fromkeys(places) if (why := why_not_roots(place))), "")


def _folders(path: Iterable[str]) -> list[str]:
    return [entry or "." for entry in path if os.path.exists(entry or ".")]


def _loaded_from() -> set[str]:
    files = (getattr(module, "__file__", None) for module in list(sys.modules.values()))
    return {os.path.dirname(file) for file in files if isinstance(file, str)}
