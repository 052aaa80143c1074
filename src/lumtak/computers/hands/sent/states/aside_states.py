"""Exact states of storage: clutter where it stands, or set aside under a list of this checksum; and
Lumtak's own files that set the system's upkeep of its disk.
"""

from __future__ import annotations

import re
from dataclasses import dataclass
from typing import Any, ClassVar, List, Optional

from lumtak.computers.hands.sent.clutter.rules import OWN_NOTES
from lumtak.computers.hands.sent.script.aside_shell import ASIDE
from lumtak.computers.hands.sent.script.shell import DROP, KEPT, LINKS, ScriptPart, quoted
from lumtak.computers.hands.sent.states.exact import Exact, OfRoot, own_file_problem, word
from lumtak.computers.hands.sent.table import (
    READ_ANEW,
    SWAP_FOLDER,
    UPKEEP,
    has_own_folder,
    upkeep_file,
)

_SHA256 = re.compile(r"[0-9a-f]{64}")


@dataclass(frozen=True)
class Aside(Exact):
    """What became of a class of clutter, or of something that a person named."""

    areas = ("storage",)
    heads = (ASIDE,)
    folder: str
    """Where it is noted; absolute."""
    sha256: str
    """Of the list of what was set aside; empty while it stands where it stood."""
    half: bool
    """Whether moving was begun and has not ended."""
    apart: ClassVar = ()

    def _problem(self, key: str) -> str:
        if self.sha256 and _SHA256.fullmatch(self.sha256) is None:
            return "what it names is the checksum of no list"
        if self.half and not self.sha256:
            return "nothing is half set aside under no list"
        return self._folder_problem()

    def _folder_problem(self) -> str:
        fits = self.folder.startswith("/") and self.folder.endswith(OWN_NOTES)
        return "" if fits and "\0" not in self.folder else "%s keeps nothing of it" % self.folder

    def between(self, one: Exact, other: Exact) -> bool:
        """Something is half set aside, or half back, under the list of one of them."""
        if not type(self) is type(one) is type(other) or not self.half:
            return False
        ends = [end for end in (one, other) if isinstance(end, Aside)]
        return self.sha256 in {end.sha256 for end in ends} and all(
            end.folder == self.folder for end in ends
        )

    def tidy(self) -> bytes:
        """See `Exact.tidy`."""
        return b"" if self.sha256 else b'aside_tidy "$root"%s' % quoted(self.folder)

    def _words(self, sha256: str) -> bytes:
        return b"%s %s" % (quoted(self.folder), quoted(sha256))

    def tests(self, part: ScriptPart) -> List[bytes]:
        """See `Exact.tests`."""
        if self.sha256:
            return [b"aside_is " + self._words(self.sha256)]
        others = sorted({state.sha256 for state in part.among if state.sha256})
        return [b" && ".join(b"! aside_is " + self._words(sha) for sha in others) or b"true"]

    def bring(self, part: ScriptPart) -> List[bytes]:
        """See `Exact.bring`."""
        if self.sha256:
            return [b"false"]  # nothing is ever set aside by a script
        others = sorted({state.sha256 for state in part.among if state.sha256})
        return [b"aside_back " + self._words(sha) for sha in others]


@dataclass(frozen=True)
class KeptFile(OfRoot, kind="kept file"):
    """A file of Lumtak's own that sets the system's upkeep of itself."""

    areas = ("storage", "upkeep")
    heads = (DROP, LINKS, KEPT)
    file: str
    kept: Optional[bytes]
    """What it holds; None where there is none."""

    def _problem(self, key: str) -> str:
        if key not in UPKEEP or self.file != upkeep_file(key):
            return "it is a file of another setting"
        return own_file_problem(self.file, self.kept)

    def seen(self, at: Any) -> Optional[OfRoot]:
        """See `OfRoot.seen`."""
        return self if at.held(self.file) == self.kept else None

    def write(self, to: Any, was: Exact) -> None:
        """See `OfRoot.write`; what has to read it anew does."""
        to.keep(self.file, self.kept)
        if any(self.file == upkeep_file(key) for key in READ_ANEW):
            to.units("daemon-reload")

    def by_hand(self) -> str:
        """See `Exact.by_hand`."""
        return "sudo rm %s" % word(self.file) if self.kept is None else ""

    def places(self) -> List[str]:
        """See `Exact.places`."""
        return [self.file]

    def tests(self, part: ScriptPart) -> List[bytes]:
        """See `Exact.tests`."""
        return [part.kept(self.file, self.kept)]

    def bring(self, part: ScriptPart) -> List[bytes]:
        """See `Exact.bring`."""
        anew = any(self.file == upkeep_file(key) for key in READ_ANEW)
        brought = part.keep(self.file, self.kept)
        return [brought, b"units daemon-reload"] if anew else [brought]

    def tidy(self) -> bytes:
        """See `Exact.tidy`: a folder that was made for it goes too."""
        gone = self.kept is None and has_own_folder(self.file)
        return b"drop_switch %s" % quoted(self.file) if gone else b""


@dataclass(frozen=True)
class UserAside(Aside, kind="aside"):
    """Of the user's own."""


@dataclass(frozen=True)
class RootAside(Aside, kind="aside of root"):
    """Of the system's."""

    root = True

    def _folder_problem(self) -> str:
        return "" if self.folder == SWAP_FOLDER else "root keeps nothing in %s" % self.folder
