"""Units of systemd: every service and timer, loaded or not, with the links that switch it on."""

import re
from collections.abc import Iterable, Mapping

from lumtak.computers.hands.reach import Reach, text
from lumtak.computers.hands.sent.table import (
    NOWHERE,
    is_switch,
)
from lumtak.computers.hands.sent.units.links import installing, links
from lumtak.computers.hands.sent.units.resolving import Units

PROPERTIES = (
    "Id",
    "Names",
    "Description",
    "LoadState",
    "ActiveState",
    "UnitFileState",
    "FragmentPath",
    "Requires",
    "BindsTo",
    "Requisite",
    "WantedBy",
    "RequiredBy",
    "TriggeredBy",
    "Triggers",
    "BusName",
    "Listen",
    "Type",
    "DefaultDependencies",
    "InactiveExitTimestampMonotonic",
    "ActiveEnterTimestampMonotonic",
    "InactiveEnterTimestampMonotonic",
)
_SHOW = ("systemctl", "show", "--no-pager", f"--property={','.join(PROPERTIES)}", "--")
_ENDINGS = (".service", ".timer", ".socket", ".path")
"""Of the kinds of units that are looked at."""
_MOST_BYTES = 1 << 16

Fields = dict[str, str]


def blocks(shown: str) -> list[Fields]:
    """The properties of each unit from what `systemctl show` prints; systemctl(1).

    Lines that are none are passed over.
    """
    found = []
    for block in re.split(r"\n\s*\n", shown):
        fields: Fields = {}
        for name, _, value in (line.partition("=") for line in block.splitlines() if "=" in line):
            # A socket has a line for each address that it waits at.
            more = name == "Listen" and fields.get(name)
            fields[name] = f"{fields[name]} {value}" if more else value
        if fields.get("Id"):
            found.append(fields)
    return found


def show(hand: Reach, *patterns: str) -> list[Fields]:
    """Properties of units by name or pattern. What vanished in the meantime is left out.

    Raises:
        OSError: systemctl is missing or does not answer.
    """
    return blocks(text(hand.run((*_SHOW, *patterns), partly=True)))


def all_units(hand: Reach, resolved: Units | None = None) -> list[Fields]:
    """Loaded units of our kinds as systemd tells them, and those that nothing loaded as their files
    tell them.

    The files are read directly: asking systemd would make it load each of them, which takes several
    times as long as all the rest.

    Args:
        hand: looks.
        resolved: looks into the folders of units, and knows then what of them was not seen.

    Raises:
        OSError: systemctl is missing or does not answer.
    """
    loaded = blocks(text(hand.run((*_SHOW, *(f"*{ending}" for ending in _ENDINGS)))))
    seen = {name for fields in loaded for name in (fields["Id"], *fields.get("Names", "").split())}
    switched = links(hand)
    waiting: dict[str, list[str]] = {}
    for fields in loaded:
        for served in fields.get("Triggers", "").split():
            waiting.setdefault(served, []).append(fields["Id"])
    resolved = resolved or Units(hand)
    files = [fields for fields in _files(hand, resolved, seen, switched) if fields]
    return loaded + [{**f, "TriggeredBy": " ".join(waiting.get(f["Id"], ()))} for f in files]


def _files(
    hand: Reach, units: Units, seen: set[str], switched: Mapping[str, Mapping[str, str]]
) -> Iterable[Fields]:
    """Units that are no template and were not seen yet, from the first folder that has them.

    Systemd.unit(5), unit file load path.
    """
    told = set(seen)
    for folder in units.folders:
        for name in units.names(folder):
            template = name.partition(".")[0].endswith("@")
            if name in told or template or not name.endswith(_ENDINGS):
                continue
            told.add(name)
            path = f"{folder}/{name}"
            if (target := hand.link(path)) is not None and target != NOWHERE:
                continue  # another name of a unit that has its own file
            yield _from_file(hand, name, path, target, switched.get(name, {}))


def _from_file(
    hand: Reach, name: str, path: str, target: str | None, on: Mapping[str, str]
) -> Fields:
    fields = {
        "Id": name,
        "Names": name,
        "LoadState": "loaded",
        "ActiveState": "inactive",
        "FragmentPath": path,
    }
    if target == NOWHERE:
        return {**fields, "LoadState": "masked", "UnitFileState": "masked", "FragmentPath": ""}
    try:
        content = text(hand.read(path, _MOST_BYTES))
    except OSError:
        return {}
    fields |= fields_of(content)
    if any(is_switch(p) for p in on):
        fields["UnitFileState"] = "enabled"
    else:
        fields["UnitFileState"] = "disabled" if installing(name, path, content) else "static"
    return fields


def fields_of(content: str) -> Fields:
    """What a unit file itself says of the properties that are looked at; systemd.syntax(7)."""
    fields: Fields = {}
    for key, value in re.findall(
        r"(?m)^(Description|Requires|BindsTo|Requisite|BusName|Type)=(.*)$", content
    ):
        fields[key] = f"{fields[key]} {value}" if key in fields else value
    return fields
