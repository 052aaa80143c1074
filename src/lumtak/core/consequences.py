"""What a plan does to its owner, in few lines: by how much of it would be noticed, and by what is
needed afterwards.
"""

from collections.abc import Iterable, Mapping

from lumtak.core.plan import Plan, Step
from lumtak.core.planner.disruption import LEVEL_WORDS, Level
from lumtak.core.setting import SettingRef, Shows
from lumtak.core.text import capital
from lumtak.core.units import counted

_NAMED = 4
_TOLD: frozenset[Level] = frozenset({"function", "copies"})
"""Of these every one is named, with what stops."""
_NEEDED: dict[Shows, str] = {
    "login": "A new login is needed for",
    "restart": "A restart is needed for",
}


def consequences(plan: Plan, levels: Mapping[SettingRef, Level]) -> tuple[str, ...]:
    """Lines: what is noticed, the worst first; then what is needed afterwards.

    Args:
        plan: what is to be carried out.
        levels: how much of each change the owner would notice.
    """
    lines = []
    for level in reversed(LEVEL_WORDS):
        mine = [s for s in plan.steps if levels.get(s.change.ref, "function") == level]
        if not mine:
            continue
        words = LEVEL_WORDS[level]
        head = f"{capital(words)} ({len(mine)})"
        if level in _TOLD:
            lines += [f"{head}:", *(f"  {_with_loss(s)}" for s in mine)]
        else:
            lines.append(f"{head}: {_names(mine)}")
    needed = [
        f"{words} {counted(len(mine), 'of these', 'of these')}: {_names(mine)}."
        for shows, words in _NEEDED.items()
        if (mine := [s for s in plan.steps if s.shows == shows])
    ]
    return (*lines, "", *(needed or ["Everything takes effect immediately."]))


def _with_loss(step: Step) -> str:
    """A change with what stops."""
    stops = f": {', '.join(step.stops)}" if step.stops else ""
    return f"{step.title}{stops}"


def _names(steps: Iterable[Step]) -> str:
    titles = [s.title for s in steps]
    more = len(titles) - _NAMED
    return ", ".join(titles[:_NAMED]) + (f" and {more} more" if more > 0 else "")
