"""Disruption: how much of a change the owner would notice or miss, in words and as a number."""

from typing import Literal

from lumtak.core.audit import Finding
from lumtak.core.catalogue import COPIES, Role
from lumtak.core.profile import Scale

Level = Literal["nothing", "slower", "convenience", "function", "copies"]
LEVEL_WORDS: dict[Level, str] = {
    "nothing": "nothing noticed",
    "slower": "slower at first use",
    "convenience": "a convenience goes",
    "function": "a function goes",
    "copies": "copies of the owner's data stop",
}


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


LATELY_DAYS, LONG_AGO_DAYS = 14.0, 120.0
"""Who used something that lately would miss it more; who has not for so long, less."""
_BY_SORT: dict[str, Level] = {"cache": "slower", "trash": "convenience", "own": "convenience"}
"""Clutter: caches refill, of what the owner threw away something may be missed."""
_MILDER: dict[Level, Level] = {"function": "convenience", "convenience": "nothing"}


def level_of(finding: Finding, role: Role | None, used_days: float | None = None) -> Level:
    """How much of the proposed change the owner would notice.

    From what is known of its role, the value proposed, what the owner said, and how long ago they
    last used it.

    Args:
        finding: with the change that it proposes.
        role: of the item; None where it is not known.
        used_days: days since it was last used; None where nothing tells.
    """
    if finding.pile is not None:
        return _BY_SORT.get(finding.pile.sorts, "nothing")
    level = _by_knowledge(finding, role)
    if used_days is None or level not in _MILDER:
        return level
    if used_days <= LATELY_DAYS:
        return "function"
    if used_days >= LONG_AGO_DAYS:
        return _MILDER[level]
    return level


def _by_knowledge(finding: Finding, role: Role | None) -> Level:
    if role is not None and role.loses in COPIES:
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
