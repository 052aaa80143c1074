"""The frontier of a job: worked out beside everything else, walked along, drawn."""

import logging
from typing import ClassVar

from textual import work
from textual.binding import BindingType
from textual.widgets import Static

from lumtak.core.planner import Planned, Point, Problem
from lumtak.errors import LumtakError
from lumtak.tui.background import unforeseen
from lumtak.tui.keys import binding
from lumtak.tui.stations.applying import ApplyingStation
from lumtak.tui.theme import Palette
from lumtak.tui.widgets.frontier import Stand, frontier_picture
from lumtak.tui.widgets.lines import whole_sentences
from lumtak.work.planner import choose_places, choose_planned, frontier_of, plan_job

_LOW, _TALL, _VAST = 30, 40, 55


class FrontierStation(ApplyingStation):
    """The part of the plan that proposes."""

    BINDINGS: ClassVar[list[BindingType]] = [
        binding("least", "least"),
        binding("less", "walk(-1)"),
        binding("more", "walk(1)"),
    ]

    def on_mount(self) -> None:
        """Nothing is planned yet."""
        self.frontier: tuple[Problem, tuple[Point, ...]] | None = None
        self.least: Planned | None = None
        self._of: tuple[object, ...] = ()
        self._asked: tuple[object, ...] = ()
        """Of what the frontier is being worked out."""
        self._failed: tuple[tuple[object, ...], str] = (), ""
        """Of what it could not be worked out, and why."""
        self.then = ""
        """What was pressed while it was: a step along it, or the least plan."""
        self.said = ""
        """Of the least plan, until something else is chosen."""

    @property
    def _depends(self) -> tuple[object, ...]:
        job = self.desk.job
        standing = tuple(e.id for e in self.desk.entries if e.is_open)
        return job.baseline, job.after, id(job.audit), job.profile, standing

    def find_out(self) -> None:
        """Work the frontier out, once for what it depends on; no key waits for it."""
        desk = self.desk
        known = self._asked == self._depends
        if known or desk.busy or desk.baseline is None or desk.job.audit is None:
            return
        self._asked = self._depends
        self._work_out(self._asked)

    @work(thread=True, exit_on_error=False, group="frontier")
    def _work_out(self, of: tuple[object, ...]) -> None:
        open_job = self.desk.open_job
        try:
            found, least = frontier_of(open_job), plan_job(open_job, "both")
        except LumtakError as error:
            self.app.call_from_thread(self._not_worked_out, of, str(error))
            return
        except Exception as error:  # the screen stays, the log has the rest
            logging.getLogger(__name__).exception("the frontier")
            self.app.call_from_thread(self._not_worked_out, of, unforeseen(error))
            return
        self.app.call_from_thread(self._worked_out, of, found, least)

    def _not_worked_out(self, of: tuple[object, ...], why: str) -> None:
        """Said where somebody waits for it, and whenever somebody asks again."""
        self._failed = of, why
        if self.then:
            self.desk.tell(why)
        self.then = ""

    def _worked_out(
        self, of: tuple[object, ...], found: tuple[Problem, tuple[Point, ...]], least: Planned
    ) -> None:
        self.frontier, self.least, self._of = found, least, of
        then, self.then = self.then, ""
        if then == "least":
            self.action_least()
        elif then:
            self.action_walk(int(then))
        elif self.desk.job.station == "plan":
            self.show()

    @property
    def known(self) -> bool:
        """Whether the frontier is worked out for the job as it is now."""
        return self.frontier is not None and self._of == self._depends

    def _wait_for(self, then: str) -> None:
        """Do that once the frontier is known."""
        if self.desk.baseline is None or self.desk.job.audit is None:
            self.desk.tell("A plan needs a baseline and an audit: take the baseline first.")
        elif self._failed[0] == self._depends:
            self.desk.tell(self._failed[1])
        elif self._asked == self._depends or self.desk.free():
            self.then = then
            self.find_out()

    def action_least(self) -> None:
        """The least plan that reaches both ceilings is what is chosen, or the one that comes
        nearest.
        """
        if self.applying:
            return
        if not self.known or self.least is None:
            self._wait_for("least")
            return
        plan = self.least
        choose_planned(self.desk.open_job, plan.changes)
        asked = f"To be asked: {', '.join(plan.answers)}." if plan.answers else ""
        blind = ", ".join(plan.unprojected)
        blind = f"May help too, by how much nothing tells: {blind}." if blind else ""
        self.said = " ".join(filter(None, (plan.in_short, asked, blind, plan.lasting)))
        self.say(self.Changed())
        self.show()
        self.arrive()

    def action_walk(self, steps: int) -> None:
        """Along the frontier: the list follows."""
        if self.applying:
            return
        if not self.known or self.frontier is None:
            self._wait_for(str(steps))
            return
        problem, points = self.frontier
        stand = self.stand()
        # From a choice of one's own it goes to the first step, or to the least plan.
        begin = 0 if steps < 0 else stand.least or 0
        place = begin if stand.at is None else stand.at + steps
        place = max(0, min(place, len(points) - 1))
        self.said = ""
        choose_places(self.desk.open_job, problem, points[place].chosen)
        self.say(self.Changed())

    def along(self, steps: int) -> None:
        """Left and right in the list walk along the frontier."""
        self.action_walk(steps)

    def stand(self) -> Stand:
        """Where on the frontier the choice is, and where the least plan."""
        if self.frontier is None:
            return Stand(None, None)
        problem, points = self.frontier
        chosen = {str(c.ref) for c in self.desk.job.chosen}
        names = [{problem.choices[i].address for i in point.chosen} for point in points]
        at = names.index(chosen) if chosen in names else None
        wanted = self.least.disruption if self.least else 0
        least = next((i for i, p in enumerate(points) if p.disruption >= wanted), len(points) - 1)
        return Stand(at, least)

    def show_frontier(self, palette: Palette) -> None:
        """Draw it, once it is known."""
        picture = self.query_one("#frontier", Static)
        picture.display = self.known and not self.applying
        if not picture.display or self.frontier is None:
            return
        problem, points = self.frontier
        height = self.app.size.height
        stand = self.stand()
        text = frontier_picture(
            [p.cpu_pct for p in points],
            [p.ram_bytes for p in points],
            (problem.cpu_ceiling_pct, problem.ram_ceiling_bytes),
            stand,
            width=self.app.size.width - 2,
            height=_picture_height(
                height, empty=not self.desk.job.chosen and not self.desk.entries
            ),
            palette=palette,
        )
        said = self._caption(stand, problem, points)
        text.append(f" {whole_sentences(said, self.app.size.width - 3)}", style=palette.soft)
        picture.update(text)

    def _caption(self, stand: Stand, problem: Problem, points: tuple[Point, ...]) -> str:
        walk = "Left and right in the list, or {less} and {more}, walk along."
        if stand.at is None:
            return self.with_keys(f"◆ marks the least plan. {walk}")
        here = points[stand.at]
        gone = ", ".join(problem.choices[i].title for i in here.gone)
        least = ", the least plan" if stand.at == stand.least else ""
        without = f"; in place of {gone}" if gone else ""
        return self.with_keys(
            f"▲ step {stand.at + 1} of {len(points)}{least}, disruption {here.disruption} of"
            f" {points[-1].disruption}{without}. {walk}"
        )

    def places(self) -> tuple[int, ...] | None:
        """What is chosen, by its places in the problem; None where that is not known."""
        if self.frontier is None or not self.known:
            return None
        known = {c.address: place for place, c in enumerate(self.frontier[0].choices)}
        places = tuple(known.get(str(c.ref), -1) for c in self.desk.job.chosen)
        return None if -1 in places else places


def _picture_height(window: int, *, empty: bool) -> int:
    """Lines of the bars: more where no list needs the room."""
    if window < _LOW:
        return 4 if empty else 1
    if empty:
        return min(16, window - 26)
    return 3 if window < _TALL else 5 if window < _VAST else 9
