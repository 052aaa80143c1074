"""Exact states as they come out of a journal.

Of every kind that an adapter knows, and what is none is kept as it stands.
"""

import importlib
from dataclasses import fields
from typing import Any

from lumtak.computers.hands.states import STATE_KINDS, Exact, Unknown, state_of

_REGISTRY = "lumtak.computers.linux.registry"
"""Brings the kinds that adapters define themselves; most are known without it."""


def recorded_state(said: Any) -> Exact:  # noqa: ANN401 - whatever a document holds
    """The state of a document.

    `Unknown` where it is none, so that it can be shown, and is refused by every computer.
    """
    if not (isinstance(said, dict) and str(said.get("kind")) in STATE_KINDS):
        importlib.import_module(_REGISTRY)
    try:
        return state_of(said)
    except ValueError:
        return Unknown(said)


def in_words(exact: object) -> list[str]:
    """Everything that a state says, a line each, for a person."""
    if not isinstance(exact, Exact):
        return []
    lines = [f"kind: {exact.kind}"]
    for name, value in (
        (f.name, getattr(exact, f.name)) for f in fields(exact) if f.name != "kind"
    ):
        match value:
            case dict():
                lines += [f"{name} {key}: {word or 'nothing'}" for key, word in value.items()]
            case bytes():
                lines.append(f"{name}: {value.decode('utf-8', 'replace') or 'nothing'}")
            case tuple():
                lines.append(f"{name}: {', '.join(map(str, value)) or 'nothing'}")
            case int() if name == "mode":
                lines.append(f"{name}: {value:o}")
            case _:
                lines.append(f"{name}: {value}" if value not in {None, ""} else f"{name}: nothing")
    return lines
