"""A capture: facts and a reading in one file, to be looked at elsewhere.

Names of people and computers replaced unless asked.
"""

import re
from pathlib import Path
from typing import Any

import msgspec

from lumtak.core.facts import Facts
from lumtak.core.reading import Reading
from lumtak.core.record import Record, json_document
from lumtak.formats.readings import decode_file
from lumtak.formats.surveys import without_names
from lumtak.storage import read_handed_in

FORMAT = 1
_LARGEST = 64 << 20
_USER, _HOST = "user", "computer"
_SHORTEST = 3


class Capture(Record):
    """What a computer was and did at one time."""

    format: int = FORMAT
    facts: Facts
    reading: Reading | None = None
    names_replaced: bool
    """Whether the user's and the computer's names were replaced."""


def make_capture(facts: Facts, reading: Reading | None, *, names: bool) -> Capture:
    """The capture; with `names` as they are, else with the user's and the host's replaced wherever
    they stand.

    Command-line arguments are never in it: facts hold names of programs only.
    """
    if facts.survey is not None:
        # What the owner's files are called is nobody's business, whatever names are kept.
        facts = msgspec.structs.replace(facts, survey=without_names(facts.survey))
    if names:
        return Capture(facts=facts, reading=reading, names_replaced=False)
    users = {facts.system.user}
    if isinstance(facts.system.users, tuple):
        users |= set(facts.system.users)
    words = {facts.name: _HOST} | {
        name: f"{_USER}{n or ''}" for n, name in enumerate(sorted(users))
    }
    document: Any = msgspec.to_builtins(Capture(facts=facts, reading=reading, names_replaced=True))
    return msgspec.convert(_replaced(document, _pattern(words), words), Capture)


def _pattern(words: dict[str, str]) -> re.Pattern[str]:
    long = [w for w in words if len(w) >= _SHORTEST]
    return re.compile(
        "|".join(rf"(?<![\w-]){re.escape(w)}(?![\w-])" for w in sorted(long, key=len, reverse=True))
        or r"(?!)"
    )


def _replaced(value: Any, pattern: re.Pattern[str], words: dict[str, str], key: str = "") -> Any:  # noqa: ANN401 - JSON
    if isinstance(value, str):
        if key in {"user", "users", "name"} and value in words:
            return words[value]
        return (
            value
            if key in {"address", "identity", "kind"}
            else pattern.sub(lambda m: words[m[0]], value)
        )
    if isinstance(value, dict):
        return {k: _replaced(v, pattern, words, k) for k, v in value.items()}
    if isinstance(value, list | tuple):
        return [_replaced(v, pattern, words, key) for v in value]
    return value


def to_json(capture: Capture) -> bytes:
    """The file's content."""
    return json_document(capture)


def load_capture(path: Path) -> Capture:
    """The capture in a file.

    Raises:
        BadFileError: it is none, is cut short, is too large, or was written by a newer Lumtak.
    """
    data = read_handed_in(path, _LARGEST, "capture")
    return decode_file(
        data, path, Capture, "capture", FORMAT, "Capture the computer again, or name another file."
    )
