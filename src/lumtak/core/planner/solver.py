"""The least plan that reaches its goal: a small integer program, solved by HiGHS.

Uncertainties add in quadrature, which no linear program can say. But where variables are 0 or 1 a
variance is a sum of squares of them, so its root is a norm, and a norm lies above each of its
tangents: the program is solved with a few tangents, one more is added where the plan found does not
hold, and it is solved again (outer approximation; Kelley 1960). What is found last is the optimum.

The least is the one with the least disruption, of those the one with the fewest changes, of those
the one whose changes come first by address.
"""

import math
from collections.abc import Callable, Iterable, Sequence
from statistics import NormalDist
from typing import NamedTuple

from lumtak.core.planner.problem import Goal, Problem
from lumtak.core.record import Record

BUDGET_S = 2.0
_MOST_CUTS = 60
_TIGHT = 1e-7
_TOO_LATE = "the time was up before a plan was found that holds"
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


Clock = Callable[[], float]
"""Seconds, from any instant on: the core has no clock of its own."""


def no_clock() -> float:
    """Time does not pass: only HiGHS itself counts it."""
    return 0.0


class Row(NamedTuple):
    """A linear constraint: low <= sum of values <= high."""

    low: float
    values: dict[int, float]
    high: float = math.inf


class Answered(NamedTuple):
    """What one program came to."""

    values: list[float] | None
    optimal: bool
    bound: float
    """No solution is below it."""
    feasible: bool
    """False where it is proven that there is no solution."""


class Model:
    """The part of the program that all goals share.

    Columns: a choice each (0 or 1), then whether a new login and whether a restart is owed, then
    `extra` continuous ones from 0 on.

    Args:
        problem: what is to be planned.
        allowed: places of what may be chosen.
        fixed: of what has to be.
        barred: of what must not be, though it is allowed.
        extra: further columns.
        clock: of the caller.
    """

    def __init__(
        self,
        problem: Problem,
        allowed: Iterable[int],
        *,
        fixed: Iterable[int] = (),
        barred: Iterable[int] = (),
        extra: int = 0,
        clock: Clock = no_clock,
    ) -> None:
        self.problem, self.clock = problem, clock
        self.count = len(problem.choices)
        self.login, self.restart = self.count, self.count + 1
        self.columns = self.count + 2 + extra
        may = set(allowed) - set(barred)
        self.upper = [1.0 if i in may else 0.0 for i in range(self.count)] + [1.0, 1.0]
        self.upper += [math.inf] * extra
        self.lower = [0.0] * self.columns
        for i in fixed:
            self.lower[i] = self.upper[i] = 1.0
        self.rows = self._bound_together()

    def _bound_together(self) -> list[Row]:
        rows = []
        for i, choice in enumerate(self.problem.choices):
            rows += [Row(0.0, {other: 1.0, i: -1.0}) for other in choice.with_it if other != i]
            if choice.shows == "login":
                # After a restart everybody logs in anew.
                rows.append(Row(0.0, {self.login: 1.0, self.restart: 1.0, i: -1.0}))
            elif choice.shows == "restart":
                rows.append(Row(0.0, {self.restart: 1.0, i: -1.0}))
        return rows

    def disruption(self) -> dict[int, float]:
        """What a plan disrupts, as a sum over columns."""
        scale = self.problem.scale
        found = {i: float(c.disruption) for i, c in enumerate(self.problem.choices)}
        return {**found, self.login: float(scale.login), self.restart: float(scale.restart)}

    def solve(
        self, costs: dict[int, float], rows: Sequence[Row], until_s: float, offset: float = 0.0
    ) -> Answered:
        """The cheapest solution.

        Args:
            costs: by column.
            rows: besides those that all share.
            until_s: on the clock of the caller; it is given up then.
            offset: a difference in costs that does not matter.
        """
        import highspy  # costs 0.1 s; scipy's own door to it costs 1 s
        import numpy as np

        solver = highspy.Highs()  # type: ignore[no-untyped-call]
        for name, value in (
            ("output_flag", False),
            ("threads", 1),
            ("random_seed", 1),
            ("time_limit", max(0.01, until_s - self.clock())),
            ("mip_rel_gap", 0.0),
            ("mip_abs_gap", max(offset, 1e-6)),
            ("mip_feasibility_tolerance", 1e-7),
            ("primal_feasibility_tolerance", 1e-7),
        ):
            solver.setOptionValue(name, value)
        every = [*self.rows, *rows]
        model = highspy.HighsLp()
        model.num_col_, model.num_row_ = self.columns, len(every)
        cost = np.zeros(self.columns)
        for column, value in costs.items():
            cost[column] = value
        model.col_cost_ = cost
        model.col_lower_, model.col_upper_ = np.array(self.lower), np.array(self.upper)
        model.row_lower_ = np.array([row.low for row in every])
        model.row_upper_ = np.array([row.high for row in every])
        model.a_matrix_.format_ = highspy.MatrixFormat.kRowwise
        model.a_matrix_.start_ = np.cumsum([0, *(len(row.values) for row in every)])
        model.a_matrix_.index_ = np.array(
            [column for row in every for column in row.values], dtype=np.int32
        )
        model.a_matrix_.value_ = np.array([v for row in every for v in row.values.values()])
        whole = self.count + 2
        model.integrality_ = [highspy.HighsVarType.kInteger] * whole + [
            highspy.HighsVarType.kContinuous
        ] * (self.columns - whole)
        solver.passModel(model)
        solver.run()
        status, info = solver.getModelStatus(), solver.getInfo()
        states = highspy.HighsModelStatus
        has = info.primal_solution_status == highspy.SolutionStatus.kSolutionStatusFeasible
        return Answered(
            values=list(solver.getSolution().col_value) if has else None,
            optimal=status == states.kOptimal,
            bound=float(info.mip_dual_bound),
            feasible=status not in {states.kInfeasible, states.kUnboundedOrInfeasible},
        )


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
        return saved - self.z * self._root(mine) >= self.least - 1e-9 * max(1.0, abs(self.least))

    def _root(self, chosen: Iterable[int]) -> float:
        return math.sqrt(self.base + sum(self.variances.get(i, 0.0) for i in chosen))

    def tangent(self, chosen: Iterable[int]) -> Row:
        """The constraint with the root's tangent at this plan; exact there, and never too strict
        elsewhere.
        """
        mine = set(chosen)
        root = self._root(mine)
        if root <= 0:
            return Row(self.least, dict(self.saves))
        slope = {i: v / root for i, v in self.variances.items() if i in mine}
        values = {i: s - self.z * slope.get(i, 0.0) for i, s in self.saves.items()}
        return Row(self.least + self.z * self.base / root, values)


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
    plans = [i for i in may if problem.choices[i].factor != 1.0]
    found: list[tuple[float, Solved]] = []
    for plan in (None, *plans):
        factor = 1.0 if plan is None else problem.choices[plan].factor
        needs = needs_of(problem, goal, confidence, factor)
        fixed = () if plan is None else (plan,)
        barred = [i for i in plans if i != plan]
        model = Model(problem, may, fixed=fixed, barred=barred, clock=clock)
        solved = _least_of(model, needs, until_s)
        found.append((cost_of(problem, solved.chosen), solved))
    best = min(found, key=lambda one: one[0])[1]
    if all(solved.proven for _, solved in found):
        return best
    why = "the time was up before it was proven that nothing less would do"
    gap = max(solved.gap for _, solved in found)
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
    if all(need.holds(fixed) for need in needs):
        return Solved(chosen=fixed, proven=True)
    step = model.count + 1.0
    costs = {i: step * d for i, d in model.disruption().items()}
    for i in range(model.count):
        costs[i] += 1.0
    answer, rows = _until_it_holds(model, costs, needs, until_s)
    if answer.values is None:
        why = "" if not answer.feasible else _TOO_LATE
        return Solved(chosen=None, proven=not answer.feasible, why=why)
    chosen = _chosen(model, answer.values)
    if not all(need.holds(chosen) for need in needs):
        return Solved(chosen=None, proven=False, why=_TOO_LATE)
    if not answer.optimal:
        whole = step * cost_of(model.problem, chosen)
        gap = (whole - answer.bound) / whole if whole else 0.0
        return Solved(chosen=chosen, proven=False, gap=min(max(0.0, gap), 1.0))
    return Solved(chosen=_first_of(model, costs, needs, rows, chosen, until_s), proven=True)


def _until_it_holds(
    model: Model, costs: dict[int, float], needs: Sequence[_Need], until_s: float
) -> tuple[Answered, list[Row]]:
    """Solve, and add a tangent where the plan does not hold, until it does."""
    every = [i for i in range(model.count) if model.upper[i]]
    rows = [need.tangent(at) for need in needs for at in ((), every)]
    answer = Answered(None, optimal=False, bound=-math.inf, feasible=True)
    for _ in range(_MOST_CUTS):
        answer = model.solve(costs, rows, until_s, offset=0.5)
        if answer.values is None:
            break
        chosen = _chosen(model, answer.values)
        broken = [need for need in needs if not need.holds(chosen)]
        if not broken or model.clock() >= until_s:
            break
        rows += [need.tangent(chosen) for need in broken]
    return answer, rows


def _first_of(
    model: Model,
    costs: dict[int, float],
    needs: Sequence[_Need],
    rows: Sequence[Row],
    chosen: tuple[int, ...],
    until_s: float,
) -> tuple[int, ...]:
    """Of all plans that cost as much, the one whose changes come first by address."""
    if model.count > _RANKED:
        return chosen
    order = sorted(range(model.count), key=lambda i: model.problem.choices[i].address)
    ranks = {place: float(rank) for rank, place in enumerate(order)}
    whole = (model.count + 1) * cost_of(model.problem, chosen)
    alike = [*rows, Row(-math.inf, costs, whole + 0.5)]
    for _ in range(_MOST_CUTS):
        answer = model.solve(ranks, alike, until_s, offset=0.5)
        if answer.values is None or not answer.optimal:
            return chosen
        found = _chosen(model, answer.values)
        broken = [need for need in needs if not need.holds(found)]
        if not broken:
            return found
        alike += [need.tangent(found) for need in broken]
    return chosen


def _chosen(model: Model, values: Sequence[float]) -> tuple[int, ...]:
    return tuple(i for i in range(model.count) if values[i] > 0.5)
