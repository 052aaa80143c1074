"""What starts from where programs do not belong, login keys, scheduled jobs that no package
brought: said as something to look at, with the reason, never as an accusation.
"""

import base64
import binascii
import hashlib
import posixpath
import re
import stat

from lumtak.computers.hands.reach import Reach, names_at
from lumtak.computers.hands.sent.units.running import programs_in
from lumtak.computers.linux.upkeep.given import Given
from lumtak.computers.linux.upkeep.starting import SPOOL, Starting, all_that_start
from lumtak.core.text import plain
from lumtak.core.upkeep.system import odd_result
from lumtak.core.upkeep.tasks import Found, Result

_TEMPORARY = ("/tmp/", "/var/tmp/", "/dev/shm/", "/run/user/")  # noqa: S108 - looked for, not used
_HIDDEN_FINE = {".local", ".config", ".var"}
"""Where programs of a user's own stand by the XDG specifications, and those of sandboxes."""
_SYSTEM = ("/usr/", "/bin/", "/sbin/", "/lib", "/snap/")
_NAMES_OF = ("/usr/sbin", "/usr/lib/systemd")
_KEY = re.compile(
    r"(?:^|\s)((?:ssh|ecdsa|sk-ssh|sk-ecdsa)-[a-z0-9@.-]{2,60})\s+([A-Za-z0-9+/=]{20,16384})\s*(.*)$"
)
_SUM = re.compile(r"(?m)^([0-9a-f]{32})  ?(.+)$")
_MOST_PROGRAM = 1 << 25
_OTHERS_WRITE = 0o022


def odd(given: Given) -> Result:
    """Everything that there is to look at."""
    told = all_that_start(given)
    starting = told.starts
    home = given.user.home
    paths = {p for s in starting for c in s.commands for p in programs_in(c, home)}
    given.know_owners([s.path for s in starting] + sorted(paths))
    look = _Look(given)
    seen = [f for one in starting for f in (*look.reasons(one), *look.job(one))]
    seen += [*_keys(given.hands.user, home, given.user.name), *_of_root(given), *_preloads(given)]
    spool = names_at(given.hands.own, SPOOL)
    return odd_result(given.at, len(starting), seen, all_jobs=bool(spool), gaps=told.gaps)


class _Look:
    """One look at what starts."""

    def __init__(self, given: Given) -> None:
        self._given = given
        own = given.hands.own
        self._names = {n for folder in _NAMES_OF for n in names_at(own, folder)}
        self._sums: dict[str, dict[str, str]] = {}
        self._changed: dict[str, bool] = {}

    def reasons(self, one: Starting) -> list[Found]:
        """Why a start is worth a look."""
        found = []
        for command in one.commands:
            for path in programs_in(command, self._given.user.home):
                why = self._why(path, one)
                if why:
                    found.append(
                        Found(
                            kind="look",
                            what=f"{path}, started by {one.what} {one.path}",
                            why=why,
                            of=self._given.owner(path),
                        )
                    )
        return found

    def _why(self, path: str, one: Starting) -> str:
        if path.startswith(_TEMPORARY):
            return "stands in a temporary folder"
        if self._is_hidden(path, one):
            return "stands in a hidden folder"
        if posixpath.basename(path) in self._names and not path.startswith(_SYSTEM):
            return "has the name of a program of the system and stands elsewhere"
        if one.as_root and (why := self._not_roots(path)):
            return why
        return "was changed since its package brought it" if self._is_changed(path) else ""

    def _is_hidden(self, path: str, one: Starting) -> bool:
        """Whether it stands below a hidden folder, but for those of a user's own programs."""
        home = f"{self._given.user.home}/"
        mine = path.startswith(home)
        parts = (path.removeprefix(home) if mine else path).split("/")
        if mine and not one.as_root and parts[0] in _HIDDEN_FINE:
            parts = parts[1:]
        return any(part.startswith(".") for part in parts)

    def _not_roots(self, path: str) -> str:
        """Whether somebody else than root can exchange what starts with the system."""
        steps = [path]
        while steps[-1] != "/":
            steps.append(posixpath.dirname(steps[-1]))
        for step, about in zip(steps, self._given.hands.own.owners(steps), strict=True):
            if about is None:
                continue
            uid, mode = about[0], about[1]
            if uid != 0:
                return f"starts with the system, and {plain(step, 200)} is not root's"
            shared = mode & _OTHERS_WRITE and not mode & stat.S_ISVTX and not stat.S_ISLNK(mode)
            if shared and mode & stat.S_IWOTH:
                return f"starts with the system, and everybody may write to {plain(step, 200)}"
        return ""

    def _is_changed(self, path: str) -> bool:
        package = self._given.owner(path)
        if not package or path in self._changed:
            return self._changed.get(path, False)
        self._changed[path] = False
        sums = self._sums_of(package)
        recorded = sums.get(path[1:]) or sums.get(path[1:].removeprefix("usr/"))
        if recorded:
            try:
                data = self._given.hands.own.read(path, _MOST_PROGRAM)
            except OSError:
                return False
            held = hashlib.md5(data, usedforsecurity=False).hexdigest()
            self._changed[path] = len(data) < _MOST_PROGRAM and held != recorded
        return self._changed[path]

    def _sums_of(self, package: str) -> dict[str, str]:
        if package not in self._sums:
            info = "/var/lib/dpkg/info"
            texts = (
                self._given.read(f"{info}/{package}{arch}.md5sums", 1 << 22)
                for arch in ("", ":amd64", ":arm64", ":i386")
            )
            found = next((t for t in texts if t), "")
            self._sums[package] = {path: md5 for md5, path in _SUM.findall(found)}
        return self._sums[package]

    def job(self, one: Starting) -> list[Found]:
        """A scheduled job that no package brought."""
        if one.ours or one.what not in {"timer", "scheduled job"} or self._given.owner(one.path):
            return []
        does = f": {plain(one.commands[0], 160)}" if one.commands else ""
        return [
            Found(
                kind="look",
                what=one.path,
                why=f"is a {one.what} that no package brought{does}",
            )
        ]


def _of_root(given: Given) -> list[Found]:
    return _keys(given.hands.own, "/root", "root") if given.user.home != "/root" else []


def _keys(hand: Reach, home: str, user: str) -> list[Found]:
    """Keys that let somebody log in as this user from elsewhere; sshd(8), AUTHORIZED_KEYS."""
    found = []
    for name in ("authorized_keys", "authorized_keys2"):
        try:
            data = hand.read(f"{home}/.ssh/{name}", 1 << 18).decode("utf-8", "replace")
        except OSError:
            continue
        for line in data.splitlines()[:500]:
            said = None if line.lstrip().startswith("#") else _KEY.search(line)
            if said:
                comment = f" ({plain(said[3], 80)})" if said[3].strip() else ""
                found.append(
                    Found(
                        kind="look",
                        what=f"login key {_fingerprint(said[2])}{comment}",
                        why=f"lets whoever has it log in as {plain(user, 40)} from elsewhere",
                        of=f"{home}/.ssh/{name}",
                        advice="Ask the owner whose it is; take its line out of the file if nobody"
                        " knows.",
                    )
                )
    return found


def _fingerprint(key: str) -> str:
    """As ssh-keygen(1) shows it."""
    try:
        raw = base64.b64decode(key + "=" * (-len(key) % 4))
    except (binascii.Error, ValueError):
        return "that cannot be read"
    digest = base64.b64encode(hashlib.sha256(raw).digest()).decode().rstrip("=")
    return f"SHA256:{digest}"


def _preloads(given: Given) -> list[Found]:
    """What every program is made to load first; ld.so(8), /etc/ld.so.preload."""
    names = given.read("/etc/ld.so.preload", 4096).split()
    return [
        Found(
            kind="look",
            what=plain(name, 200),
            why="is loaded into every program that starts (/etc/ld.so.preload)",
            of=given.owner(name),
        )
        for name in names[:20]
        if not name.startswith("#")
    ]
