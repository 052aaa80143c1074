"""A scanner that stands in for one: it speaks the protocol of clamd on a socket of its own, and
knows a few strings.

Source: clamd(8), COMMANDS: VERSION, PING, FILDES, INSTREAM, each begun by z and ended by NUL.
"""

import contextlib
import os
import socket
import struct
import threading
from collections.abc import Callable, Mapping
from pathlib import Path

_MOST, _HEAD = 1 << 12, 1 << 20


class StandIn:
    """It listens as soon as it is made, until it is closed.

    Args:
        place: of its socket.
        version: what it says of itself.
        knows: name by the bytes that it is looking for in the first MiB of a file.
        looks: called with the size of each file, to take its time.
    """

    def __init__(
        self,
        place: Path,
        version: str,
        knows: Mapping[bytes, str],
        looks: Callable[[int], None] = lambda _: None,
    ) -> None:
        self._version, self._knows, self._looks = version, dict(knows), looks
        self._listener = socket.socket(socket.AF_UNIX, socket.SOCK_STREAM)
        self._listener.bind(str(place))
        self._listener.listen(16)
        self._thread = threading.Thread(target=self._serve, daemon=True)
        self._thread.start()

    def close(self) -> None:
        """It listens no more."""
        with contextlib.suppress(OSError):
            self._listener.shutdown(socket.SHUT_RDWR)
        self._listener.close()
        self._thread.join(5.0)

    def _serve(self) -> None:
        while True:
            try:
                line, _ = self._listener.accept()
            except OSError:
                return
            threading.Thread(target=self._answer, args=(line,), daemon=True).start()

    def _answer(self, line: socket.socket) -> None:
        with line, contextlib.suppress(OSError, struct.error):
            said = b""
            while not said.endswith(b"\0") and len(said) < _MOST:
                byte = line.recv(1)
                if not byte:
                    return
                said += byte
            line.sendall(self._said(said.strip(b"z\0"), line) + b"\0")

    def _said(self, command: bytes, line: socket.socket) -> bytes:
        if command == b"PING":
            return b"PONG"
        if command == b"VERSION":
            return self._version.encode()
        if command == b"FILDES":
            return self._of_file(line)
        if command == b"INSTREAM":
            return b"stream: " + self._of(self._streamed(line))
        return b"UNKNOWN COMMAND"

    def _of_file(self, line: socket.socket) -> bytes:
        _, descriptors, _, _ = socket.recv_fds(line, 1, 4)
        if not descriptors:
            return b"No file descriptor received. ERROR"
        try:
            self._looks(os.fstat(descriptors[0]).st_size)
            return b"fd[%d]: " % descriptors[0] + self._of(os.pread(descriptors[0], _HEAD, 0))
        finally:
            for descriptor in descriptors:
                os.close(descriptor)

    @staticmethod
    def _streamed(line: socket.socket) -> bytes:
        data = b""
        while True:
            (size,) = struct.unpack("!I", line.recv(4, socket.MSG_WAITALL))
            if not size:
                return data
            data += line.recv(size, socket.MSG_WAITALL)

    def _of(self, data: bytes) -> bytes:
        name = next((n for known, n in self._knows.items() if known in data), "")
        return f"{name} FOUND".encode() if name else b"OK"
