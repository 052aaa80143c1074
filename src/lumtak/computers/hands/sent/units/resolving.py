"""Units by what they are: which file, which other names, which drop-ins, masked or not.

A name is looked up as the service manager does: through the folders of its load path, aliases,
templates and drop-ins. Source: systemd.unit(5). Sent with the hand: the standard library only, in
the language of Python 3.8.
"""

from __future__ import annotations

import posixpath
import re
from typing import Any, Dict, List, NamedTuple, Optional, Sequence, Set, Tuple

from lumtak.computers.hands.sent.table import NOWHERE, UNIT_ENDINGS, UNIT_NAME
from lumtak.computers.hands.sent.units.syntax import Said, commands, parsed, words

SYSTEM = (
    "/etc/systemd/system.control", "/run/systemd/system.control", "/run/systemd/transient",
    "/run/systemd/generator.early", "/etc/systemd/system", "/etc/systemd/system.attached",
    "/run/systemd/system", "/run/systemd/system.attached", "/run/systemd/generator",
    "/usr/local/lib/systemd/system", "/usr/lib/systemd/system", "/lib/systemd/system",
    "/run/systemd/generator.late",
)  # fmt: skip
"""Folders of the system's units, most important first."""
SWITCHES = (".wants", ".requires", ".upholds")
MOST_OF_ONE = 1 << 16
_MOST_ALIASES, _MOST_DROPINS = 8, 200
_SERVED = {".timer": "Timer", ".path": "Path", ".socket": "Socket", ".automount": "Automount"}


def of_user(config: str, data: str, runtime: str) -> Tuple[str, ...]:
    """Folders of one user's units, most important first.

    Args:
        config: the user's configuration folder.
        data: of data.
        runtime: of what runs, as in /run/user/1000.
    """
    there = runtime + "/systemd"
    return (
        config + "/systemd/user.control", there + "/user.control", there + "/transient",
        there + "/generator.early", config + "/systemd/user", "/etc/systemd/user", there + "/user",
        "/run/systemd/user", there + "/generator", data + "/systemd/user",
        "/usr/local/share/systemd/user", "/usr/share/systemd/user",
        "/usr/local/lib/systemd/user", "/usr/lib/systemd/user", there + "/generator.late",
    )  # fmt: skip


class Gap(NamedTuple):
    """A folder of which not everything was seen."""

    folder: str
    why: str
    looked: int = 0
    of: int = 0
    """How many of how many names; 0 where none was."""

    @property
    def in_words(self) -> str:
        """A clause."""
        if self.of:
            return "%s of %s names in %s looked at" % (
                format(self.looked, ","), format(self.of, ","), self.folder
            )  # fmt: skip
        return "%s cannot be read: %s" % (self.folder, self.why)


class Unit(NamedTuple):
    """One unit."""

    name: str
    """As systemd calls it: of several names the file's own."""
    names: Tuple[str, ...]
    """All by which it goes, its own first, its template last."""
    fragment: str
    """Its file; empty where there is none."""
    dropins: Tuple[str, ...]
    mask: str
    """What masks it; empty where nothing does."""
    said: Said
    switches: Tuple[str, ...]
    """Links in .wants, .requires and .upholds folders that start it with another."""

    @property
    def files(self) -> Tuple[str, ...]:
        """All that say what it does."""
        return tuple(filter(None, (self.fragment, *self.dropins)))

    @property
    def commands(self) -> List[str]:
        """Every command line that it runs."""
        return commands(self.said)

    @property
    def serves(self) -> List[str]:
        """The units that it starts: of a timer, socket or path what waits behind it, and what
        comes along.
        """
        found = words(self.said, "Unit", "Requires", "Wants", "BindsTo", "Upholds", "Requisite")
        base, _, kind = self.name.rpartition(".")
        section = _SERVED.get("." + kind, "")
        if section:
            found += words(self.said, section, "Unit", "Service") or [base + ".service"]
        return list(dict.fromkeys(found))


class Units:
    """The units of a system, or of one user.

    Args:
        hand: looks: `names`, `link`, `read`.
        folders: of the load path, most important first.
    """

    def __init__(self, hand: Any, folders: Sequence[str] = SYSTEM) -> None:
        self._hand, self.folders = hand, tuple(folders)
        self._listed: Dict[str, List[str]] = {}
        self._held: Dict[str, Set[str]] = {}
        self._found: Dict[str, Unit] = {}
        self._aliases: Optional[Dict[str, List[str]]] = None
        self._switches: Optional[Dict[str, List[str]]] = None
        self.gaps: List[Gap] = []

    # -- folders -----------------------------------------------------------------------------------

    def names(self, folder: str) -> List[str]:
        """What a folder holds; what was not seen of it stands in `gaps`."""
        if folder not in self._listed:
            self._listed[folder] = self._list(folder)
            self._held[folder] = set(self._listed[folder])
        return self._listed[folder]

    def _list(self, folder: str) -> List[str]:
        try:
            listed = self._hand.listing(folder)
        except (FileNotFoundError, NotADirectoryError):
            return []
        except OSError as error:
            self.gaps.append(Gap(folder, (error.strerror or str(error)).lower()))
            return []
        found, whole = listed["names"], listed["whole"]
        if whole > len(found):
            self.gaps.append(Gap(folder, "it holds too many names", len(found), whole))
        return [n for n in found if UNIT_NAME.fullmatch(n)]

    def _has(self, folder: str, name: str) -> bool:
        self.names(folder)
        return name in self._held[folder]

    def places(self, name: str) -> List[str]:
        """Where files of this name stand, most important first."""
        return ["%s/%s" % (f, name) for f in self.folders if self._has(f, name)]

    def all(self, endings: Sequence[str]) -> List[str]:
        """Every name of these kinds that has a file, templates left out."""
        found = {
            n: None
            for folder in self.folders
            for n in self.names(folder)
            if n.endswith(tuple(endings)) and not n.partition(".")[0].endswith("@")
        }
        return list(found)

    def aliases(self) -> Dict[str, List[str]]:
        """Other names by the unit that they lead to."""
        if self._aliases is None:
            self._aliases = {}
            for folder in self.folders:
                for name in self.names(folder):
                    target = self._hand.link("%s/%s" % (folder, name)) if _is_unit(name) else None
                    leads = posixpath.basename(target or "")
                    if target not in (None, NOWHERE) and leads != name and _is_unit(leads):
                        self._aliases.setdefault(leads, []).append(name)
        return self._aliases

    def switches(self) -> Dict[str, List[str]]:
        """Links that start a unit with another, by its name; /etc's and all others."""
        if self._switches is None:
            self._switches = {}
            for folder in self.folders:
                for name in self.names(folder):
                    if name.endswith(SWITCHES):
                        for unit in self.names("%s/%s" % (folder, name)):
                            path = "%s/%s/%s" % (folder, name, unit)
                            self._switches.setdefault(unit, []).append(path)
        return self._switches

    # -- one unit ----------------------------------------------------------------------------------

    def find(self, name: str) -> Unit:
        """The unit that goes by this name, read once; without a file where there is none."""
        if name not in self._found:
            self._found[name] = self._read(name)
        return self._found[name]

    def _read(self, name: str) -> Unit:
        own, fragment, mask = self._settled(name)
        names = list(dict.fromkeys([own, name, *self._others(own)]))
        template = _template(own)
        said_of = [*names, *([template] if template else [])]
        dropins = self._dropins(said_of)
        files = [path for path in (fragment, *dropins) if path]
        texts = [self.content(path).decode("utf-8", "replace") for path in files]
        switches = [p for n in names for p in self.switches().get(n, ())]
        return Unit(
            own, tuple(said_of), fragment, tuple(dropins), mask, parsed(texts), tuple(switches)
        )

    def _settled(self, name: str) -> Tuple[str, str, str]:
        """(its own name, its file, its mask)."""
        mask = ""
        for _ in range(_MOST_ALIASES):
            places = self.places(name)
            if not places and _template(name):
                places = self.places(_template(name))
            fragment = ""
            for path in places:
                target = self._hand.link(path)
                if target == NOWHERE:
                    mask = mask or path
                    continue
                fragment = path
                break
            if not fragment:
                return name, "", mask
            target = self._hand.link(fragment)
            if target is None:
                return name, fragment, mask
            leads = posixpath.normpath(posixpath.join(posixpath.dirname(fragment), target))
            other = posixpath.basename(leads)
            if other in {name, _template(name)} or not _is_unit(other):
                return name, leads, mask  # it is linked from elsewhere
            name = other
        return name, "", mask

    def _others(self, own: str) -> List[str]:
        found: List[str] = []
        todo = [own]
        while todo and len(found) < _MOST_DROPINS:
            for name in self.aliases().get(todo.pop(), ()):
                if name not in found:
                    found.append(name)
                    todo.append(name)
        return found

    def _dropins(self, names: Sequence[str]) -> List[str]:
        """Of a name file in several folders the most important counts; sorted by their names."""
        found: Dict[str, str] = {}
        for folder in self.folders:
            for place in dict.fromkeys(p for name in names for p in _dropin_folders(name)):
                if not self._has(folder, place):
                    continue
                for name in self.names("%s/%s" % (folder, place)):
                    if name.endswith(".conf") and len(found) < _MOST_DROPINS:
                        found.setdefault(name, "%s/%s/%s" % (folder, place, name))
        paths = [found[name] for name in sorted(found)]
        return [p for p in paths if self._hand.link(p) != NOWHERE]

    def content(self, path: str) -> bytes:
        """A unit's file; nothing where it cannot be read, which stands in `gaps` then."""
        try:
            data: bytes = self._hand.read(path, MOST_OF_ONE)
        except OSError as error:
            self.gaps.append(Gap(path, (error.strerror or str(error)).lower()))
            return b""
        return data


def _is_unit(name: str) -> bool:
    return name.endswith(UNIT_ENDINGS) and UNIT_NAME.fullmatch(name) is not None


def _template(name: str) -> str:
    """Of an instance; empty where it is none."""
    found = re.fullmatch(r"([^@]+@)[^@]*(\.[a-z]+)", name)
    return found[1] + found[2] if found and found[1] + found[2] != name else ""


def _dropin_folders(name: str) -> List[str]:
    """Folders of drop-ins, the closest first: its own, those of shorter names that end with a dash,
    and that of its kind.
    """
    base, _, kind = name.rpartition(".")
    parts = base.split("-")
    shorter = ["-".join(parts[:n]) + "-" for n in range(len(parts) - 1, 0, -1)]
    return ["%s.%s.d" % (n, kind) for n in (base, *shorter)] + [kind + ".d"]
