"""JSON Schemas of the file formats, from the records themselves: `make schemas`."""

import argparse
from dataclasses import fields
from pathlib import Path
from typing import Any

import msgspec

from lumtak.computers.hands.sent.states.states import STATE_KINDS
from lumtak.core.clutter import Survey
from lumtak.core.profile import Profile
from lumtak.core.reading import Reading
from lumtak.core.setting import Exact
from lumtak.core.settings import Settings
from lumtak.core.trial.record import Screening, Trial
from lumtak.formats.capture import Capture
from lumtak.formats.plans import PlanFile
from lumtak.journal import Entry
from lumtak.report.content import Content

_PARTS: dict[str, dict[str, Any]] = {
    "str": {"type": "string"},
    "int": {"type": "integer"},
    "bool": {"type": "boolean"},
    "bytes": {"type": "string", "contentEncoding": "base64"},
    "Mapping[str, str]": {"type": "object", "additionalProperties": {"type": "string"}},
    "Tuple[int, ...]": {"type": "array", "items": {"type": "integer"}},
    "Tuple[str, ...]": {"type": "array", "items": {"type": "string"}},
    "Any": {},
}
FORMATS = {
    "profile": Profile,
    "reading": Reading,
    "job": Content,
    "change": Entry,
    "capture": Capture,
    "plan": PlanFile,
    "settings": Settings,
    "survey": Survey,
    "trial": Trial,
    "screening": Screening,
}


def _part(form: str) -> dict[str, Any]:
    """The schema of one field of an exact state."""
    inner = form[len("Optional[") : -1] if form.startswith("Optional[") else ""
    return {"anyOf": [_PARTS[inner], {"type": "null"}]} if inner else _PARTS[form]


def exact_states(kind: type) -> dict[str, Any]:
    """The schema of all kinds of exact states."""
    if kind is not Exact:
        raise NotImplementedError
    found = []
    for name, state in sorted(STATE_KINDS.items()):
        parts = {f.name: _part(str(f.type)) for f in fields(state) if f.init}
        properties = {"kind": {"const": name}, **parts}
        found.append(
            {
                "type": "object",
                "properties": properties,
                "required": [*properties],
                "additionalProperties": False,
            }
        )
    return {"anyOf": found}


def main() -> None:
    """Write one schema a format."""
    parser = argparse.ArgumentParser(description=main.__doc__)
    parser.add_argument("folder", type=Path, help="where the schemas stand")
    target = parser.parse_args().folder
    for name, record in FORMATS.items():
        schema = {
            "$schema": "https://json-schema.org/draft/2020-12/schema",
            **msgspec.json.schema(record, schema_hook=exact_states),
        }
        (target / f"{name}.schema.json").write_bytes(
            msgspec.json.format(msgspec.json.encode(schema), indent=1) + b"\n"
        )


if __name__ == "__main__":
    main()
