"""Which login entry started a process: by path, arguments, user, session and start time.

Never by its name alone.
"""

import posixpath
import re
from collections.abc import Iterable
from typing import NamedTuple

from lumtak.computers.hands.reach import Reach, real_path, text_at
from lumtak.computers.linux import hardware
from lumtak.computers.linux.closely import uid_of, words_of
from lumtak.core.text import number

COMM = 15
"""Letters of a process's name that the kernel keeps; proc(5)."""
_BEFORE_S, _AFTER_S = 5.0, 180.0
"""Around a login: sessions are counted a little late, and a slow computer takes minutes to start
what it should."""
_SESSION = re.compile(r"/session-([^/]+)\.scope")
PROGRAM_FOLDERS = (
    "/usr/local/bin",
    "/usr/bin",
    "/bin",
    "/usr/local/sbin",
    "/usr/sbin",
    "/usr/games",
    "/snap/bin",
)
"""Where a program is looked for that is named without its folder."""
_GRAPHICAL = {"x11", "wayland", "mir"}


class LoginStart(NamedTuple):
    """What an entry starts at login."""

    consumer: str
    runs: tuple[str, ...]
    """The program, as the entry names it, and its arguments."""
    through: str
    """The shell that is to run it; empty where none is named."""
    uid: int
    delay_s: float


class _Session(NamedTuple):
    name: str
    began_s: tuple[float, ...]
    """After the computer's start, by each clock that tells; none where none does."""


class LoginStarts:
    """The entries of a look, and the processes they account for.

    Args:
        hand: of the computer.
        tick: units of a process's start in a second.
    """

    def __init__(self, hand: Reach, tick: int) -> None:
        self._hand, self._tick = hand, tick
        self._by_name: dict[str, list[LoginStart]] = {}
        self._sessions: dict[int, list[_Session] | None] = {}
        self.consumers: frozenset[str] = frozenset()

    def learn(self, entries: Iterable[LoginStart]) -> None:
        """These entries count from now on."""
        self._by_name, self._sessions = {}, {}
        known = list(entries)
        for entry in known:
            for name in {posixpath.basename(entry.runs[0]), entry.through} - {""}:
                self._by_name.setdefault(name[:COMM], []).append(entry)
        self.consumers = frozenset(entry.consumer for entry in known)

    def consumer_of(self, pid: int, name: str, started: int, group: str) -> str:
        """The entry that started a process; empty where none did."""
        alike = self._by_name.get(name[:COMM])
        if not alike:
            return ""
        words, uid = words_of(self._hand, pid), uid_of(self._hand, pid)
        for entry in alike:
            if (
                entry.uid == uid
                and self._at_login(entry, started / self._tick, group)
                and self._is_it(entry, words, pid)
            ):
                return entry.consumer
        return ""

    def _at_login(self, entry: LoginStart, started_s: float, group: str) -> bool:
        """Whether it started when a session of the user began, and not in another one.

        Where nobody counts sessions, that does not count.
        """
        if entry.uid not in self._sessions:
            self._sessions[entry.uid] = self._sessions_of(entry.uid)
        sessions = self._sessions[entry.uid]
        if sessions is None:
            return True
        inside = _SESSION.search(group)
        return any(
            (inside is None or inside[1] == session.name)
            and any(
                -_BEFORE_S <= started_s - began <= _AFTER_S + entry.delay_s
                for began in session.began_s
            )
            for session in sessions
        )

    def _sessions_of(self, uid: int) -> list[_Session] | None:
        """Those with a screen where there are any: a login over the network starts no entries."""
        found = hardware.sessions(self._hand, uid)
        if found is None:
            return None
        booted = re.search(r"(?m)^btime (\d{1,12})$", text_at(self._hand, "/proc/stat", 1 << 20))
        sessions = []
        for said in [s for s in found if s.get("TYPE") in _GRAPHICAL] or found:
            monotonic, real = number(said.get("MONOTONIC")), number(said.get("REALTIME"))
            began = [] if monotonic is None else [monotonic / 1e6]
            if real is not None and booted:
                began.append(real / 1e6 - int(booted[1]))
            sessions.append(_Session(said["ID"], tuple(began)))
        return sessions

    def _is_it(self, entry: LoginStart, words: list[str], pid: int) -> bool:
        """Whether a process runs the entry's program with the entry's arguments.

        Itself, or as the script of an interpreter.
        """
        program, *arguments = entry.runs
        for place, word in enumerate(words[:3]):
            if posixpath.basename(word) != posixpath.basename(program):
                continue
            path = word if place else self._hand.link(f"/proc/{pid}/exe") or word
            if words[place + 1 :] == arguments and self._same_file(program, path):
                return True
        return False

    def _same_file(self, program: str, path: str) -> bool:
        named = (
            [program] if "/" in program else [f"{folder}/{program}" for folder in PROGRAM_FOLDERS]
        )
        there = [p for p in named if self._hand.exists(p)] or named
        if "/" not in path or real_path(self._hand, path) in {
            real_path(self._hand, p) for p in there
        }:
            return True
        # a script of the same name that starts the program proper, which lies elsewhere
        return posixpath.basename(path) == posixpath.basename(program) and self._is_script(there[0])

    def _is_script(self, path: str) -> bool:
        try:
            return self._hand.read(path, 2) == b"#!"
        except OSError:
            return False
