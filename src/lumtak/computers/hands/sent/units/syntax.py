"""What unit files say: sections, keys and values; continued lines, comments, and what a later file
takes back. Source: systemd.syntax(7), systemd.unit(5).

Sent with the hand: the standard library only, in the language of Python 3.8.
"""

from __future__ import annotations

import re
from typing import Dict, Iterable, Iterator, List, Tuple

Said = Dict[Tuple[str, str], List[str]]
"""Values by (section, key), in order; an empty one takes back those before it."""
_SECTION = re.compile(r"\[([^\]]*)\]\s*")
_PREFIXES = "@-:+!|"
EXEC = {
    "ExecCondition", "ExecStartPre", "ExecStart", "ExecStartPost", "ExecReload", "ExecReloadPost",
    "ExecStop", "ExecStopPre", "ExecStopPost",
}  # fmt: skip
"""Every key that runs something, of services, sockets, mounts and swap; systemd.exec(5)."""


def lines(text: str) -> Iterator[str]:
    """Logical lines: continued ones joined, comments left out, also those in between."""
    held = ""
    for raw in text.replace("\r\n", "\n").split("\n"):
        if raw.lstrip()[:1] in {"#", ";"}:
            continue
        line = held + raw
        if line.endswith("\\"):
            held = line[:-1] + " "
            continue
        held = ""
        yield line.strip()
    if held.strip():
        yield held.strip()


def parsed(texts: Iterable[str]) -> Said:
    """What these files say together, the most important last."""
    said: Said = {}
    for text in texts:
        section = ""
        for line in lines(text):
            head = _SECTION.fullmatch(line)
            if head:
                section = head[1]
                continue
            key, equals, value = line.partition("=")
            if not equals:
                continue
            values = said.setdefault((section, key.strip()), [])
            if value.strip():
                values.append(value.strip())
            else:
                del values[:]
    return said


def words(said: Said, section: str, *keys: str) -> List[str]:
    """The words of these keys, each once."""
    found = [w for key in keys for value in said.get((section, key), ()) for w in value.split()]
    return list(dict.fromkeys(found))


def commands(said: Said) -> List[str]:
    """Every command line, without the signs before the program; systemd.service(5)."""
    found = [v for (_, key), values in said.items() if key in EXEC for v in values]
    return [command.lstrip(_PREFIXES).strip() for command in found]
