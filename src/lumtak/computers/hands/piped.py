"""A hand at the other end of two pipes: `Hand`'s operations, with every answer checked."""

from collections.abc import Iterator, Sequence
from typing import Any

from lumtak.computers.hands.channel import ANSWER_S, Channel, More
from lumtak.computers.hands.sent.files.places import RefusalError
from lumtak.computers.hands.sent.looking import MOST_BYTES

_MOST_PARTS = 100_000
_AGES_S = 1e12
_LONG_S, _LONGEST_S, _MOST_FELT, _MOST_SAID = 3600.0, 300.0, 20, 5000


class Piped(Channel):
    """See `Channel` for what it takes, `hand.Hand` for what each operation does."""

    def about(self) -> dict[str, int]:
        """See `Hand.about`."""
        self.open()
        return self._about

    def read(self, path: str, most: int = MOST_BYTES) -> bytes:
        """See `Hand.read`."""
        data: bytes = self.checked(
            self.ask("read", path, most), lambda v: isinstance(v, bytes) and len(v) <= most
        )
        return data

    def read_many(self, paths: Sequence[str], most: int = MOST_BYTES) -> list[bytes | None]:
        """See `Hand.read_many`."""

        def fits(value: Any) -> bool:
            return (
                isinstance(value, list)
                and len(value) == len(paths)
                and all(v is None or (isinstance(v, bytes) and len(v) <= most) for v in value)
            )

        found: list[bytes | None] = self.checked(self.ask("read_many", list(paths), most), fits)
        return found

    def names(self, path: str) -> list[str]:
        """See `Hand.names`."""

        def is_name(value: Any) -> bool:
            return (
                isinstance(value, str)
                and "/" not in value
                and "\0" not in value
                and value not in {"", ".", ".."}
            )

        found: list[str] = self.checked(
            self.ask("names", path), lambda v: isinstance(v, list) and all(map(is_name, v))
        )
        return found

    def link(self, path: str) -> str | None:
        """See `Hand.link`."""
        found: str | None = self.checked(
            self.ask("link", path),
            lambda v: v is None or (isinstance(v, str) and 0 < len(v) < 5000 and "\0" not in v),
        )
        return found

    def exists(self, path: str) -> bool:
        """See `Hand.exists`."""
        return self.ask("exists", path) is True

    def look(self, folder: str, name: str) -> dict[str, Any]:
        """See `Hand.look`."""

        def fits(value: Any) -> bool:
            match value:
                case {"kind": "absent" | "other"}:
                    return True
                case {"kind": "link", "target": str() as target}:
                    return 0 < len(target) < 5000 and "\0" not in target
                case {"kind": "file", "mode": int(), "bytes": str() as data}:
                    return len(data) <= 2 * MOST_BYTES
            return False

        found: dict[str, Any] = self.checked(self.ask("look", folder, name), fits)
        return found

    def missing(self, path: str) -> int:
        """See `Hand.missing`."""
        count: int = self.checked(
            self.ask("missing", path), lambda v: type(v) is int and 0 <= v < 1000
        )
        return count

    def space(self, path: str) -> list[int]:
        """See `Hand.space`."""
        found: list[int] = self.checked(
            self.ask("space", path),
            lambda v: isinstance(v, list) and len(v) == 2 and all(type(n) is int for n in v),
        )
        return found

    def inodes(self, path: str) -> int:
        """See `Hand.inodes`."""
        count: int = self.checked(self.ask("inodes", path), lambda v: type(v) is int and v >= 0)
        return count

    def walk(self, path: str, most: int = 1_000_000) -> Iterator[list[list[Any]]]:
        """See `Hand.walk`; nothing else can be asked of this hand until it has ended.

        Whoever stops before that ends the hand.
        """
        yield from self._parts(list, ANSWER_S, "walk", path, most)

    def _parts(self, kind: type, answer_s: float, operation: str, *given: object) -> Iterator[Any]:
        """The parts of an answer, each of this kind; who stops before the last ends the hand."""
        with self._lock:
            part, ended = self.ask(operation, *given, answer_s=answer_s), False
            try:
                for _ in range(_MOST_PARTS):
                    if not isinstance(part, More):
                        ended = True
                        return
                    yield self.checked(part.value, lambda v: isinstance(v, kind))
                    with self.plainly():
                        part = self.answer(answer_s)
            except RefusalError:
                ended = True
                raise
            finally:
                if not ended:
                    self.close()

    def survey(self, path: str, own: Sequence[str]) -> Iterator[dict[str, Any]]:
        """See `Hand.survey`; like `walk` it is ended by whoever stops listening."""
        yield from self._parts(dict, _LONG_S, "survey", path, list(own))

    def copies(self, path: str, least: int, passed: Sequence[str]) -> Iterator[dict[str, Any]]:
        """See `Hand.copies`."""
        yield from self._parts(dict, _LONG_S, "copies", path, least, list(passed))

    def tool_holds(self, name: str) -> dict[str, Any]:
        """See `Hand.tool_holds`."""
        return self._told("tool_holds", name)

    def only_copies(self, paths: Sequence[str]) -> dict[str, Any]:
        """See `Hand.only_copies`."""
        return self._told("only_copies", list(paths))

    def times_of(self, paths: Sequence[str]) -> list[list[float] | None]:
        """See `Hand.times_of`."""
        found: list[list[float] | None] = self.checked(
            self.ask("times_of", list(paths)), lambda v: _are_told(v, len(paths), 3)
        )
        return found

    def integrity(self, after: str) -> Iterator[dict[str, Any]]:
        """See `Hand.integrity`."""
        yield from self._parts(dict, _LONG_S, "integrity", after)

    def scanner(self) -> dict[str, str]:
        """See `Hand.scanner`."""
        said: dict[str, str] = self.checked(
            self.ask("scanner", answer_s=_LONGEST_S),
            lambda v: (
                isinstance(v, dict)
                and all(isinstance(w, str) and len(w) <= _MOST_SAID for w in v.values())
            ),
        )
        return said

    def scan(self, top: str, after: str, place: str) -> Iterator[dict[str, Any]]:
        """See `Hand.scan`."""
        yield from self._parts(dict, _LONG_S, "scan", top, after, place)

    def fragments(self, top: str, after: str) -> Iterator[dict[str, Any]]:
        """See `Hand.fragments`."""
        yield from self._parts(dict, _LONG_S, "fragments", top, after)

    def owners(self, paths: Sequence[str]) -> list[list[int] | None]:
        """See `Hand.owners`."""
        found: list[list[int] | None] = self.checked(
            self.ask("owners", list(paths)), lambda v: _are_told(v, len(paths), 4)
        )
        return found

    def superblock(self, device: str) -> bytes:
        """See `Hand.superblock`."""
        data: bytes = self.checked(
            self.ask("superblock", device), lambda v: isinstance(v, bytes) and len(v) <= MOST_BYTES
        )
        return data

    def trim(self, path: str) -> int:
        """See `Hand.trim`; a large disk takes its time."""
        size: int = self.checked(
            self.ask("trim", path, answer_s=_LONG_S), lambda v: type(v) is int and v >= 0
        )
        return size

    def remove_packages(self, names: Sequence[str]) -> list[str]:
        """See `Hand.remove_packages`."""
        gone: list[str] = self.checked(
            self.ask("remove_packages", list(names), answer_s=_LONG_S),
            lambda v: isinstance(v, list) and set(v) <= set(names),
        )
        return gone

    def reinstall_packages(self, names: Sequence[str]) -> list[str]:
        """See `Hand.reinstall_packages`."""
        done: list[str] = self.checked(
            self.ask("reinstall_packages", list(names), answer_s=_LONG_S),
            lambda v: isinstance(v, list) and set(v) <= set(names),
        )
        return done

    def gather(self, path: str) -> list[int]:
        """See `Hand.gather`; a large file takes its time."""
        found: list[int] = self.checked(
            self.ask("gather", path, answer_s=_LONG_S),
            lambda v: isinstance(v, list) and len(v) == 2 and all(type(n) is int for n in v),
        )
        return found

    def aside_look(
        self,
        name: str,
        key: str,
        homes: Sequence[str],
        folder: str,
        paths: Sequence[str],
        copies: Sequence[Sequence[Any]],
    ) -> dict[str, Any]:
        """See `Hand.aside_look`."""
        return self._told("aside_look", name, key, list(homes), folder, list(paths), list(copies))

    def aside_move(self, sha256: str) -> dict[str, Any]:
        """See `Hand.aside_move`."""
        return self._told("aside_move", sha256)

    def aside_back(self, folder: str, sha256: str) -> dict[str, Any]:
        """See `Hand.aside_back`."""
        return self._told("aside_back", folder, sha256)

    def aside_empty(self, folder: str, sha256: str) -> Iterator[dict[str, Any]]:
        """See `Hand.aside_empty`."""
        yield from self._parts(dict, _LONG_S, "aside_empty", folder, sha256)

    def _told(self, operation: str, *given: object) -> dict[str, Any]:
        """What an operation on the disk tells, which may take long."""
        told: dict[str, Any] = self.checked(
            self.ask(operation, *given, answer_s=_LONG_S), lambda v: isinstance(v, dict)
        )
        return told

    def display(self, name: str, authority: str) -> dict[str, Any]:
        """See `Hand.display`."""

        def fits(value: Any) -> bool:
            return (
                isinstance(value, dict)
                and all(type(value.get(n)) is bool for n in ("composed", "managed", "passed on"))
                and isinstance(value.get("settings"), dict)
            )

        found: dict[str, Any] = self.checked(self.ask("display", name, authority), fits)
        return found

    def touched(self, name: str, authority: str) -> float:
        """See `Hand.touched`."""
        ago_s: float = self.checked(
            self.ask("touched", name, authority), lambda v: type(v) in {int, float} and v < _AGES_S
        )
        return ago_s

    def counters(self) -> dict[int, bytes]:
        """See `Hand.counters`."""
        found: dict[str, bytes] = self.checked(
            self.ask("counters"),
            lambda v: (
                isinstance(v, dict)
                and all(k.isdecimal() and isinstance(b, bytes) for k, b in v.items())
            ),
        )
        return {int(k): data for k, data in found.items()}

    def feel(self, folder: str, program: str) -> dict[str, float | str]:
        """See `Hand.feel`; on a disk that is busy it takes its time."""

        def is_told(value: Any) -> bool:
            if isinstance(value, str):
                return len(value) <= _MOST_SAID
            return type(value) in {int, float} and 0 <= value <= _LONGEST_S

        found: dict[str, float | str] = self.checked(
            self.ask("feel", folder, program, answer_s=_LONGEST_S),
            lambda v: (
                isinstance(v, dict) and len(v) <= _MOST_FELT and all(map(is_told, v.values()))
            ),
        )
        return found

    def not_started(self, path: str) -> str:
        """See `Hand.not_started`."""
        why: str = self.checked(
            self.ask("not_started", path), lambda v: isinstance(v, str) and len(v) <= _MOST_SAID
        )
        return why

    def put(self, folder: str, name: str, data: bytes, mode: int) -> None:
        """See `Hand.put`."""
        self.ask("put", folder, name, data, mode)

    def put_link(self, folder: str, name: str, target: str) -> None:
        """See `Hand.put_link`."""
        self.ask("put_link", folder, name, target)

    def remove(self, folder: str, name: str, folders: int = 0) -> None:
        """See `Hand.remove`."""
        self.ask("remove", folder, name, folders)

    def own_put(self, path: str, data: bytes) -> None:
        """See `Hand.own_put`."""
        self.ask("own_put", path, data)

    def own_link(self, path: str, target: str) -> None:
        """See `Hand.own_link`."""
        self.ask("own_link", path, target)

    def own_remove(self, path: str, folder_too: bool = False) -> None:
        """See `Hand.own_remove`."""
        self.ask("own_remove", path, folder_too)

    def own_clear(self, path: str) -> None:
        """See `Hand.own_clear`."""
        self.ask("own_clear", path)

    def make_swap(self, mib: int) -> None:
        """See `Hand.make_swap`; a large one takes its time."""
        self.ask("make_swap", mib, answer_s=600.0)

    def drop_swap(self, mib: int) -> None:
        """See `Hand.drop_swap`."""
        self.ask("drop_swap", mib)

    def set_kernel(self, path: str, value: str) -> None:
        """See `Hand.set_kernel`."""
        self.ask("set_kernel", path, value)

    def leave_script(self, tag: str, parts: str) -> None:
        """See `Hand.leave_script`."""
        self.ask("leave_script", tag, parts)

    def end(self, pid: int, started: int, force: bool, wait_s: float) -> str:
        """See `Hand.end`."""
        ended: str = self.checked(
            self.ask("end", pid, started, force, wait_s, answer_s=ANSWER_S + wait_s),
            lambda v: isinstance(v, str) and v in {"gone", "runs", "another"},
        )
        return ended

    def run(
        self,
        arguments: Sequence[str],
        timeout_s: float = 20.0,
        partly: bool = False,
        bus: str = "",
    ) -> bytes:
        """See `Hand.run`."""
        printed: bytes = self.checked(
            self.ask("run", list(arguments), timeout_s, partly, bus, answer_s=ANSWER_S + timeout_s),
            lambda v: isinstance(v, bytes),
        )
        return printed


def _are_told(value: Any, count: int, parts: int) -> bool:
    """Whether so many answers are there, each of so many numbers or None."""
    return (
        isinstance(value, list)
        and len(value) == count
        and all(
            v is None
            or (isinstance(v, list) and len(v) == parts and all(type(n) in {int, float} for n in v))
            for v in value
        )
    )
