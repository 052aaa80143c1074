"""Large programs of a real computer whose start can be tried: those that its packages offer in the
menu (Desktop Entry Specification; Desktop Menu Specification).
"""

import posixpath
from collections.abc import Iterable

from lumtak.computers.hands.reach import Reach, names_at, real_path
from lumtak.computers.linux.desktop_entry import command_of, read_entry
from lumtak.computers.protocol import Program
from lumtak.core.text import plain

_MENUS = "/usr/share/applications"
_FOLDERS = ("/usr/bin", "/bin", "/usr/games")
_DPKG, _PACMAN = "/var/lib/dpkg/info", "/var/lib/pacman/local"
_MOST_ENTRIES, _MOST_LISTS, _MOST_LIST = 2000, 20_000, 1 << 24


def programs_of(hand: Reach) -> tuple[Program, ...]:
    """By title; those that root alone can change, and that came with a package."""
    names = [n for n in names_at(hand, _MENUS) if n.endswith(".desktop")][:_MOST_ENTRIES]
    found: dict[str, str] = {}
    for data in hand.read_many([f"{_MENUS}/{n}" for n in names]):
        entry = read_entry(data or b"")
        path = _offered(hand, entry)
        if path and not hand.not_started(path):
            found.setdefault(path, plain(entry.get("Name", "") or posixpath.basename(path), 60))
    owned = packaged(hand, found)
    made = (Program(path=path, title=title) for path, title in found.items() if path in owned)
    return tuple(sorted(made, key=lambda p: (p.title.lower(), p.path)))


def _offered(hand: Reach, entry: dict[str, str]) -> str:
    """The program that an entry of the menu starts; empty where it offers none."""
    if entry.get("Type") != "Application" or entry.get("NoDisplay", "").lower() == "true":
        return ""
    words, _ = command_of(entry)
    return _place(hand, words[0]) if words else ""


def _place(hand: Reach, word: str) -> str:
    """Where a program stands, links followed; empty where it is not."""
    paths = [word] if word.startswith("/") else [f"{f}/{word}" for f in _FOLDERS]
    return next((real_path(hand, path) for path in paths if hand.exists(path)), "")


def why_not_tried(hand: Reach, path: str) -> str:
    """Why the start of a program that a person named is not tried, as a clause; empty where it
    is.
    """
    if why := hand.not_started(path):
        return why
    return "" if packaged(hand, [path]) else "no package brought it"


def packaged(hand: Reach, paths: Iterable[str]) -> set[str]:
    """Those that a package brought, by the package manager's own lists."""
    by_line: dict[bytes, str] = {}
    for path in paths:
        # Systems that merged /bin into /usr/bin list some files by where they once stood.
        for listed in {path, path.removeprefix("/usr")}:
            by_line[listed.encode()] = path
            by_line[listed[1:].encode()] = path
    if not by_line:
        return set()
    lists = [f"{_DPKG}/{n}" for n in names_at(hand, _DPKG) if n.endswith(".list")]
    lists += [f"{_PACMAN}/{n}/files" for n in names_at(hand, _PACMAN)]
    found = set()
    for at in range(0, min(len(lists), _MOST_LISTS), 500):
        for data in hand.read_many(lists[at : at + 500], _MOST_LIST):
            found |= {by_line[line] for line in by_line.keys() & set((data or b"").splitlines())}
    return found
