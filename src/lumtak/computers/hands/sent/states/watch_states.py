"""The exact state of a watch: a service and a timer of the user's own manager, the link that
switches it on, and the one file that it runs.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import List, Optional, Tuple

from lumtak.computers.hands.sent.files.words import unescaped
from lumtak.computers.hands.sent.script.files_shell import FILES
from lumtak.computers.hands.sent.script.shell import WATCH, ScriptPart, at, quoted
from lumtak.computers.hands.sent.states.exact import Exact

SERVICE, TIMER, PROGRAM, FOUND = (
    "lumtak-watch.service",
    "lumtak-watch.timer",
    "watch.py",
    "found.json",
)
WANTS = "timers.target.wants"
UNIT_MODE, PROGRAM_MODE = 0o644, 0o600


@dataclass(frozen=True)
class WatchFiles(Exact, kind="watch"):
    """What stands of it; all None where there is none."""

    areas = ("upkeep",)
    apart = ("service", "timer", "link", "program")
    heads = (FILES, WATCH)
    units: str = field(compare=False)
    """The user's folder of units; absolute, as in `words.escaped`."""
    data: str = field(compare=False)
    """The folder of the program; the same."""
    missing: Tuple[int, ...] = field(compare=False)
    """How many folders were not there before, from that of the link and of the data upwards."""
    service: Optional[bytes]
    timer: Optional[bytes]
    link: Optional[str]
    program: Optional[bytes]

    def _problem(self, key: str) -> str:
        if key != "watch":
            return "it is the state of another setting"
        folders = (unescaped(self.units), unescaped(self.data))
        if not all(f.startswith("/") and "\0" not in f for f in folders):
            return "it does not say where it stood"
        if len(self.missing) != 2 or not all(0 <= n < 1000 for n in self.missing):
            return "it does not say which folders were there"
        return "" if self.link in (None, "../" + TIMER) else "its link leads elsewhere"

    def _places(self) -> List[Tuple[str, str, Optional[bytes], int]]:
        """Folder, name, bytes and mode of each file."""
        units, data = unescaped(self.units), unescaped(self.data)
        return [
            (units, SERVICE, self.service, UNIT_MODE),
            (units, TIMER, self.timer, UNIT_MODE),
            (data, PROGRAM, self.program, PROGRAM_MODE),
        ]

    def _wants(self) -> str:
        return "%s/%s" % (unescaped(self.units), WANTS)

    def tests(self, part: ScriptPart) -> List[bytes]:
        """See `Exact.tests`."""
        found = []
        for folder, name, held, mode in self._places():
            there = b"absent"
            if held is not None:
                there = b"%s | holds %04o" % (part.printing(held), mode)
            found.append(b"{ %s; %s; }" % (at(folder, name), there))
        leads = b"absent" if self.link is None else b"points_to %s" % quoted(self.link)
        return [*found, b"{ %s; %s; }" % (at(self._wants(), TIMER), leads)]

    def bring(self, part: ScriptPart) -> List[bytes]:
        """See `Exact.bring`."""
        link = b'rm -f "$file"' if self.link is None else b"relink %s" % quoted(self.link)
        acts = [b"{ %s; %s; }" % (at(self._wants(), TIMER), link)]
        for folder, name, held, mode in self._places():
            act = b'rm -f "$file"'
            if held is not None:
                act = b"%s | replace %04o" % (part.printing(held), mode)
            acts.append(b"{ %s; %s; }" % (at(folder, name), act))
        return [*acts, b"user_units"]

    def tidy(self) -> bytes:
        """See `Exact.tidy`: what it kept goes, and so do folders that were made for it."""
        acts = []
        if self.program is None:
            gone = (at(unescaped(self.data), FOUND), self.missing[1])
            acts.append(b'%s; rm -f "$file"; shed %d' % gone)
        if self.link is None:
            acts.append(b"%s; shed %d" % (at(self._wants(), TIMER), self.missing[0]))
        return b"{ %s; }" % b"; ".join(acts) if acts else b""
