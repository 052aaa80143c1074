"""What a display server says is in force: who composes windows, who manages them, and the settings
that programs are passed.

Sources: X Window System Protocol, version 11; ICCCM, 2.8 and 4.3; EWMH, _NET_WM_CM_Sn; XSETTINGS
0.5; Xau, .Xauthority. One file of the standard library, in the language of Python 3.8, for it is
sent with the hand.
"""

from __future__ import annotations

import errno
import re
import socket
import struct
import time
from collections.abc import Callable
from typing import Any, TypeVar

_SOCKETS = "/tmp/.X11-unix/X%d"  # noqa: S108 - where the display servers of a computer wait
_COOKIE = b"MIT-MAGIC-COOKIE-1"
_HEAD = 32
"""Bytes of the greeting's answer before the vendor's name."""
_WAIT_S = 3.0
"""For all that is asked: whoever waits there may be slow on purpose."""
_MOST_BYTES, _MOST_SETTINGS, _MOST_EVENTS = 1 << 18, 1000, 200
_INTERN, _PROPERTY, _OWNER, _EXTENSION = 16, 20, 23, 98
"""Opcodes."""

_Answer = TypeVar("_Answer")


def number_of(display: str) -> tuple[int, int]:
    """(display, screen) of a name like :0 or :0.1.

    Raises:
        OSError: it is none of this computer.
    """
    found = re.fullmatch(r"(?:unix)?:(\d{1,4})(?:\.(\d{1,2}))?", display)
    if found is None:
        raise OSError(errno.EINVAL, "the display is not of this computer")
    return int(found[1]), int(found[2] or 0)


def in_force(display: str, authority: bytes) -> dict[str, Any]:
    """What is in force on a display: composed, managed, passed on (whether somebody does), settings
    by name.

    Args:
        display: its name, as in DISPLAY.
        authority: what the user's file of cookies holds.

    Raises:
        OSError: it does not answer, refuses, or says what cannot be understood.
    """
    _, screen = number_of(display)
    return _connected(display, authority, lambda line: _asked(line, screen))


def idle_s(display: str, authority: bytes) -> float:
    """For how long nobody touched keyboard or mouse of a display; X Screen Saver Extension 1.1.

    Args:
        display: its name, as in DISPLAY.
        authority: what the user's file of cookies holds.

    Raises:
        OSError: as above, or it does not tell.
    """
    return _connected(display, authority, _idle_s)


def _connected(display: str, authority: bytes, ask: Callable[[_Line], _Answer]) -> _Answer:
    """What a display answers to what is asked once it has let in."""
    number, _ = number_of(display)
    with socket.socket(socket.AF_UNIX, socket.SOCK_STREAM) as open_socket:
        line = _Line(open_socket, time.monotonic() + _WAIT_S)
        line.connect(_SOCKETS % number)
        try:
            _greet(line, _cookie(authority, number))
            return ask(line)
        except struct.error:
            raise OSError(errno.EPROTO, "the display says what cannot be understood") from None


class _Line:
    """A connection on which all that is said has to be said by a certain time.

    Args:
        to: the socket.
        until: on the monotonic clock.
    """

    def __init__(self, to: socket.socket, until: float) -> None:
        self._to, self._until = to, until
        self.root = 0
        """The window below all others of the first screen, once it is known."""

    def _bounded(self) -> socket.socket:
        left = self._until - time.monotonic()
        if left <= 0:
            raise OSError(errno.ETIMEDOUT, "the display takes too long")
        self._to.settimeout(left)
        return self._to

    def connect(self, path: str) -> None:
        """Connect to the display."""
        self._bounded().connect(path)

    def send(self, data: bytes) -> None:
        """Say all of this."""
        self._bounded().sendall(data)

    def read(self, count: int) -> bytes:
        """So many bytes.

        Raises:
            OSError: they are too many, or do not come.
        """
        if count > _MOST_BYTES:
            raise OSError(errno.EMSGSIZE, "the display says too much")
        data = b""
        while len(data) < count:
            more = self._bounded().recv(count - len(data))
            if not more:
                raise OSError(errno.EPIPE, "the display does not answer")
            data += more
        return data


def _asked(line: _Line, screen: int) -> dict[str, Any]:
    keeper = _owner(line, b"_XSETTINGS_S%d" % screen)
    settings: dict[str, Any] = {}
    if keeper:
        settings = settings_in(_property(line, keeper, b"_XSETTINGS_SETTINGS"))
    return {
        "composed": bool(_owner(line, b"_NET_WM_CM_S%d" % screen)),
        "managed": bool(_owner(line, b"WM_S%d" % screen)),
        "passed on": bool(keeper),
        "settings": settings,
    }


def _cookie(authority: bytes, number: int) -> bytes:
    """The cookie for a display of this computer; empty where there is none."""
    at, found = 0, b""
    try:
        while at < len(authority):
            at += 2
            fields = []
            for _ in range(4):
                (size,) = struct.unpack_from(">H", authority, at)
                fields.append(authority[at + 2 : at + 2 + size])
                at += 2 + size
            _, wanted, name, data = fields
            if name == _COOKIE and wanted in (b"", b"%d" % number):
                found = data
    except struct.error:
        pass  # cut short: what was whole counts
    return found


def _greet(line: _Line, cookie: bytes) -> None:
    name = _COOKIE if cookie else b""
    line.send(
        struct.pack("<BxHHHHxx", ord("l"), 11, 0, len(name), len(cookie))
        + _padded(name)
        + _padded(cookie)
    )
    status, _, _, _, more = struct.unpack("<BBHHH", line.read(8))
    said = line.read(more * 4)
    if status != 1:
        raise OSError(errno.EACCES, "the display lets nobody look")
    if len(said) > _HEAD:
        vendor = struct.unpack_from("<H", said, 16)[0]
        at = _HEAD + vendor + (-vendor % 4) + 8 * said[21]
        line.root = struct.unpack_from("<I", said, at)[0] if len(said) >= at + 4 else 0


def _padded(data: bytes) -> bytes:
    return data + b"\0" * (-len(data) % 4)


def _reply(line: _Line, request: bytes) -> bytes:
    """The answer to one request; nothing where it is an error. Events are passed over."""
    line.send(request)
    for _ in range(_MOST_EVENTS):
        head = line.read(32)
        if head[0] == 0:
            return b""
        if head[0] == 1:
            return head + line.read(struct.unpack_from("<I", head, 4)[0] * 4)
    raise OSError(errno.EPROTO, "the display does not come to the point")


def _atom(line: _Line, name: bytes) -> int:
    size = 2 + (len(name) + 3) // 4
    request = struct.pack("<BBHHxx", _INTERN, 1, size, len(name)) + _padded(name)
    answer = _reply(line, request)
    return int(struct.unpack_from("<I", answer, 8)[0]) if answer else 0


def _owner(line: _Line, name: bytes) -> int:
    """The window that has a selection; 0 where nobody has it."""
    atom = _atom(line, name)
    answer = _reply(line, struct.pack("<BxHI", _OWNER, 2, atom)) if atom else b""
    return int(struct.unpack_from("<I", answer, 8)[0]) if answer else 0


def _property(line: _Line, window: int, name: bytes) -> bytes:
    """What a window holds under a name."""
    atom = _atom(line, name)
    if not atom:
        return b""
    request = struct.pack("<BxHIIIII", _PROPERTY, 6, window, atom, 0, 0, _MOST_BYTES // 8)
    answer = _reply(line, request)
    if not answer or answer[1] != 8:
        return b""
    return answer[32 : 32 + struct.unpack_from("<I", answer, 16)[0]]


def _idle_s(line: _Line) -> float:
    name = b"MIT-SCREEN-SAVER"
    size = 2 + (len(name) + 3) // 4
    request = struct.pack("<BxHHxx", _EXTENSION, size, len(name)) + _padded(name)
    answer = _reply(line, request)
    present, opcode = (answer[8], answer[9]) if answer else (0, 0)
    if not present:
        raise OSError(errno.ENOTSUP, "the display does not tell when it was touched")
    # The root window stands in the greeting: any drawable of the screen serves.
    answer = _reply(line, struct.pack("<BBHI", opcode, 1, 2, line.root))
    if not answer:
        raise OSError(errno.ENOTSUP, "the display does not tell when it was touched")
    return int(struct.unpack_from("<I", answer, 16)[0]) / 1000


def settings_in(data: bytes) -> dict[str, Any]:
    """Numbers and texts by name, as an XSETTINGS manager passes them on.

    Of what is cut short, what is whole.
    """
    found: dict[str, Any] = {}
    if len(data) < 12:
        return found
    order = ">" if data[0] else "<"
    (count,) = struct.unpack_from(order + "I", data, 8)
    at = 12
    try:
        for _ in range(min(count, _MOST_SETTINGS)):
            kind, size = struct.unpack_from(order + "BxH", data, at)
            name = data[at + 4 : at + 4 + size].decode("utf-8", "replace")
            at += 4 + size + (-size % 4) + 4
            if kind == 0:
                (found[name],) = struct.unpack_from(order + "i", data, at)
                at += 4
            elif kind == 1:
                (length,) = struct.unpack_from(order + "I", data, at)
                found[name] = data[at + 4 : at + 4 + length].decode("utf-8", "replace")
                at += 4 + length + (-length % 4)
            else:
                at += 8
    except struct.error:
        pass
    return found
