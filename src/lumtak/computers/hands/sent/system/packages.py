"""Packages of a Debian: what is installed, what would go with one, what nothing else would need.

Read from the package manager's own database (deb-control(5), dpkg(1), FILES), never locked for
that. Root's hand removes by dpkg, which takes nothing along that is not named, and looks at all of
it again itself. Sent with the hand: the standard library only, in the language of Python 3.8.
"""

from __future__ import annotations

import re
from collections.abc import Iterable

STATUS, MARKS, INFO = (
    "/var/lib/dpkg/status",
    "/var/lib/apt/extended_states",
    "/var/lib/dpkg/info",
)
MOST_STATUS = 1 << 26
NAME = re.compile(r"[a-z0-9][a-z0-9+.-]{1,100}(?::[a-z0-9-]{1,20})?")
_FIELD = re.compile(r"(?m)^([A-Za-z-]+):[ \t]*(.*(?:\n[ \t].*)*)$")
_WANTED = {
    "Package", "Status", "Architecture", "Version", "Depends", "Pre-Depends", "Recommends",
    "Suggests", "Provides", "Essential", "Protected", "Priority", "Installed-Size", "Section",
    "Description",
}  # fmt: skip
_NEEDED = ("Package", "Status", "Architecture")
_BASIC = {"required", "important"}
_KERNEL = re.compile(r"linux-(?:image|headers|modules)-.*")
SESSIONS = re.compile(
    rb"(?m)^(?:/usr)?/(?:share/(?:xsessions|wayland-sessions)/.+\.desktop"
    rb"|s?bin/(?:Xorg|Xwayland|dpkg|sudo|python3(?:\.\d+)?|login|sshd|NetworkManager))$"
)
"""Files without which there is no desktop, no package manager, or no way in."""
BOOTS = re.compile(
    rb"(?m)^(?:/usr)?/(?:"
    rb"share/initramfs-tools/(?:hooks|scripts)/.+|lib/initcpio/(?:hooks|install)/.+"
    rb"|lib/dracut/.+|boot/.+|lib/grub/.+|share/grub/.+|lib/grub-legacy/.+"
    rb"|lib/systemd/boot/.+|lib/shim/.+|lib/kernel/install\.d/.+|efi/.+"
    rb"|lib/(?:[^/\n]+/)?security/pam_.+\.so|lib/(?:[^/\n]+/)?cryptsetup/.+"
    rb"|s?bin/(?:cryptsetup|cryptdisks_start|zpool|zfs|lvm|vgchange|mdadm|dracut|mkinitcpio"
    rb"|mkinitramfs|update-initramfs|grub-install|update-grub2?|efibootmgr|bootctl|extlinux|lilo"
    rb"|kexec|fscrypt|ecryptfs-.+|mount\.ecryptfs|encfs|gocryptfs|homectl|clevis.*|kernel-install)"
    rb")$"
)
"""Files that unlock a disk or a home, or boot: parts of an initramfs, boot loaders, their signed
parts, modules of logging in."""
_WISHES = (("Recommends", "RecommendsImportant"), ("Suggests", "SuggestsImportant"))
GREETER = "/etc/X11/default-display-manager"


def _is_off(settings: str, name: str) -> bool:
    """Whether apt is told that this kind of wish is no need; the last word counts."""
    said = re.findall(r'(?im)^[^/#\n]*\b%s[ \t]+"(\w+)"' % name, settings)
    return bool(said) and said[-1].lower() in {"false", "no", "0", "off"}


class Package:
    """One that is installed."""

    __slots__ = (
        "arch", "basic", "bytes", "essential", "key", "name", "needs", "provides", "section",
        "summary", "version", "wishes",
    )  # fmt: skip

    def __init__(self, said: dict[str, str], key: str, counted: Iterable[str]) -> None:
        self.key, self.name, self.arch = key, said["Package"], said["Architecture"]
        self.version = said.get("Version", "")
        size = said.get("Installed-Size", "")
        self.bytes = int(size) * 1024 if re.fullmatch(r"[0-9]{1,12}", size) else -1
        self.essential = "yes" in {said.get("Essential"), said.get("Protected")}
        self.basic = self.essential or said.get("Priority") in _BASIC
        self.section = said.get("Section", "").rpartition("/")[2]
        self.summary = said.get("Description", "").partition("\n")[0]
        self.needs = _clauses(said.get("Pre-Depends", "")) + _clauses(said.get("Depends", ""))
        self.wishes = [c for field in counted for c in _clauses(said.get(field, ""))]
        self.provides = {c[0] for c in _clauses(said.get("Provides", "")) if c}


def _clauses(text: str) -> list[tuple[str, ...]]:
    """Of each clause the names of which one is enough."""
    found = []
    for clause in text.split(","):
        names = []
        for one in clause.split("|"):
            words = one.split("(")[0].split("[")[0].split()
            if words:
                names.append(words[0].partition(":")[0])
        if names:
            found.append(tuple(names))
    return found


class Packages:
    """What is installed, by name (by name:architecture where there are several of one name).

    Args:
        status: the database.
        marks: which were installed only because others needed them (apt's extended_states).
        settings: of apt: which wishes count as needs when others are no longer needed; apt.conf(5).
    """

    def __init__(self, status: str, marks: str = "", settings: str = "") -> None:
        self._counted = [k for k, name in _WISHES if not _is_off(settings, name)]
        self.all: dict[str, Package] = {}
        self.broken = ""
        """Why the database cannot be trusted; empty where it can."""
        if status and not status.endswith("\n"):
            self.broken = "the package database is cut short"
        for paragraph in status.split("\n\n"):
            self._take(paragraph)
        self._by_name: dict[str, list[str]] = {}
        self._in_need: dict[str, set[str]] = {}
        self._in_mind: dict[str, set[str]] = {}
        """Who names a package as what it needs, and who as that or what it wishes for."""
        for package in self.all.values():
            self._index(package)
        self.auto = self._marked(marks)
        self._idle = self._needless()

    def _index(self, package: Package) -> None:
        for name in {package.name} | package.provides:
            self._by_name.setdefault(name, []).append(package.key)
        needs = {name for clause in package.needs for name in clause}
        wishes = {name for clause in package.wishes for name in clause}
        for index, names in ((self._in_need, needs), (self._in_mind, needs | wishes)):
            for name in names:
                index.setdefault(name, set()).add(package.key)

    def _take(self, paragraph: str) -> None:
        if not paragraph.strip():
            return
        said = {k: v.strip() for k, v in _FIELD.findall(paragraph) if k in _WANTED}
        if not all(said.get(field) for field in _NEEDED):
            self.broken = "the package database holds an entry that cannot be read"
            return
        words = said["Status"].split()
        if len(words) != 3:
            self.broken = "the package database holds an entry that cannot be read"
            return
        if words[2] == "not-installed" or words[2] == "config-files":
            return
        if words[1:] != ["ok", "installed"]:
            self.broken = (
                "%s is not whole, as an interrupted change left it" % said["Package"][:100]
            )
        name = said["Package"]
        if NAME.fullmatch(name) is None:
            self.broken = "the package database holds a name that is none"
            return
        key = name if name not in self.all else "%s:%s" % (name, said["Architecture"])
        self.all[key] = Package(said, key, self._counted)

    def _marked(self, marks: str) -> set[str]:
        found = set()
        for paragraph in marks.split("\n\n"):
            said = dict(_FIELD.findall(paragraph))
            if said.get("Auto-Installed", "").strip() == "1":
                name = said.get("Package", "").strip()
                found |= {k for k in (name, "%s:%s" % (name, said.get("Architecture", "").strip()))
                          if k in self.all}  # fmt: skip
        return found

    def _met(self, clause: tuple[str, ...], gone: set[str]) -> bool:
        return any(k not in gone for name in clause for k in self._by_name.get(name, ()))

    def needed_by(self, key: str) -> list[str]:
        """Those that cannot be without it."""
        return sorted(self.would_go([key], deep=False) - {key})

    def would_go(self, keys: Iterable[str], deep: bool = True) -> set[str]:
        """These, with all that cannot be without them: directly, or through others too."""
        gone = set(keys)
        new = set(gone)
        while new:
            asking = {u for key in new for u in self._users(key, self._in_need)} - gone
            new = {u for u in asking if self._lacks(u, gone)}
            gone |= new
            if not deep:
                break
        return gone

    def _lacks(self, key: str, gone: set[str]) -> bool:
        """Whether it would lack something that it has now."""
        return any(
            self._met(clause, set()) and not self._met(clause, gone)
            for clause in self.all[key].needs
        )

    def _users(self, key: str, index: dict[str, set[str]]) -> set[str]:
        package = self.all.get(key)
        names = {package.name} | package.provides if package else set()
        return {user for name in names for user in index.get(name, ())}

    def only_for(self, keys: Iterable[str]) -> set[str]:
        """Those that were installed because others needed them, and that nothing would need any
        more without these. What is wished for (Recommends, Suggests) is needed too, as for apt.
        """
        gone = set(keys)
        around: set[str] = set()
        left = list(gone)
        while left:
            for key in self._named_by(left.pop()) - gone - around - self._idle:
                if key in self.auto and not self._is_root(key):
                    around.add(key)
                    left.append(key)
        inside = gone | around | self._idle
        left = [k for k in around if self._users(k, self._in_mind) - inside - {k}]
        kept = set(left)
        while left:
            more = (self._named_by(left.pop()) & around) - kept
            kept |= more
            left += more
        return around - kept

    def _named_by(self, key: str) -> set[str]:
        package = self.all.get(key)
        clauses = package.needs + package.wishes if package else []
        return {k for clause in clauses for name in clause for k in self._by_name.get(name, ())}

    def _is_root(self, key: str) -> bool:
        package = self.all[key]
        return key not in self.auto or package.essential or bool(_KERNEL.fullmatch(package.name))

    def _needless(self) -> set[str]:
        """Those that nothing needs any more as it is."""
        left = [k for k in self.all if self._is_root(k)]
        needed = set(left)
        while left:
            more = self._named_by(left.pop()) - needed
            needed |= more
            left += more
        return set(self.all) - needed

    def why_not(self, keys: Iterable[str], release: str = "") -> str:
        """Why these are not removed, as a clause; empty where they may be as far as the database
        tells.
        """
        names = set(keys)
        if self.broken:
            return self.broken
        for key in sorted(names):
            if key not in self.all:
                return "%s is not installed" % key
            if self.all[key].basic:
                return "every system needs %s" % key
            if release and self.all[key].name.endswith("-" + release):
                return "%s is of the kernel that runs" % key
        more = sorted(self.would_go(names) - names)
        if more:
            return "%s would go with it" % ", ".join(more[:20])
        return ""


def list_names(package: Package) -> list[str]:
    """What the file may be called that lists its paths."""
    return [
        "%s/%s.list" % (INFO, package.name),
        "%s/%s:%s.list" % (INFO, package.name, package.arch),
    ]


def carries(listed: bytes, greeter: bytes) -> str:
    """What of a system's own a list of paths brings, as a name; empty for nothing."""
    found = SESSIONS.search(listed) or BOOTS.search(listed)
    if found:
        return found[0].decode("utf-8", "replace")
    if greeter and greeter in listed.splitlines():
        return greeter.decode("utf-8", "replace")
    return ""
