"""The least plan that reaches its goal: a small integer program, solved by HiGHS.

Uncertainties add in quadrature, which no linear program can say: a load has to come down by the sum
of what is saved less z times the root of a variance, and the variance is a sum over the changes
chosen. The root is concave in the variance, so between two variances it lies above the chord. The
program is solved with the chord over the whole range; where the plan found does not hold, the range
is cut in two at its variance, where the chords are exact then, and the program is solved again. No
plan is lost by a chord, so what holds at last is the optimum. (A tangent at the plan found would do
as well, but cuts off that one plan only: of thirty changes that are alike it would take a tangent
for each choice of ten of them.)

The least is the plan with the least disruption, of those the one with the fewest changes, of those
the one whose changes come first by address.
"""

import math
from collections.abc import Iterable, Sequence
from itertools import pairwise
from statistics import NormalDist
from typing import NamedTuple

from lumtak.core.planner.model import (
    Answered,
    Clock,
    Column,
    Model,
    Row,
    no_clock,
    power_plans,
    with_plan,
)
from lumtak.core.planner.problem import Goal, Problem
from lumtak.core.planner.thinning import thinned
from lumtak.core.record import Record

BUDGET_S = 2.0
_TOO_LATE = "the time was up before a plan was found that holds"
_NOT_PROVEN = "the time was up before it was proven that nothing less would do"
_RANKED = 400
"""With more choices ties are left as they are found: to break them is another program."""


class Solved(Record):
    """What the solver found."""

    chosen: tuple[int, ...] | None
    """Places of the changes; None where no plan reaches the goal, or none was found in time."""
    proven: bool
    """Whether nothing less reaches it, or nothing does at all."""
    gap: float = 0.0
    """By how much of its disruption the plan may at most be beaten; 0 where it is proven."""
    why: str = ""
    """Why there is none, or why it is not proven; a clause."""


class _Need(NamedTuple):
    """A load that has to come down: sum of savings - z · root(variance) >= least."""

    least: float
    saves: dict[int, float]
    variances: dict[int, float]
    base: float
    """Variance that is there whatever is chosen."""
    z: float

    def holds(self, chosen: Iterable[int]) -> bool:
        """Whether a plan brings it down."""
        mine = list(chosen)
        saved = sum(self.saves.get(i, 0.0) for i in mine)
        unsure = self.z * math.sqrt(self.variance(mine))
        return saved - unsure >= self.least - 1e-6 * max(1.0, abs(self.least))

    def variance(self, chosen: Iterable[int]) -> float:
        """Of what a plan leaves."""
        return self.base + sum(self.variances.get(i, 0.0) for i in chosen)


class _Chords:
    """The root of a need's variance, from below, by chords between some variances.

    Args:
        need: whose.
        may: places of what may be chosen.
    """

    def __init__(self, need: _Need, may: Iterable[int]) -> None:
        self.need = need
        self._ends = [need.base, need.variance(may)]

    def cut_at(self, variance: float) -> bool:
        """The chords are exact at this variance from now on; False where they were already."""
        least = 1e-12 * max(1.0, self._ends[-1])
        if any(abs(variance - end) <= least for end in self._ends):
            return False
        self._ends = sorted([*self._ends, variance])
        return True

    def rows(self, first: int) -> tuple[list[Row], list[Column]]:
        """(constraints, columns of their own) with these columns beginning at `first`.

        A piece is chosen (0 or 1), and holds the variance if it is.
        """
        need, ends = self.need, self._ends
        if need.z == 0 or ends[-1] - ends[0] <= 0:
            return [Row(need.least + need.z * math.sqrt(ends[0]), dict(need.saves))], []
        pieces = [(a, b) for a, b in pairwise(ends) if b > a]
        columns: list[Column] = []
        values = dict(need.saves)
        one: dict[int, float] = {}
        held = {i: -v for i, v in need.variances.items()}
        rows = []
        for number, (low, high) in enumerate(pieces):
            on, inside = first + 2 * number, first + 2 * number + 1
            columns += [Column(1.0, whole=True), Column(math.inf, whole=False)]
            slope = (math.sqrt(high) - math.sqrt(low)) / (high - low)
            values[on] = -need.z * (math.sqrt(low) - slope * low)
            values[inside] = -need.z * slope
            one[on], held[inside] = 1.0, 1.0
            rows.append(Row(0.0, {inside: 1.0, on: -low}))
            rows.append(Row(-math.inf, {inside: 1.0, on: -high}, 0.0))
        rows += [Row(1.0, one, 1.0), Row(need.base, held, need.base), Row(need.least, values)]
        return rows, columns


def needs_of(problem: Problem, goal: Goal, confidence: float, factor: float) -> list[_Need]:
    """What has to come down for a goal; empty where all is under its ceiling for sure.

    Args:
        problem: what is to be planned.
        goal: cpu, ram or both.
        confidence: with which each is to hold, 0.5 to below 1.
        factor: by what the percentage of CPU is multiplied.
    """
    z = NormalDist().inv_cdf(confidence)
    found = []
    # The reading now and the one that proves it are both unsure of their means.
    if goal in {"cpu", "both"}:
        found.append(
            _Need(
                least=problem.cpu_pct - problem.cpu_ceiling_pct / factor,
                saves={i: c.cpu_pct for i, c in enumerate(problem.choices) if c.cpu_pct},
                variances={i: c.cpu_se_pct**2 for i, c in enumerate(problem.choices) if c.cpu_pct},
                base=2 * problem.cpu_se_pct**2,
                z=z,
            )
        )
    if goal in {"ram", "both"}:
        by = problem.ram_total_bytes / 100.0
        found.append(
            _Need(
                least=_over(problem) / by,
                saves={i: c.ram_bytes / by for i, c in enumerate(problem.choices) if c.ram_bytes},
                variances={
                    i: (c.ram_se_bytes / by) ** 2
                    for i, c in enumerate(problem.choices)
                    if c.ram_bytes
                },
                base=2 * (problem.ram_se_bytes / by) ** 2,
                z=z,
            )
        )
    return found


def _over(problem: Problem) -> float:
    """By how much the memory has to come down, with what comes back from swap."""
    over = problem.ram_bytes - problem.ram_ceiling_bytes
    return over + problem.refill_bytes if over > 0 else over


def least(
    problem: Problem,
    goal: Goal = "both",
    *,
    confidence: float = 0.9,
    allowed: Iterable[int] | None = None,
    budget_s: float = BUDGET_S,
    clock: Clock = no_clock,
) -> Solved:
    """The plan with the least disruption that brings the loads under their ceilings.

    Args:
        problem: what is to be planned.
        goal: which ceilings count.
        confidence: with which each of them is to be kept.
        allowed: places of what may be chosen; else what takes no answer of the owner.
        budget_s: for all of it; then the best that was found, with how far from the best it can be.
        clock: of the caller.
    """
    until_s = clock() + budget_s
    may = tuple(problem.free if allowed is None else allowed)
    plans = power_plans(problem, may)
    found = []
    for plan in (None, *plans):
        factor = 1.0 if plan is None else problem.choices[plan].factor
        needs = needs_of(problem, goal, confidence, factor)
        found.append(_least_of(with_plan(problem, may, plan, clock=clock), needs, until_s))
    best = min(found, key=lambda solved: cost_of(problem, solved.chosen))
    if all(solved.proven for solved in found):
        return best
    gap = max(solved.gap for solved in found)
    why = next(solved.why for solved in found if not solved.proven)
    return Solved(chosen=best.chosen, proven=False, gap=gap, why=why)


def disruption_of(problem: Problem, chosen: Iterable[int]) -> int:
    """What a plan disrupts, what is owed after it counted once."""
    mine = [problem.choices[i] for i in chosen]
    owed = {"now": 0, "login": problem.scale.login, "restart": problem.scale.restart}
    return sum(c.disruption for c in mine) + max((owed[c.shows] for c in mine), default=0)


def cost_of(problem: Problem, chosen: tuple[int, ...] | None) -> float:
    """The same, and its changes counted as fractions; without end where there is none."""
    if chosen is None:
        return math.inf
    return disruption_of(problem, chosen) + len(chosen) / (len(problem.choices) + 1)


def _least_of(model: Model, needs: Sequence[_Need], until_s: float) -> Solved:
    """With the power plan settled."""
    fixed = tuple(i for i in range(model.count) if model.lower[i])
    if model.problem.is_whole(fixed) and all(need.holds(fixed) for need in needs):
        return Solved(chosen=fixed, proven=True)
    search = _Search(model, needs, until_s)
    step, costs = model.count + 1.0, _costs(model)
    answer, chosen = search.until_it_holds(costs)
    if not answer.feasible:
        return Solved(chosen=None, proven=True)
    if chosen is not None and answer.optimal:
        whole = step * cost_of(model.problem, chosen)
        return Solved(chosen=search.first_of(costs, whole, chosen), proven=True)
    return _unproven(model, needs, answer, chosen)


def _unproven(
    model: Model, needs: Sequence[_Need], answer: Answered, chosen: tuple[int, ...] | None
) -> Solved:
    """The better of what the solver found so far and of what is found by hand."""
    by_hand = thinned(model, needs) if _holds_at_most(model, needs) else None
    best = min((chosen, by_hand), key=lambda c: cost_of(model.problem, c))
    if best is None:
        return Solved(chosen=None, proven=False, why=answer.failed or _TOO_LATE)
    cost = (model.count + 1.0) * cost_of(model.problem, best)
    return Solved(
        chosen=best,
        proven=False,
        gap=_gap(cost, answer.bound),
        why=answer.failed or _NOT_PROVEN,
    )


def _costs(model: Model) -> dict[int, float]:
    """Disruption, and after that how many changes: by column."""
    costs = {i: (model.count + 1.0) * d for i, d in model.disruption().items()}
    return costs | {i: costs[i] + 1.0 for i in range(model.count)}


def _gap(cost: float, bound: float) -> float:
    """By how much of its cost a plan may at most be beaten."""
    if not cost or not math.isfinite(bound):
        return 1.0
    return min(max(0.0, (cost - bound) / cost), 1.0)


def _holds_at_most(model: Model, needs: Sequence[_Need]) -> bool:
    """Whether everything that may go together would do."""
    every = tuple(i for i in range(model.count) if model.upper[i])
    return model.problem.is_whole(every) and all(need.holds(every) for need in needs)


class _Search:
    """One program with its chords, solved again until it holds.

    Args:
        model: the program.
        needs: what has to come down.
        until_s: when it is given up.
    """

    def __init__(self, model: Model, needs: Sequence[_Need], until_s: float) -> None:
        self._model, self._until_s = model, until_s
        may = [i for i in range(model.count) if model.upper[i]]
        self._chords = [_Chords(need, may) for need in needs]

    def until_it_holds(
        self, costs: dict[int, float], rows: Sequence[Row] = ()
    ) -> tuple[Answered, tuple[int, ...] | None]:
        """(the last answer, the plan; None where none was found that holds)."""
        while True:
            every = list(rows)
            columns: list[Column] = []
            for chords in self._chords:
                mine, own = chords.rows(self._model.columns + len(columns))
                every += mine
                columns += own
            answer = self._model.solve(costs, every, self._until_s, offset=0.5, more=columns)
            if answer.values is None:
                return answer, None
            chosen = self._model.chosen(answer.values)
            broken = [c for c in self._chords if not c.need.holds(chosen)]
            if not broken:
                return answer, chosen
            cut = [c.cut_at(c.need.variance(chosen)) for c in broken]
            if not any(cut) or self._model.clock() >= self._until_s:
                return answer, None

    def first_of(
        self, costs: dict[int, float], whole: float, chosen: tuple[int, ...]
    ) -> tuple[int, ...]:
        """Of all plans that cost as much, the one whose changes come first by address."""
        if self._model.count > _RANKED:
            return chosen
        choices = self._model.problem.choices
        order = sorted(range(self._model.count), key=lambda i: choices[i].address)
        ranks = {place: float(rank) for rank, place in enumerate(order)}
        answer, found = self.until_it_holds(ranks, [Row(-math.inf, costs, whole + 0.5)])
        return found if found is not None and answer.optimal else chosen
