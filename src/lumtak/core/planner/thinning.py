"""A plan found by hand, for when the time is up: everything that may go, less whatever can be left
again.
"""

from collections.abc import Iterable, Sequence
from typing import Protocol

from lumtak.core.planner.model import Model


class Need(Protocol):
    """A load that has to come down."""

    def holds(self, chosen: Iterable[int]) -> bool:
        """Whether a plan brings it down."""
        ...


def thinned(model: Model, needs: Sequence[Need]) -> tuple[int, ...]:
    """What is left of everything that may go; the most disruptive is tried first.

    Args:
        model: says what may go, and what has to.
        needs: all of them hold with everything.
    """
    choices = model.problem.choices
    mine = {i for i in range(model.count) if model.upper[i]}
    needed_by = _needed_by(model, mine)
    for i in sorted(mine, key=lambda i: (-choices[i].disruption, choices[i].cpu_pct, i)):
        gone = _with_all_that_needs(i, needed_by, mine)
        if any(model.lower[j] for j in gone):
            continue
        if all(need.holds(mine - gone) for need in needs):
            mine -= gone
    return tuple(sorted(mine))


def _needed_by(model: Model, mine: Iterable[int]) -> dict[int, list[int]]:
    """What cannot be chosen without each."""
    found: dict[int, list[int]] = {}
    for i in mine:
        for other in model.problem.choices[i].with_it:
            found.setdefault(other, []).append(i)
    return found


def _with_all_that_needs(place: int, needed_by: dict[int, list[int]], mine: set[int]) -> set[int]:
    """A choice and whatever cannot be chosen without it; nothing where it is gone already."""
    gone, todo = {place} & mine, [place]
    while todo:
        further = [j for j in needed_by.get(todo.pop(), ()) if j in mine and j not in gone]
        gone.update(further)
        todo += further
    return gone
