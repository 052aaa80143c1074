"""Requests and answers of a hand as messages over two pipes: docs/HANDS.md has their form.

Both ends use this file, which is sent with the hand: the standard library only, in the language of
Python 3.8.
"""

from __future__ import annotations

import contextlib
import ctypes
import errno
import json
import os
import signal
import struct
from typing import Any, BinaryIO, Iterator

from lumtak.computers.hands.sent.files.places import NotOrdinaryError, RefusalError
from lumtak.computers.hands.sent.hand import Hand

_MOST_MESSAGE = 1 << 26
_HEAD = struct.Struct(">II")


def packed(value: object) -> bytes:
    """A message: lengths of its JSON and of the bytes behind it, the JSON, those bytes.

    Bytes stand in the JSON as {"#": [from, to]}.
    """
    blobs: list[bytes] = []
    size = 0

    def plain(one: Any) -> Any:
        nonlocal size
        if isinstance(one, (bytes, bytearray)):
            blobs.append(bytes(one))
            size += len(one)
            return {"#": [size - len(one), size]}
        if isinstance(one, dict):
            return {str(k): plain(v) for k, v in one.items()}
        return [plain(v) for v in one] if isinstance(one, (list, tuple)) else one

    head = json.dumps(plain(value), separators=(",", ":")).encode("ascii")
    return _HEAD.pack(len(head), size) + head + b"".join(blobs)


def unpacked(head: bytes, blob: bytes) -> Any:
    """The value of a message.

    Raises:
        ValueError: it is none.
    """

    def whole(one: Any, depth: int = 0) -> Any:
        if depth > 8:
            raise ValueError("a message that is nested too deeply")
        if isinstance(one, list):
            return [whole(v, depth + 1) for v in one]
        if not isinstance(one, dict):
            return one
        if set(one) != {"#"}:
            return {k: whole(v, depth + 1) for k, v in one.items()}
        span = one["#"]
        if not isinstance(span, list) or len(span) != 2 or not all(type(n) is int for n in span):
            raise ValueError("bytes without a place")
        if not 0 <= span[0] <= span[1] <= len(blob):
            raise ValueError("bytes that are not there")
        return blob[span[0] : span[1]]

    try:
        return whole(json.loads(head.decode("ascii")))
    except RecursionError as error:
        raise ValueError("a message that is nested too deeply") from error


def lengths(head: bytes) -> tuple[int, int]:
    """(length of the JSON, length of the bytes) from the first eight bytes of a message.

    Raises:
        ValueError: it is longer than any message.
    """
    json_length, blob_length = _HEAD.unpack(head)
    if json_length + blob_length > _MOST_MESSAGE:
        raise ValueError("a message of %d bytes" % (json_length + blob_length))
    return json_length, blob_length


def answered(hand: Hand, request: Any) -> dict[str, Any]:
    """What the hand does about a request: {"is": value}, or {"error": [number, words, kind]}."""
    try:
        said = request if isinstance(request, dict) else {}
        return {"is": hand.asked(said.get("do"), said.get("with", []))}
    except OSError as error:
        which = (
            "refused"
            if isinstance(error, RefusalError)
            else "odd"
            if isinstance(error, NotOrdinaryError)
            else ""
        )
        return {"error": [error.errno or errno.EIO, error.strerror or str(error), which]}
    except Exception as error:  # noqa: BLE001 - whatever it is asked, a hand goes on
        return {"error": [errno.EINVAL, "this cannot be done: %s" % error, ""]}


def serve(hand: Hand, source: BinaryIO, sink: BinaryIO) -> None:
    """Answer requests until there are no more; whatever is no request ends the hand."""
    sink.write(packed({"is": hand.about()}))
    sink.flush()
    while True:
        head = source.read(_HEAD.size)
        if len(head) < _HEAD.size:
            return
        try:
            json_length, blob_length = lengths(head)
            request = unpacked(source.read(json_length), source.read(blob_length))
        except ValueError as error:
            sink.write(packed({"error": [errno.EPROTO, str(error), "refused"]}))
            sink.flush()
            return
        answer = answered(hand, request)
        try:
            if hasattr(answer.get("is"), "__next__"):
                _stream(answer["is"], sink)
                continue
            message = packed(answer)
            lengths(message[: _HEAD.size])
        except (OSError, ValueError) as error:
            message = packed({"error": [errno.EFBIG, str(error), "refused"]})
        sink.write(message)
        sink.flush()


def _stream(parts: Iterator[Any], sink: BinaryIO) -> None:
    """One message a part, {"more": part}, then {"is": null}."""
    try:
        for part in parts:
            sink.write(packed({"more": part}))
            sink.flush()
        end: dict[str, object] = {"is": None}
    except OSError as error:
        end = {"error": [error.errno or errno.EIO, error.strerror or str(error), "refused"]}
    except Exception as error:  # noqa: BLE001 - as above
        end = {"error": [errno.EINVAL, "this cannot be done: %s" % error, "refused"]}
    sink.write(packed(end))
    sink.flush()


def stand_alone() -> None:
    """Leave the session that the hand was started in, so that nothing that it starts reaches a
    terminal; gain no more rights.
    """
    if os.getpgrp() == os.getpid() and os.getsid(0) != os.getpid():
        child = os.fork()
        if child:
            _, status = os.waitpid(child, 0)
            os._exit(0 if status == 0 else 1)
    with contextlib.suppress(OSError):
        os.setsid()
    os.chdir("/")
    os.umask(0o022)
    signal.signal(signal.SIGHUP, signal.SIG_IGN)
    if os.geteuid() != 0:
        ctypes.CDLL(None).prctl(38, 1, 0, 0, 0)  # PR_SET_NO_NEW_PRIVS; prctl(2)


def _idle_disk() -> None:
    """Read from the disk only while nobody else does; ioprio_set(2), class idle."""
    number = {"x86_64": 251, "aarch64": 30}.get(os.uname().machine)
    if number is not None:
        ctypes.CDLL(None).syscall(number, 1, 0, 3 << 13)


def main(options: dict[str, Any], kind: type[Hand]) -> None:
    """Serve on standard input and output, as the options say, with a hand of this kind."""
    stand_alone()
    os.nice(int(options.get("nice", 0)))
    if options.get("idle"):
        _idle_disk()
    hand = kind(
        rules=bool(options.get("rules")),
        homes=options.get("homes", ()),
        own=options.get("own", ()),
        roles=options.get("roles", ()),
    )
    source, sink = os.fdopen(os.dup(0), "rb"), os.fdopen(os.dup(1), "wb")
    nothing = os.open(os.devnull, os.O_RDWR)
    for number in (0, 1, 2):
        os.dup2(nothing, number)  # nothing that is run can write between messages, or to a terminal
    serve(hand, source, sink)
