"""What a task of upkeep is given on a Linux computer."""

from dataclasses import dataclass, field
from datetime import datetime

from lumtak.computers.hands.reach import names_at, text
from lumtak.computers.hands.sent.files.words import unescaped
from lumtak.computers.hands.whose import Hands, User
from lumtak.computers.linux.upkeep.streaming import Tell
from lumtak.core.text import plain
from lumtak.core.upkeep.tasks import Partial

_INFO, _ENDING, _MOST_LISTS = "/var/lib/dpkg/info", ".list", 20_000


@dataclass
class Given:
    """One run of a task."""

    hands: Hands
    user: User
    address: str
    at: str
    """The computer's clock when it was begun."""
    begun: Partial
    tell: Tell
    disk_kind: str
    """Of the system's disk: spinning, solid, or empty."""
    _owners: dict[str, str] = field(default_factory=dict)

    @property
    def now_s(self) -> float:
        """The same, seconds since 1970."""
        return datetime.fromisoformat(self.at).timestamp()

    @property
    def after(self) -> str:
        """The last file that is done, as the computer has its name."""
        return unescaped(self.begun.after)

    def owner(self, path: str) -> str:
        """The package that brought a file; empty where none did, or where there is no dpkg."""
        if path not in self._owners:
            self.know_owners([path])
        return self._owners.get(path, "")

    def know_owners(self, paths: list[str]) -> None:
        """Look up which packages brought these, all in one pass; dpkg(1), info/*.list."""
        wanted = {p: {p, *self._others(p)} for p in paths if p not in self._owners}
        self._owners.update(dict.fromkeys(wanted, ""))
        if not wanted:
            return
        by_line: dict[bytes, list[str]] = {}
        for path, names in wanted.items():
            for name in names:
                by_line.setdefault(name.encode("utf-8", "surrogateescape"), []).append(path)
        hand = self.hands.own
        lists = [n for n in names_at(hand, _INFO) if n.endswith(_ENDING)][:_MOST_LISTS]
        datas = hand.read_many([f"{_INFO}/{n}" for n in lists], 1 << 24)
        for name, data in zip(lists, datas, strict=True):
            for line in by_line.keys() & set((data or b"").split(b"\n")):
                package = name.removesuffix(_ENDING).partition(":")[0]
                self._owners.update(dict.fromkeys(by_line[line], plain(package, 120)))

    @staticmethod
    def _others(path: str) -> set[str]:
        """How else a path may be recorded, where /bin and its like are links by now."""
        if path.startswith("/usr/"):
            return {path.removeprefix("/usr")}
        return {f"/usr{path}"} if path.startswith(("/bin/", "/sbin/", "/lib")) else set()

    def read(self, path: str, most: int = 1 << 16) -> str:
        """A file of the system's, as text; empty where it cannot be read."""
        try:
            return text(self.hands.own.read(path, most))
        except OSError:
            return ""
