"""What the package database recorded of the system's files, held against what is there.

Recorded are an MD5 of each file (info/*.md5sums) and of each file of configuration as it came
(status, Conffiles); dpkg(1), deb-control(5). MD5 tells damage; it is no proof against somebody who
meant it. Sent with the hand: the standard library only, in the language of Python 3.8.
"""

from __future__ import annotations

import contextlib
import fnmatch
import hashlib
import os
import posixpath
import re
import stat
import time
from typing import Any, Callable, Dict, Iterator, List, Optional, Set, Tuple

from lumtak.computers.hands.sent.files.opening import open_folder
from lumtak.computers.hands.sent.files.passing import everything
from lumtak.computers.hands.sent.system.packages import INFO, Packages

CHANGED, MISSING, UNREAD, OTHER = (
    "changed",
    "missing",
    "cannot be read",
    "is no ordinary file any more",
)
"""What is wrong with a file."""
PROGRAM_FOLDERS = ("/usr/bin", "/usr/sbin", "/usr/games", "/usr/libexec", "/usr/lib")
_TELL_S, _CHUNK, _MOST_TOLD = 0.25, 1 << 18, 2000
_KINDS = {32: "md5", 40: "sha1", 64: "sha256", 96: "sha384", 128: "sha512"}
_SUM = re.compile(r"(?m)^([0-9a-f]{32})  ?(.+)$")
_CONFIG = re.compile(r"(?m)^ (/\S+) ([0-9a-f]{32})((?: \S+)*)$")
_RULE = re.compile(r"(?m)^\s*path-(exclude|include)\s*[= ]\s*(\S+)")


class Recorded:
    """A file as it was recorded."""

    __slots__ = ("config", "digest", "package", "path")

    def __init__(self, path: str, digest: str, package: str, config: bool) -> None:
        self.path, self.digest, self.package, self.config = path, digest, package, config


class Integrity:
    """One check.

    Args:
        read: a file of the computer, whole.
        names: what a folder holds.
        link: where one leads; None where there is none.
        here: a place on the computer as one of this process.
        packages: that are installed, and the text of the database.
    """

    def __init__(
        self,
        read: Callable[[str], bytes],
        names: Callable[[str], List[str]],
        link: Callable[[str], Optional[str]],
        here: Callable[[str], str],
        packages: Tuple[Packages, str],
    ) -> None:
        self._read, self._names, self._link, self._here = read, names, link, here
        self._packages, self._status = packages
        self._told = time.monotonic()
        self._rules: List[Tuple[bool, str]] = []
        self._links: Dict[str, str] = {}
        self.files = self.bytes = self.whole = 0
        self.counts = {"damaged": 0, "configured": 0, "strangers": 0, "unread": 0, "left_out": 0}
        self._fresh: List[List[str]] = []
        """What was found and not told yet: kind, path, package, what is wrong."""
        self.without: List[str] = []
        """Packages that recorded no sums."""

    def through(self, after: str) -> Iterator[Dict[str, Any]]:
        """How far it is and what was found since, about four times a second; the last has "ended".

        Args:
            after: the last file that was held against its record before; empty to begin.
        """
        self._rules = self._left_out()
        self._links = self._top_links()
        wanted = self.recorded()
        passed = order(after) if after else ("", "")
        wanted = [one for one in wanted if order(one.path) > passed]
        sizes = self._sizes(wanted)
        self.whole = sum(size for size in sizes if size)
        folder, descriptor = "", -1
        try:
            for one, size in zip(wanted, sizes):
                above = posixpath.dirname(one.path)
                if above != folder:
                    if descriptor >= 0:
                        os.close(descriptor)
                    folder, descriptor = above, self._open_folder(above)
                self._check(one, descriptor, size)
                if time.monotonic() - self._told > _TELL_S:
                    self._told = time.monotonic()
                    yield self._said(one.path)
        finally:
            if descriptor >= 0:
                os.close(descriptor)
        self._strangers()
        more = {"without": self.without[:_MOST_TOLD], "broken": self.broken()}
        yield dict(self._said(wanted[-1].path if wanted else ""), ended=more)

    # -- what was recorded -------------------------------------------------------------------------

    def _left_out(self) -> List[Tuple[bool, str]]:
        """What dpkg was told not to unpack, the last word counts; dpkg(1), --path-exclude."""
        found = []
        files = ["/etc/dpkg/dpkg.cfg"]
        with contextlib.suppress(OSError):
            names = self._names("/etc/dpkg/dpkg.cfg.d")
            files += ["/etc/dpkg/dpkg.cfg.d/%s" % name for name in names]
        for path in files:
            with contextlib.suppress(OSError):
                text = self._read(path).decode("utf-8", "replace")
                found += [(kind == "exclude", glob) for kind, glob in _RULE.findall(text)]
        return found

    def _top_links(self) -> Dict[str, str]:
        """Folders at the top that are links by now: /bin into /usr/bin."""
        found = {}
        for name in ("bin", "sbin", "lib", "lib32", "lib64", "libx32"):
            target = self._link("/" + name)
            if target:
                found[name] = posixpath.normpath(posixpath.join("/", target))
        return found

    def settled(self, path: str) -> str:
        """A recorded path as it stands now."""
        first, slash, rest = path.lstrip("/").partition("/")
        return self._links.get(first, "/" + first) + slash + rest

    def _diverted(self) -> Dict[str, Tuple[str, str]]:
        """Where files stand that another package or the administrator has moved; dpkg-divert(1)."""
        with contextlib.suppress(OSError):
            lines = self._read("/var/lib/dpkg/diversions").decode("utf-8", "replace").splitlines()
            return {lines[i]: (lines[i + 1], lines[i + 2]) for i in range(0, len(lines) - 2, 3)}
        return {}

    def recorded(self) -> List[Recorded]:
        """All files that have a digest, in the order in which they are gone through."""
        here = set(self._names(INFO))
        diverted = self._diverted()
        found: Dict[str, Recorded] = {}
        for key, package in self._packages.all.items():
            names = ("%s.md5sums" % package.name, "%s:%s.md5sums" % (package.name, package.arch))
            name = next((n for n in names if n in here), "")
            if not name:
                self.without.append(key)
                continue
            text = self._read("%s/%s" % (INFO, name)).decode("utf-8", "surrogateescape")
            for md5, listed in _SUM.findall(text):
                to, by = diverted.get("/" + listed, ("", ""))
                path = self.settled(to if to and by != package.name else "/" + listed)
                found[path] = Recorded(path, md5, key, False)
        self._of_configuration(found)
        return [found[path] for path in sorted(found, key=order)]

    def _of_configuration(self, found: Dict[str, Recorded]) -> None:
        for paragraph in self._status.split("\n\n"):
            key = paragraph.partition("\n")[0].partition("Package: ")[2].strip()
            if key in self._packages.all and "\nConffiles:" in paragraph:
                for path, md5, more in _CONFIG.findall(paragraph):
                    if "obsolete" not in more:
                        place = self.settled(path)
                        found[place] = Recorded(place, md5, key, True)

    # -- what is there -----------------------------------------------------------------------------

    def _sizes(self, wanted: List[Recorded]) -> List[Optional[int]]:
        """Bytes of each; None where it is not there as a file."""
        found: List[Optional[int]] = []
        for one in wanted:
            try:
                about = os.lstat(self._here(one.path))
                found.append(about.st_size if stat.S_ISREG(about.st_mode) else None)
            except OSError:
                found.append(None)
        return found

    def _open_folder(self, path: str) -> int:
        try:
            return open_folder(self._here(path))
        except OSError:
            return -1

    def _check(self, one: Recorded, folder: int, size: Optional[int]) -> None:
        why = self._why(one, folder)
        self.files += 1
        self.bytes += size or 0
        if why == MISSING and self._is_left_out(one.path):
            self.counts["left_out"] += 1
        elif why == UNREAD:
            self.counts["unread"] += 1
        elif why:
            self._note("configured" if one.config else "damaged", one.path, one.package, why)

    def _note(self, kind: str, path: str, package: str, why: str) -> None:
        name = "strangers" if kind == "stranger" else kind
        self.counts[name] += 1
        if self.counts[name] <= _MOST_TOLD:
            self._fresh.append([kind, path, package, why])

    def _why(self, one: Recorded, folder: int) -> str:
        """What is wrong with it; empty for nothing."""
        flags = os.O_RDONLY | os.O_NOFOLLOW | os.O_CLOEXEC | os.O_NONBLOCK
        if folder < 0:
            return MISSING
        try:
            descriptor = os.open(posixpath.basename(one.path), flags, dir_fd=folder)
        except FileNotFoundError:
            return MISSING
        except PermissionError:
            return UNREAD
        except OSError:
            return OTHER
        try:
            if not stat.S_ISREG(os.fstat(descriptor).st_mode):
                return OTHER
            return "" if digest(descriptor, len(one.digest)) == one.digest else CHANGED
        except OSError:
            return UNREAD
        finally:
            os.close(descriptor)

    def _is_left_out(self, path: str) -> bool:
        """Whether dpkg was told not to unpack it; the last rule that fits counts."""
        out = False
        for exclude, glob in self._rules:
            if fnmatch.fnmatchcase(path, glob):
                out = exclude
        return out

    def broken(self) -> str:
        """Why the database cannot be trusted, as a clause; empty where it can."""
        return self._packages.broken

    def _strangers(self) -> None:
        """Files in program folders that no package brought."""
        owned = self.owned()
        for path in self._programs():
            if path not in owned:
                self._note("stranger", path, "", "was brought by no package")

    def owned(self) -> Set[str]:
        """Every file that a package brought."""
        owned: Set[str] = set()
        for name in self._names(INFO):
            if name.endswith(".list"):
                text = self._read("%s/%s" % (INFO, name)).decode("utf-8", "surrogateescape")
                owned.update(self.settled(line) for line in text.split("\n") if line)
        owned.update(self.settled(to) for to, _ in self._diverted().values())
        return owned

    def _programs(self) -> Iterator[str]:
        """Programs and libraries in program folders."""
        for top in PROGRAM_FOLDERS:
            place = self._here(top)
            with contextlib.suppress(OSError):
                for path, about in everything(place):
                    if _is_program(path, about) and "/__pycache__/" not in path:
                        yield "%s%s" % (top, path[len(place) :])

    def _said(self, at: str) -> Dict[str, Any]:
        """How far it is, and what was found since this was said last."""
        fresh, self._fresh = self._fresh, []
        return {
            "after": at,
            "files": self.files,
            "bytes": self.bytes,
            "whole_bytes": self.whole,
            "counts": dict(self.counts),
            "found": fresh,
        }


def order(path: str) -> Tuple[str, str]:
    """Files in the order in which they are gone through: folder by folder."""
    return posixpath.dirname(path), path


def digest(descriptor: int, length: int) -> str:
    """Of a file's bytes, by the kind of digest that is written in so many hexadecimal digits."""
    made = hashlib.new(_KINDS.get(length, "md5"))
    data = os.read(descriptor, _CHUNK)
    while data:
        made.update(data)
        data = os.read(descriptor, _CHUNK)
    return made.hexdigest()


def _is_program(place: str, about: os.stat_result) -> bool:
    """Whether it is an ordinary file that can be run, or a library."""
    runs = bool(about.st_mode & 0o111) or ".so" in os.path.basename(place)
    return stat.S_ISREG(about.st_mode) and runs
