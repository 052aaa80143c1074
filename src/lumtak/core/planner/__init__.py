"""The planner: the least disruption that reaches the ceilings, and what each further step buys.

`disruption` says how much of a change the owner would notice, `problem` what a plan may hold and
has to reach, `solver` finds the least plan, `frontier` the best for each amount of disruption,
`planned` what is said of one.
"""

from lumtak.core.planner.disruption import LEVEL_WORDS, Level, level_of
from lumtak.core.planner.frontier import Point, frontier
from lumtak.core.planner.planned import Planned, planned, reaches_of
from lumtak.core.planner.problem import Choice, Goal, Problem, changes_of, problem_of
from lumtak.core.planner.solver import Solved, least

__all__ = [
    "LEVEL_WORDS",
    "Choice",
    "Goal",
    "Level",
    "Planned",
    "Point",
    "Problem",
    "Solved",
    "changes_of",
    "frontier",
    "least",
    "level_of",
    "planned",
    "problem_of",
    "reaches_of",
]
