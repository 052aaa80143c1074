"""The classes of clutter as a hand knows them, from their file: data/clutter.toml.

A hand is sent what stands here as text of Python (`as_code`), and none of this file.
"""

import tomllib
from importlib.resources import files
from typing import Any

from lumtak.computers.hands.sent.clutter.rules import Rule


def _shipped() -> tuple[Rule, ...]:
    """Every class, of its keys those that say what is in it."""
    text = (files("lumtak") / "data" / "clutter.toml").read_text(encoding="utf-8")
    said: list[dict[str, Any]] = tomllib.loads(text)["class"]
    return tuple(Rule(**{n: _whole(one[n]) for n in Rule._fields if n in one}) for one in said)


def _whole(value: Any) -> Any:
    return tuple(value) if isinstance(value, list) else value


RULES: tuple[Rule, ...] = _shipped()


def as_code() -> str:
    """This module as a hand gets it."""
    return f"from lumtak.computers.hands.sent.clutter.rules import Rule\nRULES = {RULES!r}\n"
