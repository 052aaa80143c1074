"""What states of the system look like: each kind is held against what its setting can have had, whoever recorded it.

A state is a dictionary with `exact` and `around`, as the journal has it; docs/FORMATS.md. One file of the standard library, in the language of
Python 3.8, for it is sent with the hand.
"""

from __future__ import annotations

import base64
import binascii
import re
from typing import Callable, Mapping

from lumtak.computers.hands.table import (
    KERNEL,
    POWER_FILE,
    PROFILE_BUSES,
    PROFILES,
    UNITS,
    is_own_content,
    kernel_value_fits,
    swap_unit,
    sysctl_file,
    unit_of,
    why_no_link,
)

PART = "part:"
"""Begins the name of what is written on its own; the same as in core/setting."""
LIVE, FILE, LINK = PART + "live", PART + "bytes", PART + "link"
OWN, OLD = PART + "own ", PART + "old "
"""Begin the parts of swap: a file of Lumtak's own by its size in MiB, what stood before by its unit."""
Exact = Mapping[str, str]


def why_no_state(area: str, key: str, exact: Exact, around: Exact) -> str:
    """Why a setting of the system cannot have been in this state, as a clause; empty where it can."""
    kind = exact.get("kind", "")
    areas, why_not = _KINDS.get(kind, ("", _unknown))
    return why_not(key, exact, around) if area == areas else "“%s” is no kind of state that %s have" % (kind, area)


def _unknown(key: str, exact: Exact, around: Exact) -> str:
    del key, exact, around
    return "its kind is not known"


def only(exact: Exact, *names: str) -> str:
    """Whether a state has these parts and no others: why not, as a clause."""
    odd = sorted(exact.keys() ^ {"kind", *names})
    return "its part %s is missing or unknown" % odd[0] if odd else ""


def decoded(said: str) -> bytes | None:
    """Bytes from Base64; None where it is none."""
    try:
        return base64.b64decode(said, validate=True)
    except (binascii.Error, ValueError):
        return None


def unit_name(key: str) -> str:
    """The unit of a service or timer by its key; empty where no unit can be called so."""
    if "/" in key or "\0" in key or not key:
        return ""
    return key if key.endswith(".timer") else key + ".service"


def _unit_links(key: str, exact: Exact, around: Exact) -> str:
    unit = unit_name(key)
    links = links_of(exact)
    if not unit or len(links) + 1 != len(exact):
        return "it has parts that are no links"
    if around.get("unit", unit) != unit or around.get("active", "no") not in {"yes", "no"}:
        return "what is noted beside it belongs to another unit"
    for path, target in links.items():
        why = why_no_link(path, target)
        if why:
            return why
        if unit_of(path, target) != unit:
            return "%s is a link of another unit" % path
    return ""


def _kernel_value(key: str, exact: Exact, around: Exact) -> str:
    del around
    why = only(exact, "kernel", "file", LIVE, FILE)
    if why:
        return why
    if key not in KERNEL or exact["kernel"] != "/proc/sys/vm/" + key or exact["file"] != sysctl_file(key):
        return "it is a value of another setting"
    if not kernel_value_fits(key, exact[LIVE]):
        return "%s is no value that Lumtak sets there" % exact[LIVE]
    return _own_file(exact["file"], exact[FILE])


def _own_file(path: str, said: str) -> str:
    data = decoded(said)
    fits = not said or (data and is_own_content(path, data))
    return "" if fits else "%s holds something else than what Lumtak writes there" % path


def _clock(key: str, exact: Exact, around: Exact) -> str:
    del key, around
    policies = policies_of(exact)
    why = only(exact, *(PART + name for name in policies), FILE, LINK)
    if why:
        return why
    for words in policies.values():
        governor, slash, preference = words.partition("/")
        if not (slash and re.fullmatch(r"[a-z0-9_]+", governor) and re.fullmatch(r"[a-z0-9_]*", preference)):
            return "what a policy of the clock held cannot be read"
    return _own_file(POWER_FILE, exact[FILE]) or ("" if exact[LINK] in {"", POWER_FILE} else "its link leads elsewhere")


def _swap(key: str, exact: Exact, around: Exact) -> str:
    del around
    for name, word in exact.items():
        own = re.fullmatch(r"%s[1-9][0-9]{0,6} (kept|on)" % OWN, name)
        old = re.fullmatch(r"%s[A-Za-z0-9:_.\\@-]+\.swap" % OLD, name)
        if name != "kind" and not ((own and word == "yes") or (old and word in {"on", "masked"})):
            return "its part %s is unknown" % name
    return "" if key == "swap_mib" else "it is a value of another setting"


def _property(key: str, exact: Exact, around: Exact) -> str:
    del key, around
    why = only(exact, "bus", "path", "value")
    if why:
        return why
    ours = PROFILE_BUSES.get(exact["bus"]) == exact["path"] and exact["value"] in PROFILES
    return "" if ours else "the plan %s is none that Lumtak sets" % exact["value"]


_KINDS: dict[str, tuple[str, Callable[[str, Exact, Exact], str]]] = {
    "links": ("services", _unit_links),
    "sysctl": ("memory", _kernel_value),
    "clock": ("power", _clock),
    "swap": ("memory", _swap),
    "property": ("power", _property),
}
KINDS = tuple(_KINDS)
"""Kinds of states that take root."""


def links_of(exact: Exact) -> dict[str, str]:
    """The links of a unit by their places."""
    return {name[len(PART) :]: target for name, target in exact.items() if name.startswith(PART)}


def policies_of(exact: Exact) -> dict[str, str]:
    """Governor/preference by policy."""
    return {n[len(PART) :]: words for n, words in exact.items() if re.fullmatch(PART + r"policy[0-9]+", n)}


def own_of(exact: Exact) -> dict[int, str]:
    """Swap files of Lumtak's own by size in MiB, with what is true of each: kept, on."""
    found: dict[int, str] = {}
    for name in exact:
        if name.startswith(OWN):
            mib, _, word = name[len(OWN) :].partition(" ")
            found[int(mib)] = ("%s %s" % (found.get(int(mib), ""), word)).strip()
    return found


def old_of(exact: Exact) -> dict[str, str]:
    """Swap that stood before by its unit: on or masked."""
    return {n[len(OLD) :]: word for n, word in exact.items() if n.startswith(OLD)}


def swap_switch(mib: int) -> str:
    """The link that starts a swap file of Lumtak's own with the system."""
    return "%s/swap.target.wants/%s" % (UNITS, swap_unit(mib))
