"""The frontier: for each amount of disruption, from nothing to everything that may go, the plan
that leaves the least of what is too much.

How much is too much is a shortfall, relative to its ceiling: the larger of both is made as small as
can be, then their sum, then the disruption, then the number of changes.
"""

import math
from collections.abc import Iterable

import msgspec

from lumtak.core.planner.model import Clock, Model, Row, no_clock, power_plans, with_plan
from lumtak.core.planner.problem import Goal, Problem
from lumtak.core.planner.solver import disruption_of
from lumtak.core.record import Record

BUDGET_S = 3.0
_STEPS = 24
"""A step buys at least so great a part of all that can be bought; smaller ones are one with the
next."""
_EXACT = 1e-6
_NO_CEILING = 1e9


class Point(Record):
    """The best plan for an amount of disruption."""

    disruption: int
    chosen: tuple[int, ...]
    """Places of its changes."""
    cpu_pct: float
    """What is left, as far as can be told beforehand."""
    ram_bytes: float
    shortfall: float
    """The larger of both, as a share of its ceiling; 0 where both are kept."""
    gone: tuple[int, ...] = ()
    """Changes of the point before that this one does without."""
    proven: bool = True


def frontier(
    problem: Problem,
    *,
    allowed: Iterable[int] | None = None,
    budget_s: float = BUDGET_S,
    clock: Clock = no_clock,
) -> tuple[Point, ...]:
    """The points in order of disruption; at least the one where nothing is changed.

    Args:
        problem: what is to be planned.
        allowed: places of what may be chosen; else what takes no answer of the owner.
        budget_s: for all of it; then those that were found.
        clock: of the caller.
    """
    may = tuple(problem.free if allowed is None else allowed)
    search = _Search(problem, may, clock() + budget_s, clock)
    everything = search.best(math.inf)
    points = [search.point(search.best(0.0) or ())]
    if everything is None:
        return tuple(points)
    lowest = search.shortfall(everything)
    step = max(_EXACT, (points[0].shortfall - lowest) / _STEPS)
    while points[-1].shortfall > lowest + _EXACT and not search.late:
        chosen = search.next_below(max(lowest, points[-1].shortfall - step))
        if chosen is None or search.shortfall(chosen) >= points[-1].shortfall - _EXACT:
            break
        points.append(search.point(chosen, points[-1]))
    further = _everything(search, problem, points[-1])
    return (*points, further) if further else tuple(points)


def _everything(search: "_Search", problem: Problem, last: Point) -> Point | None:
    """Everything that may go, where that is more than the last point holds."""
    choices = problem.choices
    every = tuple(i for i in search.may if choices[i].cpu_pct or choices[i].ram_bytes)
    plans = power_plans(problem, every)
    if set(every) <= set(last.chosen) or not problem.is_whole(every) or len(plans) > 1:
        return None
    point = search.point(every, last)
    return point if point.disruption >= last.disruption else None


def nearest(problem: Problem, goal: Goal, may: tuple[int, ...]) -> tuple[int, ...]:
    """The plan that leaves least over the ceilings of a goal, and of those the least."""
    left_out = {
        "cpu": {"ram_ceiling_pct": _NO_CEILING},
        "ram": {"cpu_ceiling_pct": _NO_CEILING},
        "both": {},
    }[goal]
    asked = msgspec.structs.replace(problem, **left_out)
    return _Search(asked, may, BUDGET_S, no_clock).best(math.inf) or ()


class _Search:
    """Programs over one problem.

    Args:
        problem: what is to be planned.
        may: places of what may be chosen.
        until_s: when it is given up, on the clock.
        clock: of the caller.
    """

    def __init__(
        self, problem: Problem, may: tuple[int, ...], until_s: float, clock: Clock
    ) -> None:
        self._problem, self._until_s, self._clock = problem, until_s, clock
        self.may = may
        self._models = [
            (
                with_plan(problem, may, plan, extra=3, clock=clock),
                1.0 if plan is None else problem.choices[plan].factor,
            )
            for plan in (None, *power_plans(problem, may))
        ]

    @property
    def late(self) -> bool:
        """Whether the time is up."""
        return self._clock() >= self._until_s

    def next_below(self, shortfall: float) -> tuple[int, ...] | None:
        """The best plan for the least disruption with which the shortfall is at most this."""
        budget = self.cheapest(shortfall)
        return None if budget is None else self.best(budget)

    def shortfalls(self, chosen: Iterable[int]) -> tuple[float, float]:
        """Of both, as shares of their ceilings."""
        cpu, ram = self._problem.left(chosen)
        return (
            max(0.0, cpu / self._problem.cpu_ceiling_pct - 1),
            max(0.0, ram / self._problem.ram_ceiling_bytes - 1),
        )

    def shortfall(self, chosen: Iterable[int]) -> float:
        """The larger of both."""
        return max(self.shortfalls(chosen))

    def point(self, chosen: tuple[int, ...], before: Point | None = None) -> Point:
        """A point of the frontier."""
        cpu, ram = self._problem.left(chosen)
        return Point(
            disruption=disruption_of(self._problem, chosen),
            chosen=chosen,
            cpu_pct=cpu,
            ram_bytes=ram,
            shortfall=self.shortfall(chosen),
            gone=tuple(i for i in before.chosen if i not in chosen) if before else (),
            proven=not self.late,
        )

    def best(self, budget: float) -> tuple[int, ...] | None:
        """The plan with the least shortfall that disrupts at most so much; then the least sum of
        both, the least disruption, the fewest changes.
        """
        found: list[tuple[tuple[float, ...], tuple[int, ...]]] = []
        for model, factor in self._models:
            larger, cpu, ram = range(model.columns - 3, model.columns)
            rows = self._shortfall_rows(model, factor)
            disruption = model.disruption()
            if budget < math.inf:
                rows.append(Row(-math.inf, disruption, budget + 0.5))
            first = model.solve({larger: 1.0}, rows, self._until_s)
            if first.values is None:
                continue
            at_most = first.values[larger] + _EXACT
            rows.append(Row(-math.inf, {larger: 1.0}, at_most))
            # What is added up here is scaled so that none of it outweighs what comes before it.
            least = 1.0 / (1.0 + sum(disruption.values()))
            costs = {cpu: 1e3, ram: 1e3}
            costs |= {column: least * d for column, d in disruption.items()}
            for i in range(model.count):
                costs[i] = costs.get(i, 0.0) + least / (model.count + 1)
            second = model.solve(costs, rows, self._until_s)
            values = second.values or first.values
            chosen = model.chosen(values)
            key = (
                round(self.shortfall(chosen), 5),
                round(sum(self.shortfalls(chosen)), 5),
                float(disruption_of(self._problem, chosen)),
                float(len(chosen)),
            )
            found.append((key, chosen))
        return min(found)[1] if found else None

    def cheapest(self, shortfall: float) -> float | None:
        """The least disruption with which the shortfall is at most this; None where none is."""
        found = []
        for model, factor in self._models:
            larger = model.columns - 3
            rows = self._shortfall_rows(model, factor)
            rows.append(Row(-math.inf, {larger: 1.0}, shortfall + _EXACT / 2))
            answer = model.solve(model.disruption(), rows, self._until_s, offset=0.5)
            if answer.values is not None:
                chosen = model.chosen(answer.values)
                found.append(float(disruption_of(self._problem, chosen)))
        return min(found, default=None)

    def _shortfall_rows(self, model: Model, factor: float) -> list[Row]:
        """Each shortfall is at least what a plan leaves, and the larger at least each of them."""
        problem = self._problem
        larger, cpu, ram = range(model.columns - 3, model.columns)
        ceiling = problem.ram_ceiling_bytes
        by_cpu = factor / problem.cpu_ceiling_pct
        saves_cpu = {i: by_cpu * c.cpu_pct for i, c in enumerate(problem.choices)}
        saves_ram = {i: c.ram_bytes / ceiling for i, c in enumerate(problem.choices)}
        return [
            Row(by_cpu * problem.cpu_pct - 1, {**saves_cpu, cpu: 1.0}),
            Row((problem.ram_bytes + problem.refill_bytes) / ceiling - 1, {**saves_ram, ram: 1.0}),
            Row(0.0, {larger: 1.0, cpu: -1.0}),
            Row(0.0, {larger: 1.0, ram: -1.0}),
        ]
