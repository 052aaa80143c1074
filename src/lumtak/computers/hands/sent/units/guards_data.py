"""What is guarded, from the knowledge that ships: data/knowledge/*.toml.

A hand is sent what stands here as text of Python (`as_code`), and none of those files. The order is
that of the catalogue: names before packages before programs and patterns, what is guarded before
what is not, what a name alone says last.
"""

import tomllib
from importlib.resources import files
from typing import Any

_Found = dict[str, str]


def _shipped() -> tuple[_Found, _Found, _Found, tuple[tuple[str, str], ...]]:
    """(units, packages, programs, patterns): each with the title of its guard, or nothing."""
    folder = files("lumtak") / "data" / "knowledge"
    texts = [
        file.read_text(encoding="utf-8")
        for file in sorted(folder.iterdir(), key=lambda f: f.name)
        if file.name.endswith(".toml")
    ]
    roles: list[dict[str, Any]] = [r for text in texts for r in tomllib.loads(text)["role"]]
    roles.sort(key=lambda r: (r.get("likely", False), not r.get("guarded", False)))
    kinds: list[_Found] = []
    for kind in ("units", "packages", "programs"):
        found: _Found = {}
        for role in roles:
            for name in role.get(kind, ()):
                found.setdefault(name.lower(), _guard(role))
        kinds.append(found)
    patterns = tuple((p, _guard(role)) for role in roles for p in role.get("match", ()))
    return kinds[0], kinds[1], kinds[2], patterns


def _guard(role: dict[str, Any]) -> str:
    return str(role["title"]) if role.get("guarded") else ""


UNITS, PACKAGES, PROGRAMS, PATTERNS = _shipped()


def as_code() -> str:
    """This module as a hand gets it."""
    kinds = {"UNITS": UNITS, "PACKAGES": PACKAGES, "PROGRAMS": PROGRAMS, "PATTERNS": PATTERNS}
    return "".join(f"{name} = {value!r}\n" for name, value in kinds.items())
