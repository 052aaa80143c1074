"""What is said of a plan: its changes, what it reaches and misses, and what would close the gap."""

import math

import msgspec

from lumtak.core.bottleneck import Bottleneck
from lumtak.core.planner.frontier import nearest
from lumtak.core.planner.model import Clock, no_clock
from lumtak.core.planner.problem import Choice, Goal, Problem
from lumtak.core.planner.solver import BUDGET_S, Solved, disruption_of, least, needs_of
from lumtak.core.record import Record
from lumtak.core.setting import Shows, latest
from lumtak.core.units import counted, ram

_QUANTITY = {"cpu": "CPU", "ram": "RAM"}


class Reach(Record):
    """A load and its ceiling, with the plan."""

    quantity: str
    """cpu, ram."""
    now: float
    """Percentage points; bytes."""
    planned: float
    half: float
    """Half the 95 % interval of what is planned."""
    ceiling: float

    @property
    def misses(self) -> float:
        """By how much it stays over its ceiling, as planned; 0 where it does not."""
        return max(0.0, self.planned - self.ceiling)

    @property
    def words(self) -> str:
        """For a person."""
        if self.quantity == "cpu":
            now, planned, ceiling = (f"{v:.1f} %" for v in (self.now, self.planned, self.ceiling))
            half = f"{self.half:.1f}"
            over = f"{self.misses:.1f} points"
        else:
            now, planned, ceiling = ram(self.now), ram(self.planned), ram(self.ceiling)
            half, over = ram(self.half), ram(self.misses)
        end = f"{over} over its ceiling of" if self.misses else "under its ceiling of"
        return f"{_QUANTITY[self.quantity]} {now} → {planned} ± {half}, {end} {ceiling}"


class Planned(Record):
    """The least plan, or the best there is."""

    goal: Goal
    confidence: float
    changes: tuple[Choice, ...]
    chosen: tuple[int, ...]
    """Places of them in the problem."""
    disruption: int
    owed: Shows
    reaches: tuple[Reach, ...]
    """CPU and RAM, whatever the goal."""
    reached: bool
    """Whether the goal is reached with that confidence."""
    proven: bool
    gap: float = 0.0
    why: str = ""
    """Why it is not proven."""
    answers: tuple[str, ...] = ()
    """Titles of what the owner would have to be asked about, to reach it or to come nearer."""
    closes: bool = False
    """Whether those answers would reach it."""
    lasting: str = ""
    """What else would, where no setting does."""
    unprojected: tuple[str, ...] = ()
    """What may help too, though nothing tells by how much: title and change."""

    @property
    def headline(self) -> str:
        """One sentence."""
        if not self.changes and self.reached:
            return "Nothing has to be changed: what counts is under its ceiling already."
        many = counted(len(self.changes), "change")
        if self.reached:
            beaten = (
                "" if self.proven else f"; that nothing less would do is not proven: {self.why}"
            )
            verb = "reaches" if len(self.changes) == 1 else "reach"
            return f"{many} {verb} it, the least disruption that does ({self.disruption}){beaten}."
        if not self.changes:
            return f"Nothing that may be changed comes nearer: {self._missed}."
        return f"No plan reaches it; the best is {many}: {self._missed}."

    @property
    def in_short(self) -> str:
        """The same for a screen that shows the changes and what they reach."""
        if not self.changes or (self.reached and not self.proven):
            return self.headline
        if self.reached:
            return f"The least disruption that reaches both ceilings ({self.disruption})."
        return "No plan reaches both ceilings; this one comes nearest."

    @property
    def _missed(self) -> str:
        """What stays over its ceiling, of what counts."""
        counts = {"cpu", "ram"} if self.goal == "both" else {self.goal}
        over = [r.words for r in self.reaches if r.quantity in counts and r.misses]
        return " and ".join(over) or "it is reached, but not so surely"


def planned(
    problem: Problem,
    goal: Goal = "both",
    *,
    confidence: float = 0.9,
    bottleneck: Bottleneck | None = None,
    budget_s: float = BUDGET_S,
    clock: Clock = no_clock,
) -> Planned:
    """The least plan for a goal; where none reaches it the one that comes nearest, and what would
    close the gap.

    Args:
        problem: what is to be planned.
        goal: which ceilings count.
        confidence: with which each is to be kept.
        bottleneck: what holds the computer back, and what no setting will mend.
        budget_s: for the solver.
        clock: of the caller.
    """
    found = least(problem, goal, confidence=confidence, budget_s=budget_s, clock=clock)
    if found.chosen is not None:
        return _of(problem, goal, confidence, found, found.chosen)
    best = nearest(problem, goal, problem.free)
    every = tuple(range(len(problem.choices)))
    asked = least(
        problem, goal, confidence=confidence, allowed=every, budget_s=budget_s, clock=clock
    )
    chosen = asked.chosen if asked.chosen is not None else nearest(problem, goal, every)
    answers = tuple(problem.choices[i].title for i in chosen if problem.choices[i].asks)
    solved = Solved(chosen=best, proven=found.proven, why=found.why)
    made = _of(problem, goal, confidence, solved, best)
    return msgspec.structs.replace(
        made,
        reached=False,
        answers=answers,
        closes=asked.chosen is not None,
        lasting=bottleneck.not_by_settings if bottleneck else "",
        unprojected=tuple(
            f"{c.title} ({c.change})"
            for i, c in enumerate(problem.choices)
            if not c.projected and i in problem.free and i not in best
        ),
    )


def _of(
    problem: Problem, goal: Goal, confidence: float, found: Solved, chosen: tuple[int, ...]
) -> Planned:
    mine = [problem.choices[i] for i in chosen]
    factor = math.prod(c.factor for c in mine)
    return Planned(
        goal=goal,
        confidence=confidence,
        changes=tuple(mine),
        chosen=chosen,
        disruption=disruption_of(problem, chosen),
        owed=latest(c.shows for c in mine),
        reaches=reaches_of(problem, chosen),
        reached=all(n.holds(chosen) for n in needs_of(problem, goal, confidence, factor)),
        proven=found.proven,
        gap=found.gap,
        why=found.why,
    )


def reaches_of(problem: Problem, places: tuple[int, ...]) -> tuple[Reach, ...]:
    """CPU and RAM with these changes, each with the interval in which a reading will find it."""
    chosen = [problem.choices[i] for i in places]
    cpu_left, ram_left = problem.left(places)
    factor = math.prod(c.factor for c in chosen)
    cpu_half = (
        _NORMAL
        * factor
        * math.sqrt(2 * problem.cpu_se_pct**2 + sum(c.cpu_se_pct**2 for c in chosen))
    )
    saved = sum(c.ram_bytes for c in chosen)
    chance = _NORMAL * math.sqrt(
        2 * problem.ram_se_bytes**2 + sum(c.ram_se_bytes**2 for c in chosen)
    )
    asked = _NORMAL * ON_DEMAND_SE * math.hypot(*(c.ram_bytes for c in chosen if c.on_demand))
    ram_half = math.hypot(chance, asked, min(problem.refill_half_bytes, saved))
    return (
        Reach(
            quantity="cpu",
            now=problem.cpu_pct,
            planned=cpu_left,
            half=cpu_half,
            ceiling=problem.cpu_ceiling_pct,
        ),
        Reach(
            quantity="ram",
            now=problem.ram_bytes,
            planned=ram_left,
            half=ram_half,
            ceiling=problem.ram_ceiling_bytes,
        ),
    )


_NORMAL = 1.96
ON_DEMAND_SE = 0.1
"""Of what starts on demand it may be asked for while the next reading is taken: seldom, but often
enough for an interval that is to hold nineteen times in twenty. Set by carrying out plans."""
