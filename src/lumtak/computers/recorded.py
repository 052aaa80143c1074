"""Exact states as they come out of a journal.

Of every kind that an adapter knows, and what is none is kept as it stands.
"""

import importlib
from dataclasses import fields
from typing import Any

import msgspec

from lumtak.computers.hands.sent.states.states import STATE_KINDS, Exact, Unknown, state_of

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


def channel_state(said: Any, setting: str) -> dict[str, Any] | None:  # noqa: ANN401 - whatever a document holds
    """The document of a property of a channel, from that of the channel's whole file, as journals
    had it.

    None where it is no such file, or holds no setting of this name.
    """
    from lumtak.computers.linux.effect_channels import property_of_file

    try:
        state = state_of(said)
    except ValueError:
        return None
    made = property_of_file(state, setting)
    return None if made is None else msgspec.to_builtins(made)


def in_words(exact: object) -> list[str]:
    """Everything that a state says, a line each, for a person."""
    if not isinstance(exact, Exact):
        return []
    lines = [f"kind: {exact.kind}"]
    for name in (f.name for f in fields(exact) if f.name != "kind"):
        value = getattr(exact, name)
        if isinstance(value, dict):
            lines += [f"{name} {key}: {word or 'nothing'}" for key, word in value.items()]
        else:
            lines.append(f"{name}: {_in_words(name, value) or 'nothing'}")
    return lines


def _in_words(name: str, value: Any) -> str:  # noqa: ANN401 - whatever a record holds
    match value:
        case None:
            return ""
        case bytes():
            return value.decode("utf-8", "replace")
        case tuple():
            return ", ".join(map(str, value))
        case int() if name == "mode":
            return f"{value:o}"
    return str(value)
