"""Disruption: how much of a change the owner would notice or miss, in words and as a number."""

from typing import Literal

from lumtak.core.audit import Finding
from lumtak.core.catalogue import Role
from lumtak.core.profile import Scale

Level = Literal["nothing", "slower", "convenience", "function", "copies"]
LEVEL_WORDS: dict[Level, str] = {
    "nothing": "nothing noticed",
    "slower": "slower at first use",
    "convenience": "a convenience goes",
    "function": "a function goes",
    "copies": "copies of the owner's data stop",
}
_COPIES = {"sync", "backup"}
"""What is lost of the owner's data, in the words of the catalogue."""


def number_of(scale: Scale, level: Level) -> int:
    """What a level counts."""
    numbers: dict[Level, int] = {
        "nothing": scale.nothing,
        "slower": scale.slower,
        "convenience": scale.convenience,
        "function": scale.function,
        "copies": scale.copies,
    }
    return numbers[level]


def level_of(finding: Finding, role: Role | None) -> Level:
    """How much of the proposed change the owner would notice.

    From what is known of its role, the value proposed, and what the owner said.
    """
    if role is not None and role.loses in _COPIES:
        return "copies"
    if finding.area in {"power", "memory"} or finding.answer == "not needed":
        return "nothing"
    if finding.proposal == "demand":
        return "slower"
    if finding.area == "effects":
        return "convenience"
    if role is None or role.ask or role.loses or role.serves == "others":
        return "function"
    return role.missed or "convenience"


def needs_a_yes(finding: Finding, level: Level) -> bool:
    """Whether it is never planned without the owner's word: what is to be asked, and what stops
    copies of their data.
    """
    return finding.stance == "ask" or (level == "copies" and finding.answer != "not needed")
