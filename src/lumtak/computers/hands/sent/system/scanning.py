"""Files shown one after another to a scanner that runs on the computer.

It speaks the protocol of clamd (clamd(8), COMMANDS): a command, an answer, each ended by NUL. The
file itself is handed over as an open descriptor (FILDES), so that the scanner reads what this hand
may read and nothing else; several at a time. The scanner may hang, lie or vanish: what it says is
bounded in size and time. Sent with the hand: the standard library only, in the language of Python
3.8.
"""

from __future__ import annotations

import array
import contextlib
import errno
import os
import re
import select
import socket
import stat
import struct
import time
from typing import Any, Dict, FrozenSet, Iterator, List, Optional, Tuple

from lumtak.computers.hands.sent.files.owned import on_the_way
from lumtak.computers.hands.sent.files.passing import READ, Pass

SCANNERS = (
    "/run/clamav/clamd.ctl",
    "/var/run/clamav/clamd.ctl",
    "/run/clamd.scan/clamd.sock",
    "/run/clamav/clamd.sock",
)
"""Where such a scanner listens when nothing says otherwise."""
CONFIGURATIONS = ("/etc/clamav/clamd.conf", "/etc/clamd.d/scan.conf", "/etc/clamd.conf")
_AT_ONCE, _TELL_S, _MOST_SAID, _MOST_TOLD = 4, 0.25, 4096, 2000
ANSWER_S, FILE_S = 10.0, 180.0
"""How long the scanner may take to answer, and for one file."""
_FOUND = re.compile(rb"\A[^\0]*: ([^\0]{1,400}) FOUND\Z", re.DOTALL)
_FINE = re.compile(rb"\A[^\0]*: (?:OK|Empty file\.?|Excluded)\Z", re.DOTALL)


def place_of(configuration: bytes) -> str:
    """Where a configuration says that it listens; empty where it says nothing."""
    said = re.search(rb"(?m)^\s*LocalSocket\s+(/\S{1,200})\s*$", configuration)
    return said[1].decode("utf-8", "replace") if said else ""


def account_of(configuration: bytes) -> str:
    """The account that a configuration says the scanner runs as; empty where it says none."""
    said = re.search(rb"(?m)^\s*User\s+([a-z_][a-z0-9_-]{0,31})\s*$", configuration)
    return said[1].decode() if said else ""


class Line:
    """A scanner that may be believed: its socket, the folder of that, and who answers there belong
    to root or to the account that the system's own configuration names.

    Args:
        place: of the socket.
        uids: of root and that account.
        strict: whether every folder on the way is looked at too; not where a folder looks like a
            computer.
    """

    def __init__(self, place: str, uids: FrozenSet[int], strict: bool = True) -> None:
        self._place, self._uids, self._strict = place, uids, strict

    def connected(self, timeout_s: float) -> socket.socket:
        """A connection to it.

        Raises:
            OSError: it is not there, does not answer, or is somebody else's.
        """
        self._check()
        line = socket.socket(socket.AF_UNIX, socket.SOCK_STREAM | socket.SOCK_CLOEXEC)
        try:
            line.settimeout(timeout_s)
            line.connect(self._place)
            said = line.getsockopt(socket.SOL_SOCKET, socket.SO_PEERCRED, struct.calcsize("3i"))
            _, uid, _ = struct.unpack("3i", said)
            self._expect(uid, "who answers at %s" % self._place)
        except BaseException:
            line.close()
            raise
        return line

    def _check(self) -> None:
        about = os.stat(self._place, follow_symlinks=not self._strict)
        if not stat.S_ISSOCK(about.st_mode):
            raise OSError(errno.ENOTSOCK, "%s is no socket" % self._place)
        self._expect(about.st_uid, self._place)
        for place, step in on_the_way(os.path.dirname(self._place)) if self._strict else ():
            self._expect(step.st_uid, place)
            shared = step.st_mode & 0o022 and not step.st_mode & stat.S_ISVTX
            if shared and not stat.S_ISLNK(step.st_mode):
                raise OSError(errno.EPERM, "others can write to %s" % place)

    def _expect(self, uid: int, what: str) -> None:
        if uid not in self._uids:
            raise OSError(errno.EPERM, "%s is neither root's nor the scanner's own" % what)


def asked(line_to: Line, command: bytes, timeout_s: float) -> bytes:
    """What the scanner answers to a command without a file.

    Raises:
        OSError: it is not there, or does not answer.
    """
    with line_to.connected(timeout_s) as line:
        line.sendall(b"z" + command + b"\0")
        said = b""
        until = time.monotonic() + timeout_s
        while b"\0" not in said and len(said) < _MOST_SAID:
            line.settimeout(max(0.01, until - time.monotonic()))
            more = line.recv(_MOST_SAID)
            if not more:
                break
            said += more
        return said.partition(b"\0")[0]


def counted(files: int, size: int) -> Dict[str, Any]:
    """What is told while files are counted that are to be shown."""
    return {
        "after": "",
        "files": 0,
        "bytes": 0,
        "whole_files": files,
        "whole_bytes": size,
        "counts": {},
        "found": [],
    }


class Shown:
    """A file that the scanner has been shown."""

    __slots__ = ("line", "path", "said", "size", "until", "whole")

    def __init__(self, path: str, size: int, line: Optional[socket.socket]) -> None:
        self.path, self.size, self.line = path, size, line
        self.said = b""
        self.whole: Optional[bytes] = None
        """The answer; None where it was never shown."""
        self.until = time.monotonic() + FILE_S


class Scan:
    """One way through the files below a folder.

    Args:
        line_to: the scanner.
        way: through the files.
        whole: how many files and bytes there are, as far as they were counted.
    """

    def __init__(self, line_to: Line, way: Pass, whole: Tuple[int, int]) -> None:
        self._line_to, self._way = line_to, way
        self.whole = whole
        self.files = self.bytes = 0
        self.counts = {"finding": 0, "unread": 0, "unsure": 0}
        self._fresh: List[List[str]] = []
        self._shown: List[Shown] = []
        """In the order in which they were shown; those that are done have no line any more."""
        self._after = ""
        self._told = time.monotonic()

    def through(self) -> Iterator[Dict[str, Any]]:
        """How far it is and what was found since, about four times a second; the last has "ended".

        Raises:
            OSError: the scanner has gone away or does not answer any more.
        """
        try:
            for path, folder, name, about in self._way.files():
                self._show(path, folder, name, about)
                yield from self._until(_AT_ONCE - 1)
            yield from self._until(0)
        finally:
            for one in self._shown:
                if one.line is not None:
                    one.line.close()
        yield dict(self._said(), ended={"folders": self._way.unread})

    def _until(self, most: int) -> Iterator[Dict[str, Any]]:
        """Until no more than so many are unanswered; how far it is, meanwhile."""
        while True:
            if time.monotonic() - self._told > _TELL_S:
                yield self._said()
            if self._busy() <= most:
                return
            self._wait()

    def _busy(self) -> int:
        return sum(1 for one in self._shown if one.line is not None)

    def _show(self, path: str, folder: int, name: str, about: os.stat_result) -> None:
        """Hand one file over; one that may not be read is counted and passed."""
        one = Shown(path, about.st_size, None)
        try:
            descriptor = os.open(name, READ, dir_fd=folder)
        except OSError:
            self._shown.append(one)
            self._settle()
            return
        try:
            if not stat.S_ISREG(os.fstat(descriptor).st_mode):
                self._shown.append(one)
                self._settle()
                return
            one.line = self._line_to.connected(ANSWER_S)
            handed = [(socket.SOL_SOCKET, socket.SCM_RIGHTS, array.array("i", [descriptor]))]
            with contextlib.suppress(BrokenPipeError):  # it has answered already
                one.line.sendall(b"zFILDES\0")
                one.line.sendmsg([b"\0"], handed)
            self._shown.append(one)
        except BaseException:
            if one.line is not None:
                one.line.close()
            raise
        finally:
            os.close(descriptor)

    def _wait(self) -> None:
        """Until one of them is answered, or was not in its time."""
        lines = {one.line.fileno(): one for one in self._shown if one.line is not None}
        wait_s = min(one.until for one in lines.values()) - time.monotonic()
        ready, _, _ = select.select(list(lines), [], [], max(0.0, min(wait_s, _TELL_S)))
        for number in ready:
            self._listen(lines[number])
        for one in lines.values():
            if one.line is not None and time.monotonic() > one.until:
                raise OSError(errno.ETIMEDOUT, "the scanner did not answer in %g s" % FILE_S)
        self._settle()

    def _listen(self, one: Shown) -> None:
        if one.line is None:
            return
        data = b""
        with contextlib.suppress(InterruptedError):
            data = one.line.recv(_MOST_SAID)
        one.said += data
        if data and b"\0" not in one.said and len(one.said) < _MOST_SAID:
            return
        one.line.close()
        one.line = None
        whole, ended, _ = one.said.partition(b"\0")
        if not ended:
            raise OSError(errno.EPIPE, "the scanner ended in the middle of its answer")
        one.whole = whole

    def _judge(self, one: Shown, said: bytes) -> None:
        found = _FOUND.match(said)
        if found:
            self.counts["finding"] += 1
            if self.counts["finding"] <= _MOST_TOLD:
                name = found[1].decode("utf-8", "replace")
                self._fresh.append(["finding", one.path, "", name])
        elif not _FINE.match(said):
            self.counts["unsure"] += 1

    def _settle(self) -> None:
        """Those at the front that are done: nothing before them is left."""
        while self._shown and self._shown[0].line is None:
            one = self._shown.pop(0)
            # Counted in the order of the files, so that nothing counts twice when it goes on.
            if one.whole is None:
                self.counts["unread"] += 1
            else:
                self._judge(one, one.whole)
            self.files += 1
            self.bytes += one.size
            self._after = one.path

    def _said(self) -> Dict[str, Any]:
        self._told = time.monotonic()
        fresh, self._fresh = self._fresh, []
        return {
            "after": self._after,
            "files": self.files,
            "bytes": self.bytes,
            "whole_files": self.whole[0],
            "whole_bytes": self.whole[1],
            "counts": dict(self.counts),
            "found": fresh,
        }
