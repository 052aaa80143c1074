"""A program at the other end of two pipes: started, told, listened to, ended.

It may lie, flood, stop or never end: what it says is bounded in size and time, and checked.
"""

import contextlib
import os
import re
import select
import signal
import subprocess
import threading
import time
from collections.abc import Callable, Iterator, Mapping, Sequence
from functools import cache
from importlib import import_module
from importlib.resources import files
from typing import Any

from lumtak.computers.hands.sent.files.places import NotOrdinaryError, RefusalError
from lumtak.computers.hands.sent.operations import ROOT, VERSION
from lumtak.computers.hands.sent.wire import lengths, packed, unpacked

_BOOT = (
    "import os\nn=int.from_bytes(os.read(0,4),'big');d=b''\n"
    "while len(d)<n:\n p=os.read(0,n-len(d))\n if not p:os._exit(1)\n d+=p\n"
    "exec(compile(d,'lumtak-hand','exec'))"
)
"""Reads a length and then the code, and nothing beyond it."""
_PACKAGE = "lumtak.computers.hands.sent"
_IMPORTED = re.compile(r"(?m)^from lumtak\.computers\.hands\.sent\.([\w.]+) import")
_OF_ROOT, _OF_OTHERS = ("root.settling", "RootHand"), ("hand", "Hand")
"""Module and class of a hand."""
ANSWER_S = 30.0
_START_S = 30.0


def bootstrap(python: str) -> tuple[str, ...]:
    """The command that starts a bare interpreter which waits for the code of a hand.

    Python(1), -I, -S and -B.
    """
    return (python, "-I", "-S", "-B", "-c", _BOOT)


def text_of(name: str) -> str:
    """A module of those that are sent; of one that reads data (`..._data`) what it read."""
    if name.endswith("_data"):
        return str(import_module(f"{_PACKAGE}.{name}").as_code())
    *folders, module = name.split(".")
    return files(_PACKAGE).joinpath(*folders, f"{module}.py").read_text(encoding="utf-8")


@cache
def sent(*, root: bool = True) -> dict[str, str]:
    """What is sent: the text of each module by its name in `sent`, none before what it needs.

    Args:
        root: whether to a hand that can act as root; no other is sent what that needs.
    """
    found: dict[str, str] = {}

    def add(name: str) -> None:
        text = text_of(name)
        for needed in _IMPORTED.findall(text):
            if needed not in found:
                add(needed)
        found[name] = text

    for name in ("wire", *(_OF_ROOT[:1] if root else ())):
        add(name)
    return found


def code(options: Mapping[str, Any]) -> bytes:
    """What the interpreter is sent.

    A length, and a program that makes the modules of the hand and serves as these options say.
    """
    root = ROOT in options.get("roles", ())
    modules = [(f"{_PACKAGE}.{name}", text) for name, text in sent(root=root).items()]
    module, kind = _OF_ROOT if root else _OF_OTHERS
    program = (
        "import sys, types\n"
        f"for name, text in {modules!r}:\n"
        "    sys.modules[name] = module = types.ModuleType(name)\n"
        "    exec(compile(text, name, 'exec'), module.__dict__)\n"
        f"kind = sys.modules['{_PACKAGE}.{module}'].{kind}\n"
        f"sys.modules['{_PACKAGE}.wire'].main({dict(options)!r}, kind)\n"
    ).encode("utf-8", "surrogateescape")
    return len(program).to_bytes(4, "big") + program


class Channel:
    """A hand that is started when it is first needed, and again after it ended.

    Args:
        command: starts the interpreter; from `bootstrap`, with whatever makes it another user.
        options: of the hand: `rules`, `homes`, `own`, `roles`.
        who: for a person: "the hand of mia".
        session: whether it gets a session of its own at once; sudo has to stay in the caller's, to
            ask on the terminal.
        start_s: how long it may take until it answers; None while a person may be typing a
            password.
    """

    live = True

    def __init__(
        self,
        command: Sequence[str],
        options: Mapping[str, Any],
        who: str,
        *,
        session: bool = True,
        start_s: float | None = _START_S,
    ) -> None:
        self._command, self._options, self._who = tuple(command), dict(options), who
        self._session, self._start_s = session, start_s
        self._process: subprocess.Popen[bytes] | None = None
        self._about: dict[str, int] = {}
        self._buffer = b""
        self._lock = threading.RLock()

    # -- starting and ending -----------------------------------------------------------------------

    def open(self) -> None:
        """Start it, where it does not run.

        Raises:
            OSError: it does not start, or is no hand of this version.
        """
        with self._lock:
            if self._process is not None:
                return
            # Nothing of the caller's environment goes along, and no descriptor but the two pipes.
            self._process = subprocess.Popen(  # noqa: S603 - a fixed command, no shell
                self._command,
                stdin=subprocess.PIPE,
                stdout=subprocess.PIPE,
                stderr=(
                    None if self._start_s is None else subprocess.DEVNULL
                ),  # there sudo speaks to the person
                env={"PATH": "/usr/sbin:/usr/bin:/sbin:/bin", "LC_ALL": "C.UTF-8"},
                cwd="/",
                close_fds=True,
                start_new_session=self._session,
            )
            try:
                with self.plainly():
                    self._send(code(self._options), self._start_s)
                    self._about = self._hello(self.answer(self._start_s))
            except BaseException:
                self.close()
                raise

    def _hello(self, about: Any) -> dict[str, int]:
        if not isinstance(about, dict) or about.get("version") != VERSION:
            raise OSError(f"{self._who} is of another version")
        return {k: v for k, v in about.items() if type(v) is int}

    def close(self) -> None:
        """End it, with whatever it started."""
        with self._lock:
            process, self._process, self._buffer = self._process, None, b""
            if process is None:
                return
            for pipe in (process.stdin, process.stdout):
                if pipe is not None:
                    with contextlib.suppress(OSError):
                        pipe.close()
            try:
                process.wait(timeout=2)  # it ends by itself when there is nobody to ask it
            except subprocess.TimeoutExpired:
                if self._session:
                    with contextlib.suppress(ProcessLookupError, PermissionError):
                        os.killpg(process.pid, signal.SIGKILL)
                with contextlib.suppress(
                    PermissionError, subprocess.TimeoutExpired
                ):  # sudo's: it ends with its pipes
                    process.kill()
                    process.wait(timeout=2)

    def kill(self) -> None:
        """End it at once, also in the middle of an answer: whoever waits for it gets an OSError."""
        process = self._process
        if process is not None and self._session:
            # setpriv and the interpreter are one process: its group is what it started.
            with contextlib.suppress(ProcessLookupError, PermissionError):
                os.killpg(process.pid, signal.SIGKILL)
        self.close()

    @property
    def known_pid(self) -> int:
        """Its process as it said; 0 where it does not run."""
        return self._about.get("pid", 0) if self.is_open else 0

    @property
    def is_open(self) -> bool:
        """Whether it runs."""
        return self._process is not None

    # -- asking ------------------------------------------------------------------------------------

    def ask(self, operation: str, *given: object, answer_s: float = ANSWER_S) -> Any:
        with self._lock, self.plainly():
            self.open()
            self._send(packed({"do": operation, "with": list(given)}), answer_s)
            return self.answer(answer_s)

    @contextlib.contextmanager
    def plainly(self) -> Iterator[None]:
        """A hand that is none any more is ended, and told of as an OSError."""
        try:
            yield
        except _BrokenError as error:
            self.close()
            raise OSError(f"{self._who} {error}") from error

    def _send(self, message: bytes, within_s: float | None) -> None:
        pipe = self._pipe(0)
        # A hand that stops reading must not hold Lumtak up: the pipe would fill and block.
        os.set_blocking(pipe, False)
        left, end = memoryview(message), _end(within_s)
        while left:
            _, ready, _ = select.select([], [pipe], [], _until(end))
            if not ready:
                raise _BrokenError("does not take what it is told")
            try:
                left = left[os.write(pipe, left[: 1 << 16]) :]
            except BlockingIOError:
                continue
            except OSError as error:
                raise _BrokenError("has ended") from error

    def answer(self, within_s: float | None) -> Any:
        message = self._message(_end(within_s))
        match message:
            case {"is": value}:
                return value
            case {"error": [int() as number, str() as words, str() as kind]}:
                made = {"refused": RefusalError, "odd": None}.get(kind)
                if made is RefusalError:
                    raise RefusalError(words[:2000])
                raise (
                    NotOrdinaryError(number, words[:2000])
                    if kind == "odd"
                    else OSError(number, words[:2000])
                )
            case {"more": value}:
                return More(value)
        raise _BrokenError("says what is no answer")

    def _message(self, end: float | None) -> Any:
        try:
            json_length, blob_length = lengths(self._bytes(8, end))
            return unpacked(self._bytes(json_length, end), self._bytes(blob_length, end))
        except ValueError as error:
            raise _BrokenError(f"says {error}") from error

    def _bytes(self, count: int, end: float | None) -> bytes:
        pipe = self._pipe(1)
        parts, have = [self._buffer], len(self._buffer)
        while have < count:
            ready, _, _ = select.select([pipe], [], [], _until(end))
            if not ready:
                raise _BrokenError("does not answer")
            # More than was asked for is kept for the next answer: a read costs a switch to the
            # other side.
            data = os.read(pipe, max(1 << 16, count - have))
            if not data:
                raise _BrokenError("has ended")
            parts.append(data)
            have += len(data)
        whole = b"".join(parts)
        self._buffer = whole[count:]
        return whole[:count]

    def _pipe(self, number: int) -> int:
        process = self._process
        pipe = None if process is None else process.stdin if number == 0 else process.stdout
        if pipe is None or pipe.closed:
            raise _BrokenError("has ended")
        return pipe.fileno()

    def checked(self, value: Any, fits: Callable[[Any], bool]) -> Any:
        """The answer, if it is of the form that was to be expected."""
        if not fits(value):
            self.close()
            raise OSError(f"{self._who} says what is no answer")
        return value


class More:
    """A part of an answer that comes in several."""

    def __init__(self, value: object) -> None:
        self.value = value


class _BrokenError(Exception):
    """The other end is no hand any more; a clause."""


def _end(within_s: float | None) -> float | None:
    return None if within_s is None else time.monotonic() + within_s


def _until(end: float | None) -> float | None:
    return None if end is None else max(0.0, end - time.monotonic())
