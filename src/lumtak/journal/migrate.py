"""Records of the journal that an older Lumtak wrote, brought to this version's form.

One step a version, each from the one before.
"""

import re
from collections.abc import Callable
from typing import Any

from lumtak.computers.hands.sent.states.states import unit_name
from lumtak.computers.recorded import channel_state

Document = dict[str, Any]


def migrated(record: Document, written: int, wanted: int) -> Document:
    """The document as this version writes it.

    Args:
        record: as it was written; not yet known to be a record.
        written: its version.
        wanted: the version to bring it to.
    """
    for version in range(written, wanted):
        record = {**_STEPS[version](record), "format": version + 1}
    return record


def _to_2(record: Document) -> Document:
    """What notes alone said in version 1 are fields."""
    note = str(record.get("note", ""))
    over = re.fullmatch(r"taken over by change ([0-9]+)", note)
    return {**record, "rescued": note == "rescued", "taken_over_by": int(over[1]) if over else 0}


def _to_3(record: Document) -> Document:
    """Exact states are records of their kind.

    What stood around them is in them, or in the change.
    """
    around = _dict(_dict(record.get("before")).get("around"))
    unit = unit_name(str(_dict(record.get("ref")).get("key")))
    states: Document = {
        name: _state_3(record[name], unit)
        for name in ("before", "restore", "expected", "after")
        if name in record
    }
    return {**record, **states, "script_made": _number(around.get("undo_missing"))}


def _to_4(record: Document) -> Document:
    """What stood in the file of a channel is a property, and no longer a whole file."""
    key = str(_dict(record.get("ref")).get("key"))
    states: Document = {
        name: {**record[name], "exact": made}
        for name in ("before", "restore", "expected", "after")
        if (made := channel_state(_dict(record.get(name)).get("exact"), key)) is not None
    }
    return {**record, **states}


def _to_5(record: Document) -> Document:
    """A stage more, which no older record has."""
    return record


def _to_6(record: Document) -> Document:
    """People called a change by its place in the journal."""
    return {**record, "number": record.get("id")}


_STEPS: dict[int, Callable[[Document], Document]] = {
    1: _to_2,
    2: _to_3,
    3: _to_4,
    4: _to_5,
    5: _to_6,
}


# -- version 3: states -----------------------------------------------------------------------------

_PART = "part:"
_LIVE, _BYTES, _LINK = f"{_PART}live", f"{_PART}bytes", f"{_PART}link"
_OWN, _OLD = f"{_PART}own ", f"{_PART}old "


def _state_3(state: Any, unit: str) -> Any:  # noqa: ANN401 - a document before it is known to be a record
    if not isinstance(state, dict) or not isinstance(state.get("exact"), dict):
        return {"value": state.get("value"), "exact": None} if isinstance(state, dict) else state
    exact = state["exact"]
    make = _EXACT_3.get(str(exact.get("kind")))
    try:
        made = (
            exact
            if make is None
            else {
                "kind": exact["kind"],
                **make({"unit": unit, **_dict(state.get("around")), **exact}),
            }
        )
    except (KeyError, ValueError, TypeError, AttributeError):
        made = exact  # it lacks a part, or one cannot be read: it stays as it is, and is refused
    return {"value": state.get("value"), "exact": made}


def _dict(said: Any) -> Document:  # noqa: ANN401 - a document before it is known to be a record
    return said if isinstance(said, dict) else {}


def _number(said: object) -> int:
    return int(said) if isinstance(said, str) and re.fullmatch(r"[0-9]{1,3}", said) else 0


def _place(said: Document) -> Document:
    return {"folder": said["folder"], "name": said["file"], "missing": _number(said.get("missing"))}


def _links(said: Document) -> Document:
    links = {
        name.removeprefix(_PART): target for name, target in said.items() if name.startswith(_PART)
    }
    active = {"yes": True, "no": False}.get(str(said.get("active")))
    return {"unit": said["unit"], "links": links, "active": active}


def _sysctl(said: Document) -> Document:
    name = said["kernel"].removeprefix("/proc/sys/vm/")
    return {"name": name, "live": said[_LIVE], "kept": said[_BYTES] or None}


def _clock(said: Document) -> Document:
    policies = {
        n.removeprefix(_PART): words for n, words in said.items() if n.startswith(f"{_PART}policy")
    }
    return {"policies": policies, "kept": said[_BYTES] or None, "link": said[_LINK] or None}


def _swap(said: Document) -> Document:
    own = [name.removeprefix(_OWN).split() for name in said if name.startswith(_OWN)]
    old = [(name.removeprefix(_OLD), word) for name, word in said.items() if name.startswith(_OLD)]
    units = {
        to: sorted(unit for unit, has in old if has == word)
        for word, to in (("masked", "masked"), ("on", "used"))
    }
    sizes = {word: sorted(int(mib) for mib, has in own if has == word) for word in ("kept", "on")}
    return {**sizes, **units}


_EXACT_3: dict[str, Callable[[Document], Document]] = {
    "absent": _place,
    "file": lambda said: {**_place(said), "mode": int(said["mode"], 8), "data": said["bytes"]},
    "link": lambda said: {**_place(said), "target": said["target"]},
    "links": _links,
    "sysctl": _sysctl,
    "clock": _clock,
    "swap": _swap,
    "property": lambda said: {"bus": said["bus"], "plan": said["value"]},
}
"""By the kind; those that are not here have the form of version 3 already."""
