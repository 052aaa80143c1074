"""The links that switch units on, name or mask them in the administrator's folder.

Source: systemd.unit(5), [Install]. Sent with the hand: the standard library only, in the language
of Python 3.8.
"""

from __future__ import annotations

import re
from typing import Any, Dict, Iterator, List, Tuple

from lumtak.computers.hands.sent.files.words import escaped
from lumtak.computers.hands.sent.table import (
    NOWHERE,
    SWITCH_FOLDERS,
    UNIT_ENDINGS,
    UNIT_FOLDERS,
    UNIT_NAME,
    UNITS,
    unit_of,
)

_INSTALL = re.compile(r"(?ms)^\[Install\]\s*$(.*?)(?=^\[|\Z)")
_WANTED = {"WantedBy": ".wants", "RequiredBy": ".requires", "UpheldBy": ".upholds"}


def links(hand: Any) -> Dict[str, Dict[str, str]]:
    """(path -> target) by unit of every link in the administrator's folder that switches a unit on,
    names it, or masks it.
    """
    found: Dict[str, Dict[str, str]] = {}
    for path, target in _all_links(hand):
        found.setdefault(unit_of(path, target), {})[path] = target
    return found


def _all_links(hand: Any) -> Iterator[Tuple[str, str]]:
    for name in _listed(hand, UNITS):
        path = "%s/%s" % (UNITS, name)
        if not UNIT_NAME.fullmatch(name):
            continue
        if name.endswith(SWITCH_FOLDERS):
            for entry in _listed(hand, path):
                if _is_unit(entry) and (target := hand.link("%s/%s" % (path, entry))) is not None:
                    yield "%s/%s" % (path, entry), escaped(target)
        elif _is_unit(name) and (target := hand.link(path)) is not None:
            yield path, escaped(target)


def _listed(hand: Any, folder: str) -> List[str]:
    try:
        names: List[str] = hand.listing(folder)["names"]
    except OSError:
        return []
    return names


def _is_unit(name: str) -> bool:
    return UNIT_NAME.fullmatch(name) is not None and name.endswith(UNIT_ENDINGS)


def wanted_by(content: str) -> List[str]:
    """The folders in which the [Install] section of a unit file wants a link; systemd.unit(5).

    Aliases are names, not starts.
    """
    section = _INSTALL.search(content)
    found = []
    for line in (section[1] if section else "").splitlines():
        name, _, value = line.partition("=")
        if suffix := _WANTED.get(name.strip()):
            found += [by + suffix for by in value.split()]
    return list(dict.fromkeys(found))


def behind_mask(hand: Any, unit: str) -> str:
    """The unit file that a mask hides: of the first folder that has one.

    Empty where there is none.
    """
    for folder in UNIT_FOLDERS:
        path = "%s/%s" % (folder, unit)
        if hand.link(path) == NOWHERE:
            continue
        try:
            if unit in hand.names(folder):
                return path
        except OSError:
            continue
    return ""


def installing(unit: str, fragment: str, content: str) -> Dict[str, str]:
    """The links that the [Install] section of a unit file asks for; systemd.unit(5).

    Instances of templates are none of ours.
    """
    section = _INSTALL.search(content)
    aliases = re.findall(r"(?m)^[ \t]*Alias[ \t]*=(.*)$", section[1] if section else "")
    names = ["%s/%s" % (folder, unit) for folder in wanted_by(content)] + " ".join(aliases).split()
    return {"%s/%s" % (UNITS, name): fragment for name in names}
