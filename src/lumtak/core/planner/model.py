"""The program that HiGHS solves: what all goals share, and how it is asked.

One place that knows HiGHS: its own Python package, which is there in a tenth of a second (scipy's
door to it takes a whole one).
"""

import math
from collections.abc import Callable, Iterable, Sequence
from itertools import chain
from typing import TYPE_CHECKING, Any, NamedTuple

from lumtak.core.planner.problem import Problem

if TYPE_CHECKING:
    import highspy

Clock = Callable[[], float]
"""Seconds, from any instant on: the core has no clock of its own."""


def no_clock() -> float:
    """Time does not pass: only HiGHS itself counts it."""
    return 0.0


_HALF = 0.5


class Row(NamedTuple):
    """A linear constraint: low <= sum of values <= high."""

    low: float
    values: dict[int, float]
    high: float = math.inf


class Column(NamedTuple):
    """A variable besides those that all programs share."""

    upper: float
    whole: bool
    """Whether it is a whole number."""


class Answered(NamedTuple):
    """What one program came to."""

    values: list[float] | None
    optimal: bool
    bound: float
    """No solution is below it."""
    feasible: bool
    """False where it is proven that there is no solution."""
    failed: str = ""
    """What went wrong with the solver itself, as a clause; empty where nothing did."""


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

    def chosen(self, values: Sequence[float]) -> tuple[int, ...]:
        """The plan that a solution stands for."""
        return tuple(i for i in range(self.count) if values[i] > _HALF)

    def disruption(self) -> dict[int, float]:
        """What a plan disrupts, as a sum over columns."""
        scale = self.problem.scale
        found = {i: float(c.disruption) for i, c in enumerate(self.problem.choices)}
        return {**found, self.login: float(scale.login), self.restart: float(scale.restart)}

    def solve(
        self,
        costs: dict[int, float],
        rows: Sequence[Row],
        until_s: float,
        offset: float = 0.0,
        more: Sequence[Column] = (),
    ) -> Answered:
        """The cheapest solution.

        Args:
            costs: by column.
            rows: besides those that all share.
            until_s: on the clock of the caller; it is given up then.
            offset: a difference in costs that does not matter.
            more: further columns, after all others; from 0 on.
        """
        import highspy  # costs 0.1 s

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
        try:
            solver.passModel(self._program(costs, [*self.rows, *rows], more))
            solver.run()
        except (RuntimeError, ValueError, MemoryError) as error:
            failed = f"the solver failed ({str(error)[:100]})"
            return Answered(None, optimal=False, bound=-math.inf, feasible=True, failed=failed)
        status, info = solver.getModelStatus(), solver.getInfo()
        states = highspy.HighsModelStatus
        has = info.primal_solution_status == highspy.SolutionStatus.kSolutionStatusFeasible
        return Answered(
            values=list(solver.getSolution().col_value) if has else None,
            optimal=status == states.kOptimal,
            bound=float(info.mip_dual_bound),
            feasible=status not in {states.kInfeasible, states.kUnboundedOrInfeasible},
            failed="the solver failed" if status in {states.kSolveError, states.kUnknown} else "",
        )

    def _program(
        self, costs: dict[int, float], rows: Sequence[Row], more: Sequence[Column]
    ) -> "highspy.HighsLp":
        """As HiGHS takes it: the matrix row by row."""
        import highspy
        import numpy as np

        program = highspy.HighsLp()
        program.num_col_, program.num_row_ = self.columns + len(more), len(rows)
        cost = np.zeros(program.num_col_)
        cost[list(costs)] = list(costs.values())
        program.col_cost_ = cost
        program.col_lower_ = np.array(self.lower + [0.0] * len(more))
        program.col_upper_ = np.array(self.upper + [column.upper for column in more])
        program.row_lower_ = np.array([row.low for row in rows])
        program.row_upper_ = np.array([row.high for row in rows])
        matrix: Any = program.a_matrix_
        matrix.format_ = highspy.MatrixFormat.kRowwise
        matrix.start_ = np.cumsum([0, *(len(row.values) for row in rows)])
        matrix.index_ = np.array(list(chain(*(row.values for row in rows))), dtype=np.int32)
        matrix.value_ = np.array(list(chain(*(row.values.values() for row in rows))))
        kinds = highspy.HighsVarType
        whole = [n < self.count + 2 for n in range(self.columns)] + [c.whole for c in more]
        program.integrality_ = [kinds.kInteger if w else kinds.kContinuous for w in whole]
        return program


def power_plans(problem: Problem, may: Iterable[int]) -> list[int]:
    """Places of power plans with another clock: of those a plan holds one at most."""
    return [i for i in may if problem.choices[i].factor != 1.0]


def with_plan(
    problem: Problem,
    may: Sequence[int],
    plan: int | None,
    *,
    extra: int = 0,
    clock: Clock = no_clock,
) -> Model:
    """The program in which it is settled which power plan is chosen; None for none of them."""
    fixed = () if plan is None else (plan,)
    barred = [i for i in power_plans(problem, may) if i != plan]
    return Model(problem, may, fixed=fixed, barred=barred, extra=extra, clock=clock)
