"""Units of systemd: every service and timer, loaded or not, with the links that switch it on."""

import json
import os
import re
from collections.abc import Iterable, Mapping

from lumtak.computers.linux.root import UNITS
from lumtak.computers.linux.transport import Transport, text

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
    "Type",
)
KINDS = ("service", "timer", "socket", "path")
NOWHERE = "/dev/null"
_FOLDERS = (".wants", ".requires", ".upholds")
_CHUNK = 200
_INSTALL = re.compile(r"(?ms)^\[Install\]\s*$(.*?)(?=^\[|\Z)")
_WANTED = {"WantedBy": ".wants", "RequiredBy": ".requires", "UpheldBy": ".upholds"}

Fields = dict[str, str]


def blocks(shown: str) -> list[Fields]:
    """The properties of each unit from what `systemctl show` prints; systemctl(1). Lines that are none are passed over."""
    found = []
    for block in re.split(r"\n\s*\n", shown):
        fields = dict(line.split("=", 1) for line in block.splitlines() if "=" in line)
        if fields.get("Id"):
            found.append(fields)
    return found


def show(transport: Transport, *patterns: str) -> list[Fields]:
    """Properties of units by name or pattern. What vanished in the meantime is left out.

    Raises:
        OSError: systemctl is missing or does not answer.
    """
    command = ("systemctl", "show", "--no-pager", f"--property={','.join(PROPERTIES)}", "--", *patterns)
    return blocks(text(transport.run_partly(command)))


def all_units(transport: Transport) -> list[Fields]:
    """Loaded units of our kinds, and those whose unit file is there though nothing loaded them.

    Raises:
        OSError: systemctl is missing or does not answer.
    """
    command = ("systemctl", "show", "--no-pager", f"--property={','.join(PROPERTIES)}", "--")
    loaded = blocks(text(transport.run((*command, *(f"*.{kind}" for kind in KINDS)))))
    seen = {name for fields in loaded for name in (fields["Id"], *fields.get("Names", "").split())}
    kinds = ",".join(KINDS)
    listed = text(
        transport.run_partly(("systemctl", "list-unit-files", "--no-legend", "--no-pager", f"--type={kinds}"))
    )
    names = [line.split()[0] for line in listed.splitlines() if line.split()]
    rest = [n for n in names if n not in seen and not n.partition(".")[0].endswith("@")]
    for start in range(0, len(rest), _CHUNK):
        loaded += show(transport, *rest[start : start + _CHUNK])
    return loaded


def links(transport: Transport) -> dict[str, dict[str, str]]:
    """(path -> target) by unit of every link in the administrator's folder that switches a unit on, names it, or masks it."""
    found: dict[str, dict[str, str]] = {}
    for path, target in _all_links(transport):
        name, points_to = os.path.basename(path), os.path.basename(target)
        unit = name if target == NOWHERE or path.count("/") > UNITS.count("/") + 1 else points_to
        found.setdefault(unit, {})[path] = target
    return found


def _all_links(transport: Transport) -> Iterable[tuple[str, str]]:
    try:
        names = transport.names(UNITS)
    except OSError:
        return
    for name in names:
        path = f"{UNITS}/{name}"
        if name.endswith(_FOLDERS):
            try:
                inside = transport.names(path)
            except OSError:
                continue
            for entry in inside:
                if (target := transport.link(f"{path}/{entry}")) is not None:
                    yield f"{path}/{entry}", target
        elif (target := transport.link(path)) is not None:
            yield path, target


def is_switch(path: str) -> bool:
    """Whether a link in this place starts the unit with another: in a .wants, .requires or .upholds folder."""
    return os.path.dirname(path).endswith(_FOLDERS)


def installing(unit: str, fragment: str, content: str) -> dict[str, str]:
    """The links that the [Install] section of a unit file asks for; systemd.unit(5). Instances of templates are none of ours."""
    section = _INSTALL.search(content)
    wanted: dict[str, str] = {}
    for line in (section[1] if section else "").splitlines():
        name, _, value = line.partition("=")
        suffix = _WANTED.get(name.strip())
        for by in value.split() if suffix else ():
            wanted[f"{UNITS}/{by}{suffix}/{unit}"] = fragment
        if name.strip() == "Alias":
            wanted |= {f"{UNITS}/{alias}": fragment for alias in value.split()}
    return wanted


def packed(found: Mapping[str, str]) -> dict[str, str]:
    """The exact form of a state: every link with its target."""
    return {"kind": "links", "links": json.dumps(dict(sorted(found.items())), ensure_ascii=True)}


def unpacked(exact: Mapping[str, str]) -> dict[str, str]:
    """The links of an exact form."""
    return dict(json.loads(exact["links"]))
